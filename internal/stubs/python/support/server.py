"""Serves calls as an ASGI 3 application: routes, credentials, limits, and errors that say nothing of the inside."""

# pyright: reportPrivateUsage=false
# The modules of these stubs use what is private in each other, and nobody else does.

from __future__ import annotations

import asyncio
import contextlib
import contextvars
import functools
import gzip
import inspect
import json
import logging
import math
import re
import socket
import sys
import threading
import time
from base64 import b64decode, urlsafe_b64decode
from collections import deque
from collections.abc import (
    AsyncGenerator,
    AsyncIterator,
    Awaitable,
    Callable,
    Generator,
    Iterable,
    Iterator,
    Mapping,
    MutableMapping,
    Sequence,
)
from concurrent.futures import Executor
from dataclasses import dataclass, field
from typing import Any, Generic, Literal, TypedDict, TypeVar
from urllib.parse import quote, unquote, unquote_to_bytes

from . import stream, web, wire
from .conditional import Caching, caching_of, is_tag, matches, tagged, without_encodings
from .trace import current_trace

T = TypeVar("T")

Scope = MutableMapping[str, Any]
Event = dict[str, Any]
Receive = Callable[[], Awaitable[Any]]
Send = Callable[[Any], Awaitable[None]]


@dataclass(slots=True)
class Context:
    """What a handler knows in addition to its request."""

    call: str
    """Full: module, service and call."""
    headers: dict[str, str]
    """By lower-case name."""
    credentials: dict[str, str]
    """The values that the request came with, by full name; of basic credentials "user:password"."""
    identity: Any
    """What the authorizer returned."""
    cancelled: bool = False
    """Whether the caller has left, or the call has taken too long: handlers that are not coroutines look at it."""
    request: Any = None
    """For middleware: the request, or the head of a stream; None where there is none."""
    answer: Any = None
    """For middleware: what the handler returned, once the rest has run; None where that is nothing, and for streams."""

    peer: str | None = None
    """The address of who calls, or of the proxy in between, where the server that carries us knows it."""
    answer_headers: dict[str, str] = field(default_factory=dict[str, str])
    """Headers of the answer, to be added until it begins; what a field of the answer says counts more."""

    @property
    def trace(self) -> web.Trace | None:
        return current_trace.get()


class Unauthenticated(Exception):
    """What an authorizer raises when it does not know who calls."""


class Forbidden(Exception):
    """What an authorizer raises when it knows who calls, and says no."""


class Overloaded(Exception):
    """What a handler raises when it has too much to do: 503, and when to try again."""

    def __init__(self, retry_after: float) -> None:
        super().__init__(retry_after)
        self.retry_after = retry_after


class Refusal(Exception):
    """What a handler or middleware raises to refuse a request for a reason of its own.

    That are violations that only it can find, answered with 400 as those that the definitions name; or any problem (RFC
    9457) with a status of 4xx or 5xx, such as 429. Its texts are for the caller, who gets a Problem.
    """

    def __init__(
        self,
        status: int = 400,
        *,
        violations: Sequence[wire.Violation] = (),
        type: str = "about:blank",
        title: str = "",
        detail: str = "",
        instance: str = "",
        retry_after: float | None = None,
    ) -> None:
        super().__init__(status, detail)
        self.status = status
        """400 to 599."""
        self.violations = list(violations)
        """With them there is no type and title but that of all violations."""
        self.type = type
        """A URI that tells which problem it is."""
        self.title = title
        """What is always the same about it; what the status is called, where it is not given."""
        self.detail = detail
        """What is the matter this time."""
        self.instance = instance
        """A URI of this occurrence."""
        self.retry_after = retry_after
        """In seconds, when to try again."""

    def __str__(self) -> str:
        return (
            "; ".join(f"{v.pointer} {v.detail}" for v in self.violations)
            or f"{self.status} {self.detail or self.title}"
        )


Authorizer = Callable[[str | None, dict[str, str], dict[str, str]], Any]
"""Judges credentials, given the call (None for /-/about, /-/definitions and /-/manual), the credentials and the headers. What it returns, or a
coroutine of it does, is the context's identity."""

Next = Callable[[], Awaitable[None]]
Middleware = Callable[[Context, Next], Awaitable[None]]
"""Runs around every handler; the second argument runs the rest."""


class CookieAttributes(TypedDict, total=False):
    """How a cookie is set (RFC 6265, section 4.1)."""

    path: str
    """"/" where it is not given."""
    domain: str
    max_age: int
    """In seconds; until the browser is closed where it is not given."""
    http_only: bool
    """Whether scripts don't see it; True where it is not given."""
    secure: bool
    """Whether it is sent over TLS alone; True where it is not given."""
    same_site: Literal["Strict", "Lax", "None"]
    """"Lax" where it is not given; pages of another site need "None"."""


class ServerOptions(TypedDict, total=False):
    """How a server serves."""

    base: str
    """A path such as "/v1"."""
    item_limit: int
    """How much a request, or an element of a stream, may contain: list items and entries of maps and messages count one, a
    message one plus its declared fields; 250,000 where it is not given."""
    body_limit: int
    """In bytes; 4 MiB where it is not given."""
    element_limit: int
    """Of streams, in bytes; 1 MiB where it is not given."""
    handler_timeout: float
    """In seconds, with the body; 60 where it is not given. Streams are not limited."""
    idle_timeout: float
    """In seconds, how long a stream may be silent; 60 where it is not given."""
    heartbeat: float
    """In seconds, after how much silence a stream says that it lives; 15 where it is not given."""
    call_limit: int
    """How many calls are answered at once, streams included; others are refused with 503. No limit where it is not given."""
    origins: Sequence[str]
    """Pages of these origins, such as "https://skerry.example", may call from a browser."""
    unlisted: bool
    """Lets requests contain members and alternatives that the definitions do not list, for servers that only pass messages on."""
    compression: bool
    """Whether answers of more than 1 KiB go out in gzip to clients that take it; they do where it is not given."""
    cookies: Mapping[str, CookieAttributes]
    """How cookies are set that answers have fields for, by name, where that is not as usual."""
    authorizer: Authorizer
    middleware: Sequence[Middleware]
    """The first is the outermost."""
    on_error: Callable[[str, BaseException, Context | None], None]
    """Told each error that the caller is not, with the call's context where it came so far; else logging is."""
    watcher: web.Watcher
    """For metrics, logs and traces."""
    executor: Executor
    """Runs handlers that are not coroutines; by default the event loop's own."""
    serving: Callable[[], None]
    """/-/state answers 503 when this raises."""
    definitions: Literal["open", "guarded", "hidden"]
    """Whether /-/about, /-/definitions and /-/manual answer: to all, where it is not given."""


@dataclass(slots=True)
class Route:
    """One call with what serves it."""

    call: web.Call[Any, Any]
    handler: Callable[..., Any] | None
    """None where it is not implemented."""


def route(call: web.Call[Any, Any], implementation: object, base: type, name: str) -> Route:
    """Pairs a call with the method that serves it; one that is the base class's own is not implemented."""
    implemented = getattr(type(implementation), name, None) is not getattr(base, name)
    return Route(call, getattr(implementation, name) if implemented else None)


_COMMON = [
    web.ErrorPage(
        "invalid-request",
        400,
        "The request could not be read, or violates its definition. The member errors lists every violation with a JSON Pointer.",
    ),
    web.ErrorPage(
        "unauthenticated",
        401,
        "The call needs credentials that the request did not show, or that are not good; WWW-Authenticate names them.",
    ),
    web.ErrorPage("forbidden", 403, "The credentials are good, and not enough for this."),
    web.ErrorPage("unknown-call", 404, "No call has this path."),
    web.ErrorPage("wrong-method", 405, "The path is right and the method is not; Allow names the right one."),
    web.ErrorPage("not-acceptable", 406, "Accept names neither application/cbor nor application/json."),
    web.ErrorPage("too-large", 413, "The request is larger than this server takes, or has more elements."),
    web.ErrorPage("unsupported-form", 415, "The body is neither application/cbor nor application/json, or is encoded."),
    web.ErrorPage(
        "range-not-satisfiable",
        416,
        "The range that was asked for is not a part of the body; Content-Range says how long that is.",
    ),
    web.ErrorPage("internal", 500, "The server failed. Its log says why."),
    web.ErrorPage("not-implemented", 501, "The call is defined, but this server does not implement it."),
    web.ErrorPage("overloaded", 503, "The server has too much to do; Retry-After says when to try again."),
    web.ErrorPage("too-slow", 503, "The call took longer than the client or the server allows."),
    web.ErrorPage("unavailable", 503, "The server is shutting down; Retry-After says when to try again."),
]
_STATUS = {page.name: page.status for page in _COMMON}


def _set_cookie(name: str, value: str, how: CookieAttributes) -> str:
    """What Set-Cookie says; an empty cookie is taken away."""
    age = 0 if not value else how.get("max_age")
    parts = [f"{name}={value}", f"Path={how.get('path', '/')}"]
    if "domain" in how:
        parts.append(f"Domain={how['domain']}")
    if age is not None:
        parts.append(f"Max-Age={age}")
    parts += ["HttpOnly"] * how.get("http_only", True) + ["Secure"] * how.get("secure", True)
    return "; ".join([*parts, f"SameSite={how.get('same_site', 'Lax')}"])


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


class _Refused(Exception):
    """Raised inside of the server to answer with one of the common errors."""

    def __init__(
        self,
        problem: str,
        detail: str = "",
        violations: list[wire.Violation] | None = None,
        headers: dict[str, str] | None = None,
    ) -> None:
        super().__init__(problem)
        self.problem = problem
        self.detail = detail
        self.violations = violations or []
        self.headers = headers or {}


