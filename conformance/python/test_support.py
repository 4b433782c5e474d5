"""Tests of what the stubs share, with pytest."""

from __future__ import annotations

import asyncio
import copy
import dataclasses
import pickle
import subprocess
import sys
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from datetime import datetime, timedelta, timezone
from decimal import Decimal
from typing import Any

import httpx
import pytest
from websockets.sync import server as sockets
from websockets.typing import Subprotocol

from gen.faithful import stream, web, wire
from gen.faithful.exchange import retry_after
from gen.faithful.server import Context, Unauthenticated, _in_thread, listen, serve
from gen.skerry.language import Keys, MoreOptionals
from gen.skerry.matrix import (
    AsyncPierClient,
    CountRequest,
    EchoRequest,
    Pier,
    PierClient,
    PierFull,
    SleepRequest,
    Tick,
    serve_pier,
)
from gen.skerry.shared import Deck, Leaf
from gen.skerry.vectors import Lists, Optionals


def test_instants() -> None:
    for text, want in [
        ("2026-07-15T09:30:00+02:00", "2026-07-15T07:30:00Z"),
        ("1969-12-31T23:59:58.500Z", "1969-12-31T23:59:58.5Z"),
        ("0001-01-01T00:00:00Z", "0001-01-01T00:00:00Z"),
        ("9999-12-31T23:59:59.999999999Z", "9999-12-31T23:59:59.999999999Z"),
    ]:
        assert str(wire.Instant.parse(text)) == want
    for text in ("", "2026-02-29T00:00:00Z", "2026-01-01T24:00:00Z", "2026-01-01T00:00:60Z", "2026-01-01T00:00:00"):
        with pytest.raises(wire.WireError):
            wire.Instant.parse(text)
    moment = datetime(2026, 7, 15, 9, 30, 0, 250_000, timezone(timedelta(hours=2)))
    assert wire.Instant.of(moment).to_datetime() == moment
    with pytest.raises(ValueError, match="time zone"):
        wire.Instant.of(datetime(2026, 7, 15))
    with pytest.raises(wire.WireError):
        wire.Instant(1 << 60)


def test_durations() -> None:
    for text, nanos in [
        ("PT90S", 90_000_000_000),
        ("-PT0.5S", -500_000_000),
        ("P1DT1H1M", 90_060_000_000_000),
        ("-PT0S", 0),
    ]:
        assert wire.Duration.parse(text).nanoseconds == nanos
    for text in ("", "P", "PT", "PT1.S", "pt1S", "PT1.5M", "PT9223372037S"):
        with pytest.raises(wire.WireError):
            wire.Duration.parse(text)
    assert str(wire.Duration.of(timedelta(minutes=1, milliseconds=500))) == "PT60.5S"
    assert wire.Duration.seconds(1.5).to_timedelta() == timedelta(seconds=1.5)


def test_decimals() -> None:
    for text in ("0", "1.50", "-0.01", "9" * 34):
        assert wire.decimal_text(wire.parse_decimal(text)) == text
    assert wire.decimal_text(Decimal("15E2")) == "1500"
    for wrong in ("", "-0", "1.", ".5", "NaN", "9" * 35):
        with pytest.raises(wire.WireError):
            wire.parse_decimal(wrong)


def test_enums() -> None:
    assert Deck("open") == "open" and Deck.OPEN.listed and Deck(f"#{Deck.OPEN.number()}").number() == Deck.OPEN.number()
    assert not Deck("#900").listed and Deck("#900").number() == 900
    with pytest.raises(wire.WireError):
        Deck("?moon").number()
    assert pickle.loads(pickle.dumps(Deck.OPEN)) == Deck.OPEN


def test_messages_and_errors_travel_in_python_too() -> None:
    message = EchoRequest(text="a", names={"seats": 3})
    assert pickle.loads(pickle.dumps(message)) == message == copy.deepcopy(message)
    error = pickle.loads(pickle.dumps(PierFull(berths=7)))
    assert isinstance(error, PierFull) and error.berths == 7


