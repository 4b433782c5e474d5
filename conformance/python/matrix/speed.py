"""Measures calls through stubs against the same bytes through a bare ASGI app and http.client.

Both apps run under the same server. The rounds are interleaved; the median of
the ratios is printed.
"""

from __future__ import annotations

import http.client
import multiprocessing
import socket
import statistics
import time
from collections.abc import Callable
from typing import Any

import uvicorn

from gen.faithful.exchange import Request
from gen.faithful.server import Context, listen
from gen.skerry.matrix import EchoAnswer, EchoRequest, Pier, PierClient, serve_pier

MESSAGE = EchoRequest(text="Skerry " * 30, names={"seats": 3, "lanes": 7})
ASKED = MESSAGE.to_cbor()
ANSWERED = EchoAnswer(request=MESSAGE).to_cbor()


class Server(Pier):
    async def echo(self, request: EchoRequest, context: Context) -> EchoAnswer:
        return EchoAnswer(request=request)


def bare(headers: list[tuple[bytes, bytes]]) -> Any:
    async def app(scope: Any, receive: Any, send: Any) -> None:
        body, more = b"", True
        while more:
            event = await receive()
            body, more = body + event.get("body", b""), event.get("more_body", False)
        assert len(body) == len(ASKED)
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await send({"type": "http.response.body", "body": ANSWERED})

    return app


def serve(app_of: Callable[..., Any], arguments: tuple[Any, ...], listener: socket.socket) -> None:
    config = uvicorn.Config(app_of(*arguments), log_level="error", lifespan="off")
    uvicorn.Server(config).run([listener])


def stubs() -> Any:
    return serve_pier(Server())


def start(app_of: Callable[..., Any], *arguments: Any) -> int:
    listener = listen()
    multiprocessing.get_context("fork").Process(target=serve, args=(app_of, arguments, listener), daemon=True).start()
    port: int = listener.getsockname()[1]
    return port


def seconds(call: Callable[[], object]) -> float:
    began = time.perf_counter()
    for _ in range(100):
        call()
    return time.perf_counter() - began


def main() -> None:
    seen: dict[str, Any] = {}

    def look(request: Request, send: Callable[[Request], http.client.HTTPResponse]) -> http.client.HTTPResponse:
        response = send(request)
        seen.update(request=request, headers=[(k.lower().encode(), v.encode()) for k, v in response.getheaders()])
        return response

    base = f"http://127.0.0.1:{start(stubs)}"
    PierClient(base, {"middleware": [look]}).echo(MESSAGE)
    # The same bytes are the same headers, too, but for those that the server writes for both.
    headers = [(k, v) for k, v in seen["headers"] if k not in (b"date", b"server")]
    request: Request = seen["request"]
    connection = http.client.HTTPConnection("127.0.0.1", start(bare, headers))
    client = PierClient(base)

    def reference() -> None:
        connection.request(request.method, request.target, request.body, request.headers)
        body = connection.getresponse().read()
        assert len(body) == len(ANSWERED)

    def ours() -> None:
        client.echo(MESSAGE)

    for _ in range(3):
        seconds(ours)
        seconds(reference)
    ratio = statistics.median(seconds(reference) / seconds(ours) for _ in range(15))
    print(f"python calls: {ratio:.2f} of the calls a second of a bare ASGI app and http.client")


if __name__ == "__main__":
    main()
