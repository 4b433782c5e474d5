"""The client of the matrix in Python: it prints a line a case."""

from __future__ import annotations

import contextlib
import io
import os
import random
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from datetime import date
from decimal import Decimal
from uuid import UUID

from gen.faithful.client import Cancellation, ClientOptions
from gen.faithful.exchange import CallOptions
from gen.faithful.trace import current_trace
from gen.faithful.web import BadAnswer, MissingCredential, NotModified, Problem, Trace, Unreachable, Watched
from gen.faithful.wire import Body, Duration, Instant, InvalidRequest
from gen.skerry.matrix import (
    BerthAnswer,
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
    PierClient,
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


def connect(options: ClientOptions | None = None) -> PierClient:
    everything: ClientOptions = {"encoding": "json" if sys.argv[2:] == ["json"] else "cbor"}
    everything.update(options or {})
    return PierClient(BASE, everything)


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
def refused(kind: type[Exception]) -> Iterator[None]:
    try:
        yield
    except kind:
        return
    raise AssertionError("it should have been refused")


# After how many seconds a call is left: once, where the server is known to see nothing of it.
LEFT_AFTER = (0.1,) if os.environ.get("MATRIX_UNSEEN") else (0.1, 1, 4)


def wakes(leave: Callable[[float], None], left_after: Sequence[float] = (0.1, 1, 4)) -> None:
    """Leaves a call after some seconds and waits until the server has seen one more caller leave. On a busy
    machine a call that is left early may not have reached its handler: then it is left later."""
    before = client.woken().total
    for seconds in left_after:
        leave(seconds)
        for _ in range(200):
            if client.woken().total > before:
                return
            time.sleep(0.01)
    raise AssertionError("the handler did not notice")


def unary() -> None:
    at = Instant.parse("2026-07-15T06:58:12.25Z")
    request = EchoRequest(text='Håkon "the" Skua 🐦\n', at=at, names={"a": -1, "bb": 1 << 60})
    token = current_trace.set(Trace("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"))
    answer = client.echo(request)
    current_trace.reset(token)
    assert answer == EchoAnswer(request=request, trace="00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"), (
        answer
    )
    assert answer.request.amount == Decimal("1.50")


def bound() -> None:
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
    answer = client.berth(request)
    assert answer == BerthAnswer(
        code=request.code,
        number=request.number,
        side=request.side,
        decks=request.decks,
        since=request.since,
        ticket=request.ticket,
        name=request.name,
        wait=request.wait,
    ), answer
    look = LookRequest(
        code="EID",
        side=Side.NORTH,
        ratio=-0.5e-9,
        open=False,
        amount=Decimal("-0.10"),
        hull=UUID("0b9f6a52-3d1c-4e6b-9a57-5f2f3f1d7c01"),
        photo=b"\0\xff",
        name="12 & = + #",
    )
    assert client.look(look) == look
    assert client.look(LookRequest(code="EID")) == LookRequest(code="EID", open=True)
    with refused(InvalidRequest):
        client.look(LookRequest(code=".."))
    client.leave(LookRequest(code="EID"))


def answer_headers() -> None:
    encoding = "json" if sys.argv[2:] == ["json"] else "cbor"
    request = StampRequest(code="kept", visit='a "b"; ü', how=' é, 100% "x" ')
    stamp = client.stamp(request)
    assert stamp == Stamp(
        tag=f'"kept.{encoding}"', cache="max-age=60", count=4, visit=request.visit, name="kept", how=request.how
    ), stamp
    for known in (stamp.tag, f'"other", W/{stamp.tag}', "*"):
        try:
            client.stamp(StampRequest(code="kept", known=known))
        except NotModified as unchanged:
            assert unchanged.etag == stamp.tag, unchanged
        else:
            raise AssertionError("it is the same")
    stamp = client.stamp(StampRequest(code="new", known=stamp.tag))
    assert stamp == Stamp(tag=f'"new.{encoding}"', cache="private, no-cache", count=3, name="new"), stamp
    moved = client.move(MoveRequest(to="/stamps/new?y=1"))
    assert moved == Moved(at="/stamps/new?y=1", note="moved, to: ü"), moved
    assert client.forget(StampRequest(code="3")) == Forgotten(visit="", left=3)
    assert client.forget(StampRequest(code="x")) == Forgotten(visit="")
    client.ping(Nothing())


def raw_bodies() -> None:
    photo = made(3_000_000)

    def stream() -> Iterator[bytes]:
        yield photo[:1_000_000]
        time.sleep(0.001)
        yield photo[1_000_000:]

    kind = "image/x-made"
    for body in (
        Body(stream(), kind),
        Body(stream(), kind, len(photo)),
        Body(photo, kind),
        Body(io.BytesIO(photo), kind),
    ):
        hung = client.hang(HangRequest(name="a/b", photo=body, label="ü", tags=["x", "y"]))
        assert hung == Hung(name="a/b", size=3_000_000, kind=kind, sum=sum(photo), label="ü", tags=["x", "y"]), hung
    for known in (True, False):
        answer = client.photo(PhotoRequest(name="n", size=3_000_000, known=known))
        assert answer.photo.read() == photo
        assert answer.photo.size == (3_000_000 if known else None)
        assert (answer.photo.media_type, answer.name, answer.tag) == (kind, "n", '"n"')
        # One that fails in the middle is not whole.
        answer = client.photo(PhotoRequest(name="n", size=3_000_000, known=known, fails=2_000_000))
        with refused(Unreachable):
            answer.photo.read()
        # One that fails at once is a problem.
        with problem("internal"):
            client.photo(PhotoRequest(name="n", size=3, known=known, fails=0))
    seen: list[str | None] = []
    options: CallOptions = {
        "headers": {"range": "bytes=990-"},
        "answered": lambda _, headers: seen.append(headers.get("content-range")),
    }
    part = client.photo(PhotoRequest(name="n", size=1000), options=options)
    assert part.photo.read() == made(1000)[990:]
    assert seen == ["bytes 990-999/1000"], seen
    back = client.back(Scanned(roll=Body(made(1000))))
    assert back.roll.read() == made(1000)
    for wrong in (Body(made(9)), Body(made(10), "text/plain"), Body(b"")):
        with refused(InvalidRequest):
            client.back(Scanned(roll=wrong))
    # What the client can't know before: the answer has begun, or has not.
    for size in (9, 1001):

        def unknown(size: int = size) -> Iterator[bytes]:
            yield made(size)

        try:
            back = client.back(Scanned(roll=Body(unknown())))
            back.roll.read()
        except Unreachable:
            pass
        except Problem as error:
            assert error.problem == "invalid-request", error
        else:
            raise AssertionError(f"{size} bytes came back")
    left = client.photo(PhotoRequest(name="n", size=900_000_000))
    left.photo.close()


def compression() -> None:
    text = "Håkon " * 5000
    for compressed in (True, False):
        own = connect({"compression": compressed})
        told: list[str | None] = []
        options: CallOptions = {"answered": lambda _, headers: told.append(headers.get("content-encoding"))}  # noqa: B023
        answer = own.echo(EchoRequest(text=text, names={}), options=options)
        assert answer.request.text == text
        # What is small, or secret, is not compressed.
        own.echo(EchoRequest(names={}), options=options)
        own.hush(EchoRequest(text=text, names={}), options=options)
        assert told == ["gzip" if compressed else None, None, None], told
    # Limits hold for what comes out.
    with refused(BadAnswer):
        connect({"compression": True, "answer_limit": 10_000}).echo(EchoRequest(text=text, names={}))


def answer_stream() -> None:
    assert [tick.n for tick in client.count(CountRequest(count=5))] == [0, 1, 2, 3, 4]
    assert list(client.count(CountRequest(count=0))) == []
    assert len(list(client.count(CountRequest(count=20, size=99_000)))) == 20


def request_stream() -> None:
    for n in (0, 1, 1000):
        assert client.sum(Tick(n=i) for i in range(n)).total == n * (n - 1) // 2


def both_ways() -> None:
    sent = [Tick(n=n, text="é" * n) for n in range(50)]
    with client.mirror(sent) as ticks:
        assert list(ticks) == sent


WHOLE = Gangway(code="a/b ?%ø..", since=7, decks=[3, 1], device='é, 100% "x"', visit='50% ; "é"')


def boarded(at: Gangway, total: int) -> Boarded:
    return Boarded(code=at.code, decks=at.decks, device=at.device, visit=at.visit, total=at.since + total)


def heads() -> None:
    ticks = [Tick(n=1), Tick(n=2), Tick(n=3)]
    for head in (WHOLE, Gangway(code="EID", decks=[])):
        assert client.board(head, ticks) == boarded(head, 6)
        with client.file(head, ticks) as totals:
            assert list(totals) == [boarded(head, n) for n in (1, 3, 6)]
    with full(0):
        client.board(Gangway(code="full", decks=[]), [])
    for wrong in (Gangway(code="..", decks=[]), Gangway(code="EID", decks=[], since=1001)):
        with refused(InvalidRequest):
            client.board(wrong, [])
        with refused(InvalidRequest):
            client.file(wrong, [])


def declared_error() -> None:
    with full(7):
        client.refuse(RefuseRequest(how="declared"))
    for how in ("panic", "another", "else"):
        with problem("internal"):
            client.refuse(RefuseRequest(how=how))
    with full(0):
        list(client.count(CountRequest(count=1, fails_after=0)))


def invalid_request() -> None:
    with refused(InvalidRequest):
        client.echo(EchoRequest(text="", names={}))
    # What the client can't know: a body that is too large for this server.
    with problem("too-large"):
        client.echo(EchoRequest(text="é" * 199_999, names={}))


def late_failure() -> None:
    seen: list[int] = []
    with full(3):
        for tick in client.count(CountRequest(count=9, fails_after=3)):
            seen.append(tick.n)
    with problem("internal"):
        for tick in client.count(CountRequest(count=9, fails_after=3, badly=True)):
            seen.append(tick.n)
    with full(5):
        for tick in client.mirror([Tick(n=5, text="a"), Tick(n=5, text="full")]):
            seen.append(tick.n)
    assert seen == [0, 1, 2, 0, 1, 2, 5], seen


def early_answer() -> None:
    def ticks(text: str) -> Iterator[Tick]:
        for i in range(2000):
            yield Tick(n=9, text=text) if i == 3 else Tick(n=1, text="x" * 1000)

    with full(9):
        client.sum(ticks("full"))
    assert client.sum(ticks("stop")).total == 3


def early_refusal() -> None:
    ticks = (Tick(n=1, text="x" * 1000) for _ in range(4200))  # over 4 MiB
    with problem("unauthenticated"):
        connect({"credentials": {"desk": "expired"}}).guarded_sum(ticks)


def cancellation() -> None:
    def cancelled(seconds: float) -> None:
        cancel = Cancellation()
        threading.Timer(seconds, cancel.cancel).start()
        with refused(Unreachable):
            client.sleep(SleepRequest(id=1), cancellation=cancel)

    wakes(cancelled, LEFT_AFTER)


def left_streams() -> None:
    def closed(_: float) -> None:
        with client.drift(SleepRequest(id=1)) as ticks:
            for tick in ticks:
                if tick.n == 2:
                    break

    wakes(closed)

    def enough() -> Iterator[Tick]:
        yield Tick(n=1)
        raise KeyError("enough")

    with refused(KeyError):
        client.sum(enough())


def timeout() -> None:
    def late(seconds: float) -> None:
        with refused(Unreachable):
            connect({"timeout": seconds, "tries": 1}).sleep(SleepRequest(id=1))

    wakes(late)


def missing_credential() -> None:
    try:
        client.guarded()
        raise AssertionError("it should have been refused")
    except MissingCredential as missing:
        assert "crew + desk | machine" in str(missing), missing
    assert connect({"credentials": {"desk": "k", "skerry.matrix.crew": lambda: "ada"}}).guarded().crew == "ada"
    connect({"credentials": {"machine": "m&m"}}).guarded()
    with problem("forbidden"):
        connect({"credentials": {"desk": "stolen", "crew": "c"}}).guarded()
    # A client that forgets them all the same is told so by the server.
    with problem("unauthenticated"):
        connect({"credentials": {"machine": ""}}).guarded()


def watching() -> None:
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
    assert (own.echo(EchoRequest(text="ü", names={}))).trace == parent
    with refused(NotModified):
        own.stamp(StampRequest(code="kept", known="*"))
    own.hang(HangRequest(name="n", photo=Body(made(1000), "image/x-made"), tags=[]))
    whole = own.photo(PhotoRequest(name="n", size=3000))
    assert whole.photo.read() == made(3000)
    failing = own.photo(PhotoRequest(name="n", size=3_000_000, fails=2_000_000))
    with refused(Unreachable):
        failing.photo.read()
    with full(7):
        own.refuse(RefuseRequest(how="declared"))
    own.flaky(SleepRequest(id=random.randrange(1 << 31)))
    with refused(InvalidRequest):
        own.look(LookRequest(code=".."))
    assert len(list(own.count(CountRequest(count=5)))) == 5
    with own.count(CountRequest(count=5)) as ticks:
        assert (next(ticks)).n == 0
    own.sum([Tick(n=1)])
    assert len(list(own.mirror([Tick(n=1)]))) == 1
    with own.mirror([Tick(n=1), Tick(n=2)]) as ticks:
        assert (next(ticks)).n == 1
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


def retry() -> None:
    number = random.randrange(1 << 31)
    assert client.flaky(SleepRequest(id=number)).total == 3
    with problem("overloaded"):
        connect({"tries": 1}).flaky(SleepRequest(id=number + 1))


def not_implemented() -> None:
    with problem("not-implemented"):
        client.unwritten()


CASES: list[Callable[[], None]] = [
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

for case in CASES:
    name = case.__name__.replace("_", " ")
    try:
        case()
        print(f"{name}: ok")
    except Exception as error:
        print(f"{name}: {type(error).__name__}: {str(error).splitlines()[0] if str(error) else ''}")
