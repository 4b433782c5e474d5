"""Sends calls to one server with asyncio, over connections of httpx that are kept alive."""

from __future__ import annotations

import asyncio
import math
import random
import socket
import time
from collections.abc import (
    AsyncGenerator,
    AsyncIterable,
    AsyncIterator,
    Awaitable,
    Callable,
    Iterable,
    Mapping,
    Sequence,
)
from types import TracebackType
from typing import Any, Generic, TypeVar

import httpx

from . import stream, web, wire
from .exchange import CommonOptions, Exchange, Request, checked, retry_after
from .stream import Kind

Q = TypeVar("Q")
A = TypeVar("A")
C = TypeVar("C", bound="AsyncClient")
T = TypeVar("T")

AsyncCredentialSource = str | Callable[[], str | Awaitable[str]]
"""The value of a credential, or what is asked for it on every call; that of basic credentials is "user:password"."""

AsyncSend = Callable[[Request], Awaitable[httpx.Response]]
AsyncMiddleware = Callable[[Request, AsyncSend], Awaitable[httpx.Response]]
"""Runs around every request of a client."""

Messages = AsyncIterable[T] | Iterable[T]
"""The elements of a request that is a stream."""


class AsyncClientOptions(CommonOptions, total=False):
    """How a client calls."""

    credentials: Mapping[str, AsyncCredentialSource]
    """By the credential's name, with or without its module."""
    middleware: Sequence[AsyncMiddleware]
    """The first is the outermost."""
    transport: httpx.AsyncBaseTransport
    """What carries requests, such as a proxy's or an application in this process; ssl_context is then its own matter."""


