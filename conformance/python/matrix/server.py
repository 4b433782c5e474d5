"""The server of the matrix in Python."""

from __future__ import annotations

import asyncio
import os
import sys
import threading
from collections.abc import AsyncIterator, Iterator
from typing import Any, cast

import uvicorn

from gen.faithful.server import Context, Elements, Forbidden, Next, Overloaded, Unauthenticated, listen
from gen.faithful.wire import Body
from gen.skerry.matrix import (
    Back,
    BerthAnswer,
    BerthRequest,
    Boarded,
    CountRequest,
    Crate,
    CrateRequest,
    EchoAnswer,
    EchoRequest,
    Ended,
    Forgotten,
    Gangway,
    HangRequest,
    Hung,
    Hush,
    Load,
    LookRequest,
    Moved,
    MoveRequest,
    Nothing,
    Photo,
    PhotoRequest,
    Pier,
    PierFull,
    RefuseRequest,
    Scanned,
    SleepRequest,
    Stamp,
    StampRequest,
    Tale,
    Tick,
    Total,
    Unloaded,
    Works,
    serve_pier,
)


def boarded(at: Gangway, total: int) -> Boarded:
    return Boarded(code=at.code, decks=at.decks, device=at.device, visit=at.visit, total=total)


async def zeros(size: int) -> AsyncIterator[bytes]:
    block = bytes(65536)
    for at in range(0, size, 65536):
        yield block[: size - at] if size - at < 65536 else block