class _GoneError(Exception):
    """Nobody is there any more to be answered."""


class Served:
    """An ASGI application that serves calls, and speaks for all of them below "/-/"."""

    def __init__(self, definitions: web.Definitions, routes: list[Route], options: ServerOptions) -> None:
        self.definitions = definitions
        self.routes = routes
        self.options = options
        self.base = options.get("base", "").rstrip("/")
        self.executor = options.get("executor")
        self.heartbeat = options.get("heartbeat", 15.0)
        self.idle = options.get("idle_timeout", 60.0)
        self.element_limit = options.get("element_limit", 1 << 20)
        # So low that no body of the default limit that is taken builds more than 64 MiB of values, or takes longer than
        # 0.3 s to read.
        self.items = options.get("item_limit", 250_000)
        self._exact: dict[str, list[Route]] = {}
        self._patterns: list[tuple[list[str], Route]] = []
        for r in routes:
            if "{" in r.call.path:
                self._patterns.append((r.call.path[1:].split("/"), r))
            else:
                self._exact.setdefault(r.call.path, []).append(r)
        # The more specific first: a literal is more than a field.
        self._patterns.sort(key=lambda pattern: sum(s.startswith("{") for s in pattern[0]))
        self._compression = options.get("compression", True)
        self._caching = {id(r.call): caching_of(r.call, r.call.compressible and self._compression) for r in routes}
        self._digest = (b"faithful-definitions", definitions.digest.encode())
        self._closing = False
        self._active: set[_Exchange] = set()
        self._idle: asyncio.Event | None = None

    async def shutdown(self) -> None:
        """Ends the mount's work, in the event loop that runs it.

        /-/state answers 503, requests that come are refused with 503, streams end with a problem, for which their
        handlers are cancelled, and other calls are finished. It returns when all are; then end the server that carries it.
        """
        self._closing = True
        for exchange in list(self._active):
            exchange.interrupt()
        if self._active:
            self._idle = self._idle or asyncio.Event()
            await self._idle.wait()

    def _full(self) -> bool:
        return len(self._active) >= self.options.get("call_limit", math.inf)

    @contextlib.contextmanager
    def _counted(self, exchange: _Exchange) -> Generator[None, None, None]:
        if self._closing:
            raise _unavailable()
        if self._full():
            raise _overloaded()
        self._active.add(exchange)
        try:
            yield
        finally:
            self._active.discard(exchange)
            if self._idle is not None and not self._active:
                self._idle.set()

    def uvicorn_limits(self) -> dict[str, Any]:
        """Options of uvicorn.Config that suit a server open to the world; its own leave more room.

        64 KiB of headers, messages of sockets no larger than an element and never inflated, 60 s between calls.
        uvicorn has no limit for how long headers may take: a proxy before it has.
        """
        return {
            "ws": "websockets-sansio",
            "ws_max_size": self.element_limit + 16,
            "ws_per_message_deflate": False,
            "h11_max_incomplete_event_size": 64 << 10,
            "timeout_keep_alive": 60,
            "lifespan": "off",
        }

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            while (await receive())["type"] != "lifespan.shutdown":
                await send({"type": "lifespan.startup.complete"})
            await send({"type": "lifespan.shutdown.complete"})
        elif scope["type"] in ("websocket", "http"):
            exchange = _Exchange(self, scope, receive, send)
            try:
                await (exchange.answer() if scope["type"] == "http" else exchange.talk())
            finally:
                exchange.reading.close()
                exchange.writing.close()

    def _at(self, path: str) -> Iterator[tuple[Route, dict[str, str]]]:
        """What has a path, the more specific first."""
        for r in self._exact.get(path, ()):
            yield r, {}
        if self._patterns:
            segments = [_decoded(s) for s in path[1:].split("/")]
            for wanted, r in self._patterns:
                values = _match(wanted, segments)
                if values is not None:
                    yield r, values

    def find(self, method: str, path: str) -> tuple[Route, dict[str, str]]:
        """The route of a path, as it was sent, and a method, with the values of the path's fields."""
        right = "GET" if method == "HEAD" else method  # all of it but the body
        for r, values in self._at(path):
            if r.call.method == right:
                return r, values
        allow = self.methods(path)
        names = sorted({r.call.method for r, _ in self._at(path)})
        raise _Refused(
            "wrong-method", f"{path} is called with {' or '.join(names)}, not {method}", headers={"allow": allow}
        )

    def methods(self, path: str) -> str:
        """The methods that a path answers."""
        names = {r.call.method for r, _ in self._at(path)}
        if not names:
            raise _Refused("unknown-call", f"no call has the path {path}")
        return ", ".join(sorted(names | {"OPTIONS"} | ({"HEAD"} if "GET" in names else set())))

    def problem(
        self,
        call: str,
        problem: BaseException,
        fails: Sequence[type[wire.DeclaredError]] = (),
        context: Context | None = None,
    ) -> tuple[int, str, dict[str, str]]:
        """What an error is answered with: as it is where the call declares it, else without anything of the inside."""
        if isinstance(problem, wire.DeclaredError) and isinstance(problem, tuple(fails)):
            page = next((e for e in self.definitions.errors if e.name == problem.NAME), None)
            title = (page.documentation.partition("\n")[0] if page else "") or problem.NAME.rpartition(".")[2]
            head = _json({"type": f"{self.base}/-/errors/{problem.NAME}", "title": title, "status": problem.STATUS})
            try:
                return problem.STATUS, f'{head[:-1]},"error":{problem.to_json()}}}', {}
            except wire.WireError as unwritable:
                problem = unwritable
        if isinstance(problem, Refusal):
            if problem.violations and (problem.status, problem.type, problem.title) == (400, "about:blank", ""):
                problem = _violated(problem.violations)
            elif not problem.violations and 400 <= problem.status <= 599 and "/-/errors/" not in problem.type:
                return _own_problem(problem)
        if isinstance(problem, Overloaded):
            problem = _Refused(
                "overloaded",
                "the server has too much to do",
                headers={"retry-after": str(max(0, math.ceil(problem.retry_after)))},
            )
        elif isinstance(problem, Forbidden):
            problem = _Refused("forbidden", str(problem))
        elif not isinstance(problem, _Refused):
            self.tell(call, _undeclared(call, problem), context)
            problem = _Refused("internal")
        body: dict[str, Any] = {
            "type": f"{self.base}/-/errors/{problem.problem}",
            "title": problem.problem.replace("-", " "),
            "status": _STATUS[problem.problem],
        }
        if problem.detail:
            body["detail"] = problem.detail
        if problem.violations:
            body["errors"] = [
                {"pointer": v.pointer, "detail": v.detail} | ({"in": v.place} if v.place else {})
                for v in problem.violations
            ]
        headers = dict(problem.headers)
        if _STATUS[problem.problem] == 503:
            headers.setdefault("retry-after", "1")
        return _STATUS[problem.problem], _json(body), headers

    def tell(self, call: str, problem: BaseException, context: Context | None = None) -> None:
        hook = self.options.get("on_error", _log_error)
        try:
            hook(call, problem, context)
        except Exception as failed:
            _log_error(call, problem)
            _log_error("on_error", failed)


def _own_problem(refusal: Refusal) -> tuple[int, str, dict[str, str]]:
    body = {"type": refusal.type, "title": refusal.title or web.status_text(refusal.status), "status": refusal.status}
    if refusal.detail:
        body["detail"] = refusal.detail
    if refusal.instance:
        body["instance"] = refusal.instance
    wait = refusal.retry_after if refusal.retry_after is not None else 1 if refusal.status == 503 else None
    return refusal.status, _json(body), {} if wait is None else {"retry-after": str(max(0, math.ceil(wait)))}


def _overloaded() -> _Refused:
    return _Refused("overloaded", "the server has too much to do")


def _unavailable() -> _Refused:
    return _Refused("unavailable", "the server is shutting down")


def _undeclared(call: str, problem: BaseException) -> BaseException:
    """Says of a declared error that this call does not declare it."""
    if not isinstance(problem, wire.DeclaredError):
        return problem
    told = RuntimeError(f"{call} failed with {problem.NAME}, which it does not declare; add it to fails")
    told.__cause__ = problem
    return told


def _log_error(call: str, problem: BaseException, context: Context | None = None) -> None:
    """What errors are told to without on_error."""
    logging.getLogger("faithful").error("%s failed", call, exc_info=problem)


def serve(first: Served, *others: Served) -> Served:
    """Joins mounts of several services into one.

    The options of the first apply to all; a ValueError says that another has
    options of its own, which would not be heeded.
    """
    if any(m.options for m in others):
        raise ValueError("options are given to the first mount, and apply to all")
    return Served(first.definitions, [r for m in (first, *others) for r in m.routes], first.options)


def listen(host: str = "127.0.0.1", port: int = 0) -> socket.socket:
    """A listening socket for the server that an application runs under; the port 0 is a free one.

    It says of itself that it is TCP: asyncio sends small writes at once for such sockets alone.
    """
    family, kind, protocol, _, address = socket.getaddrinfo(host, port, 0, socket.SOCK_STREAM, socket.IPPROTO_TCP)[0]
    listener = socket.socket(family, kind, protocol)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # Connections inherit it: one that is not read takes no more than this, where the system would let it grow to megabytes.
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 128 << 10)
    if hasattr(socket, "TCP_USER_TIMEOUT"):
        # Connections inherit it: a peer that takes nothing for a minute is gone (RFC 5482).
        listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, 60_000)
    listener.bind(address)
    listener.listen()
    return listener


def _decoded(segment: str) -> str:
    """A part of a path (RFC 3986, section 2.1)."""
    try:
        if re.search("%(?![0-9A-Fa-f]{2})", segment) is None:
            return unquote(segment, errors="strict")
    except UnicodeDecodeError:
        pass
    raise _Refused("invalid-request", f"the path contains {segment}, which is not well formed")


