"""Tests of what real services do besides answering: refusing for reasons of their own, shutting down, methods, origins."""

from __future__ import annotations

import asyncio
import contextlib
import http.server
import json
import queue
import re
import socket
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest
import uvicorn
from fastapi import FastAPI
from starlette.applications import Starlette
from starlette.routing import Mount
from starlette.types import ASGIApp

from gen.faithful import web, wire
from gen.faithful.client import Cancellation
from gen.faithful.exchange import CallOptions
from gen.faithful.server import Context, Elements, Refusal, Served, listen
from gen.skerry.matrix import (
    AsyncPierClient,
    CountRequest,
    EchoAnswer,
    EchoRequest,
    Ended,
    LookRequest,
    Pier,
    PierClient,
    RefuseRequest,
    SleepRequest,
    Tick,
    Total,
    serve_pier,
)


def asked(
    app: Served, method: str, path: str, headers: dict[str, str] | None = None, body: Any = None
) -> httpx.Response:
    async def ask() -> httpx.Response:
        async with httpx.AsyncClient(transport=httpx.ASGITransport(app=app), base_url="http://pier.example") as client:
            return await client.request(method, path, headers=headers, json=body)

    return asyncio.run(ask())


class Listening(threading.Thread):
    """An application that listens, in a thread with an event loop of its own."""

    def __init__(self, app: Served, outer: ASGIApp, root: str) -> None:
        super().__init__(daemon=True)
        self.app = app
        self.listener = listen()
        host, port = self.listener.getsockname()[:2]
        self.base = f"http://{host}:{port}"
        self.server = uvicorn.Server(uvicorn.Config(outer, log_level="error", root_path=root, **app.uvicorn_limits()))
        self.loop = asyncio.new_event_loop()
        self.start()
        while not self.server.started:
            time.sleep(0.005)

    def run(self) -> None:
        self.loop.run_until_complete(self.server.serve([self.listener]))

    def do(self, work: Coroutine[Any, Any, Any], timeout: float = 10) -> Any:
        return asyncio.run_coroutine_threadsafe(work, self.loop).result(timeout)


@contextlib.contextmanager
def serving(app: Served, outer: ASGIApp | None = None, root: str = "") -> Iterator[Listening]:
    """Serves an application, or another one that it is mounted in, where a proxy has taken away a root of paths."""
    served = Listening(app, outer or app, root)
    try:
        yield served
    finally:
        served.server.should_exit = served.server.force_exit = True
        served.join(5)


def test_an_executor_of_ones_own() -> None:
    names: list[str] = []

    class Named(Pier):
        def echo(self, request: EchoRequest, context: Context) -> EchoAnswer:
            names.append(threading.current_thread().name)
            return EchoAnswer(request=request)

    with ThreadPoolExecutor(1, "pier") as executor:
        app = serve_pier(Named(), {"executor": executor})
        assert asked(app, "POST", "/skerry/matrix/pier/echo", body={"names": {}}).status_code == 200
    assert names == ["pier_0"]


def test_a_transport_of_ones_own() -> None:
    async def call() -> EchoAnswer:
        transport = httpx.ASGITransport(app=serve_pier(Lively()))
        async with AsyncPierClient("http://pier.example", {"transport": transport}) as client:
            return await client.echo(EchoRequest(text="ü", names={}))

    assert asyncio.run(call()).request.text == "ü"