def octets(size: int, fails: int | None) -> Iterator[bytes]:
    """A photo that is made as it goes."""
    at = 0
    while at < size:
        if at == fails:
            raise RuntimeError("the password is wrong")
        end = min(at + 65536, size, size if fails is None else fails)
        begin = at % 251
        yield (MADE * ((end - at) // 251 + 2))[begin : begin + end - at]
        at = end


MADE = bytes(range(251))


class Server(Pier):
    """Some calls are coroutines, some are not: both ways are held."""

    def __init__(self) -> None:
        self.seen = self.running = 0
        self.tries: dict[int, int] = {}
        self.whole = 0
        self.lost = 0

    async def counted(self, elements: Elements[Tick]) -> AsyncIterator[Tick]:
        """Counts how a stream comes out."""
        try:
            async for tick in elements:
                yield tick
        except Exception:
            self.lost += 1
            raise
        self.whole += 1

    async def echo(self, request: EchoRequest, context: Context) -> EchoAnswer:
        return EchoAnswer(request=request, trace=context.trace.traceparent if context.trace else None)

    def berth(self, request: BerthRequest, context: Context) -> BerthAnswer:
        return BerthAnswer(
            code=request.code,
            number=request.number,
            side=request.side,
            decks=request.decks,
            since=request.since,
            ticket=request.ticket,
            name=request.name,
            wait=request.wait,
        )

    async def look(self, request: LookRequest, context: Context) -> LookRequest:
        return request

    async def stamp(self, request: StampRequest, context: Context) -> Stamp:
        return Stamp(
            tag=f'"{request.code}"',
            cache="max-age=60" if request.code == "kept" else None,
            count=len(request.code),
            visit=request.visit,
            name=request.code,
            how=request.how,
        )

    def move(self, request: MoveRequest, context: Context) -> Moved:
        return Moved(at=request.to, note="moved, to: ü")

    async def forget(self, request: StampRequest, context: Context) -> Forgotten:
        return Forgotten(visit="", left=int(request.code) if request.code.isdecimal() else None)

    def hang(self, request: HangRequest, context: Context) -> Hung:
        size = total = 0
        for chunk in request.photo:
            size += len(chunk)
            total += sum(chunk)
        kind = request.photo.media_type
        return Hung(name=request.name, size=size, kind=kind, sum=total, label=request.label, tags=request.tags)

    async def photo(self, request: PhotoRequest, context: Context) -> Photo:
        body = Body(octets(request.size, request.fails), "image/x-made", request.size if request.known else None)
        return Photo(photo=body, name=request.name, tag=f'"{request.name}"')

    async def hush(self, request: EchoRequest, context: Context) -> Hush:
        return Hush(text=request.text or "")

    async def tale(self, request: StampRequest, context: Context) -> Tale:
        return Tale(tag=f'"{request.code}"', text=request.code * 1000)

    async def stow(self, request: Crate, context: Context) -> Total:
        total = 0
        async for chunk in request.load:
            total += len(chunk)
        return Total(total=total)

    async def unload(self, request: CrateRequest, context: Context) -> Unloaded:
        return Unloaded(load=Body(zeros(request.size), size=request.size))

    async def back(self, request: Scanned, context: Context) -> Back:
        return Back(roll=Body(request.roll, request.roll.media_type))

    async def ping(self, request: Nothing, context: Context) -> Nothing:
        return request

    def leave(self, request: LookRequest, context: Context) -> None:
        return None

    def count(self, request: CountRequest, context: Context) -> Iterator[Tick]:
        text = "x" * request.size or None
        for n in range(request.count):
            if n == request.fails_after:
                raise RuntimeError("the password is wrong") if request.badly else PierFull(berths=n)
            yield Tick(n=n, text=text)

    async def sum(self, elements: Elements[Tick], context: Context) -> Total:
        total = 0
        async for tick in self.counted(elements):
            if tick.text == "stop":
                break
            if tick.text == "full":
                raise PierFull(berths=tick.n)
            if tick.text == "slow":
                await asyncio.sleep(0.02)
            total += tick.n
        return Total(total=total)

    async def mirror(self, elements: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
        async for tick in self.counted(elements):
            if tick.text == "full":
                raise PierFull(berths=tick.n)
            yield tick

    async def board(self, head: Gangway, elements: Elements[Tick], context: Context) -> Boarded:
        if head.code == "full":
            raise PierFull(berths=0)
        assert context.request is head
        return boarded(head, head.since + sum([tick.n async for tick in elements]))

    async def file(self, head: Gangway, elements: Elements[Tick], context: Context) -> AsyncIterator[Boarded]:
        total = head.since
        async for tick in elements:
            total += tick.n
            yield boarded(head, total)

    async def ended(self, context: Context) -> Ended:
        return Ended(whole=self.whole, lost=self.lost)

    async def guarded_sum(self, elements: Elements[Tick], context: Context) -> Total:
        return await self.sum(elements, context)

    def guarded_mirror(self, elements: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
        return self.mirror(elements, context)

    async def refuse(self, request: RefuseRequest, context: Context) -> None:
        if request.how == "hang":
            await asyncio.Event().wait()
        if request.how == "declared":
            raise PierFull(berths=7)
        raise (TypeError if request.how == "another" else RuntimeError)("the password is wrong")

    async def sleep(self, request: SleepRequest, context: Context) -> None:
        try:
            await asyncio.sleep(1000)
        finally:
            self.seen += 1

    async def drift(self, request: SleepRequest, context: Context) -> AsyncIterator[Tick]:
        try:
            n = 0
            while True:
                await asyncio.sleep(0.005)
                yield Tick(n=n)
                n += 1
        finally:
            self.seen += 1

    async def weigh(self, request: Load, context: Context) -> Total:
        return Total(total=len(request.wide) + len(request.counts) + len(request.texts))

    async def repeat(self, request: Load, context: Context) -> Load:
        return request

    async def tail(self, request: SleepRequest, context: Context) -> AsyncIterator[Tick]:
        try:
            await asyncio.sleep(1000)
            yield Tick(n=0)
        finally:
            self.seen += 1

    async def hold(self, elements: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
        try:
            await asyncio.sleep(1000)
            yield Tick(n=0)
        finally:
            self.seen += 1

    async def works(self, context: Context) -> Works:
        return Works(handlers=self.running, tasks=len(asyncio.all_tasks()) + threading.active_count())

    async def runs(self, context: Context, following: Next) -> None:
        """Counts handlers."""
        self.running += 1
        try:
            await following()
        finally:
            self.running -= 1

    async def woken(self, context: Context) -> Total:
        return Total(total=self.seen)

    async def guarded(self, context: Context) -> EchoAnswer:
        return EchoAnswer(request=EchoRequest(names={}), crew=context.identity)

    def flaky(self, request: SleepRequest, context: Context) -> Total:
        self.tries[request.id] = self.tries.get(request.id, 0) + 1
        if self.tries[request.id] < 3:
            raise Overloaded(0)
        return Total(total=self.tries[request.id])


def authorize(call: str | None, credentials: dict[str, str], headers: dict[str, str]) -> str | None:
    if credentials.get("skerry.matrix.desk") == "panic":
        raise RuntimeError("the authorizer fell")
    if credentials.get("skerry.matrix.desk") == "stolen":
        raise Forbidden("this key was stolen")
    if credentials.get("skerry.matrix.desk") == "expired":
        raise Unauthenticated("this key has expired")
    return credentials.get("skerry.matrix.crew")


def main() -> None:
    heartbeat = float(sys.argv[2]) if len(sys.argv) > 2 else 15.0
    idle = float(sys.argv[3]) if len(sys.argv) > 3 else 60.0
    base = sys.argv[4] if len(sys.argv) > 4 else ""
    body = int(sys.argv[5]) if len(sys.argv) > 5 else 300_000
    server = Server()
    app = serve_pier(
        server,
        {
            "middleware": [server.runs],
            "authorizer": authorize,
            "element_limit": 200_000,
            "body_limit": body,
            "heartbeat": heartbeat,
            "idle_timeout": idle,
            "base": base,
            "origins": os.environ.get("MATRIX_ORIGINS", "").split(),
            "definitions": cast(Any, os.environ.get("MATRIX_DEFINITIONS", "open")),
            "cookies": {"visit": {"max_age": 3600, "same_site": "Strict"}},
        },
    )
    listener = listen(port=int(sys.argv[1]) if len(sys.argv) > 1 else 0)
    print(f"listening on http://127.0.0.1:{listener.getsockname()[1]}", flush=True)
    config = uvicorn.Config(app, log_level="error", **app.uvicorn_limits())
    uvicorn.Server(config).run([listener])


if __name__ == "__main__":
    main()