def _match(wanted: list[str], segments: list[str]) -> dict[str, str] | None:
    if len(wanted) != len(segments):
        return None
    values: dict[str, str] = {}
    for want, segment in zip(wanted, segments, strict=True):
        if want.startswith("{"):
            values[want[1:-1]] = segment
        elif want != segment:
            return None
    return values


class Elements(Generic[T]):
    """The elements of a request that is a stream, as they come: for "async for" in coroutines, and "for" elsewhere."""

    def __init__(self, source: AsyncIterator[T], loop: asyncio.AbstractEventLoop) -> None:
        self._source = source
        self._loop = loop

    def __aiter__(self) -> AsyncIterator[T]:
        return self._source

    def __iter__(self) -> Iterator[T]:
        while True:
            try:
                yield asyncio.run_coroutine_threadsafe(self._next(), self._loop).result()
            except StopAsyncIteration:
                return

    async def _next(self) -> T:
        return await self._source.__anext__()


Answers = Iterable[T] | AsyncIterator[T]
"""What a handler answers with a stream: a generator, of either kind."""


class _Watching:
    """Counts what goes through one call, for who watches it."""

    def __init__(self, mount: Served, call: str, headers: dict[str, str]) -> None:
        self.start = time.monotonic()
        self.status = self.received = self.sent = 0
        self.failed: BaseException | None = None
        self._mount = mount
        self._call = call
        self._done: Callable[[web.Watched], None] | None = None
        try:
            watcher = mount.options.get("watcher")
            self._done = watcher and watcher(call, headers)
        except Exception as problem:
            mount.tell(call, problem)

    def fail(self, problem: BaseException) -> None:
        if self.failed is None and not isinstance(problem, _Refused):
            self.failed = problem

    def end(self) -> None:
        if self._done is None:
            return
        duration = time.monotonic() - self.start
        try:
            self._done(web.Watched(duration, self.status, 0, self.received, self.sent, self.failed))
        except Exception as problem:
            self._mount.tell(self._call, problem)

    def receiving(self, receive: Receive) -> Receive:
        async def counted() -> Any:
            event = await receive()
            self.received += len(event.get("body") or event.get("bytes") or (event.get("text") or "").encode())
            return event

        return counted

    def count(self, event: Event) -> None:
        """Counts what is sent."""
        if "status" in event:
            self.status = event["status"]
        elif event["type"] == "websocket.accept":
            self.status = 101
        else:
            self.sent += len(event.get("body") or event.get("bytes") or (event.get("text") or "").encode())


class _Time:
    """So many seconds, or as many as it takes; when they are over, the task that they are counted in is cancelled."""

    __slots__ = ("_timer", "over")

    def __init__(self, seconds: float | None) -> None:
        task = asyncio.current_task()
        self.over = False

        def cancel() -> None:
            self.over = True
            if task is not None:
                task.cancel()

        self._timer = None if seconds is None else asyncio.get_running_loop().call_later(seconds, cancel)

    def __enter__(self) -> _Time:
        return self

    def __exit__(self, *_: object) -> None:
        if self._timer is not None:
            self._timer.cancel()


class _Idle:
    """As _Time, again and again: one timer looks now and then whether somebody waits for too long."""

    __slots__ = ("_loop", "_seconds", "_task", "_timer", "_until", "over")

    def __init__(self, seconds: float) -> None:
        self._loop = asyncio.get_running_loop()
        self._seconds = seconds
        self._task: asyncio.Task[Any] | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._until = math.inf
        self.over = False

    def __enter__(self) -> None:
        self._task = asyncio.current_task()
        self._until = self._loop.time() + self._seconds
        if self._timer is None:
            self._timer = self._loop.call_at(self._until, self._look)

    def __exit__(self, *_: object) -> None:
        self._until = math.inf

    def _look(self) -> None:
        self._timer = None
        if self._until <= self._loop.time():
            self.over = True
            if self._task is not None:
                self._task.cancel()
        elif self._until < math.inf:
            self._timer = self._loop.call_at(self._until, self._look)

    def close(self) -> None:
        if self._timer is not None:
            self._timer.cancel()


