"""The elements of streams: in a sequence of bytes, or one a message."""

from __future__ import annotations

import sys
from collections.abc import Awaitable, Iterator
from typing import Any, Literal, TypeVar

from . import wire

T = TypeVar("T")


async def within(work: Awaitable[T], seconds: float) -> T:
    """Waits for work for so many seconds, else asyncio.TimeoutError.

    Before Python 3.12, asyncio.wait_for drops a cancellation that comes when work has just ended.
    """
    import asyncio  # callers have loaded it; other users of this module need not

    if sys.version_info >= (3, 11):
        async with asyncio.timeout(seconds):
            return await work
    else:
        task = asyncio.ensure_future(work)
        try:
            if not (await asyncio.wait((task,), timeout=seconds))[0]:
                raise asyncio.TimeoutError
            return task.result()
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)


class LostError(Exception):
    """A stream whose connection ended before it did."""

    def __str__(self) -> str:
        return "the connection ended before the stream did"


class BadElementError(Exception):
    """A part of a stream that is not an element, or too large a one."""

    def __init__(self, detail: str, *, too_large: bool = False) -> None:
        super().__init__(detail)
        self.too_large = too_large


Kind = Literal["value", "end", "problem", "other"]


class ElementWriter:
    """Writes elements of one encoding."""

    def __init__(self, *, json: bool, sequence: bool, limit: int) -> None:
        self.json = json
        self.sequence = sequence
        """Whether elements are in one sequence of bytes (RFC 8742, RFC 7464)."""
        self.limit = limit

    def value(self, message: wire.Message) -> bytes:
        if self.json:
            element = self._framed(f'{{"value":{message.to_json()}}}')
        else:
            element = b"\xa1\x01" + wire.to_cbor(message)
        if len(element) > self.limit + 16:
            raise BadElementError(
                f"an element of {len(element)} bytes, more than the {self.limit} that a stream may contain",
                too_large=True,
            )
        return element

    def end(self) -> bytes:
        return self._framed('{"end":{}}') if self.json else b"\xa1\x02\xa0"

    def heartbeat(self) -> bytes:
        return self._framed('{"heartbeat":{}}') if self.json else b"\xa1\x00\xa0"

    def problem(self, text: str) -> bytes:
        return self._framed(f'{{"problem":{text}}}') if self.json else b"\xa1\x03" + wire.cbor_text(text)

    def _framed(self, text: str) -> bytes:
        return f"\x1e{text}\n".encode() if self.sequence else text.encode()


def read_element(element: bytes, *, json: bool, cls: Any, items: int) -> tuple[Kind, Any]:
    """Reads one element, which may contain so much: its kind, with the value or the text of the problem details."""
    try:
        if json and element.startswith(b'{"value":') and element.endswith(b"}"):
            return "value", cls.from_json(element[9:-1], items - 1)
        if not json and element.startswith(b"\xa1\x01"):
            return "value", cls.from_cbor(element[2:], items - 1)
    except wire.WireError as problem:
        if not problem.detail.endswith("after the end"):  # what follows the value is judged as a part of the element
            problem.offset += 9 if json else 2
            raise
    if not json:
        r = wire.CborReader(element, items)
        number = r.element()
        n = number if number >= 0 else -1 - number
        kind: Kind = "other"
        value: Any = None
        if n == 1:
            kind, value = "value", cls._read_cbor(r)
        elif n == 3:
            kind, value = "problem", r.text()
        else:
            r.skip()
            kind = "end" if n == 2 else "other"
        r.close_element(number)
        return kind, value
    j = wire.JsonReader(element, items)
    name = j.element()
    if name == "value":
        kind, value = "value", cls._read_json(j)
    else:
        value = j.raw()
        kind = "problem" if name == "problem" else "end" if name == "end" else "other"
    j.close_element()
    return kind, value