def elements(encoding: str, *, limit: int = 1 << 20) -> stream.Elements:
    return stream.Elements(json=encoding == "json", cls=Tick, limit=limit, items=wire.DEFAULT_BUDGET)


@pytest.mark.parametrize("encoding", ["cbor", "json"])
def test_streams_are_read_however_they_are_cut(encoding: str) -> None:
    writer = stream.ElementWriter(json=encoding == "json", sequence=True, limit=1 << 20)
    ticks = [Tick(n=n, text='é{[\\"' * n) for n in range(5)]
    whole = b"".join([writer.value(ticks[0]), writer.heartbeat(), *[writer.value(t) for t in ticks[1:]], writer.end()])
    for size in (1, 2, 3, 7, len(whole)):
        reader = elements(encoding)
        seen: list[Any] = []
        for at in range(0, len(whole), size):
            seen += list(reader.feed(whole[at : at + size]))
        reader.finish()
        assert [value for kind, value in seen if kind == "value"] == ticks
        assert seen[-1][0] == "end"
    for at in range(len(whole) - (1 if encoding == "json" else 0)):
        reader = elements(encoding)
        assert all(kind == "value" for kind, _ in reader.feed(whole[:at]))
        with pytest.raises(stream.LostError):
            reader.finish()


@pytest.mark.parametrize("encoding", ["cbor", "json"])
def test_streams_refuse_what_is_none(encoding: str) -> None:
    writer = stream.ElementWriter(json=encoding == "json", sequence=True, limit=1 << 20)
    for wrong in (b"no stream", writer.end() + writer.end(), writer.end() + writer.value(Tick(n=1)), b"\xff\xff"):
        with pytest.raises((stream.BadElementError, stream.LostError, wire.WireError)):
            reader = elements(encoding)
            list(reader.feed(wrong))
            reader.finish()
    with pytest.raises(stream.BadElementError) as large:
        list(elements(encoding, limit=50).feed(writer.value(Tick(n=1, text="x" * 100))))
    assert large.value.too_large
    with pytest.raises(stream.BadElementError):
        stream.ElementWriter(json=encoding == "json", sequence=True, limit=50).value(Tick(n=1, text="x" * 100))


def test_headers() -> None:
    assert web.media_type("Application/JSON; charset=utf-8") == "application/json"
    assert web.media_type(None) == ""
    assert retry_after("3") == 3.0
    assert retry_after("Wed, 21 Oct 2015 07:28:00 GMT") == 0.0
    assert retry_after("soon") is None and retry_after(None) is None


def test_mounts_with_options_of_their_own_are_not_joined() -> None:
    class Nothing(Pier):
        pass

    def plain() -> Any:
        return serve_pier(Nothing())

    assert len(serve(plain(), plain()).routes) == 2 * len(plain().routes)
    with pytest.raises(ValueError, match="first mount"):
        serve(plain(), serve_pier(Nothing(), {"heartbeat": 1.0}))


def test_an_error_that_a_call_does_not_declare_is_told_with_its_context() -> None:
    class Full(Pier):
        def sleep(self, request: SleepRequest, context: Context) -> None:
            raise PierFull(berths=3)

    told: list[str] = []
    heard: list[bool] = []

    def on_error(call: str, problem: BaseException, context: Context | None) -> None:
        told.append(str(problem))
        heard.append(context is not None and context.call == call and isinstance(problem.__cause__, PierFull))

    app = serve_pier(Full(), {"on_error": on_error})

    async def call() -> None:
        async with httpx.AsyncClient(transport=httpx.ASGITransport(app=app), base_url="http://anywhere") as client:
            answer = await client.post("/skerry/matrix/pier/sleep", json={"id": 1})
            assert answer.status_code == 500, answer.text

    asyncio.run(call())
    assert told == [
        "skerry.matrix.Pier.sleep failed with skerry.matrix.PierFull, which it does not declare; add it to fails"
    ]
    assert heard == [True]