class _Exchange:
    """One call while it is answered."""

    def __init__(self, mount: Served, scope: Scope, receive: Receive, send: Send) -> None:
        self.mount = mount
        self.scope = scope
        self.receive = receive
        self.send = send
        self.headers: dict[str, str] = {}
        for name, value in scope["headers"]:
            key, text = name.decode("latin-1"), value.decode("latin-1")
            joint = "; " if key == "cookie" else ", "  # RFC 9113, section 8.2.3
            self.headers[key] = f"{self.headers[key]}{joint}{text}" if key in self.headers else text
        self.complete = scope["type"] == "websocket"
        self.reading, self.writing = _Idle(mount.idle), _Idle(mount.idle)
        self._caching: Caching | None = None
        self.begun = False
        self.interrupted = False
        self._loop = asyncio.get_running_loop()
        self._rested = self._loop.time()
        self._watching: _Watching | None = None
        self._streaming: asyncio.Task[Any] | None = None
        self._receiving: asyncio.Task[Any] | None = None
        self.call: web.Call[Any, Any] | None = None
        self.context: Context | None = None

    @property
    def _name(self) -> str:
        return self.call.name if self.call is not None else ""

    def interrupt(self) -> None:
        """Ends a stream, since the mount shuts down; another call goes on."""
        call = self.call
        if call is None:
            return
        if call.answer_stream:
            self.interrupted = True
            if self.context is not None:
                self.context.cancelled = True
            if self._streaming is not None:
                self._streaming.cancel()
        elif call.request_stream and not self.complete:
            self.interrupted = True
            if self._receiving is not None:
                self._receiving.cancel()

    def _path(self) -> str:
        raw = self.scope.get("raw_path") or self.scope["path"].encode()
        path: str = raw.decode("latin-1").partition("?")[0]
        base = self.mount.base
        # A framework that this is mounted in leaves its own part of the path, or takes it away.
        for above in (quote(self.scope.get("root_path", "").rstrip("/")) + base, base):
            if path.startswith(above + "/"):  # a base is whole segments
                return path[len(above) :]
        raise _Refused("unknown-call", f"nothing is served at {path}")

    async def _put(self, event: Event) -> None:
        """Sends, and gives up a client that does not read."""
        try:
            with self.writing:
                await self.send(event)
            now = self._loop.time()
            if now > self._rested + 0.01:  # whoever makes answers without a pause must not keep all others waiting
                self._rested = now
                await asyncio.sleep(0)
            if self._watching is not None:
                self._watching.count(event)
        except asyncio.CancelledError:
            if not self.writing.over:
                raise
            self._break()
            raise _GoneError from None
        except OSError as problem:  # how servers say that nobody is there
            raise _GoneError from problem

    def _break(self) -> None:
        """Ends the connection at once, where the server that carries us lets us: ASGI has no word for it."""
        transport: Any = getattr(getattr(self.send, "__self__", None), "transport", None)
        if hasattr(transport, "abort"):
            transport.abort()

    def _foreign(self, call: web.Call[Any, Any]) -> bool:
        """Whether a page of another site made a browser send this, with what it keeps for this one.

        That are cookies, and names and passwords (Fetch standard; Fetch Metadata).
        """
        basic = self.headers.get("authorization", "")[:6].lower() == "basic "
        kinds = {c.kind for every in call.needs for c in every}
        if not (web.in_cookies(call) or "cookie" in kinds or (basic and "basic" in kinds)):
            return False
        origin = self.headers.get("origin")
        if origin is not None:
            return not self._allows(origin)
        if self.scope.get("method") in ("GET", "HEAD") and self.headers.get("sec-fetch-mode") == "navigate":
            return False  # somebody follows a link
        return self.headers.get("sec-fetch-site") == "cross-site"

    def _allows(self, origin: str) -> bool:
        """Lets pages of the server itself in, and of the origins given."""
        if origin in self.mount.options.get("origins", ()) or self.headers.get("sec-fetch-site") == "same-origin":
            return True
        found = re.fullmatch(r"https?://([^/?#@\s]+)", origin, re.IGNORECASE)
        return found is not None and found[1].lower() == self.headers.get("host", "").lower()

    async def answer(self) -> None:
        """Answers a request."""
        extra: list[tuple[bytes, bytes]] = [self.mount._digest]
        origin = self.headers.get("origin")
        if self.mount.options.get("origins"):
            extra.append((b"vary", b"Origin"))  # also where none is told: what is kept of that answer is not for all
        if origin is not None and origin in self.mount.options.get("origins", ()):
            extra.append((b"access-control-allow-origin", origin.encode()))
            extra.append((b"access-control-allow-credentials", b"true"))
            extra.append((b"access-control-expose-headers", b"Faithful-Definitions, Retry-After, WWW-Authenticate"))
            method = self.headers.get("access-control-request-method")
            if self.scope["method"] == "OPTIONS" and method is not None:
                extra.append((b"access-control-allow-methods", method.encode()))
                extra.append(
                    (b"access-control-allow-headers", self.headers.get("access-control-request-headers", "").encode())
                )
                extra.append((b"access-control-max-age", b"600"))
                await self._respond(204, extra, b"")
                return
        self.extra = extra
        try:
            path = self._path()
            if path.startswith("/-/"):
                await self._own_page(path[3:])
            elif self.scope["method"] == "OPTIONS":
                await self._respond(204, [*extra, (b"allow", self.mount.methods(path).encode())], b"")
            else:
                found, values = self.mount.find(self.scope["method"], path)
                self._caching = caching = self.mount._caching[id(found.call)]
                if caching.vary:
                    extra.append((b"vary", caching.vary))
                self._expose(found.call, extra)
                self._watch(found.call)
                with self.mount._counted(self):
                    await self._serve(found, values)
        except (_GoneError, stream.LostError) as problem:
            if self._watching is not None:
                self._watching.fail(problem)
            await asyncio.sleep(0)  # so that the server that carries us has heard of it, too
            return  # nobody is there to be answered
        except Exception as problem:
            if self._watching is not None:
                self._watching.fail(problem)
            if self.begun:
                raise
            fails = self.call.fails if self.call is not None else []
            status, text, headers = self.mount.problem(self._name, problem, fails, self.context)
            try:
                await self._respond(status, self._headers(web.PROBLEM, headers), text.encode())
            except _GoneError:
                return
        finally:
            if self._watching is not None:
                self._watching.end()

    @staticmethod
    def _expose(call: web.Call[Any, Any], extra: list[tuple[bytes, bytes]]) -> None:
        """Lets pages of other origins see the headers that answers have fields for."""
        names = [p.parameter for p in call.answer_travel.placed if p.place == "header"] if call.answer_travel else []
        for i, (header, value) in enumerate(extra):
            if header == b"access-control-expose-headers":
                extra[i] = header, ", ".join([value.decode(), *names]).encode()

    def _watch(self, call: web.Call[Any, Any]) -> None:
        parent = self.headers.get("traceparent")
        if parent is not None:
            current_trace.set(web.Trace(parent, self.headers.get("tracestate", "")))
        if "watcher" in self.mount.options:
            self._watching = _Watching(self.mount, call.name, self.headers)
            self.receive = self._watching.receiving(self.receive)

    def _headers(self, encoding: str | None, more: dict[str, str] | None = None) -> list[tuple[bytes, bytes]]:
        headers = list(self.extra)
        given = {} if self.context is None else {n.lower(): v for n, v in self.context.answer_headers.items()}
        given |= more or {}
        if encoding is not None:
            given["content-type"] = encoding
        if self._caching is not None and "cache-control" not in given:
            given["cache-control"] = self._caching.checked if "etag" in given else self._caching.none
        headers += [(name.encode(), value.encode("latin-1", "replace")) for name, value in given.items()]
        return headers

    async def _respond(
        self, status: int, headers: list[tuple[bytes, bytes]], body: bytes, *, head: bool = False
    ) -> None:
        """Answers with a body, or with the head alone of one whose length nobody knows."""
        self.begun = True
        if status not in (204, 304) and not head:
            headers.append((b"content-length", str(len(body)).encode()))
        if self.scope["method"] == "HEAD":
            body = b""
        await self._put({"type": "http.response.start", "status": status, "headers": headers})
        if self.complete or not self._has_body():
            await self._put({"type": "http.response.body", "body": body})
            return
        # An early answer: a client that still sends would lose it if the connection were closed on it.
        await self._put({"type": "http.response.body", "body": body, "more_body": True})
        if await self._drain():
            await self._put({"type": "http.response.body", "body": b""})
            return
        transport: Any = getattr(getattr(self.send, "__self__", None), "transport", None)
        if not hasattr(transport, "close"):
            raise ConnectionAbortedError("a request that does not end")  # which closes the connection
        await self._put({"type": "http.response.body", "body": b""})
        transport.close()

    def _has_body(self) -> bool:
        return self.headers.get("content-length", "0") != "0" or "transfer-encoding" in self.headers

    async def _drain(self) -> bool:
        """Reads on for 64 MiB, 10 s or until nothing comes for 2 s; True when the request has ended."""
        total = 0
        until = asyncio.get_running_loop().time() + 10
        while not self.complete:
            left = min(2, until - asyncio.get_running_loop().time())
            if left <= 0 or total > 64 << 20:
                return False
            try:
                event = await stream.within(self.receive(), left)
            except asyncio.TimeoutError:
                return False
            if event["type"] != "http.request":
                return True  # nobody sends any more
            total += len(event.get("body", b""))
            self.complete = not event.get("more_body", False)
        return True

    async def _serve(self, found: Route, values: dict[str, str]) -> None:
        """Answers one call, refusing in the order: credentials, encodings of answer and request, size, what can't be read, what is not allowed."""
        self.call = call = found.call
        if self._foreign(call):
            raise _Refused("forbidden", "a page of another site may not make this call")
        await self._admit(call)
        if call.request_stream and call.answer_stream:
            detail = (
                "the call streams both ways: upgrade to a WebSocket with the subprotocol faithful-cbor or faithful-json"
            )
            raise _Refused("not-acceptable", detail, headers={"upgrade": "websocket"})
        request_encoding = web.media_type(self.headers.get("content-type"))
        encodings = (web.CBOR_SEQ, web.JSON_SEQ) if call.answer_stream else (web.CBOR, web.JSON)
        encoding = _preferred(self.headers.get("accept"), request_encoding, *encodings)
        raw, answer_raw = web.raw_of(call), web.answer_raw_of(call)
        if encoding is None and answer_raw is None:
            raise _Refused("not-acceptable", "answers are in CBOR or JSON")
        encoding = encoding or web.JSON
        if call.request_stream:
            await self._receive_stream(found, request_encoding, encoding, values)
            return
        if raw is not None or answer_raw is not None:
            await self._serve_raw(found, request_encoding, encoding, values)
            return
        patience = self._patience()
        deadline = asyncio.get_running_loop().time() + patience  # for the body, too
        request = await self._within(self._request(call, request_encoding, values), patience)
        arguments = (self.context,) if call.request is None else (request, self.context)
        if call.answer_stream and self.scope["method"] == "HEAD":
            await self._respond(call.status or 200, self._headers(encoding), b"", head=True)
            return
        if call.answer_stream:
            await self._send_stream(found, encoding, arguments)
            return
        result = await self._watched(self._run(found, arguments), deadline - asyncio.get_running_loop().time())
        await self._answered(call, encoding, result)

    async def _serve_raw(self, found: Route, request_encoding: str, encoding: str, values: dict[str, str]) -> None:
        """Answers a call that takes or answers a body as it is: it is idleness that has a limit."""
        call = found.call
        raw, travel = web.raw_of(call), call.answer_travel
        arriving = None if raw is None else self._arrives(raw)
        body = None if arriving is None else _ArrivingBody(arriving, asyncio.get_running_loop())
        request = await self._within(self._request(call, request_encoding, values, body), self._patience())
        arguments = (self.context,) if call.request is None else (request, self.context)
        work = self._run(found, arguments)
        try:
            result = await (self._watched(work, math.inf) if arriving is None else work)
        except Exception as problem:
            if arriving is not None and arriving.failed is not None:
                raise arriving.failed from problem  # whatever the handler made of it
            raise
        if arriving is not None and arriving.failed is not None:
            raise arriving.failed
        if travel is None or travel.raw is None:
            await self._answered(call, encoding, result)
            return
        if result is None:
            raise TypeError("the handler returned no answer")
        answering = self._answer_raw(call, travel, travel.raw, result)
        await (self._watched(answering, math.inf) if arriving is None or self.complete else answering)

    def _arrives(self, raw: web.Raw) -> _Arriving:
        """The body of a request that travels as it is, as far as it can be judged before it is read."""
        bounds = raw.bounds
        kind = self.headers.get("content-type", "")
        if not kind:
            raise _Refused("unsupported-form", f"Content-Type is missing; the body is {bounds.media_type}")
        if not bounds.allows(kind):
            raise _Refused(
                "unsupported-form", f"Content-Type is {bounds.media_type}, not {json.dumps(web.media_type(kind))}"
            )
        self._plain_body()
        length = self.headers.get("content-length")
        size = int(length) if length is not None and length.isdecimal() and len(length) < 19 else None
        if not self._has_body():
            size = 0
        arriving = _Arriving(self, raw, kind, size)
        if size is not None:
            arriving.judge(size, whole=True)
        return arriving

    async def _answer_raw(self, call: web.Call[Any, Any], travel: web.Travel[Any], raw: web.Raw, result: Any) -> None:
        """Answers with a body as it is."""
        body, bounds = raw.of(result), raw.bounds
        status = call.status or 200
        size = body.size
        first, last = 0, math.inf
        try:
            kind = bounds.sent(body.media_type)
            wrong = "" if size is None else bounds.wrong(size)
            if not bounds.allows(kind) or wrong:
                raise ValueError(f"{raw.field} {wrong or f'is {bounds.media_type}, and its media type is {kind!r}'}")
            placed = self._placed(travel, result)
            if self._unmodified(status, placed.headers):
                await self._not_modified(placed.headers)
                return
            more = placed.headers | {"x-content-type-options": "nosniff", "content-security-policy": "sandbox"}
            if size is not None:
                length = size
                if self.scope["method"] == "GET" and status == 200:
                    more["accept-ranges"] = "bytes"
                    wanted = _ranged(self.headers, size, placed.headers)
                    if wanted == (0, -1):
                        raise _Refused(
                            "range-not-satisfiable",
                            f"there are {size} bytes",
                            headers={"content-range": f"bytes */{size}"},
                        )
                    if wanted is not None:
                        first, last = wanted
                        length, status = int(last) - first + 1, 206
                        more["content-range"] = f"bytes {first}-{last}/{size}"
                more["content-length"] = str(length)
            headers = self._headers(kind, more) + self._set_cookies(placed)
            if self.scope["method"] == "HEAD":
                self.begun = True
                await self._put({"type": "http.response.start", "status": status, "headers": headers})
                await self._put({"type": "http.response.body", "body": b""})
                return
            await self._pour(body, status, headers, first, last)
        finally:
            close = getattr(body.source, "close", None)
            if close is not None and not inspect.isasyncgen(body.source):
                close()

    async def _pour(
        self, body: wire.Body, status: int, headers: list[tuple[bytes, bytes]], first: int, last: float
    ) -> None:
        """Sends a body as it comes. What fails before anything has gone is an ordinary problem."""
        at = 0
        whole = last == math.inf
        async with _iterated(body.source if hasattr(body.source, "__aiter__") else iter(body)) as chunks:
            async for chunk in chunks:
                part = chunk if whole else chunk[max(0, first - at) : max(0, int(min(last + 1 - at, len(chunk))))]
                at += len(chunk)
                if not self.begun:
                    self.begun = True
                    await self._put({"type": "http.response.start", "status": status, "headers": headers})
                if body.size is not None and at > body.size:
                    raise ValueError(f"the body has more than the {body.size} bytes that it says")
                if part:
                    await self._put({"type": "http.response.body", "body": part, "more_body": True})
                if at > last:
                    break
        if body.size is not None and at < min(body.size, last + 1):
            raise ValueError(f"the body has {at} bytes, and says {body.size}")
        if not self.begun:
            self.begun = True
            await self._put({"type": "http.response.start", "status": status, "headers": headers})
        await self._put({"type": "http.response.body", "body": b""})

    async def _answered(self, call: web.Call[Any, Any], encoding: str, result: Any) -> None:
        if call.answer is None:
            await self._respond(call.status or 204, self._headers(None), b"")
            return
        if result is None:
            raise TypeError("the handler returned no answer")
        if call.answer_travel is None:
            body = web.encode(encoding, result)
            more = {"content-encoding": "gzip"} if self._compresses(call, body) else None
            body = web.compressed(body) if more else body
            await self._respond(call.status or 200, self._headers(encoding, more), body)
            return
        await self._answer_apart(call, call.answer_travel, encoding, result)

    async def _answer_apart(
        self, call: web.Call[Any, Any], travel: web.Travel[Any], encoding: str, result: Any
    ) -> None:
        """Answers with a message that is not all in the body."""
        status = call.status or 200
        body = None if travel.body is None else web.encode(encoding, travel.body_of(result))
        if body is not None and status in (204, 205):
            if travel.body is not None and body != web.encode(encoding, travel.body.from_json("{}")):
                raise ValueError(f"the status {status} has no body, and the answer sets a field that would be in it")
            body = None
        parameters = self._placed(travel, result)
        placed = parameters.headers
        if "etag" in placed and body is not None:
            placed["etag"] = tagged(placed["etag"], encoding, self._compresses(call, body))
        if self._unmodified(status, placed):
            await self._not_modified(placed)
            return
        if body is not None and self._compresses(call, body):
            body = web.compressed(body)
            placed["content-encoding"] = "gzip"
        headers = self._headers(None if body is None else encoding, placed)
        await self._respond(status, headers + self._set_cookies(parameters), body or b"")

    def _compresses(self, call: web.Call[Any, Any], body: bytes) -> bool:
        """Whether the body of an answer goes out compressed."""
        large = call.compressible and self.mount._compression and len(body) > web.COMPRESSED_FROM
        if self.context is not None and any(name.lower() == "set-cookie" for name in self.context.answer_headers):
            return False
        return large and web.takes_gzip(self.headers.get("accept-encoding"))

    @staticmethod
    def _placed(travel: web.Travel[Any], result: Any) -> web.Parameters:
        """What of an answer travels in headers and cookies."""
        parameters = web.Parameters()
        travel.place(result, parameters)
        for wrong in parameters.violations:
            raise ValueError(f"an answer that can't be sent: {wrong.pointer} {wrong.detail}")
        tag = parameters.headers.get("etag")
        if tag is not None and not is_tag(tag):
            raise ValueError(f'the header "ETag" is an entity-tag with its quotes (RFC 9110, section 8.8.3), not {tag}')
        return parameters

    def _unmodified(self, status: int, placed: dict[str, str]) -> bool:
        """Whether the client has an answer already."""
        asks = self.scope["method"] in ("GET", "HEAD") and status < 300
        return asks and "etag" in placed and matches(self.headers.get("if-none-match"), placed["etag"])

    async def _not_modified(self, placed: dict[str, str]) -> None:
        kept = {name: value for name, value in placed.items() if name in ("etag", "cache-control")}
        await self._respond(304, self._headers(None, kept), b"")

    def _set_cookies(self, parameters: web.Parameters) -> list[tuple[bytes, bytes]]:
        options = self.mount.options.get("cookies", {})
        return [(b"set-cookie", _set_cookie(n, v, options.get(n, {})).encode()) for n, v in parameters.cookies]

    async def _admit(self, call: web.Call[Any, Any]) -> None:
        """Looks at credentials: that they are there, and what the authorizer says."""
        credentials: dict[str, str] = {}
        enough = not call.needs
        for every in call.needs:
            complete = True
            for credential in every:
                value = self._shown(credential)
                if value is None:
                    complete = False
                else:
                    credentials[credential.name] = value
            enough = enough or complete
        if not enough:
            raise _Refused("unauthenticated", f"the call needs {web.needs_text(call.needs)}", headers=_challenges(call))
        identity = await self._judge(call.name, credentials, call)
        client = self.scope.get("client")
        peer = None if client is None else str(client[0])
        self.context = Context(call.name, self.headers, credentials, identity, peer=peer)

    async def _judge(self, name: str | None, credentials: dict[str, str], call: web.Call[Any, Any]) -> Any:
        authorizer = self.mount.options.get("authorizer")
        if authorizer is None:
            return None
        try:
            identity = authorizer(name, credentials, self.headers)
            return await identity if inspect.isawaitable(identity) else identity
        except Unauthenticated as problem:
            raise _Refused("unauthenticated", str(problem), headers=_challenges(call)) from problem

    def _shown(self, credential: web.Credential) -> str | None:
        """The value of a credential that the request shows."""
        if credential.kind == "header":
            return self.headers.get(credential.key.lower()) or None
        if credential.kind == "query":
            return (self._query()[0].get(credential.key) or [""])[0] or None
        if credential.kind == "cookie":
            return (self._cookies(credential.key) or [""])[0] or None
        scheme, _, token = self.headers.get("authorization", "").partition(" ")
        if scheme.lower() != credential.kind:
            return None
        if credential.kind == "bearer":
            return token.strip() or None
        try:
            text = b64decode(token.strip(), validate=True).decode()
        except ValueError:
            return None
        return text if ":" in text else None

    def _query(self) -> tuple[dict[str, list[str]], bool]:
        """The parameters, and whether a pair of them can't be decoded."""
        found: dict[str, list[str]] = {}
        odd = False
        for pair in self.scope["query_string"].decode("latin-1").split("&"):
            name, _, value = pair.replace("+", " ").partition("=")
            if "%" not in pair and pair.isascii():
                if pair:
                    found.setdefault(name, []).append(value)
                continue
            try:
                if re.search("%(?![0-9A-Fa-f]{2})", pair):
                    raise ValueError
                key, text = (unquote_to_bytes(part.encode("latin-1")).decode() for part in (name, value))
                found.setdefault(key, []).append(text)
            except ValueError:
                odd = True
        return found, odd

    def _lines(self, name: str) -> list[str]:
        """What each line of a header says."""
        key = name.lower().encode()
        values = [value.decode("latin-1") for header, value in self.scope["headers"] if header.lower() == key]
        if key in (b"if-match", b"if-none-match"):
            values = [without_encodings(value) for value in values]
        return web.lines(name, values)

    def _cookies(self, name: str) -> list[str]:
        pairs = (pair.partition("=") for pair in self.headers.get("cookie", "").split(";"))
        return [value.strip().strip('"') for key, _, value in pairs if key.strip() == name]

    def _patience(self) -> float:
        """How long the handler may take: as long as the client waits (RFC 7240, section 4.3), and no longer than the server allows."""
        ceiling = self.mount.options.get("handler_timeout", 60.0)
        for preference in self.headers.get("prefer", "").split(","):
            name, _, value = preference.strip().partition("=")
            if name == "wait" and len(value) < 10 and value.isdecimal() and 0 < int(value) < ceiling:
                return float(value)
        return ceiling

    async def _within(self, work: Awaitable[T], patience: float) -> T:
        """Cancels the reading of a request that does not come."""
        clock = _Time(patience)
        try:
            with clock:
                return await work
        except asyncio.CancelledError:
            if clock.over:
                raise _Refused("too-slow", "the body took too long") from None
            raise

    async def _watched(self, work: Awaitable[T], patience: float) -> T:
        """Cancels work that takes too long, or that nobody waits for any more."""
        loop = asyncio.get_running_loop()
        task = asyncio.current_task()
        assert task is not None
        why: list[str] = []

        def cancel(reason: str) -> None:
            if not why:
                why.append(reason)
                if self.context is not None:
                    self.context.cancelled = True
                task.cancel()

        async def watch() -> None:
            total = 0
            while total < 64 << 20:  # of a body that nobody reads
                event = await self.receive()
                if event["type"] == "http.disconnect":
                    cancel("gone")
                    return
                total += len(event.get("body", b""))
                self.complete = not event.get("more_body", False)

        watcher: list[asyncio.Task[None]] = []
        # Most calls are answered before it is worth while to look whether the caller still waits.
        soon = loop.call_later(0.02, lambda: watcher.append(loop.create_task(watch())))
        late = loop.call_later(patience, cancel, "late") if patience < math.inf else None
        try:
            return await work
        except asyncio.CancelledError:
            if why == ["late"]:
                raise _Refused("too-slow", "the call took too long") from None
            if why:
                raise _GoneError from None
            raise
        finally:
            soon.cancel()
            if late is not None:
                late.cancel()
            for task_of_watcher in watcher:
                task_of_watcher.cancel()

    async def _run(
        self, found: Route, arguments: tuple[Any, ...], use: Callable[[Any], Awaitable[None]] | None = None
    ) -> Any:
        """Runs a handler inside of the middleware, and there, too, what uses its result."""
        handler = found.handler
        if handler is None:
            raise _Refused("not-implemented", f"{found.call.name} is not implemented here")
        result: list[Any] = []

        context = arguments[-1]
        unary = not found.call.request_stream and not found.call.answer_stream
        if unary and len(arguments) > 1:
            context.request = arguments[0]

        async def last() -> None:
            result.append(await _called(handler, arguments, self.mount.executor))
            if unary:
                context.answer = result[0]
            if use is not None:
                await use(result[0])

        run: Next = last
        for outer in reversed(self.mount.options.get("middleware", ())):
            run = _around(outer, context, run)
        try:
            await run()
        except Unauthenticated as problem:
            raise _Refused("unauthenticated", str(problem), headers=_challenges(found.call)) from problem
        return result[0] if result else None

    async def _send_stream(self, found: Route, encoding: str, arguments: tuple[Any, ...]) -> None:
        """Answers a call with a stream."""
        call = found.call
        writer = stream.ElementWriter(json=encoding == web.JSON_SEQ, sequence=True, limit=self.mount.element_limit)

        async def put(element: bytes) -> None:
            if not self.begun:
                self.begun = True
                headers = self._headers(encoding, {"x-accel-buffering": "no"})
                await self._put({"type": "http.response.start", "status": call.status or 200, "headers": headers})
            await self._put({"type": "http.response.body", "body": element, "more_body": True})

        await self._watched(self._answers(found, arguments, writer, put), math.inf)
        await self._put({"type": "http.response.body", "body": b""})

    async def _answers(
        self,
        found: Route,
        arguments: tuple[Any, ...],
        writer: stream.ElementWriter,
        put: Callable[[bytes], Awaitable[None]],
        reading: _Reading | None = None,
    ) -> None:
        """Sends what a handler answers, with heartbeats while it is silent, and the end or a problem."""
        last = [asyncio.get_running_loop().time()]
        lock = asyncio.Lock()

        async def heartbeat() -> None:
            while True:
                silent = asyncio.get_running_loop().time() - last[0]
                if silent < self.mount.heartbeat:
                    await asyncio.sleep(self.mount.heartbeat - silent)
                    continue
                try:
                    async with lock:
                        await put(writer.heartbeat())
                except _GoneError:
                    return  # whoever waits for the reader's leaving is told
                last[0] = asyncio.get_running_loop().time()

        begun = False

        whole = False

        async def send(given: Any) -> None:
            nonlocal begun, whole
            async with _iterated(given) as given_elements:
                async for element in given_elements:
                    if self.interrupted:  # whatever the handler made of being cancelled
                        raise _unavailable()
                    begun = True
                    async with lock:
                        await put(writer.value(element))
                    last[0] = asyncio.get_running_loop().time()
            whole = True

        async def problem_element(told: BaseException) -> None:
            if self._watching is not None:
                self._watching.fail(told)
            async with lock:
                await put(writer.problem(self.mount.problem(self._name, told, found.call.fails, self.context)[1]))

        if self.interrupted:
            raise _unavailable()
        self._streaming = asyncio.current_task()
        pacemaker = asyncio.create_task(heartbeat())
        try:
            await self._run(found, arguments, send)
            if self.interrupted:
                raise _unavailable()  # whatever the handler made of it, what was sent is not whole
            if not whole:
                raise RuntimeError("middleware ended a stream before its handler did")
            if reading is not None and reading.failed is not None:
                raise reading.failed  # whatever the handler made of it
            async with lock:
                await put(writer.end())
        except asyncio.CancelledError:
            if not self.interrupted:
                raise
            if self._streaming is not None and sys.version_info >= (3, 11):
                self._streaming.uncancel()
            if not begun and not self.begun:
                raise _unavailable() from None
            await problem_element(_unavailable())
        except (_GoneError, stream.LostError):
            raise
        except Exception as problem:
            if reading is not None and reading.lost:
                raise stream.LostError from problem
            told: BaseException = problem
            if self.interrupted:
                told = _unavailable()
            elif reading is not None and reading.failed is not None:
                told = reading.failed
            if not begun and not self.begun:
                raise told from None
            await problem_element(told)
        finally:
            self._streaming = None
            pacemaker.cancel()

    async def _receive_stream(self, found: Route, request_encoding: str, encoding: str, values: dict[str, str]) -> None:
        """Answers a call whose request is a stream."""
        self._plain_body()
        if request_encoding not in (web.CBOR_SEQ, web.JSON_SEQ):
            raise _Refused(
                "unsupported-form",
                f"Content-Type is application/cbor-seq or application/json-seq, not {request_encoding!r}",
            )
        call, reading = found.call, _Reading()
        elements = stream.Elements(
            json=request_encoding == web.JSON_SEQ,
            cls=call.request,
            limit=self.mount.element_limit,
            items=self.mount.items,
        )

        async def source() -> AsyncIterator[tuple[stream.Kind, Any]]:
            while not self.complete:
                chunk = await self._chunk()
                for element in elements.feed(chunk):
                    yield element
            elements.finish()

        before = self._before(found, values)
        given: Elements[Any] = Elements(self._checked(source(), reading), asyncio.get_running_loop())
        try:
            result = await self._run(found, (*before, given, self.context))
        except Exception as problem:
            if reading.gone:
                raise _GoneError from problem
            raise reading.failed or problem from None
        if reading.failed is not None:
            raise reading.failed  # half a stream was not a request, whatever the handler made of it
        await self._answered(call, encoding, result)

    async def _chunk(self, *, bounded: bool = True) -> bytes:
        """What comes next of a body, in time unless somebody else counts that."""
        if self.interrupted:
            raise _unavailable()
        self._receiving = asyncio.current_task()
        try:
            if bounded:
                with self.reading:
                    event = await self.receive()
            else:
                event = await self.receive()
        except asyncio.CancelledError:
            if self.reading.over:
                raise _Refused("too-slow", "the request was silent for too long") from None
            if self.interrupted:
                raise _unavailable() from None
            raise
        finally:
            self._receiving = None
        if event["type"] != "http.request":
            raise _GoneError
        self.complete = not event.get("more_body", False)
        chunk: bytes = event.get("body", b"")
        return chunk

    async def _checked(self, source: AsyncIterator[tuple[stream.Kind, Any]], reading: _Reading) -> AsyncIterator[Any]:
        """The values of a stream, each checked as a request is."""
        call = self.call
        assert call is not None
        number = 1
        try:
            async for kind, value in source:
                if kind == "problem":
                    raise web.failure(call, 0, value)
                if kind == "value":
                    self._allow(value, [])
                    yield value
                    number += 1
        except (GeneratorExit, asyncio.CancelledError):
            raise
        except BaseException as problem:
            reading.gone = isinstance(problem, _GoneError)
            reading.lost = isinstance(problem, stream.LostError | _GoneError)
            reading.failed = _unreadable(problem)
            if isinstance(reading.failed, _Refused) and reading.failed.violations:
                why = "is refused" if reading.failed is problem else "can't be read"
                reading.failed.detail = f"element {number} of the stream {why}"
            raise reading.failed from problem

    def _plain_body(self) -> None:
        coding = self.headers.get("content-encoding", "identity")
        if coding.lower() != "identity":
            raise _Refused("unsupported-form", f"such a body is not encoded: {coding}")

    async def _request(
        self, call: web.Call[Any, Any], encoding: str, values: dict[str, str], raw: wire.Body | None = None
    ) -> Any:
        """Reads the request, from wherever its fields travel."""
        if call.request is None:
            # Any body is dropped, but for a stream: who sends one means another call.
            if encoding in (web.CBOR_SEQ, web.JSON_SEQ):
                raise _Refused(
                    "unsupported-form",
                    f"the call takes no request, and no stream: Content-Type is not {json.dumps(encoding)}",
                )
            return None
        travel = call.travel
        if travel is None:
            message = await self._body(encoding, call.request)
            self._allow(message, [])
            return message
        body: Any = raw
        if travel.body is not None:
            body = await self._body(encoding, travel.body)
        return self._taken(travel, body, values)

    def _before(self, found: Route, values: dict[str, str]) -> tuple[Any, ...]:
        """What a handler is given before the elements of a stream: the head, which is refused before any of them is read."""
        head = found.call.head
        if head is None or found.handler is None:
            return ()
        assert self.context is not None
        self.context.request = self._taken(head, None, values)
        return (self.context.request,)

    def _taken(self, travel: web.Travel[Any], body: Any, values: dict[str, str]) -> Any:
        """Puts a message together from a body and from what travels outside of it."""
        query, odd = self._query()

        def value_of(p: web.Placed) -> list[str]:
            if p.place == "path":
                return [values.get(p.parameter, "")]
            if p.place == "query":
                return query.get(p.parameter, [])
            if p.place == "header":
                return self._lines(p.parameter)
            return self._cookies(p.parameter)[:1]  # of several the first counts

        arguments = web.Arguments(travel.placed, value_of)
        message = travel.take(arguments, body)
        if odd and any(p.place == "query" for p in travel.placed):
            detail = "must be pairs that are percent-encoded as they should be"
            arguments.violations.append(wire.Violation("", detail, "query"))
        if arguments.violations:
            raise _violated(arguments.violations)
        self._allow(message, travel.placed)
        return message

    def _allow(self, message: Any, placed: list[web.Placed]) -> None:
        violations = message.validate()
        if violations and self.mount.options.get("unlisted", False):
            violations = [v for v in violations if not v.unlisted]
        if violations:
            raise _violated(web.locate(violations, placed))

    async def _body(self, encoding: str, cls: Any) -> Any:
        coding = self.headers.get("content-encoding", "identity")
        if coding.lower() != "identity" and not web.is_gzip(coding):
            raise _Refused(
                "unsupported-form",
                f"the content coding {json.dumps(coding)} is not read",
                headers={"accept-encoding": "gzip"},  # RFC 9110, section 12.5.3
            )
        if encoding not in (web.CBOR, web.JSON) and (encoding or self._has_body()):
            raise _Refused(
                "unsupported-form", f"Content-Type is application/cbor or application/json, not {json.dumps(encoding)}"
            )
        limit = self.mount.options.get("body_limit", 4 << 20)
        too_large = _Refused("too-large", f"the body is larger than {limit} bytes")
        length = self.headers.get("content-length", "0")
        if length.isdecimal() and (len(length) > 18 or int(length) > limit):
            raise too_large
        event = await self.receive()
        body: bytes = event.get("body", b"")
        self.complete = not event.get("more_body", False)
        if not self.complete:
            parts, total = [body], len(body)
            while not self.complete and total <= limit:
                parts.append(await self._chunk(bounded=False))
                total += len(parts[-1])
            body = b"".join(parts)
        if event["type"] != "http.request":
            raise _GoneError
        if len(body) > limit:
            raise too_large
        if web.is_gzip(coding):
            try:
                plain = web.expanded(body, limit)
            except ValueError as problem:
                raise _Refused("invalid-request", "the body can't be read: it is not whole gzip") from problem
            if plain is None:
                raise too_large
            body = plain
        try:
            return web.decode(encoding, body, cls, self.mount.items) if encoding else cls.from_json("{}")
        except wire.WireError as problem:
            raise _unreadable(problem) from problem

    async def talk(self) -> None:
        """Serves a call that streams both ways."""
        await self.receive()  # websocket.connect
        self.extra = [self.mount._digest]
        protocol = next(
            (p for p in self.scope.get("subprotocols", ()) if p in ("faithful-cbor", "faithful-json")), None
        )
        try:
            found, values = self.mount.find("GET", self._path())
            self.call = call = found.call
            self._watch(call)
            origin = self.headers.get("origin")
            if self._foreign(call) or (origin is not None and not self._allows(origin)):
                raise _Refused("forbidden", "a page of another site may not make this call")
            await self._admit(call)
            if not (call.request_stream and call.answer_stream) or protocol is None:
                raise _Refused(
                    "not-acceptable",
                    "a call that streams both ways is a WebSocket with the subprotocol faithful-cbor or faithful-json",
                )
            if found.handler is None:
                raise _Refused("not-implemented", f"{call.name} is not implemented here")
            if self.mount._closing:
                raise _unavailable()
            if self.mount._full():
                raise _overloaded()
            before = self._before(found, values)
        except Exception as problem:
            if self._watching is not None:
                self._watching.fail(problem)
            await self._deny(problem)
            if self._watching is not None:
                self._watching.end()
            return
        try:
            await self._put({"type": "websocket.accept", "subprotocol": protocol, "headers": self.extra})
            await self._accepted(found, protocol, before)
        except (_GoneError, stream.LostError) as problem:
            if self._watching is not None:
                self._watching.fail(problem)  # nobody else is there to be told
        finally:
            if self._watching is not None:
                self._watching.end()

    async def _accepted(self, found: Route, protocol: str, before: tuple[Any, ...]) -> None:
        self.begun = True
        # What comes is read as it comes, so that the client's leaving is seen whatever the handler does.
        inbox: asyncio.Queue[Event] = asyncio.Queue(1)
        task = asyncio.current_task()
        assert task is not None
        left: list[bool] = []

        async def read() -> None:
            event = await self.receive()
            while event["type"] == "websocket.receive":
                await inbox.put(event)
                event = await self.receive()
            if self.context is not None:
                self.context.cancelled = True
            # A handler that waits for an element is told by it, any other by being cancelled.
            with contextlib.suppress(asyncio.TimeoutError):
                await stream.within(inbox.put(event), 0.25)
            await asyncio.sleep(0.25)
            left.append(True)
            task.cancel()

        reader = asyncio.create_task(read())
        try:
            with self.mount._counted(self):
                await self._converse(found, protocol, inbox, before)
        except asyncio.CancelledError:
            if not left:
                raise
        finally:
            reader.cancel()

    async def _converse(
        self, found: Route, protocol: str, inbox: asyncio.Queue[Event], before: tuple[Any, ...]
    ) -> None:
        call = found.call
        in_json, reading = protocol == "faithful-json", _Reading()
        source = self._messages(in_json, call.request, inbox)
        given: Elements[Any] = Elements(self._checked(source, reading), asyncio.get_running_loop())
        writer = stream.ElementWriter(json=in_json, sequence=False, limit=self.mount.element_limit)

        async def put(element: bytes) -> None:
            key, value = ("text", element.decode()) if in_json else ("bytes", element)
            await self._put({"type": "websocket.send", key: value})

        await self._answers(found, (*before, given, self.context), writer, put, reading)
        # When the handler has had enough, the other side's end still has to
        # come: only then both know that nothing was lost.
        broken = reading.failed is not None or self.interrupted
        if not broken:
            async for _ in source:
                pass
        await self._put({"type": "websocket.close", "code": 1011 if broken else 1000})

    async def _messages(
        self, in_json: bool, cls: Any, inbox: asyncio.Queue[Event]
    ) -> AsyncIterator[tuple[stream.Kind, Any]]:
        while True:
            try:
                event = await stream.within(inbox.get(), self.mount.idle)
            except asyncio.TimeoutError:
                raise _Refused("too-slow", "the stream was silent for too long") from None
            if event["type"] != "websocket.receive":
                raise stream.LostError
            element = event.get("bytes") or (event.get("text") or "").encode()
            if len(element) > self.mount.element_limit + 16:
                raise stream.BadElementError(
                    f"an element of more than {self.mount.element_limit} bytes", too_large=True
                )
            kind, value = stream.read_element(element, json=in_json, cls=cls, items=self.mount.items)
            if kind != "other":
                yield kind, value
            if kind in ("end", "problem"):
                return

    async def _deny(self, problem: Exception) -> None:
        """Refuses an upgrade: with problem details, where the server that carries us can."""
        fails = self.call.fails if self.call is not None else []
        status, text, headers = self.mount.problem(self._name, problem, fails, self.context)
        if "websocket.http.response" in self.scope.get("extensions", {}):
            body = text.encode()
            start = [*self._headers(web.PROBLEM, headers), (b"content-length", str(len(body)).encode())]
            await self._put({"type": "websocket.http.response.start", "status": status, "headers": start})
            await self._put({"type": "websocket.http.response.body", "body": body})
        else:
            await self._put({"type": "websocket.close", "code": 1008, "reason": text[:120]})

    async def _own_page(self, page: str) -> None:
        if self.scope["method"] not in ("GET", "HEAD"):
            raise _Refused("wrong-method", "pages below /-/ are read with GET", headers={"allow": "GET, HEAD"})
        self.complete = True
        about, options = self.mount.definitions, self.mount.options
        visible = options.get("definitions", "open")
        status = 200
        answer: dict[str, Any] | None = None
        if page == "state":
            answer = {"serving": True}
            try:
                options.get("serving", lambda: None)()
                if self.mount._closing:
                    status, answer = 503, {"serving": False}
            except Exception as problem:
                self.mount.tell("state", problem)
                status, answer = 503, {"serving": False}
        elif about.manual and (page == "manual" or page.startswith("manual/")) and visible != "hidden":
            if visible == "guarded":
                await self._admit_pages()
            await self._manual_page(page.removeprefix("manual/"), below=page != "manual")
            return
        elif page in ("about", "definitions") and visible != "hidden":
            if visible == "guarded":
                await self._admit_pages()
            answer = {"name": about.name, "version": about.version, "digest": about.digest}
            if page == "definitions":
                answer["modules"] = [{"name": name, "text": text} for name, text in about.modules.items()]
            else:
                calls = [
                    {"call": r.call.name, "method": r.call.method, "path": self.mount.base + r.call.path}
                    for r in self.mount.routes
                ]
                answer["calls"] = sorted(calls, key=lambda c: (c["path"], c["method"]))
        elif page.startswith("errors/"):
            found = next((e for e in _COMMON + about.errors if e.name == page[7:]), None)
            if found is not None:
                answer = {"name": found.name, "status": found.status, "documentation": found.documentation}
        if answer is None:
            raise _Refused("unknown-call", f"there is no page /-/{page}")
        body = _json(answer).encode()
        headers = [*self.extra, (b"content-type", web.JSON.encode())]
        await self._respond(status, headers, body)

    async def _manual_page(self, name: str, *, below: bool) -> None:
        """Answers with a page of the manual; links of the first one lead from below its folder."""
        if not below:
            location = f"{self.mount.base}/-/manual/".encode()
            await self._respond(308, [*self.extra, (b"location", location)], b"")
            return
        name = name or "index.html"
        content = _unpacked(self.mount.definitions.manual).get(name)
        if content is None:
            raise _Refused("unknown-call", f'the manual has no page "{name}"')
        kind = _MANUAL_TYPES.get(name.rpartition(".")[2], "text/plain")
        headers = [
            *self.extra,
            (b"content-type", f"{kind}; charset=utf-8".encode()),
            (b"content-security-policy", _MANUAL_POLICY),
            (b"x-content-type-options", b"nosniff"),
            (b"cache-control", b"no-cache"),
        ]
        await self._respond(200, headers, content.encode())

    async def _admit_pages(self) -> None:
        needs = [[c] for r in self.mount.routes for every in r.call.needs for c in every]
        credentials = {c.name: value for (c,) in needs if (value := self._shown(c)) is not None}
        await self._judge(None, credentials, web.Call("definitions", "GET", "", needs=needs))


