"""The client of the matrix in Python with asyncio: it prints a line a case."""

from __future__ import annotations

import asyncio
import contextlib
import io
import os
import random
import sys
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator, Sequence
from datetime import date
from decimal import Decimal
from uuid import UUID

from gen.faithful.aio import AsyncClientOptions
from gen.faithful.exchange import CallOptions
from gen.faithful.trace import current_trace
from gen.faithful.web import BadAnswer, MissingCredential, NotModified, Problem, Trace, Unreachable, Watched
from gen.faithful.wire import Body, Duration, Instant, InvalidRequest
from gen.skerry.matrix import (
    AsyncPierClient,
    BerthRequest,
    Boarded,
    CountRequest,
    EchoAnswer,
    EchoRequest,
    Forgotten,
    Gangway,
    HangRequest,
    Hung,
    LookRequest,
    Moved,
    MoveRequest,
    Nothing,
    PhotoRequest,
    PierFull,
    RefuseRequest,
    Scanned,
    Side,
    SleepRequest,
    Stamp,
    StampRequest,
    Tick,
)

BASE = sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8080"


def connect(options: AsyncClientOptions | None = None) -> AsyncPierClient:
    everything: AsyncClientOptions = {"encoding": "json" if sys.argv[2:] == ["json"] else "cbor"}
    everything.update(options or {})
    return AsyncPierClient(BASE, everything)


client = connect()