def test_middleware_is_around_a_stream() -> None:
    class Counts(Pier):
        async def count(self, request: CountRequest, context: Context) -> AsyncIterator[Tick]:
            for n in range(3):
                happened.append(f"tick {n}")
                yield Tick(n=n)
            if request.badly:
                raise ValueError

        def sleep(self, request: SleepRequest, context: Context) -> None:
            raise Unauthenticated("who are you?")

    happened: list[str] = []

    async def told(context: Context, following: Callable[[], Awaitable[None]]) -> None:
        happened.append("before")
        try:
            await following()
        except ValueError:
            happened.append("swallowed")
        happened.append("after")

    app = serve_pier(Counts(), {"middleware": [told], "on_error": lambda call, problem, context: None})

    async def call() -> None:
        async with httpx.AsyncClient(transport=httpx.ASGITransport(app=app), base_url="http://anywhere") as client:
            accept = {"accept": "application/json-seq"}
            path = "/skerry/matrix/pier/count"
            whole = await client.post(path, json={"count": 3, "badly": False}, headers=accept)
            assert '{"end":{}}' in whole.text, whole.text
            broken = await client.post(path, json={"count": 3, "badly": True}, headers=accept)
            assert '{"end":{}}' not in broken.text and '"problem"' in broken.text
            answer = await client.post("/skerry/matrix/pier/sleep", json={"id": 1})
            assert answer.status_code == 401, answer.text

    asyncio.run(call())
    one = ["before", "tick 0", "tick 1", "tick 2"]
    assert happened == [*one, "after", *one, "swallowed", "after", "before"]


@pytest.mark.parametrize(
    ("field", "value", "found"),
    [
        ("small", True, "expected int, found True, a bool"),
        ("flag", 1, "expected bool, found 1, a int"),
        ("ratio", True, "expected float, found True, a bool"),
        ("name", b"x", "expected str, found b'x', a bytes"),
        ("data", "x", "expected bytes, found 'x', a str"),
        ("key", "x", "expected UUID, found 'x', a str"),
        ("list_", ["x"], "expected int, found 'x', a str"),
        ("day", datetime(2026, 7, 15, tzinfo=timezone.utc), "expected date, found datetime.datetime("),
        ("at", "2026-07-15T00:00:00Z", "expected Instant, found '2026-07-15T00:00:00Z', a str"),
        ("length", timedelta(1), "expected Duration, found datetime.timedelta(days=1), a timedelta"),
        ("amount", 1.5, "expected Decimal, found 1.5, a float"),
        ("amount", Decimal("NaN"), "NaN is not a decimal"),
    ],
)
def test_writers_refuse_values_of_another_kind(field: str, value: Any, found: str) -> None:
    broken = MoreOptionals() if field in ("day", "length", "amount") else Optionals()
    setattr(broken, field, value)
    for write in (broken.to_cbor, broken.to_json):
        with pytest.raises(wire.WireError) as refused:
            write()
        assert found in str(refused.value)
        if "NaN" not in found:
            assert refused.value.path == ("/list/0" if field == "list_" else f"/{field}")


def test_values_that_are_shared_do_not_change() -> None:
    for value, name in ((wire.Instant(0), "seconds"), (wire.Duration(0), "nanoseconds")):
        with pytest.raises(AttributeError):
            setattr(value, name, 1)
        assert hash(copy.copy(value)) == hash(value) and pickle.loads(pickle.dumps(value)) == value


def test_errors_say_their_fields() -> None:
    assert str(PierFull(berths=3)) == 'skerry.matrix.PierFull: The pier is full. {"berths":3}'


@pytest.mark.parametrize("client", [PierClient, AsyncPierClient])
def test_a_base_that_is_none(client: Callable[[str], object]) -> None:
    for base, example in {"127.0.0.1:1": "127.0.0.1:1", "": "127.0.0.1:8080", "ftp://x": "127.0.0.1:8080"}.items():
        with pytest.raises(ValueError) as refused:
            client(base)
        assert str(refused.value) == f'"{base}" is not the URL of a server; write, for example: http://{example}'


def test_a_listener_sends_small_writes_at_once() -> None:
    listener = listen()
    assert listener.proto != 0 and listener.getsockname()[1] > 0
    listener.close()