_MANUAL_POLICY = (
    b"default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self' blob:; "
    b"base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
)
"""What browsers may do with the pages of a manual (W3C Content Security Policy, level 3)."""

_MANUAL_TYPES = {"html": "text/html", "css": "text/css", "js": "text/javascript"}


@functools.cache
def _unpacked(packed: str) -> dict[str, str]:
    """The pages of a manual by their paths: JSON (RFC 8259) in gzip (RFC 1952) in base64url (RFC 4648, section 5)."""
    compact = packed.replace("\n", "")
    compressed = urlsafe_b64decode(compact + "=" * (-len(compact) % 4))
    pages: dict[str, str] = json.loads(gzip.decompress(compressed))
    return pages


class _Arriving:
    """The body of a request, as its handler reads it."""

    LIMIT = 64 << 20
    """How large it may be where the definitions have no limit."""

    def __init__(self, exchange: _Exchange, raw: web.Raw, kind: str, size: int | None) -> None:
        self._exchange = exchange
        self._raw = raw
        self.kind = kind
        self.size = size
        self.failed: BaseException | None = None

    def judge(self, total: int, *, whole: bool) -> None:
        """Refuses a body of so many bytes, or of that many so far."""
        high = self._raw.bounds.high
        detail = self._raw.bounds.wrong(total) if whole else ""
        if high is None and total > self.LIMIT:
            raise _Refused("too-large", f"the body is larger than {self.LIMIT} bytes")
        if high is not None and total > high and not whole:
            detail = f"must have at most {high} bytes"
        if detail:
            raise _violated([wire.Violation(wire.pointer(self._raw.field), detail, "body")])

    async def __aiter__(self) -> AsyncIterator[bytes]:
        exchange = self._exchange
        total = 0
        try:
            if self.failed is not None:
                raise self.failed
            while not exchange.complete:
                chunk = await exchange._chunk()
                total += len(chunk)
                self.judge(total, whole=False)
                if chunk:
                    yield chunk
            self.judge(total, whole=True)
        except (GeneratorExit, asyncio.CancelledError):
            raise
        except BaseException as problem:
            self.failed = problem
            raise