class AsyncClient(Exchange):
    """Sends calls to one server, from one event loop."""

    def __init__(self, base: str, definitions: web.Definitions, options: AsyncClientOptions) -> None:
        super().__init__(base, definitions, options)
        # One deadline covers credentials, tries, pauses and reading: see _within.
        self._middleware = list(options.get("middleware", ()))
        self._ssl_context = options.get("ssl_context")
        self._transport = options.get("transport")
        self._http: httpx.AsyncClient | None = None

    @property
    def http(self) -> httpx.AsyncClient:
        """Made when it is first used, inside of the event loop."""
        if self._http is None:
            limits = httpx.Limits(max_connections=None, max_keepalive_connections=100)
            transport = self._transport or httpx.AsyncHTTPTransport(
                verify=self._ssl_context or True,
                limits=limits,
                trust_env=False,
                socket_options=[(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)],
            )
            self._http = httpx.AsyncClient(transport=transport, timeout=None, trust_env=False)
        return self._http

    def _copy(self: C) -> C:
        _ = self.http  # which is made for all calls
        return super()._copy()

    async def aclose(self) -> None:
        """Closes all connections."""
        if self._http is not None:
            await self._http.aclose()

    async def do(self, call: web.Call[Q, A], message: Q, timeout: float | None) -> A:
        """Sends a call of one request and one answer."""
        own, watching = self.watched(call)
        with watching:
            return await own._do(call, message, timeout)

    async def _do(self, call: web.Call[Q, A], message: Q, timeout: float | None) -> A:
        if web.raw_of(call) is not None or web.answer_raw_of(call) is not None:
            return await self._do_raw(call, message, self.timeout if timeout is None else timeout)
        deadline = time.monotonic() + (self.timeout if timeout is None else timeout)

        async def answered() -> A:
            request = await self.prepare(call, message, self.encoding, deadline - time.monotonic())
            response = await self._open(call, request, deadline)
            answer: A = await self._read(call, request, response)
            return answer

        return await _within(call, deadline, answered())

    async def _do_raw(self, call: web.Call[Q, A], message: Q, timeout: float) -> A:
        """Sends a call that sends or answers a body as it is: it is idleness that has a limit."""
        begin = time.monotonic() + timeout
        request = await _within(call, begin, self.prepare(call, message, self.encoding, None))
        moved = asyncio.Event()
        waits = self.idle_timeout
        body = request.body if isinstance(request.body, wire.Body) else None

        async def pieces() -> AsyncIterator[bytes]:
            if body is not None:
                body.again()
                async for chunk in body:
                    self.went(len(chunk))
                    moved.set()
                    yield chunk
                    moved.set()

        if body is None:
            waits = timeout
        elif body.size is not None:
            request.headers["content-length"] = str(body.size)
        # An upload that moves may take as long as it takes.
        opening = self._open(call, request, begin) if body is None else self._open(call, request, math.inf, pieces)
        task = asyncio.ensure_future(opening)
        try:
            while not (await asyncio.wait((task,), timeout=None if waits == math.inf else waits))[0]:
                if not moved.is_set():
                    raise web.no_answer(call.name, "it took too long", "timed out")
                moved.clear()
            response = task.result()
        finally:
            if not task.done():
                task.cancel()
                await asyncio.gather(task, return_exceptions=True)
        travel = call.answer_travel
        if travel is not None and travel.raw is not None and web.succeeds(call, response.status_code):
            chunks = _Arriving(self, call.name, response)
            try:
                answer: A = self.understand_raw(travel, response.status_code, response.headers.get_list, chunks)
            except BaseException:
                await chunks.aclose()
                raise
            self.lasts()
            return answer
        result: A = await _within(call, time.monotonic() + timeout, self._read(call, request, response))
        return result

    async def send(self, call: web.Call[Q, A], messages: Messages[Q], timeout: float | None, head: Any = None) -> A:
        """Sends a call whose request is a stream."""
        own, watching = self.watched(call)
        with watching:
            return await own._send(call, messages, timeout, head)

    async def _send(self, call: web.Call[Q, A], messages: Messages[Q], timeout: float | None, head: Any) -> A:
        begin = time.monotonic() + (self.timeout if timeout is None else timeout)
        request = await _within(call, begin, self.prepare(call, head, self.encoding, None))
        request.headers["content-type"] = self.sequence
        writer = stream.ElementWriter(json=self.json, sequence=True, limit=self.element_limit)
        sent = asyncio.Event()
        upload = _upload(self, call, messages, writer, sent)

        async def answered() -> A:
            response = await self._carried(request, upload)
            answer: A = await self._read(call, request, response)
            return answer

        task = asyncio.ensure_future(answered())
        whole = asyncio.ensure_future(sent.wait())
        try:
            await asyncio.wait((task, whole), return_when=asyncio.FIRST_COMPLETED)
            deadline = time.monotonic() + (self.timeout if timeout is None else timeout)
            return await _within(call, deadline, task)
        finally:
            task.cancel()
            whole.cancel()
            await asyncio.gather(task, whole, return_exceptions=True)  # nobody may close what still runs
            await upload.aclose()

    def stream(self, call: web.Call[Q, A], message: Q, timeout: float | None) -> AsyncStream[A]:
        """Sends a call that is answered by a stream, once somebody reads that."""
        return AsyncStream(self, call, lambda own: own._received(call, message, timeout))

    async def _received(
        self, call: web.Call[Q, A], message: Q, timeout: float | None
    ) -> AsyncIterator[tuple[Kind, Any]]:
        deadline = time.monotonic() + (self.timeout if timeout is None else timeout)

        async def opened() -> tuple[Request, httpx.Response]:
            request = await self.prepare(call, message, self.sequence, None)
            return request, await self._open(call, request, deadline)

        request, response = await _within(call, deadline, opened())
        try:
            encoding = web.media_type(response.headers.get("content-type"))
            if not web.succeeds(call, response.status_code):
                await self._read(call, request, response)
            if encoding not in (web.CBOR_SEQ, web.JSON_SEQ):
                raise web.BadAnswer(response.status_code, f"its type is {encoding!r}")
            elements = stream.Elements(
                json=encoding == web.JSON_SEQ, cls=call.answer, limit=self.element_limit, items=self.items
            )
            chunks = response.aiter_raw()
            while True:
                try:
                    chunk = await stream.within(anext(chunks), self.idle_timeout)
                except StopAsyncIteration:
                    break
                except (httpx.HTTPError, asyncio.TimeoutError) as problem:
                    raise stream.LostError from problem
                self.came(len(chunk))
                for element in elements.feed(chunk):
                    yield element
            elements.finish()
        finally:
            await response.aclose()

    async def prepare(self, call: web.Call[Any, Any], message: Any, accept: str, wait: float | None) -> Request:
        """A request with the credentials that the call needs, asked for now."""
        given: dict[str, str] = {}
        for name, source in self._credentials.items():
            if any(web.is_named(c.name, name) for every in call.needs for c in every):
                value = source if isinstance(source, str) else source()
                given[name] = value if isinstance(value, str) else await value
        return self.request(call, message, accept, wait, given)

    async def _open(
        self,
        call: web.Call[Any, Any],
        request: Request,
        deadline: float,
        upload: Callable[[], AsyncIterable[bytes]] | None = None,
    ) -> httpx.Response:
        """Sends a request until it is answered, as often as it may be repeated."""
        tries = self.tries(call, request)
        number = 0
        while True:
            number += 1
            wait = random.uniform(0, 0.1 * 2 ** min(number, 6))
            try:
                response = await self._carried(request, None if upload is None else upload())
            except httpx.HTTPError as problem:
                if number >= tries or not _may_be_repeated(problem) or time.monotonic() + wait >= deadline:
                    raise web.no_answer(call.name, problem) from problem
            else:
                if number >= tries or response.status_code not in (429, 502, 503, 504):
                    return response
                after = retry_after(response.headers.get("retry-after"))
                wait = wait if after is None else after
                if time.monotonic() + wait >= deadline:
                    return response
                await response.aclose()
            await asyncio.sleep(wait)

    async def _carried(self, request: Request, upload: AsyncIterable[bytes] | None) -> httpx.Response:
        async def send(request: Request) -> httpx.Response:
            url = self.base[: len(self.base) - len(self.path)] + request.target
            content = request.body if upload is None and not isinstance(request.body, wire.Body) else upload
            # Made apart from the client, which would add headers and cookies of its own.
            made = httpx.Request(request.method, url, headers=request.headers, content=content)
            self.tried()
            self.went(len(content) if isinstance(content, bytes) else 0)
            return await self.http.send(made, stream=True)

        carry: AsyncSend = send
        for middleware in reversed(self._middleware):
            carry = _around(middleware, carry)
        response = await carry(request)
        self.look(response.status_code, response.headers)
        return response

    async def _read(self, call: web.Call[Any, Any], request: Request, response: httpx.Response) -> Any:
        """Reads an answer that is not a stream."""
        body = bytearray()
        try:
            async for chunk in response.aiter_raw():
                self.came(len(chunk))
                body += chunk
                if len(body) > self.answer_limit:
                    break
        except httpx.HTTPError as problem:
            raise web.no_answer(call.name, problem) from problem
        finally:
            await response.aclose()
        return self.understand(call, request, response.status_code, response.headers.get_list, bytes(body))


