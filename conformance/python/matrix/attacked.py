"""The client in Python of hostile servers.

It makes one call, and prints what came of it, after how many milliseconds, and what the error says.
"""

from __future__ import annotations

import os
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from typing import Any

from gen.faithful.client import Cancellation
from gen.faithful.web import BadAnswer, Problem, Unreachable
from gen.skerry.matrix import CountRequest, EchoRequest, PierClient, Tick


def never() -> str:
    threading.Event().wait()
    return ""


def main() -> None:
    server, scene = sys.argv[1:3]
    hurried = PierClient(server, {"timeout": 1.0, "idle_timeout": 1.0})
    request = EchoRequest(names={})

    def count(pause: float) -> None:
        with hurried.count(CountRequest(count=3)) as ticks:
            for _ in ticks:
                time.sleep(pause)

    def waiting() -> Iterator[Tick]:
        time.sleep(20)
        yield from ()

    def mirror() -> None:
        with hurried.mirror(waiting()) as ticks:
            for _ in ticks:
                pass

    def cancel() -> None:
        cancellation = Cancellation()
        threading.Timer(0.5, cancellation.cancel).start()
        PierClient(server).echo(request, cancellation=cancellation)

    def cancelstream() -> None:
        cancellation = Cancellation()
        threading.Timer(0.5, cancellation.cancel).start()
        for _ in PierClient(server).count(CountRequest(count=3), cancellation=cancellation):
            pass

    scenes: dict[str, Callable[[], Any]] = {
        "echo": lambda: hurried.echo(request),
        "count": lambda: count(0),
        "slow": lambda: count(1.5),
        "sum": lambda: hurried.sum([Tick(n=1)] * 3),
        "mirror": mirror,
        "credential": lambda: PierClient(server, {"timeout": 1.0, "credentials": {"machine": never}}).guarded(),
        "cancel": cancel,
        "cancelstream": cancelstream,
        "secret": lambda: PierClient(server, {"credentials": {"crew": "s3cret\nEvil: 1", "desk": "s3cret"}}).guarded(),
        "query": lambda: PierClient(server, {"tries": 1, "credentials": {"machine": "s3cret"}}).guarded(),
        "forever": lambda: PierClient(server, {"timeout": float("inf"), "idle_timeout": 1e9}).echo(request),
    }
    start = time.monotonic()
    kind, text = "ok", ""
    try:
        scenes[scene]()
    except Exception as problem:
        known = {Unreachable: "unreachable", BadAnswer: "bad", Problem: "problem"}
        kind = known.get(type(problem), "other")
        # With what it was caused by: loggers print that.
        text = "".join(traceback.format_exception_only(problem))
        cause = problem.__cause__
        while cause is not None:
            text += " " + str(cause)
            cause = cause.__cause__
    took = round(1000 * (time.monotonic() - start))
    print(kind, took, text.replace("\n", " "), flush=True)
    os._exit(0)  # what still waits is no matter


if __name__ == "__main__":
    main()