class _ArrivingBody(wire.Body):
    """A body of a request, for coroutines and for threads."""

    __slots__ = ("_loop",)

    def __init__(self, source: _Arriving, loop: asyncio.AbstractEventLoop) -> None:
        super().__init__(source, source.kind, source.size)
        self._loop = loop

    def __iter__(self) -> Iterator[bytes]:
        iterator = self.__aiter__()

        async def following() -> bytes:
            return await iterator.__anext__()

        while True:
            try:
                yield asyncio.run_coroutine_threadsafe(following(), self._loop).result()
            except StopAsyncIteration:
                return


def _ranged(headers: dict[str, str], size: int, placed: dict[str, str]) -> tuple[int, int] | None:
    """The one range of a body that a request asks for (RFC 9110, section 14.2), first and last; (0, -1) is none of it.

    Several, and those of another version of the body, are not asked for.
    """
    found = re.fullmatch(r"bytes=\s*([0-9]*)-([0-9]*)\s*", headers.get("range", ""))
    if found is None or found[0].endswith("=-") or len(found[0]) > 60:
        return None
    version, tag = headers.get("if-range"), placed.get("etag", "")
    if version is not None and version != placed.get("last-modified") and (version != tag or tag.startswith("W/")):
        return None
    if not found[1]:
        count = min(int(found[2]), size)
        return (size - count, size - 1) if count else (0, -1)
    first = int(found[1])
    if found[2] and int(found[2]) < first:
        return None
    if first >= size:
        return 0, -1
    return first, min(int(found[2]), size - 1) if found[2] else size - 1


