"""Measures a call through stub client and stub server against bare ones that move the same bytes.

The bare ones are http.client and an ASGI application without a framework, under the same server;
the headers are the same, too. In interleaved rounds: the median of the ratios.
"""

from __future__ import annotations

import http.client
import multiprocessing
import socket
import time
from collections.abc import Callable
from typing import Any

import uvicorn

from gen.faithful.server import Context
from gen.skerry.matrix import EchoAnswer, EchoRequest, Pier, PierClient, serve_pier

REQUEST = EchoRequest(text="Skerry " * 30, names={"seats": 3, "lanes": 7})
ASKED = REQUEST.to_cbor()
ANSWERED = EchoAnswer(request=REQUEST).to_cbor()
PATH = "/skerry/matrix/pier/echo"
HEADERS = {"accept": "application/cbor", "content-type": "application/cbor", "prefer": "wait=60"}


class Server(Pier):
    async def echo(self, request: EchoRequest, context: Context) -> EchoAnswer:
        return EchoAnswer(request=request)


async def bare(scope: dict[str, Any], receive: Callable[..., Any], send: Callable[..., Any]) -> None:
    body = b""
    more = True
    while more:
        event = await receive()
        body += event.get("body", b"")
        more = event.get("more_body", False)
    headers = [
        (b"content-type", b"application/cbor"),
        (b"faithful-definitions", b"0" * 64),
        (b"vary", b"Accept"),
        (b"content-length", str(len(ANSWERED)).encode()),
    ]
    await send({"type": "http.response.start", "status": 200 if body == ASKED else 400, "headers": headers})
    await send({"type": "http.response.body", "body": ANSWERED})


def serve(listener: socket.socket, stubs: bool) -> None:
    app: Any = serve_pier(Server()) if stubs else bare
    uvicorn.Server(uvicorn.Config(app, log_level="error", lifespan="off")).run([listener])


def start(stubs: bool) -> int:
    listener = socket.create_server(("127.0.0.1", 0))
    multiprocessing.get_context("fork").Process(target=serve, args=(listener, stubs), daemon=True).start()
    port: int = listener.getsockname()[1]
    return port


def main() -> None:
    client = PierClient(f"http://127.0.0.1:{start(True)}")
    port = start(False)
    time.sleep(1)
    connection = http.client.HTTPConnection("127.0.0.1", port)

    def ours() -> None:
        client.echo(REQUEST)

    def reference() -> None:
        connection.request("POST", PATH, ASKED, HEADERS)
        response = connection.getresponse()
        if response.status != 200 or response.read() != ANSWERED:
            raise RuntimeError(f"status {response.status}")

    def run(call: Callable[[], None]) -> float:
        began = time.perf_counter()
        for _ in range(300):
            call()
        return time.perf_counter() - began

    run(ours)
    run(reference)
    ratios = []
    for _ in range(15):
        mine = run(ours)
        ratios.append(run(reference) / mine)
    print(f"python: {sorted(ratios)[7]:.2f} of the calls a second of bare http.client and ASGI")


if __name__ == "__main__":
    main()
