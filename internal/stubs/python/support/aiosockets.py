"""Calls that stream both ways with asyncio, over WebSocket (RFC 6455), with the library websockets."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from typing import Any, TypeVar

from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, InvalidStatus, WebSocketException
from websockets.typing import Subprotocol

from . import stream, web
from .aio import AsyncClient, AsyncStream, Messages, each, within
from .exchange import checked

Q = TypeVar("Q")
A = TypeVar("A")


def converse(
    client: AsyncClient, call: web.Call[Q, A], messages: Messages[Q], timeout: float | None, head: Any = None
) -> AsyncStream[A]:
    """Sends a call that streams both ways: messages are sent by another task, as they come."""
    return AsyncStream(client, call, lambda own: _received(own, call, messages, timeout, head))


async def _opened(client: AsyncClient, call: web.Call[Any, Any], timeout: float | None, head: Any) -> ClientConnection:
    limit = client.timeout if timeout is None else timeout
    begin = time.monotonic()
    request = await within(call, limit, client.prepare(call, head, web.JSON, None))
    del request.headers["accept"]
    protocol = Subprotocol("faithful-json" if client.json else "faithful-cbor")
    client.tried()
    try:
        connection = await connect(
            client.socket_base + request.target,
            subprotocols=[protocol],
            additional_headers=request.headers,
            open_timeout=max(0.001, limit - (time.monotonic() - begin)),
            close_timeout=2,
            max_size=client.element_limit + 16,
            compression=None,
            proxy=None,
        )
    except InvalidStatus as refused:
        answer = refused.response
        client.look(answer.status_code, answer.headers)
        content_type = answer.headers.get("content-type")
        raise web.refused(call, answer.status_code, content_type, bytes(answer.body or b"")) from None
    except (OSError, asyncio.TimeoutError, WebSocketException) as problem:
        raise web.no_answer(call.name, problem) from problem
    if connection.response is not None:
        client.look(connection.response.status_code, connection.response.headers)
    if connection.subprotocol != protocol:
        await connection.close(1002)
        raise web.BadAnswer(101, f"the server did not agree to {protocol}")
    return connection


async def _received(
    client: AsyncClient, call: web.Call[Any, Any], messages: Messages[Any], timeout: float | None, head: Any
) -> AsyncIterator[tuple[stream.Kind, Any]]:
    connection = await _opened(client, call, timeout, head)
    sender = asyncio.ensure_future(_send(client, call, connection, messages))
    whole = False
    try:
        while True:
            element = await _next(connection, sender, client.idle_timeout)
            client.came(len(element))
            kind, value = stream.read_element(element, json=client.json, cls=call.answer, items=client.items)
            if kind != "other":
                yield kind, value
            if kind == "end":
                await stream.within(sender, client.idle_timeout)
                whole = True
            if kind in ("end", "problem"):
                return
    except (ConnectionClosed, asyncio.TimeoutError) as problem:
        if sender.done() and not sender.cancelled() and (failed := sender.exception()) is not None:
            raise failed from None
        raise stream.LostError from problem
    except GeneratorExit:
        if not whole:
            client.fail(web.no_answer(call.name, "it was given up", "cancelled"))
        raise
    finally:
        sender.cancel()
        await asyncio.gather(sender, return_exceptions=True)
        if not whole and connection.transport.get_write_buffer_size() > 0:
            connection.transport.abort()  # the other side does not read, so it would not hear a goodbye
        await connection.close(1000 if whole else 1001)


async def _next(connection: ClientConnection, sender: asyncio.Future[None], idle: float) -> bytes:
    """The next element; where sending has failed meanwhile, that."""
    receiver = asyncio.ensure_future(connection.recv())
    try:
        waited: set[asyncio.Future[Any]] = {receiver} if sender.done() else {receiver, sender}
        done, _ = await asyncio.wait(waited, timeout=idle, return_when=asyncio.FIRST_COMPLETED)
        if sender in done:
            await sender  # which raises what it failed with
            done, _ = await asyncio.wait({receiver}, timeout=idle)
        if receiver not in done:
            raise asyncio.TimeoutError
        message = await receiver
        return message.encode() if isinstance(message, str) else message
    finally:
        receiver.cancel()


async def _send(
    client: AsyncClient, call: web.Call[Any, Any], connection: ClientConnection, messages: Messages[Any]
) -> None:
    writer = stream.ElementWriter(json=client.json, sequence=False, limit=client.element_limit)

    async def put(element: bytes) -> None:
        await connection.send(element.decode() if client.json else element)
        client.went(len(element))

    try:
        async for message in each(messages):
            await put(writer.value(checked(call, message)))
        await put(writer.end())
    except ConnectionClosed:
        pass  # the receiving side says so