class Splitter:
    """Finds the elements in a sequence as its bytes arrive."""

    def __init__(self, *, json: bool, limit: int) -> None:
        self.json = json
        self.limit = limit + 16
        self.buffer = bytearray()
        self.at = 0
        self.skip = 0
        self.whole = False
        self.open: list[int] = []
        self.depth = 0
        self.text = False
        self.quote = False

    def feed(self, chunk: bytes) -> Iterator[bytes]:
        """Takes a chunk, and yields the elements that are complete with it."""
        self.buffer += chunk
        while True:
            end = self._next_json() if self.json else self._next_cbor()
            if end is None:
                if len(self.buffer) > self.limit:
                    raise BadElementError(f"an element of more than {self.limit - 16} bytes", too_large=True)
                return
            if end > self.limit:
                raise BadElementError(f"an element of more than {self.limit - 16} bytes", too_large=True)
            element = bytes(self.buffer[:end])
            del self.buffer[:end]
            yield element[element.index(b"{") :] if self.json else element

    def left(self) -> bool:
        """Whether something waits that is not an element yet."""
        return bool(self.buffer.strip(b"\x1e \t\r\n") if self.json else self.buffer)

    def _next_cbor(self) -> int | None:
        while True:
            step = min(self.skip, len(self.buffer) - self.at)
            self.at += step
            self.skip -= step
            if self.skip:
                return None
            if self.whole:
                self.whole = False
                if self._complete():
                    end, self.at = self.at, 0
                    return end
            size = self._head()
            if not size:
                return None
            self.at += size

    def _head(self) -> int:
        """Takes the head of one item: its size, or 0 when it is not all there yet."""
        data, at = self.buffer, self.at
        if at >= len(data):
            return 0
        first = data[at]
        if first == 0xFF:
            if not self.open or self.open.pop() != -1:
                raise BadElementError("what came is not a sequence of elements")
            self.whole = True
            return 1
        info, major, size = first & 31, first >> 5, 1
        argument = info
        if 24 <= info < 28:
            size += 1 << (info - 24)
            if len(data) - at < size:
                return 0
            argument = int.from_bytes(data[at + 1 : at + size], "big")
        elif 27 < info < 31:
            raise BadElementError("what came is not a sequence of elements")
        if len(self.open) > 4 * wire.MAX_DEPTH:
            raise BadElementError(f"an element nests over {wire.MAX_DEPTH}")
        if 2 <= major <= 5 and info != 31 and argument > 1 << 40:
            raise BadElementError("what came is not a sequence of elements")
        if major == 6:
            self.open.append(1)
        elif info == 31:
            self.open.append(-1)
        elif major in (2, 3):
            self.skip, self.whole = argument, True
        elif major in (4, 5) and argument:
            self.open.append(argument * (major - 3))
        else:
            self.whole = True
        return size

    def _complete(self) -> bool:
        """Counts an item that is whole, and tells whether with it the outermost one is."""
        while self.open:
            if self.open[-1] < 0:
                return False
            self.open[-1] -= 1
            if self.open[-1]:
                return False
            self.open.pop()
        return True

    def _next_json(self) -> int | None:
        data = self.buffer
        while self.at < len(data):
            c = data[self.at]
            self.at += 1
            if self.text:
                self.text = c != 0x22 or self.quote
                self.quote = c == 0x5C and not self.quote
            elif not self.depth:
                if c == 0x7B:
                    self.depth = 1
                elif c not in b"\x1e \t\r\n":
                    raise BadElementError("what came is not a sequence of elements")
            elif c == 0x22:
                self.text = True
            elif c in b"{[":
                self.depth += 1
                if self.depth > 4 * wire.MAX_DEPTH:
                    raise BadElementError(f"an element nests over {wire.MAX_DEPTH}")
            elif c in b"}]":
                self.depth -= 1
                if not self.depth:
                    end, self.at = self.at, 0
                    return end
        return None


class Elements:
    """Reads the elements of a sequence, chunk by chunk."""

    MOST_BLANKS = 64 << 10
    """How many blanks may follow the end."""

    def __init__(self, *, json: bool, cls: Any, limit: int, items: int) -> None:
        self.json = json
        self.cls = cls
        self.items = items
        self.blanks = 0
        self.splitter = Splitter(json=json, limit=limit)
        self.ended = False

    def feed(self, chunk: bytes) -> Iterator[tuple[Kind, Any]]:
        """The elements that a chunk completes; after the end nothing may come."""
        if self.ended:
            self.blanks += len(chunk)
            if self.blanks > self.MOST_BLANKS or chunk.strip(b"\x1e \t\r\n" if self.json else b""):
                raise BadElementError("bytes after the end of the stream")
            return
        for element in self.splitter.feed(chunk):
            kind, value = read_element(element, json=self.json, cls=self.cls, items=self.items)
            if self.ended:
                raise BadElementError("bytes after the end of the stream")
            self.ended = kind in ("end", "problem")
            if kind != "other":
                yield kind, value
        if self.ended and self.splitter.left():
            raise BadElementError("bytes after the end of the stream")

    def finish(self) -> None:
        """What the end of the connection means."""
        if not self.ended:
            raise LostError