def made(size: int) -> bytes:
    """What a server makes for a photo of some size."""
    return (bytes(range(251)) * (size // 251 + 1))[:size]


@contextlib.contextmanager
def full(berths: int) -> Iterator[None]:
    """What is done inside must fail with PierFull."""
    try:
        yield
    except PierFull as error:
        assert error.berths == berths, error.berths
        return
    raise AssertionError("it should have failed")


@contextlib.contextmanager
def problem(name: str) -> Iterator[None]:
    try:
        yield
    except Problem as error:
        assert error.problem == name, error
        assert "password" not in str(error), error
        return
    raise AssertionError("it should have failed")


@contextlib.contextmanager
def refused(kind: type[BaseException]) -> Iterator[None]:
    try:
        yield
    except kind:
        return
    raise AssertionError("it should have been refused")


async def woken() -> int:
    return (await client.woken()).total


async def lost() -> int:
    return (await client.ended()).lost


# After how many seconds a call is left: once, where the server is known to see nothing of it.
LEFT_AFTER = (0.1,) if os.environ.get("MATRIX_UNSEEN") else (0.1, 1, 4)


async def raises(
    count: Callable[[], Awaitable[int]],
    leave: Callable[[float], Awaitable[None]],
    left_after: Sequence[float] = (0.1, 1, 4),
) -> None:
    """Leaves a call after some seconds and waits until the server has counted it. On a busy machine a call that
    is left early may not have reached its handler: then it is left later."""
    before = await count()
    for seconds in left_after:
        await leave(seconds)
        for _ in range(200):
            if await count() > before:
                return
            await asyncio.sleep(0.01)
    raise AssertionError("the handler did not notice")


async def unary() -> None:
    at = Instant.parse("2026-07-15T06:58:12.25Z")
    request = EchoRequest(text='Håkon "the" Skua 🐦\n', at=at, names={"a": -1, "bb": 1 << 60})
    token = current_trace.set(Trace("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"))
    answer = await client.echo(request)
    current_trace.reset(token)
    assert answer == EchoAnswer(request=request, trace="00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"), (
        answer
    )
    assert answer.request.amount == Decimal("1.50")


async def bound() -> None:
    request = BerthRequest(
        code="a/b ?%ø..",
        number=-9007199254740993,
        side=Side.SOUTH,
        decks=[3, 1],
        since=date(1968, 5, 1),
        ticket='50% ; "é"',
        name="Guillemot",
        wait=Duration.seconds(90),
    )
    answer = await client.berth(request)
    assert (answer.code, answer.number, answer.side) == (request.code, request.number, request.side), answer
    assert (answer.decks, answer.since, answer.ticket) == (request.decks, request.since, request.ticket), answer
    assert (answer.name, answer.wait) == (request.name, request.wait), answer
    look = LookRequest(code="EID", hull=UUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"), name="12 & = + #")
    assert await client.look(look) == look
    with refused(InvalidRequest):
        await client.look(LookRequest(code=".."))
    await client.leave(LookRequest(code="EID"))


async def answer_headers() -> None:
    encoding = "json" if sys.argv[2:] == ["json"] else "cbor"
    request = StampRequest(code="kept", visit='a "b"; ü', how=' é, 100% "x" ')
    stamp = await client.stamp(request)
    assert stamp == Stamp(
        tag=f'"kept.{encoding}"', cache="max-age=60", count=4, visit=request.visit, name="kept", how=request.how
    ), stamp
    for known in (stamp.tag, f'"other", W/{stamp.tag}', "*"):
        try:
            await client.stamp(StampRequest(code="kept", known=known))
        except NotModified as unchanged:
            assert unchanged.etag == stamp.tag, unchanged
        else:
            raise AssertionError("it is the same")
    stamp = await client.stamp(StampRequest(code="new", known=stamp.tag))
    assert stamp == Stamp(tag=f'"new.{encoding}"', cache="private, no-cache", count=3, name="new"), stamp
    moved = await client.move(MoveRequest(to="/stamps/new?y=1"))
    assert moved == Moved(at="/stamps/new?y=1", note="moved, to: ü"), moved
    assert await client.forget(StampRequest(code="3")) == Forgotten(visit="", left=3)
    assert await client.forget(StampRequest(code="x")) == Forgotten(visit="")
    await client.ping(Nothing())


async def raw_bodies() -> None:
    photo = made(3_000_000)

    async def stream() -> AsyncIterator[bytes]:
        yield photo[:1_000_000]
        await asyncio.sleep(0.001)
        yield photo[1_000_000:]

    kind = "image/x-made"
    for body in (
        Body(stream(), kind),
        Body(stream(), kind, len(photo)),
        Body(photo, kind),
        Body(io.BytesIO(photo), kind),
    ):
        hung = await client.hang(HangRequest(name="a/b", photo=body, label="ü", tags=["x", "y"]))
        assert hung == Hung(name="a/b", size=3_000_000, kind=kind, sum=sum(photo), label="ü", tags=["x", "y"]), hung
    for known in (True, False):
        answer = await client.photo(PhotoRequest(name="n", size=3_000_000, known=known))
        assert await answer.photo.aread() == photo
        assert answer.photo.size == (3_000_000 if known else None)
        assert (answer.photo.media_type, answer.name, answer.tag) == (kind, "n", '"n"')
        # One that fails in the middle is not whole.
        answer = await client.photo(PhotoRequest(name="n", size=3_000_000, known=known, fails=2_000_000))
        with refused(Unreachable):
            await answer.photo.aread()
        # One that fails at once is a problem.
        with problem("internal"):
            await client.photo(PhotoRequest(name="n", size=3, known=known, fails=0))
    seen: list[str | None] = []
    options: CallOptions = {
        "headers": {"range": "bytes=990-"},
        "answered": lambda _, headers: seen.append(headers.get("content-range")),
    }
    part = await client.photo(PhotoRequest(name="n", size=1000), options=options)
    assert await part.photo.aread() == made(1000)[990:]
    assert seen == ["bytes 990-999/1000"], seen
    back = await client.back(Scanned(roll=Body(made(1000))))
    assert await back.roll.aread() == made(1000)
    for wrong in (Body(made(9)), Body(made(10), "text/plain"), Body(b"")):
        with refused(InvalidRequest):
            await client.back(Scanned(roll=wrong))
    # What the client can't know before: the answer has begun, or has not.
    for size in (9, 1001):

        async def unknown(size: int = size) -> AsyncIterator[bytes]:
            yield made(size)

        try:
            back = await client.back(Scanned(roll=Body(unknown())))
            await back.roll.aread()
        except Unreachable:
            pass
        except Problem as error:
            assert error.problem == "invalid-request", error
        else:
            raise AssertionError(f"{size} bytes came back")
    left = await client.photo(PhotoRequest(name="n", size=900_000_000))
    await left.photo.aclose()


async def compression() -> None:
    text = "Håkon " * 5000
    for compressed in (True, False):
        own = connect({"compression": compressed})
        told: list[str | None] = []
        options: CallOptions = {"answered": lambda _, headers: told.append(headers.get("content-encoding"))}  # noqa: B023
        answer = await own.echo(EchoRequest(text=text, names={}), options=options)
        assert answer.request.text == text
        # What is small, or secret, is not compressed.
        await own.echo(EchoRequest(names={}), options=options)
        await own.hush(EchoRequest(text=text, names={}), options=options)
        assert told == ["gzip" if compressed else None, None, None], told
    # Limits hold for what comes out.
    with refused(BadAnswer):
        await connect({"compression": True, "answer_limit": 10_000}).echo(EchoRequest(text=text, names={}))


async def answer_stream() -> None:
    assert [tick.n async for tick in client.count(CountRequest(count=5))] == [0, 1, 2, 3, 4]
    assert [tick async for tick in client.count(CountRequest(count=0))] == []
    assert len([tick async for tick in client.count(CountRequest(count=20, size=99_000))]) == 20


async def request_stream() -> None:
    for n in (0, 1, 1000):
        assert (await client.sum(Tick(n=i) for i in range(n))).total == n * (n - 1) // 2

    async def slowly() -> AsyncIterator[Tick]:
        for i in range(3):
            await asyncio.sleep(0.01)
            yield Tick(n=i)

    assert (await client.sum(slowly())).total == 3


async def both_ways() -> None:
    sent = [Tick(n=n, text="é" * n) for n in range(50)]
    async with client.mirror(sent) as ticks:
        assert [tick async for tick in ticks] == sent


WHOLE = Gangway(code="a/b ?%ø..", since=7, decks=[3, 1], device='é, 100% "x"', visit='50% ; "é"')


def boarded(at: Gangway, total: int) -> Boarded:
    return Boarded(code=at.code, decks=at.decks, device=at.device, visit=at.visit, total=at.since + total)


async def heads() -> None:
    ticks = [Tick(n=1), Tick(n=2), Tick(n=3)]
    for head in (WHOLE, Gangway(code="EID", decks=[])):
        assert await client.board(head, ticks) == boarded(head, 6)
        async with client.file(head, ticks) as totals:
            got = [boarded async for boarded in totals]
        assert got == [boarded(head, n) for n in (1, 3, 6)]
    with full(0):
        await client.board(Gangway(code="full", decks=[]), [])
    for wrong in (Gangway(code="..", decks=[]), Gangway(code="EID", decks=[], since=1001)):
        with refused(InvalidRequest):
            await client.board(wrong, [])
        with refused(InvalidRequest):
            await anext(client.file(wrong, []))


async def declared_error() -> None:
    with full(7):
        await client.refuse(RefuseRequest(how="declared"))
    for how in ("panic", "another", "else"):
        with problem("internal"):
            await client.refuse(RefuseRequest(how=how))
    with full(0):
        async for _ in client.count(CountRequest(count=1, fails_after=0)):
            pass


async def invalid_request() -> None:
    with refused(InvalidRequest):
        await client.echo(EchoRequest(text="", names={}))
    # What the client can't know: a body that is too large for this server.
    with problem("too-large"):
        await client.echo(EchoRequest(text="é" * 199_999, names={}))


async def late_failure() -> None:
    seen: list[int] = []
    with full(3):
        async for tick in client.count(CountRequest(count=9, fails_after=3)):
            seen.append(tick.n)
    with problem("internal"):
        async for tick in client.count(CountRequest(count=9, fails_after=3, badly=True)):
            seen.append(tick.n)
    with full(5):
        async for tick in client.mirror([Tick(n=5, text="a"), Tick(n=5, text="full")]):
            seen.append(tick.n)
    assert seen == [0, 1, 2, 0, 1, 2, 5], seen


async def early_answer() -> None:
    def ticks(text: str) -> Iterator[Tick]:
        for i in range(2000):
            yield Tick(n=9, text=text) if i == 3 else Tick(n=1, text="x" * 1000)

    with full(9):
        await client.sum(ticks("full"))
    assert (await client.sum(ticks("stop"))).total == 3


async def early_refusal() -> None:
    ticks = (Tick(n=1, text="x" * 1000) for _ in range(4200))  # over 4 MiB
    with problem("unauthenticated"):
        await connect({"credentials": {"desk": "expired"}}).guarded_sum(ticks)


async def give_up(call: Awaitable[object], seconds: float) -> None:
    """Cancels a call after some seconds."""
    calling = asyncio.ensure_future(call)
    await asyncio.sleep(seconds)
    calling.cancel()
    with refused(asyncio.CancelledError):
        await calling


async def cancellation() -> None:
    await raises(woken, lambda seconds: give_up(client.sleep(SleepRequest(id=1)), seconds), LEFT_AFTER)


async def left_streams() -> None:
    async def slowly() -> AsyncIterator[Tick]:
        yield Tick(n=1)
        await asyncio.sleep(1000)

    async def closed(_: float) -> None:
        async with client.drift(SleepRequest(id=1)) as ticks:
            async for tick in ticks:
                if tick.n == 2:
                    break

    await raises(woken, closed)
    # An upload that is given up while it waits for its next element, too.
    await raises(lost, lambda seconds: give_up(client.sum(slowly()), seconds))

    def enough() -> Iterator[Tick]:
        yield Tick(n=1)
        raise KeyError("enough")

    with refused(KeyError):
        await client.sum(enough())


async def timeout() -> None:
    async def late(seconds: float) -> None:
        with refused(Unreachable):
            await connect({"timeout": seconds, "tries": 1}).sleep(SleepRequest(id=1))

    await raises(woken, late)


async def missing_credential() -> None:
    try:
        await client.guarded()
        raise AssertionError("it should have been refused")
    except MissingCredential as missing:
        assert "crew + desk | machine" in str(missing), missing

    async def crew() -> str:
        return "ada"

    assert (await connect({"credentials": {"desk": "k", "skerry.matrix.crew": crew}}).guarded()).crew == "ada"
    await connect({"credentials": {"machine": lambda: "m&m"}}).guarded()
    with problem("forbidden"):
        await connect({"credentials": {"desk": "stolen", "crew": "c"}}).guarded()
    # A client that forgets them all the same is told so by the server.
    with problem("unauthenticated"):
        await connect({"credentials": {"machine": ""}}).guarded()


async def watching() -> None:
    """Is told of calls of every kind, as they end, and puts them in a trace."""
    parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
    told: list[str] = []

    def some(size: int) -> str:
        return str(size) if size in (0, 1000, 3000) else "+"

    def watcher(call: str, headers: dict[str, str]) -> Callable[[Watched], None]:
        headers["Traceparent"] = parent

        def done(w: Watched) -> None:
            failed = "-" if w.failed is None else "failed"
            name = call.removeprefix("skerry.matrix.Pier.")
            told.append(f"{name} {w.status} {w.tries} {some(w.sent)} {some(w.received)} {failed}")

        return done

    own = connect({"watcher": watcher})
    assert (await own.echo(EchoRequest(text="ü", names={}))).trace == parent
    with refused(NotModified):
        await own.stamp(StampRequest(code="kept", known="*"))
    await own.hang(HangRequest(name="n", photo=Body(made(1000), "image/x-made"), tags=[]))
    whole = await own.photo(PhotoRequest(name="n", size=3000))
    assert await whole.photo.aread() == made(3000)
    failing = await own.photo(PhotoRequest(name="n", size=3_000_000, fails=2_000_000))
    with refused(Unreachable):
        await failing.photo.aread()
    with full(7):
        await own.refuse(RefuseRequest(how="declared"))
    await own.flaky(SleepRequest(id=random.randrange(1 << 31)))
    with refused(InvalidRequest):
        await own.look(LookRequest(code=".."))
    assert len([tick async for tick in own.count(CountRequest(count=5))]) == 5
    async with own.count(CountRequest(count=5)) as ticks:
        assert (await anext(ticks)).n == 0
    await own.sum([Tick(n=1)])
    assert len([tick async for tick in own.mirror([Tick(n=1)])]) == 1
    async with own.mirror([Tick(n=1), Tick(n=2)]) as ticks:
        assert (await anext(ticks)).n == 1
    assert told == [
        "echo 200 1 + + -",
        "stamp 304 1 0 0 -",
        "hang 200 1 1000 + -",
        "photo 200 1 0 3000 -",
        "photo 200 1 0 + failed",
        "refuse 409 1 + + failed",
        "flaky 200 3 + + -",
        "look 0 0 0 0 failed",
        "count 200 1 + + -",
        "count 200 1 + + -",
        "sum 200 1 + + -",
        "mirror 101 1 + + -",
        "mirror 101 1 + + failed",
    ], told


async def retry() -> None:
    number = random.randrange(1 << 31)
    assert (await client.flaky(SleepRequest(id=number))).total == 3
    with problem("overloaded"):
        await connect({"tries": 1}).flaky(SleepRequest(id=number + 1))


async def not_implemented() -> None:
    with problem("not-implemented"):
        await client.unwritten()


CASES: list[Callable[[], Awaitable[None]]] = [
    unary,
    bound,
    answer_headers,
    raw_bodies,
    compression,
    watching,
    answer_stream,
    request_stream,
    both_ways,
    heads,
    declared_error,
    invalid_request,
    late_failure,
    early_answer,
    early_refusal,
    cancellation,
    left_streams,
    timeout,
    missing_credential,
    retry,
    not_implemented,
]


async def main() -> None:
    for case in CASES:
        name = case.__name__.replace("_", " ")
        try:
            await case()
            print(f"{name}: ok")
        except Exception as error:
            print(f"{name}: {type(error).__name__}: {str(error).splitlines()[0] if str(error) else ''}")


if __name__ == "__main__":
    asyncio.run(main())