class Lively(Pier):
    def echo(self, request: EchoRequest, context: Context) -> EchoAnswer:
        return EchoAnswer(request=request)

    async def count(self, request: CountRequest, context: Context) -> AsyncIterator[Tick]:
        for n in range(request.count):
            yield Tick(n=n)

    async def mirror(self, elements: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
        async for tick in elements:
            yield tick


@pytest.mark.parametrize("base", ["", "/v2"])
@pytest.mark.parametrize("root", ["", "/behind"])
@pytest.mark.parametrize("framework", ["starlette", "fastapi"])
def test_mounted_in_a_framework(framework: str, root: str, base: str) -> None:
    """Under a path of theirs, and behind a proxy that has taken away a part of the path."""
    app = serve_pier(Lively(), {"base": base})
    outer: ASGIApp
    if framework == "starlette":
        outer = Starlette(routes=[Mount("/line/api", app)])
    else:
        api = FastAPI()
        api.mount("/line/api", app)
        outer = api
    with serving(app, outer, root) as served, PierClient(served.base + "/line/api" + base) as client:
        assert client.echo(EchoRequest(text="ü", names={})).request.text == "ü"
        assert [tick.n for tick in client.count(CountRequest(count=3))] == [0, 1, 2]
        assert [tick.n for tick in client.mirror([Tick(n=1), Tick(n=2)])] == [1, 2]
        assert httpx.get(served.base + "/line/api" + base + "/-/state").json() == {"serving": True}
        assert httpx.get(served.base + "/line/other" + base + "/-/state").status_code == 404


def test_a_handler_refuses_for_reasons_of_its_own() -> None:
    class Frozen(Pier):
        def refuse(self, request: RefuseRequest, context: Context) -> None:
            raise refusal

    told: list[BaseException] = []
    app = serve_pier(Frozen(), {"on_error": lambda call, problem, context: told.append(problem)})
    refusal: Exception

    def fail() -> httpx.Response:
        return asked(app, "POST", "/skerry/matrix/pier/refuse", body={"how": "so"})

    refusal = Refusal(
        violations=[
            wire.Violation("/how", "must be said kindly"),
            wire.Violation("/code", "must be open", "path"),
        ]
    )
    answer = fail()
    assert (answer.status_code, answer.headers["content-type"]) == (400, web.PROBLEM)
    assert answer.json() == {
        "type": "/-/errors/invalid-request",
        "title": "invalid request",
        "status": 400,
        "detail": "2 violations",
        "errors": [
            {"pointer": "/how", "detail": "must be said kindly"},
            {"pointer": "/code", "detail": "must be open", "in": "path"},
        ],
    }
    refusal = Refusal(429, detail="once a minute", retry_after=1.5)
    answer = fail()
    assert (answer.status_code, answer.headers["retry-after"]) == (429, "2")
    assert answer.json() == {
        "type": "about:blank",
        "title": "Too Many Requests",
        "status": 429,
        "detail": "once a minute",
    }
    refusal = Refusal(423, type="https://skerry.example/problems/frozen", title="Frozen", instance="/piers/EID")
    problem = web.failure(web.Call("skerry.matrix.Pier.refuse", "POST", ""), 423, fail().text)
    assert isinstance(problem, web.Problem)
    assert (problem.problem, problem.status, problem.title, problem.instance) == (
        "https://skerry.example/problems/frozen",
        423,
        "Frozen",
        "/piers/EID",
    )
    assert told == []
    for refusal in (
        Refusal(200),
        Refusal(600),
        Refusal(409, type="/-/errors/skerry.matrix.PierFull"),
        Refusal(409, violations=[wire.Violation("/how", "x")]),
        web.Problem("about:blank", 423, "Locked"),  # what another server refused is no refusal of this one
        web.BadAnswer(423, "not understood"),
    ):
        answer = fail()
        assert (answer.status_code, "detail" in answer.json()) == (500, False), refusal
        assert told.pop() is refusal


def test_methods_of_a_path_and_answers_without_their_bodies() -> None:
    class Looked(Pier):
        def look(self, request: LookRequest, context: Context) -> LookRequest:
            return request

        async def tail(self, request: SleepRequest, context: Context) -> AsyncIterator[Tick]:
            ran.append(request.id)
            yield Tick(n=1)

    ran: list[int] = []
    app = serve_pier(Looked())
    for path, allow in {
        "/piers/EID": "DELETE, GET, HEAD, OPTIONS",
        "/tail": "GET, HEAD, OPTIONS",
        "/skerry/matrix/pier/echo": "OPTIONS, POST",
    }.items():
        answer = asked(app, "OPTIONS", path)
        assert (answer.status_code, answer.headers["allow"], answer.content) == (204, allow, b"")
        answer = asked(app, "PATCH", path)
        assert (answer.status_code, answer.headers["allow"]) == (405, allow)
    assert asked(app, "OPTIONS", "/nothing").status_code == 404
    with serving(app) as served:
        whole, head = httpx.get(f"{served.base}/piers/EID"), httpx.head(f"{served.base}/piers/EID")
        assert (head.status_code, head.content) == (200, b"")
        for name in ("content-type", "content-length", "faithful-definitions"):
            assert head.headers[name] == whole.headers[name]
        head = httpx.head(f"{served.base}/tail?id=1")
        assert (head.status_code, head.headers["content-type"], ran) == (200, web.JSON_SEQ, [])
        assert httpx.head(f"{served.base}/tail?id=x").status_code == 400


def test_what_pages_of_other_origins_are_told() -> None:
    class Looked(Pier):
        def look(self, request: LookRequest, context: Context) -> LookRequest:
            return request

    app = serve_pier(Looked(), {"origins": ["https://skerry.example"]})
    answer = asked(app, "GET", "/piers/EID", {"origin": "https://skerry.example"})
    assert answer.headers["access-control-allow-origin"] == "https://skerry.example"
    assert answer.headers["access-control-allow-credentials"] == "true"
    for headers in ({"origin": "https://elsewhere.example"}, {}):
        answer = asked(app, "GET", "/piers/EID", headers)
        assert "access-control-allow-origin" not in answer.headers
        assert "Origin" in answer.headers["vary"]
    preflight = {"origin": "https://skerry.example", "access-control-request-method": "DELETE"}
    answer = asked(app, "OPTIONS", "/piers/EID", preflight)
    assert (answer.status_code, answer.headers["access-control-allow-methods"]) == (204, "DELETE")


def test_answers_of_proxies() -> None:
    class Proxy(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            self.send_response(status)
            self.send_header("content-length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    status, body = 502, b"<html>\n<h1>Bad gateway</h1>\n"
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Proxy) as proxy:
        threading.Thread(target=proxy.serve_forever, daemon=True).start()
        base = f"http://127.0.0.1:{proxy.server_port}"

        async def asynchronous() -> None:
            async with AsyncPierClient(base, {"tries": 1}) as client:
                await client.echo(EchoRequest(names={}))

        def synchronous() -> None:
            PierClient(base, {"tries": 1}).echo(EchoRequest(names={}))

        for call in (synchronous, lambda: asyncio.run(asynchronous())):
            status, body = 502, b"<html>\n<h1>Bad gateway</h1>\n"
            with pytest.raises(web.Problem) as caught:
                call()
            told = caught.value
            assert (told.problem, told.status, told.title) == ("about:blank", 502, "Bad Gateway")
            assert told.detail == "<html> <h1>Bad gateway</h1>"
            status, body = 302, b""
            with pytest.raises(web.BadAnswer):
                call()
        proxy.shutdown()


def test_reasons_of_no_answer() -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    losing = [True]
    taken: list[socket.socket] = []

    def accept() -> None:
        with contextlib.suppress(OSError):
            while True:
                connection, _ = listener.accept()
                taken.append(connection)
                if losing[0]:
                    connection.recv(10)
                    connection.close()

    threading.Thread(target=accept, daemon=True).start()
    base = "http://{}:{}".format(*listener.getsockname())
    request = EchoRequest(names={})

    def reason(call: Callable[[], object]) -> str:
        with pytest.raises(web.Unreachable) as caught:
            call()
        assert f"no answer, {caught.value.reason}: " in str(caught.value)
        return caught.value.reason

    def asynchronous(base: str, timeout: float) -> Callable[[], object]:
        async def call() -> None:
            async with AsyncPierClient(base, {"tries": 1, "timeout": timeout}) as client:
                await client.echo(request)

        return lambda: asyncio.run(call())

    assert reason(lambda: PierClient(base, {"tries": 1}).echo(request)) == "lost"
    assert reason(asynchronous(base, 5)) == "lost"
    losing[0] = False
    assert reason(lambda: PierClient(base, {"tries": 1, "timeout": 0.05}).echo(request)) == "timed out"
    assert reason(asynchronous(base, 0.05)) == "timed out"
    cancellation = Cancellation()
    threading.Timer(0.05, cancellation.cancel).start()
    assert reason(lambda: PierClient(base, {"tries": 1}).echo(request, cancellation=cancellation)) == "cancelled"
    listener.close()
    nobody = "http://127.0.0.1:1"
    assert reason(lambda: PierClient(nobody, {"tries": 1}).echo(request)) == "refused"
    assert reason(asynchronous(nobody, 5)) == "refused"


def test_a_mount_shuts_down_with_calls_of_every_kind_in_the_middle() -> None:
    started: set[str] = set()
    finish = threading.Event()

    class Busy(Pier):
        def echo(self, request: EchoRequest, context: Context) -> EchoAnswer:
            started.add("echo")
            finish.wait(10)
            return EchoAnswer(request=request)

        async def count(self, request: CountRequest, context: Context) -> AsyncIterator[Tick]:
            yield Tick(n=1)
            started.add("count")
            with contextlib.suppress(asyncio.CancelledError):
                await asyncio.sleep(100)
            # and ends as if all were sent

        def drift(self, request: SleepRequest, context: Context) -> Iterator[Tick]:
            while True:
                yield Tick(n=1)
                started.add("drift")
                time.sleep(0.01)

        async def sum(self, ticks: Elements[Tick], context: Context) -> Total:
            started.add("sum")
            async for tick in ticks:
                assert tick
            return Total(total=0)

        async def mirror(self, ticks: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
            started.add("mirror")
            async for tick in ticks:
                yield tick

    async def endless() -> AsyncIterator[Tick]:
        while True:
            yield Tick(n=1)
            await asyncio.sleep(0.005)

    async def until_it_is_down(served: Listening) -> AsyncIterator[Tick]:
        # httpx looks for an answer when all is sent.
        while not served.app._closing:
            yield Tick(n=1)
            await asyncio.sleep(0.005)
        await asyncio.sleep(0.1)

    async def told(work: Any) -> object:
        try:
            return await work
        except web.Problem as problem:
            return problem.problem

    async def drained(ticks: Any) -> str:
        async for tick in ticks:
            assert tick
        return "ended"

    async def calls(served: Listening) -> None:
        async with AsyncPierClient(served.base, {"tries": 1}) as client:
            unary = asyncio.create_task(told(client.echo(EchoRequest(text="still there", names={}))))
            streams = [
                asyncio.create_task(told(drained(client.count(CountRequest(count=3))))),
                asyncio.create_task(told(drained(client.drift(SleepRequest(id=1))))),
                asyncio.create_task(told(client.sum(until_it_is_down(served)))),
                asyncio.create_task(told(drained(client.mirror(endless())))),
            ]
            while len(started) < 5:
                await asyncio.sleep(0.005)
            shutting = asyncio.run_coroutine_threadsafe(served.app.shutdown(), served.loop)
            async with asyncio.timeout(5) if hasattr(asyncio, "timeout") else contextlib.AsyncExitStack():
                assert await asyncio.gather(*streams) == ["unavailable"] * 4
            assert not shutting.done(), "a call is still at work"
            async with httpx.AsyncClient() as bare:
                state = await bare.get(f"{served.base}/-/state")
            assert (state.status_code, state.json()) == (503, {"serving": False})
            assert await told(client.ended()) == "unavailable"
            finish.set()
            answer = await unary
            assert isinstance(answer, EchoAnswer) and answer.request.text == "still there", "it was finished"
            await asyncio.wrap_future(shutting)

    with serving(serve_pier(Busy(), {"heartbeat": 0.02})) as served:
        asyncio.run(calls(served))


def test_a_mount_shuts_down_with_conversations_that_never_pause() -> None:
    """An element that comes in the moment in which its reader is cancelled takes that away, in Pythons before 3.12."""

    class Echoing(Pier):
        async def mirror(self, ticks: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
            async for tick in ticks:
                yield tick

    async def endless() -> AsyncIterator[Tick]:
        while True:
            yield Tick(n=1)
            await asyncio.sleep(0)

    async def calls(served: Listening) -> None:
        async with AsyncPierClient(served.base, {"tries": 1}) as client:
            heard = 0

            async def talk() -> str:
                nonlocal heard
                try:
                    async for _ in client.mirror(endless()):
                        heard += 1
                except web.Problem as problem:
                    return problem.problem
                return "ended"

            talks = [asyncio.create_task(talk()) for _ in range(8)]
            while heard < 50:
                await asyncio.sleep(0.001)
            asyncio.run_coroutine_threadsafe(served.app.shutdown(), served.loop)
            done, pending = await asyncio.wait(talks, timeout=10)
            for one in pending:
                one.cancel()
            await asyncio.gather(*pending, return_exceptions=True)
            assert not pending and [one.result() for one in done] == ["unavailable"] * 8

    with serving(serve_pier(Echoing())) as served:
        asyncio.run(calls(served))


def test_a_stream_that_never_pauses_can_be_cancelled() -> None:
    class Drifting(Pier):
        async def drift(self, request: SleepRequest, context: Context) -> AsyncIterator[Tick]:
            while True:
                yield Tick(n=1)
                await asyncio.sleep(0)

    async def calls(served: Listening) -> None:
        async with AsyncPierClient(served.base, {"tries": 1}) as client:
            for most in range(20):
                heard = 0

                async def drained() -> None:
                    nonlocal heard
                    async for _ in client.drift(SleepRequest(id=1)):
                        heard += 1

                task = asyncio.create_task(drained())
                while heard <= most:
                    await asyncio.sleep(0)
                task.cancel()
                await asyncio.wait([task], timeout=5)
                assert task.cancelled()

    with serving(serve_pier(Drifting())) as served:
        asyncio.run(calls(served))


def test_what_is_read_of_a_problem() -> None:
    call: web.Call[Any, Any] = web.Call("skerry.matrix.Pier.echo", "POST", "")
    assert isinstance(web.refused(call, 500, web.PROBLEM, b"{"), web.BadAnswer)
    bare = web.refused(call, 599, None, ("ü" * 300).encode())
    assert isinstance(bare, web.Problem)
    assert (bare.title, bare.detail) == ("Server error", "ü" * 200 + "…")
    whole = web.refused(
        call, 404, web.PROBLEM, json.dumps({"type": "about:blank", "title": "x", "status": 404}).encode()
    )
    assert isinstance(whole, web.Problem)
    assert whole.title == "x"


def test_options_of_one_call() -> None:
    class Told(Pier):
        def guarded(self, context: Context) -> EchoAnswer:
            heard.append((context.headers.get("pier-asked"), *context.credentials.values()))
            return EchoAnswer(request=EchoRequest(names={}))

        async def count(self, request: CountRequest, context: Context) -> AsyncIterator[Tick]:
            yield Tick(n=1)

        async def mirror(self, ticks: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
            async for tick in ticks:
                yield tick

    heard: list[Any] = []
    answers: list[tuple[int, str | None]] = []
    options: CallOptions = {
        "headers": {"Pier-Asked": "once"},
        "credentials": {"machine": "per:tide"},
        "answered": lambda status, headers: answers.append((status, headers.get("content-type"))),
    }

    settings: Any = {"headers": {"pier-asked": "always"}, "credentials": {"skerry.matrix.machine": "ada:flood"}}

    async def asynchronous(base: str) -> None:
        async with AsyncPierClient(base, settings) as client:
            async with client.count(CountRequest(count=1), options=options) as ticks:
                assert len([tick async for tick in ticks]) == 1
            async with client.mirror([Tick(n=1)], options=options) as ticks:
                assert len([tick async for tick in ticks]) == 1
            with pytest.raises(web.Problem):
                await client.ended(options=options)
            await client.guarded(options=options)
            await client.guarded()

    with serving(serve_pier(Told())) as served:
        with PierClient(served.base, settings) as client:
            with client.count(CountRequest(count=1), options=options) as ticks:
                assert len(list(ticks)) == 1
            with client.mirror([Tick(n=1)], options=options) as ticks:
                assert len(list(ticks)) == 1
            with pytest.raises(web.Problem):
                client.ended(options=options)
            client.guarded(options=options)
            client.guarded()
        want = [(200, web.CBOR_SEQ), (101, None), (501, web.PROBLEM), (200, web.CBOR)]
        assert answers == want
        asyncio.run(asynchronous(served.base))
        assert answers == want * 2
    assert heard == [("once", "per:tide"), ("always", "ada:flood")] * 2


def test_calls_beyond_those_that_a_server_answers_at_once() -> None:
    started, finish = threading.Event(), threading.Event()

    class Slow(Pier):
        def woken(self, context: Context) -> Total:
            started.set()
            finish.wait(10)
            return Total(total=1)

        async def mirror(self, ticks: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
            async for tick in ticks:
                yield tick

    with serving(serve_pier(Slow(), {"call_limit": 1})) as served, PierClient(served.base, {"tries": 1}) as client:
        first = threading.Thread(target=client.woken)
        first.start()
        started.wait(5)
        with pytest.raises(web.Problem) as refused:
            client.ended()
        assert refused.value.problem == "overloaded"
        with pytest.raises(web.Problem) as refused, client.mirror([]) as ticks:
            list(ticks)
        assert refused.value.problem == "overloaded"
        finish.set()
        first.join(5)
        assert client.woken().total == 1


def test_a_watcher_is_told_how_calls_of_every_kind_went() -> None:
    class Busy(Pier):
        def ended(self, context: Context) -> Ended:
            return Ended(whole=0, lost=0)

        def woken(self, context: Context) -> Total:
            raise ValueError("no glue")

        async def count(self, request: CountRequest, context: Context) -> AsyncIterator[Tick]:
            yield Tick(n=1)
            raise ValueError("fog")

        async def mirror(self, ticks: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
            async for tick in ticks:
                yield tick

    told: queue.Queue[str] = queue.Queue()

    def watcher(call: str, headers: dict[str, str]) -> Callable[[web.Watched], None]:
        assert headers["host"].startswith("127.0.0.1")

        def done(w: web.Watched) -> None:
            assert w.duration >= 0
            told.put(f"{call.rpartition('.')[2]} {w.status} in {w.received} out {w.sent} {w.failed}")

        return done

    app = serve_pier(Busy(), {"watcher": watcher, "on_error": lambda call, problem, context: None})
    with serving(app) as served, PierClient(served.base, {"tries": 1, "encoding": "json"}) as client:
        client.ended()
        assert told.get(timeout=5) == "ended 200 in 0 out 20 None"
        with pytest.raises(web.Problem):
            client.woken()
        assert told.get(timeout=5) == "woken 500 in 0 out 61 no glue"
        with pytest.raises(web.Problem):
            client.refuse(RefuseRequest(how="so"))
        assert re.fullmatch(r"refuse 501 in 12 out [1-9][0-9]+ None", told.get(timeout=5))
        with pytest.raises(web.Problem), client.count(CountRequest(count=3)) as ticks:
            list(ticks)
        assert re.fullmatch(r"count 200 in [1-9][0-9]+ out [1-9][0-9]+ fog", told.get(timeout=5))
        with client.mirror([Tick(n=1)]) as ticks:
            assert len(list(ticks)) == 1
        assert told.get(timeout=5) == "mirror 101 in 27 out 27 None"
        machine: CallOptions = {"credentials": {"machine": "x:y"}}
        with pytest.raises(web.Problem):
            client.guarded(options=machine)
        assert re.fullmatch(r"guarded 501 in 0 out [1-9][0-9]+ None", told.get(timeout=5))


def test_middleware_sees_request_and_answer() -> None:
    class Looked(Pier):
        def look(self, request: LookRequest, context: Context) -> LookRequest:
            return LookRequest(code="SKE")

        async def leave(self, request: LookRequest, context: Context) -> None:
            pass

    seen: list[Any] = []

    async def told(context: Context, following: Callable[[], Awaitable[None]]) -> None:
        before = (context.request, context.answer)
        await following()
        seen.append((*before, context.answer))

    app = serve_pier(Looked(), {"middleware": [told]})
    asked(app, "GET", "/piers/EID")
    asked(app, "DELETE", "/piers/EID")
    eider = LookRequest(code="EID")
    assert seen == [(eider, None, LookRequest(code="SKE")), (eider, None, None)]


def test_what_cannot_be_written_is_a_violation() -> None:
    with PierClient("http://127.0.0.1:1", {"tries": 1}) as client, pytest.raises(wire.InvalidRequest) as refused:
        client.echo(EchoRequest(names={"a/b": 1 << 70}))
    assert [v.pointer for v in refused.value.violations] == ["/names/a~1b"]
    assert str(refused.value).startswith("skerry.matrix.Pier.echo: /names/a~1b ")


def test_a_client_that_leaves_before_it_is_accepted_is_over() -> None:
    class Echoing(Pier):
        async def mirror(self, ticks: Elements[Tick], context: Context) -> AsyncIterator[Tick]:
            async for tick in ticks:
                yield tick

    told: list[str] = []
    app = serve_pier(
        Echoing(), {"watcher": lambda call, headers: lambda w: told.append(f"{w.status} {type(w.failed).__name__}")}
    )
    scope = {
        "type": "websocket",
        "path": "/skerry/matrix/pier/mirror",
        "query_string": b"",
        "headers": [],
        "subprotocols": ["faithful-json"],
    }

    async def receive() -> Any:
        return {"type": "websocket.connect"}

    async def send(event: Any) -> None:
        raise OSError("the client has left")

    async def conversed() -> None:
        await app(scope, receive, send)
        await app.shutdown()

    asyncio.run(conversed())
    assert told == ["0 _GoneError"]
