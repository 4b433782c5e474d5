"""Sends calls to one server, over connections of http.client that are kept alive."""

# pyright: reportPrivateUsage=false
# The modules of these stubs use what is private in each other, and nobody else does.

from __future__ import annotations

import contextvars
import heapq
import http.client
import itertools
import math
import os
import random
import select
import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import TracebackType
from typing import Any, Generic, TypeVar

from . import stream, web, wire
from .exchange import CommonOptions, CredentialSource, Exchange, Request, checked, retry_after

Q = TypeVar("Q")
A = TypeVar("A")

Send = Callable[[Request], http.client.HTTPResponse]
Middleware = Callable[[Request, Send], http.client.HTTPResponse]
"""Runs around every request of a client."""


class ClientOptions(CommonOptions, total=False):
    """How a client calls."""

    credentials: Mapping[str, CredentialSource]
    """By the credential's name, with or without its module."""
    middleware: Sequence[Middleware]
    """The first is the outermost."""


class Cancellation:
    """Lets another thread cancel a call."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._connections: set[http.client.HTTPConnection] = set()
        self._event = threading.Event()
        self._acts: list[Callable[[], None]] = []

    @property
    def cancelled(self) -> bool:
        return self._event.is_set()

    def cancel(self) -> None:
        with self._lock:
            self._event.set()
            for connection in self._connections:
                _break(connection)
            acts = list(self._acts)
        for act in acts:
            act()

    def wait(self, seconds: float) -> bool:
        """Waits for so long; True when it was cancelled meanwhile."""
        return self._event.wait(min(seconds, threading.TIMEOUT_MAX))

    def _when(self, act: Callable[[], None]) -> None:
        with self._lock:
            self._acts.append(act)
        if self.cancelled:
            act()

    def _watch(self, connection: http.client.HTTPConnection) -> None:
        with self._lock:
            self._connections.add(connection)
            if self._event.is_set():
                _break(connection)

    def _forget(self, connection: http.client.HTTPConnection) -> None:
        with self._lock:
            self._connections.discard(connection)


def _break(connection: http.client.HTTPConnection) -> None:
    """Ends a connection that another thread may be waiting for."""
    sock: socket.socket | None = connection.sock
    if sock is not None:
        try:
            sock.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass  # it has ended already


class _Deadlines:
    """Ends connections whose time is over, whatever trickles in over them: the time-outs of sockets are those of one read."""

    def __init__(self) -> None:
        self.begin()
        if hasattr(os, "register_at_fork"):
            os.register_at_fork(after_in_child=self.begin)  # the child has not the thread

    def begin(self) -> None:
        self._condition = threading.Condition()
        self._heap: list[tuple[float, int, http.client.HTTPConnection]] = []
        self._numbers = itertools.count()
        self._live: set[int] = set()
        self._thread: threading.Thread | None = None

    def watch(self, connection: http.client.HTTPConnection, deadline: float) -> int:
        with self._condition:
            number = next(self._numbers)
            self._live.add(number)
            heapq.heappush(self._heap, (deadline, number, connection))
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, daemon=True)
                self._thread.start()
            elif self._heap[0][1] == number:
                self._condition.notify()
            return number

    def forget(self, number: int) -> None:
        with self._condition:
            self._live.discard(number)
            while self._heap and self._heap[0][1] not in self._live:
                heapq.heappop(self._heap)

    def _run(self) -> None:
        with self._condition:
            while True:
                if not self._heap:
                    if not self._condition.wait(5) and not self._heap:
                        self._thread = None  # the next one who waits begins anew
                        return
                    continue
                deadline, number, connection = self._heap[0]
                left = deadline - time.monotonic()
                if left > 0:
                    self._condition.wait(min(left, threading.TIMEOUT_MAX))
                    continue
                heapq.heappop(self._heap)
                if number in self._live:
                    self._live.discard(number)
                    _break(connection)


_deadlines = _Deadlines()


def _readable(sock: socket.socket) -> bool:
    """Whether something, or the end, has come. select.select knows only the first 1,024 files of a process."""
    if hasattr(select, "poll"):
        poll = select.poll()
        poll.register(sock, select.POLLIN)
        return bool(poll.poll(0))
    return bool(select.select([sock], [], [], 0)[0])


class _Lines:
    """A connection's file, for which the middle of a line is not an end.

    http.client takes what comes before the loss of a connection for all of the
    status line and headers.
    """

    def __init__(self, raw: Any) -> None:
        self._raw = raw
        self._began = False

    def readline(self, limit: int = -1) -> bytes:
        line: bytes = self._raw.readline(limit)
        if not line.endswith(b"\n") and (line or self._began) and len(line) != limit:
            raise ConnectionAbortedError("the connection was lost in the middle of an answer")
        self._began = True
        return line

    def __getattr__(self, name: str) -> Any:
        return getattr(self._raw, name)


class _Response(http.client.HTTPResponse):
    def __init__(self, *arguments: Any, **options: Any) -> None:
        super().__init__(*arguments, **options)
        lines: Any = _Lines(self.fp)
        self.fp = lines


@dataclass
class _Attempt:
    """What one call needs while it is made."""

    call: web.Call[Any, Any]
    deadline: float
    cancellation: Cancellation | None
    request: Request = field(init=False)
    connection: http.client.HTTPConnection | None = None
    watched: int | None = None
    limit: float = 60.0
    """In seconds, how long the answer to a body that was sent may take."""

    def left(self) -> float:
        left = self.deadline - time.monotonic()
        if left <= 0:
            raise TimeoutError("it took too long")
        return left

    def patience(self) -> float | None:
        """What is left, as sockets take it."""
        left = self.left()
        return None if left > threading.TIMEOUT_MAX else left

    def watch(self) -> None:
        """Ends the connection when the time is over."""
        self.forget()
        if self.connection is not None and self.deadline < math.inf:
            self.watched = _deadlines.watch(self.connection, self.deadline)

    def forget(self) -> None:
        if self.watched is not None:
            _deadlines.forget(self.watched)
            self.watched = None

    def why(self, problem: BaseException) -> BaseException:
        """What a lost connection means, when it may be we who ended it."""
        if self.cancellation is not None and self.cancellation.cancelled:
            return InterruptedError("it was cancelled")
        if time.monotonic() >= self.deadline:
            return TimeoutError("it took too long")
        return problem


class Client(Exchange):
    """Sends calls to one server. It may be used by several threads at once."""

    def __init__(self, base: str, definitions: web.Definitions, options: ClientOptions) -> None:
        super().__init__(base, definitions, options)
        self._options = options
        self._lock = threading.Lock()
        self._idle: list[http.client.HTTPConnection] = []
        self._busy: set[http.client.HTTPConnection] = set()

    def close(self) -> None:
        """Closes all connections; calls that are being made fail."""
        with self._lock:
            idle = list(self._idle)
            self._idle.clear()
            for connection in self._busy:
                _break(connection)
        for connection in idle:
            connection.close()

    def do(self, call: web.Call[Q, A], message: Q, timeout: float | None, cancellation: Cancellation | None) -> A:
        """Sends a call of one request and one answer."""
        own, watching = self.watched(call)
        with watching:
            return own._do(call, message, timeout, cancellation)

    def _do(self, call: web.Call[Q, A], message: Q, timeout: float | None, cancellation: Cancellation | None) -> A:
        if web.raw_of(call) is not None or web.answer_raw_of(call) is not None:
            return self._do_raw(call, message, timeout, cancellation)
        attempt = self._attempt(call, timeout, cancellation)
        attempt.request = self._prepared(attempt, message, self.encoding, attempt.left())
        response = self._open(attempt)
        try:
            answer: A = self._read(attempt, response)
        except BaseException:
            self._drop(attempt)
            raise
        self._release(attempt, response)
        return answer

    def _do_raw(self, call: web.Call[Q, A], message: Q, timeout: float | None, cancellation: Cancellation | None) -> A:
        """Sends a call that sends or answers a body as it is: it is idleness that has a limit."""
        attempt = self._attempt(call, timeout, cancellation)
        attempt.request = self._prepared(attempt, message, self.encoding, None)
        attempt.limit = self.timeout if timeout is None else timeout
        response = self._open(attempt)
        travel = call.answer_travel
        try:
            if travel is None or travel.raw is None or not web.succeeds(call, response.status):
                answer: A = self._read(attempt, response)
            else:
                attempt.forget()
                answer = self.understand_raw(
                    travel,
                    response.status,
                    lambda name: response.headers.get_all(name, []),
                    _Arriving(self, attempt, response),
                )
                self.lasts()
                return answer
        except BaseException:
            self._drop(attempt)
            raise
        self._release(attempt, response)
        return answer

    def _attempt(self, call: web.Call[Any, Any], timeout: float | None, cancellation: Cancellation | None) -> _Attempt:
        limit = self.timeout if timeout is None else timeout
        return _Attempt(call, time.monotonic() + limit, cancellation)

    def _prepared(self, attempt: _Attempt, message: Any, accept: str, wait: float | None) -> Request:
        """A request; what credentials are asked for must come in time."""
        if not attempt.call.needs or not any(callable(source) for source in self._credentials.values()):
            return self.request(attempt.call, message, accept, wait)
        results: list[Request] = []
        failures: list[BaseException] = []

        def prepare() -> None:
            try:
                results.append(self.request(attempt.call, message, accept, wait))
            except BaseException as problem:
                failures.append(problem)

        context = contextvars.copy_context()
        thread = threading.Thread(target=context.run, args=(prepare,), daemon=True)
        thread.start()
        while thread.is_alive():
            # In steps, so that a cancellation is heard.
            thread.join(min(0.05, max(0.0, attempt.deadline - time.monotonic())))
            cancelled = attempt.cancellation is not None and attempt.cancellation.cancelled
            if thread.is_alive() and (cancelled or time.monotonic() >= attempt.deadline):
                if cancelled:
                    raise web.no_answer(attempt.call.name, "it was cancelled", "cancelled")
                raise web.no_answer(attempt.call.name, "a credential was not there in time", "timed out")
        if failures:
            raise failures[0]
        return results[0]

    def stream(
        self, call: web.Call[Q, A], message: Q, timeout: float | None, cancellation: Cancellation | None
    ) -> Stream[A]:
        """Sends a call that is answered by a stream."""
        own, watching = self.watched(call)
        with watching:
            return own._stream(call, message, timeout, cancellation)

    def _stream(
        self, call: web.Call[Q, A], message: Q, timeout: float | None, cancellation: Cancellation | None
    ) -> Stream[A]:
        attempt = self._attempt(call, timeout, cancellation)
        attempt.request = self._prepared(attempt, message, self.sequence, None)
        response = self._open(attempt)
        attempt.forget()
        encoding = web.media_type(response.getheader("content-type"))
        if not web.succeeds(call, response.status) or encoding not in (web.CBOR_SEQ, web.JSON_SEQ):
            try:
                if web.succeeds(call, response.status):
                    raise web.BadAnswer(response.status, f"its type is {encoding!r}")
                attempt.watch()
                self._read(attempt, response)
            finally:
                self._drop(attempt)
            raise web.BadAnswer(response.status, "it is not a stream")
        elements = stream.Elements(
            json=encoding == web.JSON_SEQ, cls=call.answer, limit=self.element_limit, items=self.items
        )

        def drop() -> None:
            connection = attempt.connection
            if connection is not None:
                _break(connection)  # another thread may be waiting for it
            self._drop(attempt)

        self.lasts()
        return Stream(self, call, response.status, _chunks(self, attempt, response, elements), drop)

    def send(
        self,
        call: web.Call[Q, A],
        messages: Iterable[Q],
        timeout: float | None,
        cancellation: Cancellation | None,
        head: Any = None,
    ) -> A:
        """Sends a call whose request is a stream."""
        own, watching = self.watched(call)
        with watching:
            return own._send(call, messages, timeout, cancellation, head)

    def _send(
        self,
        call: web.Call[Q, A],
        messages: Iterable[Q],
        timeout: float | None,
        cancellation: Cancellation | None,
        head: Any,
    ) -> A:
        begin = self._attempt(call, timeout, cancellation)
        request = self._prepared(begin, head, self.encoding, None)
        attempt = self._attempt(call, math.inf, cancellation)
        request.headers["content-type"] = self.sequence
        attempt.request = request
        writer = stream.ElementWriter(json=self.json, sequence=True, limit=self.element_limit)
        limit = self.timeout if timeout is None else timeout
        connection = self._take(attempt)
        upload = _Upload(self, connection, writer)
        self.tried()
        try:
            try:
                upload.begin(request)
                for message in messages:
                    if not upload.put(writer.value(checked(call, message))):
                        break
                upload.finish()
            except OSError as problem:
                # The answer, where there is one, says more than that nothing more could be written.
                attempt.deadline = time.monotonic() + limit
                response = self._answer(attempt, connection, problem)
            else:
                attempt.deadline = time.monotonic() + limit
                response = self._answer(attempt, connection, None)
            answer: A = self._read(attempt, response)
        except BaseException:
            self._drop(attempt)
            raise
        finally:
            upload.stop()
        if upload.whole:
            self._release(attempt, response)
        else:
            self._drop(attempt)
        return answer

    def _answer(
        self, attempt: _Attempt, connection: http.client.HTTPConnection, failed: OSError | None
    ) -> http.client.HTTPResponse:
        try:
            attempt.watch()
            if connection.sock is None:
                raise failed or ConnectionAbortedError("the connection was lost")
            connection.sock.settimeout(attempt.patience())
            response = connection.getresponse()
        except (OSError, http.client.HTTPException) as problem:
            problem = attempt.why(problem)  # type: ignore[assignment]
            raise web.no_answer(attempt.call.name, failed or problem) from (failed or problem)
        self.look(response.status, response.headers)
        return response

    def _open(self, attempt: _Attempt) -> http.client.HTTPResponse:
        """Sends a request until it is answered, as often as it may be repeated."""
        call = attempt.call
        tries = self.tries(call, attempt.request)
        number = 0
        while True:
            number += 1
            wait = random.uniform(0, 0.1 * 2 ** min(number, 6))
            last = number >= tries
            try:
                response = self._carried(attempt)
                if last or response.status not in (429, 502, 503, 504):
                    return response
                after = retry_after(response.getheader("retry-after"))
                wait = wait if after is None else after
                if time.monotonic() + wait >= attempt.deadline:
                    return response
                self.came(len(response.read(65536)))  # so that the connection can be used again
                self._release(attempt, response)
            except (OSError, http.client.HTTPException) as problem:
                self._drop(attempt)
                problem = attempt.why(problem)  # type: ignore[assignment]
                # A kept-alive connection that was closed before it answered, or a refused one.
                again = isinstance(
                    problem,
                    ConnectionRefusedError | ConnectionResetError | BrokenPipeError | http.client.RemoteDisconnected,
                )
                cancelled = attempt.cancellation is not None and attempt.cancellation.cancelled
                if last or not again or cancelled or time.monotonic() + wait >= attempt.deadline:
                    raise web.no_answer(call.name, problem) from problem
            except BaseException:
                self._drop(attempt)
                raise
            if attempt.cancellation is None:
                time.sleep(wait)
            elif attempt.cancellation.wait(wait):
                raise web.no_answer(call.name, "it was cancelled", "cancelled")

    def _carried(self, attempt: _Attempt) -> http.client.HTTPResponse:
        def send(request: Request) -> http.client.HTTPResponse:
            connection = self._take(attempt)
            left = attempt.patience()
            if connection.sock is None:
                connection.timeout = left
            else:
                connection.sock.settimeout(left)
            attempt.watch()
            self.tried()
            if isinstance(request.body, wire.Body):
                return self._poured(attempt, connection, request, request.body)
            self.went(len(request.body or b""))
            connection.request(request.method, request.target, request.body, request.headers)
            return connection.getresponse()

        carry: Send = send
        for middleware in reversed(self._options.get("middleware", ())):
            carry = _around(middleware, carry)
        response = carry(attempt.request)
        self.look(response.status, response.headers)
        return response

    def _poured(
        self, attempt: _Attempt, connection: http.client.HTTPConnection, request: Request, body: wire.Body
    ) -> http.client.HTTPResponse:
        """Sends a body as it comes; an answer may come first, and then the rest is not wanted."""
        body.again()
        attempt.forget()
        connection.putrequest(request.method, request.target)
        for name, value in request.headers.items():
            connection.putheader(name, value)
        if body.size is None:
            connection.putheader("transfer-encoding", "chunked")
        else:
            connection.putheader("content-length", str(body.size))
        failed: OSError | None = None
        try:
            connection.endheaders()
            connection.sock.settimeout(self.idle_timeout)
            total, looked = 0, 0.0
            for chunk in body:
                total += len(chunk)
                if body.size is not None and total > body.size:
                    raise ValueError(f"the body has more than the {body.size} bytes that it says")
                if not chunk:
                    continue
                if (now := time.monotonic()) > looked + 0.001:
                    looked = now
                    if _readable(connection.sock):
                        break
                connection.send(chunk if body.size is not None else b"%x\r\n%b\r\n" % (len(chunk), chunk))
                self.went(len(chunk))
            else:
                if body.size is not None and total != body.size:
                    raise ValueError(f"the body has {total} bytes, and says {body.size}")
                if body.size is None:
                    connection.send(b"0\r\n\r\n")
        except TimeoutError as problem:
            raise TimeoutError("nothing was read for too long") from problem
        except OSError as problem:
            failed = problem  # the answer, where there is one, says more
        attempt.deadline = time.monotonic() + attempt.limit
        attempt.watch()
        if connection.sock is None:
            raise failed or ConnectionAbortedError("the connection was lost")
        connection.sock.settimeout(attempt.patience())
        try:
            return connection.getresponse()
        except (OSError, http.client.HTTPException):
            raise failed or ConnectionAbortedError("the connection was lost") from failed

    def _take(self, attempt: _Attempt) -> http.client.HTTPConnection:
        """A connection that is not in use: a kept one that the server has not closed, or a new one."""
        connection: http.client.HTTPConnection | None = None
        with self._lock:
            while self._idle and connection is None:
                connection = self._idle.pop()
                if connection.sock is None or _readable(connection.sock):
                    connection.close()
                    connection = None
        if connection is None and self.secure:
            context = self._options.get("ssl_context") or ssl.create_default_context()
            connection = http.client.HTTPSConnection(self.host, self.port, context=context)
        elif connection is None:
            connection = http.client.HTTPConnection(self.host, self.port)
        connection.response_class = _Response
        with self._lock:
            self._busy.add(connection)
        attempt.connection = connection
        if attempt.cancellation is not None:
            attempt.cancellation._watch(connection)
        return connection

    def _give_up(self, attempt: _Attempt) -> http.client.HTTPConnection | None:
        attempt.forget()
        connection, attempt.connection = attempt.connection, None
        if connection is not None:
            with self._lock:
                self._busy.discard(connection)
            if attempt.cancellation is not None:
                attempt.cancellation._forget(connection)
        return connection

    def _drop(self, attempt: _Attempt) -> None:
        connection = self._give_up(attempt)
        if connection is not None:
            connection.close()

    def _release(self, attempt: _Attempt, response: http.client.HTTPResponse) -> None:
        """Keeps a connection for the next call, if all of its answer was read."""
        connection = self._give_up(attempt)
        if connection is None:
            return
        if response.isclosed() and connection.sock is not None:
            with self._lock:
                self._idle.append(connection)
        else:
            connection.close()

    def _read(self, attempt: _Attempt, response: http.client.HTTPResponse) -> Any:
        """Reads an answer that is not a stream."""
        call, limit = attempt.call, self.answer_limit
        try:
            body = (
                response.read()
                if (response.length or 0) <= limit and response.length is not None
                else _read_all(attempt, response, limit)
            )
        except (OSError, http.client.HTTPException) as problem:
            problem = attempt.why(problem)  # type: ignore[assignment]
            raise web.no_answer(call.name, problem) from problem
        self.came(len(body))
        if time.monotonic() >= attempt.deadline:
            raise web.no_answer(call.name, "it took too long", "timed out")
        return self.understand(
            call, attempt.request, response.status, lambda name: response.headers.get_all(name, []), body
        )


def _around(middleware: Middleware, carry: Send) -> Send:
    return lambda request: middleware(request, carry)


def _read_all(attempt: _Attempt, response: http.client.HTTPResponse, limit: int) -> bytes:
    parts: list[bytes] = []
    total = 0
    while total <= limit:
        attempt.left()
        part = response.read1(65536)
        if not part:
            break
        parts.append(part)
        total += len(part)
    return b"".join(parts)


class _Upload:
    """Sends the elements of a request as they come, and heartbeats while none does."""

    def __init__(self, client: Client, connection: http.client.HTTPConnection, writer: stream.ElementWriter) -> None:
        self.client = client
        self.connection = connection
        self.writer = writer
        self.whole = False
        self._lock = threading.Lock()
        self._last = time.monotonic()
        self._timer: threading.Timer | None = None

    def begin(self, request: Request) -> None:
        c = self.connection
        c.putrequest(request.method, request.target)
        for name, value in request.headers.items():
            c.putheader(name, value)
        c.putheader("transfer-encoding", "chunked")
        c.endheaders()
        c.sock.settimeout(self.client.idle_timeout)
        self._wait(15.0)

    def _wait(self, seconds: float) -> None:
        self._timer = threading.Timer(seconds, self._heartbeat)
        self._timer.daemon = True
        self._timer.start()

    def _heartbeat(self) -> None:
        with self._lock:
            silent = time.monotonic() - self._last
            if self._timer is None:
                return
            if silent >= 15.0:
                try:
                    self._chunk(self.writer.heartbeat())
                except OSError:
                    return  # the next element finds out
                silent = 0.0
        self._wait(15.0 - silent)

    def _chunk(self, data: bytes) -> None:
        self.connection.send(b"%x\r\n%b\r\n" % (len(data), data))
        self.client.went(len(data))
        self._last = time.monotonic()

    def put(self, element: bytes) -> bool:
        """Sends an element; False when the server has answered already."""
        with self._lock:
            if _readable(self.connection.sock):
                return False
            self._chunk(element)
            return True

    def finish(self) -> None:
        self.stop()
        if _readable(self.connection.sock):
            return
        self._chunk(self.writer.end())
        self.connection.send(b"0\r\n\r\n")
        self.whole = True

    def stop(self) -> None:
        with self._lock:
            if self._timer is not None:
                self._timer.cancel()
                self._timer = None


def _chunks(
    client: Client, attempt: _Attempt, response: http.client.HTTPResponse, elements: stream.Elements
) -> Iterator[tuple[stream.Kind, Any]]:
    connection = attempt.connection
    if connection is not None and connection.sock is not None:
        connection.sock.settimeout(client.idle_timeout)
    while True:
        try:
            chunk = response.read1(65536)
        except (OSError, http.client.HTTPException) as problem:
            raise stream.LostError from problem
        if not chunk:
            elements.finish()
            client._release(attempt, response)
            return
        client.came(len(chunk))
        yield from elements.feed(chunk)


class _Arriving:
    """The chunks of an answer, as they come."""

    def __init__(self, client: Client, attempt: _Attempt, response: http.client.HTTPResponse) -> None:
        self._client = client
        self._attempt = attempt
        self._response = response
        connection = attempt.connection
        if connection is not None and connection.sock is not None:
            connection.sock.settimeout(client.idle_timeout)

    def __iter__(self) -> Iterator[bytes]:
        response, attempt = self._response, self._attempt
        while attempt.connection is not None:
            try:
                chunk = response.read1(65536)
                if not chunk and response.length:
                    raise ConnectionAbortedError("the connection was lost in the middle of a body")
            except (OSError, http.client.HTTPException) as problem:
                attempt.deadline = math.inf
                lost = web.no_answer(attempt.call.name, attempt.why(problem))
                self._client.fail(lost)
                self.close()
                raise lost from problem
            if not chunk:
                self._client._release(attempt, response)
                self._client.end()
                return
            self._client.came(len(chunk))
            yield chunk

    def close(self) -> None:
        self._client._drop(self._attempt)
        self._client.end()

    def __del__(self) -> None:
        self.close()


class Stream(Generic[A]):
    """The elements of an answer, as they come. It is an iterator and a context manager; leaving it early ends the call."""

    def __init__(
        self,
        client: Client,
        call: web.Call[Any, A],
        status: int,
        elements: Iterator[tuple[stream.Kind, Any]],
        drop: Callable[[], None],
    ) -> None:
        self._client = client
        self._call = call
        self._status = status
        self._elements = elements
        self._drop = drop

    def __iter__(self) -> Stream[A]:
        return self

    def __next__(self) -> A:
        if self._client.watch is None:
            return self._following()
        try:
            return self._following()
        except StopIteration:
            self._client.end()
            raise
        except BaseException as problem:
            self._client.fail(problem)
            self._client.end()
            raise

    def _following(self) -> A:
        problem: Exception | None = None
        try:
            for kind, value in self._elements:
                if kind == "value":
                    element: A = value
                    return element
                if kind == "problem":
                    problem = web.failure(self._call, self._status, value)
        except (stream.BadElementError, wire.WireError) as bad:
            raise self._dropped(web.BadAnswer(self._status, str(bad))) from bad
        except stream.LostError as lost:
            raise self._dropped(web.Unreachable(f"{self._call.name}: {lost}")) from lost
        if problem is not None:
            raise problem
        raise StopIteration

    def _dropped(self, problem: Exception) -> Exception:
        self._client.fail(problem)
        self._drop()
        return problem

    def close(self) -> None:
        """Ends the call; the other side sees that its reader has left."""
        self._drop()
        self._client.end()

    def __enter__(self) -> Stream[A]:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def __del__(self) -> None:
        self._drop()