async def within(call: web.Call[Any, Any], timeout: float, work: Awaitable[T]) -> T:
    """Waits for work for so many seconds."""
    return await _within(call, time.monotonic() + timeout, work)


async def _within(call: web.Call[Any, Any], deadline: float, work: Awaitable[T]) -> T:
    """Waits for work until a moment of time.monotonic."""
    try:
        return await stream.within(work, max(0.0, deadline - time.monotonic()))
    except (httpx.HTTPError, asyncio.TimeoutError) as problem:
        raise web.no_answer(call.name, problem) from problem


def _may_be_repeated(problem: httpx.HTTPError) -> bool:
    """Whether nobody was there, or a kept-alive connection was closed before it answered."""
    if isinstance(problem, httpx.RemoteProtocolError):
        return "without sending a response" in str(problem)
    return isinstance(problem, httpx.ConnectError | httpx.ReadError | httpx.WriteError)


def _around(middleware: AsyncMiddleware, carry: AsyncSend) -> AsyncSend:
    return lambda request: middleware(request, carry)


async def each(messages: Messages[T]) -> AsyncIterator[T]:
    """Elements of either kind of iterable."""
    if isinstance(messages, AsyncIterable):
        async for message in messages:
            yield message
    else:
        for message in messages:
            yield message


async def _upload(
    client: AsyncClient,
    call: web.Call[Any, Any],
    messages: Messages[Any],
    writer: stream.ElementWriter,
    sent: asyncio.Event,
) -> AsyncGenerator[bytes, None]:
    """The elements of a request as they come, and heartbeats while none does."""

    def counted(element: bytes) -> bytes:
        client.went(len(element))
        return element

    source = each(messages)
    while True:
        following = asyncio.ensure_future(anext(source))
        try:
            while not (await asyncio.wait((following,), timeout=15.0))[0]:
                yield counted(writer.heartbeat())
            message = following.result()
        except StopAsyncIteration:
            break
        finally:
            following.cancel()
        yield counted(writer.value(checked(call, message)))
    yield counted(writer.end())
    sent.set()


