"""Reads hostile payloads with a low budget, and prints what each cost.

A line has the most bytes that were in use beyond eight times its length, and
milliseconds of processor time.
"""

from __future__ import annotations

import base64
import contextlib
import json
import sys
import time
import tracemalloc
from typing import Any

from gen.faithful.wire import WireError
from vectors import CLASSES


def read(cls: Any, encoding: str, payload: bytes, budget: int) -> None:
    with contextlib.suppress(WireError):
        _ = cls.from_cbor(payload, budget) if encoding == "cbor" else cls.from_json(payload, budget)


def main() -> None:
    with open(sys.argv[1], encoding="utf-8") as file:
        everything = json.load(file)
    budget = int(sys.argv[2])
    for x in everything:
        payload, cls = base64.b64decode(x["payload"]), CLASSES[x["message"]]
        began = time.process_time()
        read(cls, x["encoding"], payload, budget)
        took = 1000 * (time.process_time() - began)
        tracemalloc.start()  # which makes it several times slower
        read(cls, x["encoding"], payload, budget)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        print(peak - 8 * len(payload), f"{took:.1f}")


if __name__ == "__main__":
    main()
