"""Calls that stream both ways, over WebSocket (RFC 6455), with the library websockets."""

# pyright: reportPrivateUsage=false
# The modules of these stubs use what is private in each other, and nobody else does.

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from typing import Any, TypeVar

from websockets.exceptions import ConnectionClosed, InvalidStatus, WebSocketException
from websockets.sync.client import ClientConnection, connect
from websockets.typing import Subprotocol

from . import stream, web, wire
from .client import Cancellation, Client, Stream
from .exchange import checked

Q = TypeVar("Q")
A = TypeVar("A")


def converse(
    client: Client,
    call: web.Call[Q, A],
    messages: Iterable[Q],
    timeout: float | None,
    cancellation: Cancellation | None,
    head: Any = None,
) -> Stream[A]:
    """Sends a call that streams both ways: messages are sent from another thread, as they come."""
    own, watching = client.watched(call)
    with watching:
        return _opened(own, call, messages, timeout, cancellation, head)


def _opened(
    client: Client,
    call: web.Call[Q, A],
    messages: Iterable[Q],
    timeout: float | None,
    cancellation: Cancellation | None,
    head: Any,
) -> Stream[A]:
    attempt = client._attempt(call, timeout, cancellation)
    request = client._prepared(attempt, head, web.JSON, None)
    del request.headers["accept"]
    protocol = Subprotocol("faithful-json" if client.json else "faithful-cbor")
    opened = ExitStack()
    client.tried()
    try:
        connecting = connect(
            client.socket_base + request.target,
            subprotocols=[protocol],
            additional_headers=request.headers,
            open_timeout=attempt.patience(),
            close_timeout=2,
            max_size=client.element_limit + 16,
            compression=None,
            proxy=None,
        )
        connection = opened.enter_context(connecting)
    except InvalidStatus as refused:
        answer = refused.response
        client.look(answer.status_code, answer.headers)
        content_type = answer.headers.get("content-type")
        raise web.refused(call, answer.status_code, content_type, bytes(answer.body or b"")) from None
    except (OSError, WebSocketException) as problem:
        raise web.no_answer(call.name, problem) from problem
    if connection.response is not None:
        client.look(connection.response.status_code, connection.response.headers)
    if connection.subprotocol != protocol:
        connection.close(1002)
        raise web.BadAnswer(101, f"the server did not agree to {protocol}")
    talk = _Talk(client, call, connection, messages)
    if cancellation is not None:
        cancellation._when(talk.abandon)
    client.lasts()
    return Stream(client, call, 101, talk.received(), talk.leave)


class _Talk:
    def __init__(
        self, client: Client, call: web.Call[Any, Any], connection: ClientConnection, messages: Iterable[Any]
    ) -> None:
        self.client = client
        self.call = call
        self.connection = connection
        self.json = client.json
        self.idle = client.idle_timeout
        self.items = client.items
        self.writer = stream.ElementWriter(json=self.json, sequence=False, limit=client.element_limit)
        self.failed: BaseException | None = None
        self.ours = self.theirs = self.closed = False
        self.sending = threading.Lock()
        self.sender = threading.Thread(target=self._send, args=(messages,), daemon=True)
        self.sender.start()

    def _send(self, messages: Iterable[Any]) -> None:
        try:
            for message in messages:
                self._put(self.writer.value(checked(self.call, message)))
            self._put(self.writer.end())
            self.ours = True
        except ConnectionClosed:
            pass  # the receiving side says so
        except BaseException as problem:
            self.failed = problem
            self.connection.close(1001)

    def _put(self, element: bytes) -> None:
        with self.sending:
            self.connection.send(element.decode() if self.json else element)
            self.client.went(len(element))

    def received(self) -> Iterator[tuple[stream.Kind, Any]]:
        try:
            while True:
                message = self._next()
                element = message.encode() if isinstance(message, str) else message
                self.client.came(len(element))
                kind, value = stream.read_element(element, json=self.json, cls=self.call.answer, items=self.items)
                if kind != "other":
                    self.theirs = kind in ("end", "problem")
                    yield kind, value
                if self.theirs:
                    self.sender.join(self.idle if kind == "end" else 0)
                    return
        except wire.WireError:
            raise
        except (ConnectionClosed, TimeoutError) as problem:
            raise self.failed or stream.LostError() from problem
        finally:
            self.close()

    def _next(self) -> str | bytes:
        deadline = time.monotonic() + self.idle
        while True:
            try:
                return self.connection.recv(min(0.25, max(0.0, deadline - time.monotonic())))
            except TimeoutError:
                # Now and then, to see whether the sending side has failed.
                if self.failed is not None or time.monotonic() >= deadline:
                    raise

    def abandon(self) -> None:
        """Ends the call from another thread."""
        self.failed = self.failed or InterruptedError("it was cancelled")
        self._cut()

    def _cut(self) -> None:
        try:
            self.connection.socket.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass  # it has ended already

    def leave(self) -> None:
        """Ends the call for its reader."""
        if not (self.ours and self.theirs):
            self.client.fail(web.no_answer(self.call.name, "it was given up", "cancelled"))
        self.close()

    def close(self) -> None:
        if not self.closed:
            self.closed = True
            if self.sending.acquire(timeout=0.25):
                self.sending.release()
            else:
                self._cut()  # the other side does not read, so it would not hear a goodbye
            self.connection.close(1000 if self.ours and self.theirs else 1001)