class _Arriving:
    """The chunks of an answer, as they come."""

    def __init__(self, client: AsyncClient, call: str, response: httpx.Response) -> None:
        self._client = client
        self._call = call
        self._response = response

    async def __aiter__(self) -> AsyncIterator[bytes]:
        chunks = self._response.aiter_raw()
        try:
            while True:
                try:
                    chunk = await stream.within(anext(chunks), self._client.idle_timeout)
                except StopAsyncIteration:
                    return
                except (httpx.HTTPError, httpx.StreamError, asyncio.TimeoutError) as problem:
                    lost = web.no_answer(self._call, problem)
                    self._client.fail(lost)
                    raise lost from problem
                self._client.came(len(chunk))
                yield chunk
        finally:
            await self.aclose()

    async def aclose(self) -> None:
        await self._response.aclose()
        self._client.end()


class AsyncStream(Generic[A]):
    """The elements of an answer, as they come.

    It is an asynchronous iterator and context manager; the call is made when it
    is first read, and leaving the context early ends it.
    """

    def __init__(
        self,
        client: AsyncClient,
        call: web.Call[Any, A],
        begin: Callable[[AsyncClient], AsyncIterator[tuple[Kind, Any]]],
    ) -> None:
        self._client = client
        self._call = call
        self._begin = begin
        self._elements: AsyncIterator[tuple[Kind, Any]] | None = None

    def __aiter__(self) -> AsyncStream[A]:
        return self

    async def __anext__(self) -> A:
        if self._elements is None:
            self._client, _ = self._client.watched(self._call)
            self._elements = self._begin(self._client)
        if self._client.watch is None:
            return await self._following(self._elements)
        try:
            return await self._following(self._elements)
        except StopAsyncIteration:
            self._client.end()
            raise
        except BaseException as problem:
            self._client.fail(problem)
            self._client.end()
            raise

    async def _following(self, elements: AsyncIterator[tuple[Kind, Any]]) -> A:
        problem: Exception | None = None
        try:
            async for kind, value in elements:
                if kind == "value":
                    element: A = value
                    return element
                if kind == "problem":
                    problem = web.failure(self._call, 200, value)
        except (stream.BadElementError, wire.WireError) as bad:
            raise web.BadAnswer(200, str(bad)) from bad
        except stream.LostError as lost:
            raise web.Unreachable(f"{self._call.name}: {lost}") from lost
        if problem is not None:
            raise problem
        raise StopAsyncIteration

    async def aclose(self) -> None:
        """Ends the call; the other side sees that its reader has left."""
        close = getattr(self._elements, "aclose", None)
        if close is not None:
            await close()
            self._client.end()

    async def __aenter__(self) -> AsyncStream[A]:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.aclose()