class _Reading:
    """How the reading of a stream has failed."""

    def __init__(self) -> None:
        self.failed: BaseException | None = None
        self.lost = False
        self.gone = False


def _around(middleware: Middleware, context: Context, run: Next) -> Next:
    async def around() -> None:
        await middleware(context, run)

    return around


async def _called(handler: Callable[..., Any], arguments: tuple[Any, ...], executor: Executor | None) -> Any:
    """Calls a handler: a coroutine here, anything else in a thread, so that it may take its time."""
    if inspect.iscoroutinefunction(handler):
        return await handler(*arguments)
    if inspect.isasyncgenfunction(handler) or inspect.isgeneratorfunction(handler):
        return handler(*arguments)
    context = contextvars.copy_context()
    result = await asyncio.get_running_loop().run_in_executor(executor, lambda: context.run(handler, *arguments))
    return await result if inspect.isawaitable(result) else result


class _Producer:
    """Runs a generator in a thread of its own, a few elements ahead of their reader: it may take its time."""

    AHEAD = 16

    def __init__(self, source: Iterator[Any], loop: asyncio.AbstractEventLoop) -> None:
        self._source = source
        self._loop = loop
        self._ready: deque[Any] = deque()
        self._room = threading.Condition()
        self._something = asyncio.Event()
        self._asleep = self._stopped = self._done = False
        self._failed: BaseException | None = None
        context = contextvars.copy_context()
        threading.Thread(target=context.run, args=(self._run,), daemon=True).start()

    def _run(self) -> None:
        try:
            for element in self._source:
                with self._room:
                    while len(self._ready) >= self.AHEAD and not self._stopped:
                        self._room.wait()
                    if self._stopped:
                        break
                self._ready.append(element)
                self._wake()
        except BaseException as problem:
            self._failed = problem
        finally:
            try:
                close = getattr(self._source, "close", None)
                if close is not None:
                    close()  # here, since nobody else may while it runs
            except BaseException as problem:
                self._failed = self._failed or problem
            self._done = True
            self._wake()

    def _wake(self) -> None:
        if self._asleep:
            self._asleep = False
            try:
                self._loop.call_soon_threadsafe(self._something.set)
            except RuntimeError:
                pass  # the loop has ended, and nobody reads any more

    async def elements(self) -> AsyncIterator[Any]:
        while True:
            if self._ready:
                element = self._ready.popleft()
                if len(self._ready) == self.AHEAD // 2:
                    with self._room:
                        self._room.notify()
                yield element
            elif self._done and not self._ready:
                if self._failed is not None:
                    raise self._failed
                return
            else:
                self._something.clear()
                self._asleep = True
                if not self._ready and not self._done:
                    await self._something.wait()
                self._asleep = False

    def stop(self) -> None:
        with self._room:
            self._stopped = True
            self._room.notify()