def test_generators_run_in_a_thread_and_little_ahead() -> None:
    made: list[int] = []
    closed: list[bool] = []

    def numbers(count: int) -> Iterator[int]:
        try:
            for n in range(count):
                made.append(n)
                yield n
        finally:
            closed.append(True)

    async def some() -> None:
        reader: Any = _in_thread(numbers(10_000))
        assert [await anext(reader) for _ in range(3)] == [0, 1, 2]
        await asyncio.sleep(0.05)
        assert len(made) <= 3 + 16 + 1, "it runs ahead without a bound"
        await reader.aclose()

    asyncio.run(some())
    for _ in range(200):
        if closed:
            break
        time.sleep(0.01)
    assert closed == [True] and len(made) < 30

    async def every() -> list[int]:
        return [n async for n in _in_thread(numbers(2000))]

    assert asyncio.run(every()) == list(range(2000))

    def slow() -> Iterator[int]:
        yield 1
        time.sleep(2)
        raise KeyError("late")

    async def late() -> None:
        reader = _in_thread(slow())
        began = time.monotonic()
        assert await anext(reader) == 1
        assert time.monotonic() - began < 1.5, "an element waits for the next one"
        with pytest.raises(KeyError):
            await anext(reader)

    asyncio.run(late())


def test_unlisted_fields_are_equal_in_any_order_of_their_names() -> None:
    one = Leaf.from_json('{"number": 1, "berth": 2, "pier": {"a": 1}, "#40": "AQ"}')
    other = Leaf.from_json('{"#40": "AQ", "pier": {"a":1}, "number": 1, "berth": 2}')
    assert one == other
    assert other == one
    assert one.to_json() != other.to_json(), "each keeps its own order"
    assert one == copy.deepcopy(other) == pickle.loads(pickle.dumps(other))
    for text in ('{"number": 1, "berth": 2, "#40": "AQ"}', '{"number": 1, "berth": 3, "pier": {"a": 1}, "#40": "AQ"}'):
        assert one != Leaf.from_json(text)
    plain = Leaf(number=1)
    assert one != plain
    wire.keep_unlisted_fields(plain, reversed(wire.unlisted_fields(one)))
    assert one == plain


@pytest.mark.parametrize("asynchronous", [False, True])
def test_a_conversation_with_who_never_reads_ends(asynchronous: bool) -> None:
    over = threading.Event()

    def silent(_: sockets.ServerConnection) -> None:
        over.wait()

    listening = sockets.serve(silent, "127.0.0.1", 0, subprotocols=[Subprotocol("faithful-cbor")], close_timeout=0.5)
    threading.Thread(target=listening.serve_forever, daemon=True).start()
    address = f"http://127.0.0.1:{listening.socket.getsockname()[1]}"

    def ticks() -> Iterator[Tick]:
        while True:
            yield Tick(n=1, text="x" * 90_000)

    async def converse() -> None:
        async for _ in AsyncPierClient(address, {"idle_timeout": 1.0}).mirror(ticks()):
            pass

    start = time.monotonic()
    with pytest.raises(web.Unreachable):
        if asynchronous:
            asyncio.run(converse())
        else:
            list(PierClient(address, {"idle_timeout": 1.0}).mirror(ticks()))
    assert time.monotonic() - start < 5
    over.set()
    listening.shutdown()


@pytest.mark.parametrize(
    ("text", "refused"),
    [
        ('{"name":"a","name":"b"}', "twice"),
        ('{"name" :"a","name":"b"}', "twice"),
        ('{"name":"a\\":","name":"b"}', "twice"),
        ('{"name":"\\ud83d"}', "surrogate"),
        ('{"name":"\ud83d"}', "surrogate"),
        ('{"ratio":NaN}', "expected float64"),
        ('{"ratio":1e999}', "too large"),
        ('{"name":"a\tb"}', "control character"),
        ('{"small":01}', "not well formed"),
        ('{"small":1.0}', "expected int32"),
        ('{"small":true}', "expected int32"),
        ('{"name":"a"}}', "after the end"),
    ],
)
def test_json_that_the_scanner_would_take(text: str, refused: str) -> None:
    with pytest.raises(wire.WireError, match=refused):
        Optionals.from_json(text)


