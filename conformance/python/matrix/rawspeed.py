"""How fast bodies travel as they are, up and down, as a part of what uvicorn and http.client alone do: two ratios."""

from __future__ import annotations

import http.client
import itertools
import multiprocessing
import statistics
import sys
import time
from collections.abc import AsyncIterator, Callable, Iterator
from typing import Any

import uvicorn

from gen.faithful.server import Context, listen
from gen.faithful.wire import Body
from gen.skerry.matrix import Crate, CrateRequest, Pier, PierClient, Total, Unloaded, serve_pier

SIZE = int(sys.argv[1] if len(sys.argv) > 1 else "200") << 20
BLOCK = bytes(65536)


def blocks() -> Iterator[bytes]:
    return itertools.repeat(BLOCK, SIZE // len(BLOCK))


async def made() -> AsyncIterator[bytes]:
    for block in blocks():
        yield block


async def bare(scope: Any, receive: Any, send: Any) -> None:
    total, more = 0, True
    while more:
        event = await receive()
        total += len(event.get("body", b""))
        more = event.get("more_body", False)
    down = scope["method"] == "GET"
    length = str(SIZE if down else len(str(total))).encode()
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", length)]})
    if down:
        async for block in made():
            await send({"type": "http.response.body", "body": block, "more_body": True})
    await send({"type": "http.response.body", "body": b"" if down else str(total).encode()})


class Ours(Pier):
    async def stow(self, request: Crate, context: Context) -> Total:
        total = 0
        async for chunk in request.load:
            total += len(chunk)
        return Total(total=total)

    async def unload(self, request: CrateRequest, context: Context) -> Unloaded:
        return Unloaded(load=Body(made(), size=SIZE))


def serving(app: Any) -> int:
    """Serves in a process of its own, as servers do, and returns the port."""
    listener = listen()
    server = uvicorn.Server(uvicorn.Config(app, log_level="error", lifespan="off"))
    multiprocessing.get_context("fork").Process(target=server.run, args=([listener],), daemon=True).start()
    port: int = listener.getsockname()[1]
    return port


def took(act: Callable[[], int]) -> float:
    start = time.perf_counter()
    assert act() == SIZE
    return time.perf_counter() - start


def main() -> None:
    connection = http.client.HTTPConnection("127.0.0.1", serving(bare))
    client = PierClient(f"http://127.0.0.1:{serving(serve_pier(Ours()))}")

    def bare_up() -> int:
        connection.request("POST", "/", blocks(), {"content-length": str(SIZE)})
        return int(connection.getresponse().read())

    def bare_down() -> int:
        connection.request("GET", "/")
        response = connection.getresponse()
        total = sum(len(chunk) for chunk in iter(lambda: response.read1(65536), b""))
        response.read()  # so that the connection can be used again
        return total

    def up() -> int:
        return client.stow(Crate(load=Body(blocks(), size=SIZE))).total

    def down() -> int:
        return sum(len(chunk) for chunk in client.unload(CrateRequest(size=SIZE)).load)

    for theirs, ours in ((bare_up, up), (bare_down, down)):
        print(f"{statistics.median(took(theirs) / took(ours) for _ in range(5)):.2f}", end=" ", flush=True)
    print()


if __name__ == "__main__":
    main()