@contextlib.asynccontextmanager
async def _iterated(given: Any) -> AsyncGenerator[AsyncIterator[Any], None]:
    """The elements of a generator of either kind, which is closed in the end."""
    iterator = given.__aiter__() if hasattr(given, "__aiter__") else _in_thread(given)
    try:
        yield iterator
    finally:
        close = getattr(iterator, "aclose", None)
        if close is not None:
            await close()


async def _in_thread(given: Any) -> AsyncIterator[Any]:
    """The elements of a generator that is not asynchronous, and may take its time."""
    producer = _Producer(iter(given), asyncio.get_running_loop())
    try:
        async for element in producer.elements():
            yield element
    finally:
        producer.stop()


def _violated(violations: list[wire.Violation]) -> _Refused:
    return _Refused(
        "invalid-request", "1 violation" if len(violations) == 1 else f"{len(violations)} violations", violations
    )


def _unreadable(problem: BaseException) -> BaseException:
    """What is answered for a payload or stream that can't be read."""
    if isinstance(problem, wire.WireError):
        if problem.too_large:
            return _Refused("too-large", problem.detail)
        return _Refused("invalid-request", "the request can't be read", [wire.Violation(problem.path, problem.detail)])
    if isinstance(problem, stream.BadElementError):
        return _Refused("too-large" if problem.too_large else "invalid-request", str(problem))
    if isinstance(problem, stream.LostError):
        return _Refused("invalid-request", str(problem))
    return problem


def _challenges(call: web.Call[Any, Any]) -> dict[str, str]:
    """What WWW-Authenticate says (RFC 9110, section 11.6.1)."""
    found: list[str] = []
    for every in call.needs:
        for c in every:
            challenge = f'Key in="{c.kind}", name="{c.key}"'
            if c.kind == "bearer":
                challenge = "Bearer"
            elif c.kind == "basic":
                challenge = f'Basic realm="{call.name}", charset="UTF-8"'
            if challenge not in found:
                found.append(challenge)
    return {"www-authenticate": ", ".join(found)} if found else {}


def _preferred(accept: str | None, request: str, cbor_type: str, json_type: str) -> str | None:
    """Chooses the type of an answer by Accept (RFC 9110, section 12.5.1): of two alike the encoding of the request, or JSON."""
    fallback = cbor_type if request in (web.CBOR, web.CBOR_SEQ) else json_type
    if accept is None or accept == fallback:
        return fallback
    cbor, text = _quality(accept, cbor_type), _quality(accept, json_type)
    if not cbor and not text:
        return None
    return cbor_type if cbor > text else json_type if text > cbor else fallback


def _quality(accept: str, want: str) -> float:
    best, best_rank = 0.0, -1
    for part in accept.split(","):
        pattern, *parameters = (p.strip().lower() for p in part.split(";"))
        rank = ["*/*", "application/*", want].index(pattern) if pattern in ("*/*", "application/*", want) else -1
        if rank <= best_rank:
            continue
        best, best_rank = 1.0, rank
        for parameter in parameters:
            if parameter.startswith("q="):
                try:
                    best = float(parameter[2:])
                except ValueError:
                    pass
    return best