def test_keys_of_maps_that_come_twice() -> None:
    with pytest.raises(wire.WireError, match="twice") as refused:
        EchoRequest.from_json('{"text":"a","names":{"a":1,"b":2,"a":1}}')
    assert refused.value.path == "/names/a"


def test_json_that_writers_do_not_write() -> None:
    assert str(Optionals.from_json('{"ratio":-0}').ratio) == "-0.0"
    assert Optionals.from_json('{"ratio":0}').ratio == 0
    told = Optionals.from_json('\n{ "small" : 7,\t"name": "\\ud83d\\ude00 \\":", "later": [1, {"a": null}] }\n')
    assert (told.small, told.name) == (7, '😀 ":')
    assert told.to_json() == '{"small":7,"name":"😀 \\":","later":[1,{"a":null}]}'


def test_large_payloads_have_their_budget() -> None:
    names = {f"harbour {i}": i for i in range(90_000)}
    request = EchoRequest(names=names)
    assert len(request.to_json()) > 1_000_000
    cbor, text = request.to_cbor(), request.to_json()
    reads: list[Callable[[int], EchoRequest]] = [
        lambda items: EchoRequest.from_cbor(cbor, items),
        lambda items: EchoRequest.from_json(text, items),
    ]
    for read in reads:
        assert read(90_010).names == names
        with pytest.raises(wire.WireError, match="more elements") as refused:
            read(89_000)
        assert refused.value.too_large


def test_types_cost_no_client_and_no_server() -> None:
    told = subprocess.run(
        [
            sys.executable,
            "-c",
            "import sys\n"
            "import gen.skerry.matrix as matrix\n"
            "matrix.Tick(n=1).to_json()\n"
            "print([name for name in ('httpx', 'http.client', 'ssl', 'asyncio', 'websockets') if name in sys.modules])\n"
            "from gen.skerry.matrix import *\n"
            "print(AsyncPierClient.__name__, serve_pier.__name__, 'Tick' in dir(matrix))\n"
            "matrix.Tock\n",
        ],
        capture_output=True,
        text=True,
        check=False,
    )
    assert told.stdout == "[]\nAsyncPierClient serve_pier True\n"
    assert "AttributeError: module 'gen.skerry.matrix' has no attribute 'Tock'" in told.stderr


@pytest.mark.parametrize("none", ["banana", "", "#x", "#65536", "#"])
def test_enum_values_that_are_none(none: str) -> None:
    maps: dict[str, Any] = {name: {} for name in Keys.__dataclass_fields__ if name != "_unlisted"}
    keys = Keys(**(maps | {"decks": {Deck(none): 1}}))
    value = Optionals(deck=Deck(none))
    for message in (keys, value):
        for write in (message.to_json, message.to_cbor):
            with pytest.raises(wire.WireError, match="is not listed in Deck"):
                write()


def test_enum_values_that_are_not_listed() -> None:
    maps: dict[str, Any] = {name: {} for name in Keys.__dataclass_fields__ if name != "_unlisted"}
    keys = Keys(**(maps | {"decks": {Deck("#7"): 1, Deck("?sun"): 2}}))
    assert '"decks":{"7":1,"sun":2}' in keys.to_json()
    with pytest.raises(wire.WireError, match="binary payloads contain numbers"):
        keys.to_cbor()


def test_errors_of_writing_name_the_place() -> None:
    empty: dict[str, Any] = {name: [] for name in Lists.__dataclass_fields__ if name != "_unlisted"}
    whole = Lists(**empty)

    def broken(path: str, **changes: Any) -> None:
        message = dataclasses.replace(whole, **changes)
        for write in (message.to_json, message.to_cbor):
            with pytest.raises(wire.WireError) as refused:
                write()
            assert refused.value.path == path, str(refused.value)

    far = Leaf(number=1 << 70)
    broken("/leaves/1/number", leaves=[Leaf(number=1), far])
    broken("/maps/0/a~1b/number", maps=[{"a/b": far}])
    broken("/grid/1", grid=[[1], [2, 1 << 70]])
