"""What clients and servers share of a call over HTTP: problem details (RFC 9457), where a request's fields travel."""

from __future__ import annotations

import gzip
import json
import re
import socket
import zlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from http import HTTPStatus
from typing import Any, Generic, Literal, TypeVar, cast
from urllib.parse import quote, unquote_to_bytes

from . import wire

CBOR = "application/cbor"
JSON = "application/json"
CBOR_SEQ = "application/cbor-seq"
JSON_SEQ = "application/json-seq"
PROBLEM = "application/problem+json"

T = TypeVar("T")
Q = TypeVar("Q")
A = TypeVar("A")


@dataclass(frozen=True)
class Credential:
    """What a caller may have to show."""

    name: str
    """Full: module and credential."""
    kind: str
    """"header", "query" or "cookie" for a key, "bearer" or "basic"."""
    key: str = ""
    """Of a key: the name of the header, parameter or cookie."""


def is_named(credential: str, name: str) -> bool:
    """Whether name, with or without its module, is the credential's."""
    return credential == name or ("." not in name and credential.endswith("." + name))


@dataclass(frozen=True)
class Placed:
    """A field that travels outside of the body."""

    number: int
    name: str
    """In JSON."""
    place: str
    """"path", "query", "header" or "cookie"."""
    parameter: str
    """How it is called there."""


@dataclass(frozen=True)
class Raw:
    """How a body travels as it is."""

    field: str
    """In JSON."""
    bounds: wire.RawBounds
    of: Callable[[Any], wire.Body]


@dataclass(frozen=True)
class Travel(Generic[Q]):
    """How a request or an answer travels that is not all in the body."""

    placed: list[Placed]
    body: Any
    """The class of what is left for the body; None where there is none."""
    body_of: Callable[[Q], Any]
    place: Callable[[Q, Parameters], None]
    take: Callable[[Arguments, Any], Q]
    raw: Raw | None = None
    """Where the body is one field as it is; then take is given that."""


@dataclass(frozen=True)
class Call(Generic[Q, A]):
    """What both sides know of one call."""

    name: str
    """Full: module, service and call."""
    method: str
    path: str
    """Below the base; "{field}" is the place of a segment."""
    request: Any = None
    """The class of the request, or of an element of it; None is "()"."""
    answer: Any = None
    status: int = 0
    """Of success, where that is not 200, or 204 without an answer."""
    safe: bool = False
    idempotent: bool = False
    request_stream: bool = False
    answer_stream: bool = False
    compressible: bool = False
    """Whether answers may be compressed."""
    travel: Travel[Q] | None = None
    head: Travel[Any] | None = None
    """Of the message before a stream of requests, all of whose fields travel outside of the body."""
    answer_travel: Travel[A] | None = None
    needs: list[list[Credential]] = field(default_factory=list[list[Credential]])
    """One of these, of it all."""
    fails: list[type[wire.DeclaredError]] = field(default_factory=list[type[wire.DeclaredError]])


_REDIRECTS = (301, 302, 303, 307, 308)


def succeeds(call: Call[Any, Any], status: int) -> bool:
    """Whether an answer's status is one of success; that of some calls sends the client elsewhere (RFC 9110, section 15.4)."""
    return status in _REDIRECTS if call.status in _REDIRECTS else 200 <= status < 300


def in_cookies(call: Call[Any, Any]) -> bool:
    """Whether a call reads or answers cookies."""
    travels = (call.travel, call.head, call.answer_travel)
    return any(p.place == "cookie" for t in travels if t is not None for p in t.placed)


COMPRESSED_FROM = 1 << 10
"""How large a body is at least, in bytes, for which compression is worth while."""


def compressed(body: bytes) -> bytes:
    """A body in gzip (RFC 1952)."""
    return gzip.compress(body, 1)


def expanded(body: bytes, limit: int) -> bytes | None:
    """What a body in gzip holds; None where that is more than limit bytes. A ValueError says that it is not whole gzip."""
    parts: list[bytes] = []
    room = limit + 1
    rest = body
    while rest or not parts:
        inflater = zlib.decompressobj(31)
        try:
            part = inflater.decompress(rest, room)
        except zlib.error as problem:
            raise ValueError(str(problem)) from problem
        parts.append(part)
        room -= len(part)
        if room <= 0:
            return None
        if not inflater.eof:
            raise ValueError("it ends too early")
        rest = inflater.unused_data
    return b"".join(parts)


def is_gzip(coding: str) -> bool:
    return coding.strip().lower() in ("gzip", "x-gzip")


def takes_gzip(header: str | None) -> bool:
    """Whether Accept-Encoding allows gzip (RFC 9110, section 12.5.3)."""
    named = starred = -1.0
    for part in (header or "").split(","):
        coding, _, parameter = part.partition(";")
        try:
            q = float(parameter.strip().lower().removeprefix("q=")) if parameter.strip() else 1.0
        except ValueError:
            q = 1.0
        if is_gzip(coding):
            named = max(named, q)
        elif coding.strip() == "*":
            starred = max(starred, q)
    return named > 0 or (named < 0 and starred > 0)


def raw_of(call: Call[Any, Any]) -> Raw | None:
    """How a body of a call's request travels as it is."""
    return call.travel.raw if call.travel is not None else None


def answer_raw_of(call: Call[Any, Any]) -> Raw | None:
    """How a body of a call's answer travels as it is."""
    return call.answer_travel.raw if call.answer_travel is not None else None


class CallError(Exception):
    """What a call fails with that it does not declare."""


class Problem(CallError):
    """An error that the call does not declare, as problem details."""

    def __init__(
        self,
        problem: str,
        status: int,
        title: str,
        detail: str = "",
        violations: list[wire.Violation] | None = None,
        instance: str = "",
    ) -> None:
        super().__init__(problem, status, title, detail, violations, instance)
        self.problem = problem
        """What follows "/-/errors/" in the type, such as "invalid-request"; another type as it is."""
        self.instance = instance
        """A URI of this occurrence."""
        self.status = status
        self.title = title
        self.detail = detail
        self.violations = violations or []

    def __str__(self) -> str:
        text = f"{self.status} {self.title}" + (f": {self.detail}" if self.detail else "")
        return text + "".join(f"; {v.pointer} {v.detail}" for v in self.violations)


Reason = Literal["refused", "lost", "timed out", "cancelled"]
"""Why there is no answer: there was no connection, it broke, the time was over, or the caller gave up."""


class Unreachable(CallError):
    """A call that got no answer, or a stream that lost its end."""

    def __init__(self, message: str, reason: Reason = "lost") -> None:
        super().__init__(message, reason)
        self.reason: Reason = reason

    def __str__(self) -> str:
        return str(self.args[0])


def no_answer(call: str, problem: BaseException | str, reason: Reason | None = None) -> Unreachable:
    """The error of a call without an answer; why is taken from what went wrong, unless it is known."""
    if reason is None:
        kind = type(problem).__name__  # of classes of httpx, which is not always there
        if isinstance(problem, InterruptedError):
            reason = "cancelled"
        elif isinstance(problem, TimeoutError) or kind.endswith("Timeout") or kind == "TimeoutError":
            reason = "timed out"
        elif isinstance(problem, (ConnectionRefusedError, socket.gaierror)) or kind == "ConnectError":
            reason = "refused"
        else:
            reason = "lost"
    return Unreachable(f"{call}: no answer, {reason}: {str(problem) or type(problem).__name__}", reason)


def status_text(status: int) -> str:
    """What a status is called (RFC 9110, section 15)."""
    try:
        return HTTPStatus(status).phrase
    except ValueError:
        return "Server error" if status >= 500 else "Client error"


class BadAnswer(CallError):
    """An answer that could not be understood."""

    def __init__(self, status: int, detail: str) -> None:
        super().__init__(status, detail)
        self.status = status
        self.detail = detail

    def __str__(self) -> str:
        return f"the answer with status {self.status} was not understood: {self.detail}"


@dataclass(frozen=True)
class Watched:
    """How a call went."""

    duration: float
    """In seconds."""
    status: int
    """HTTP, of the last try; 101 of a WebSocket, 0 where no answer began."""
    tries: int
    """How often a client sent it; 0 for servers, and where nothing was sent."""
    received: int
    """Bytes of the body that came, or of a stream's elements; of all tries."""
    sent: int
    """Bytes of the body that went; of all tries."""
    failed: BaseException | None
    """What it failed with, in the middle of a stream, too. At a server it is None for what the server refused by itself;
    at a client it is what the caller gets, but None for NotModified."""


Watcher = Callable[[str, dict[str, str]], Callable[[Watched], None]]
"""Told that a call begins, by its full name and with headers; what it returns is told how it went. At a server the headers
are those that came; at a client those that it adds go with the call's requests. A client's stream or raw body ends when it was
read or given up."""


class NotModified(CallError):
    """A call whose answer is the one that the caller has already.

    The field of its request that travels in If-None-Match says so. For middleware and tries it is a success.
    """

    def __init__(self, call: str, etag: str) -> None:
        super().__init__(call, etag)
        self.etag = etag
        """Of the answer, as in the field of it that travels in ETag."""

    def __str__(self) -> str:
        return f"{self.args[0]}: not modified since {self.etag}"


class MissingCredential(CallError):
    """A call for which the client has none of the credentials that would do; nothing was sent."""

    def __init__(self, call: str, needs: str, given: Sequence[str]) -> None:
        super().__init__(call, needs, given)
        self.needs = needs
        """Such as "crew | door"."""
        self.given = given
        """The names of the credentials that the client has."""

    def __str__(self) -> str:
        given = ", ".join(f'"{name}"' for name in self.given) or "none"
        return f"{self.args[0]} needs {self.needs}; the credentials that the client was given: {given}"


@dataclass(frozen=True)
class Trace:
    """The trace that a call is in (W3C Trace Context)."""

    traceparent: str
    tracestate: str = ""


@dataclass(frozen=True)
class ErrorPage:
    """Documents one error."""

    name: str
    status: int
    documentation: str


@dataclass(frozen=True)
class Definitions:
    """What a server says of itself."""

    name: str
    version: str
    digest: str
    modules: dict[str, str]
    """The canonical text of each module."""
    errors: list[ErrorPage]
    manual: str = ""
    """For /-/manual, as generate packs it."""


def media_type(header: str | None) -> str:
    """A media type in lower case, without parameters."""
    return (header or "").partition(";")[0].strip().lower()


def encode(encoding: str, message: Any) -> bytes:
    payload: bytes = message.to_cbor() if encoding == CBOR else message.to_json().encode()
    return payload


def decode(encoding: str, payload: bytes, cls: Any, items: int) -> Any:
    return cls.from_cbor(payload, items) if encoding == CBOR else cls.from_json(payload, items)


def needs_text(needs: list[list[Credential]]) -> str:
    return " | ".join(" + ".join(c.name.rpartition(".")[2] for c in every) or "nothing" for every in needs)


_VERBATIM = {
    "accept-language",
    "if-match",
    "if-none-match",
    "cache-control",
    "content-disposition",
    "content-language",
    "etag",
    "last-modified",
    "link",
    "location",
}
"""Headers that HTTP has a meaning for: they are sent as they are."""

_PRINTABLE = re.compile("(?:[!-~](?:[ -~]*[!-~])?)?")
_NOT_PRINTABLE = "must be printable ASCII, without spaces at either end"
_NOT_IN_HEADER = re.compile("[^ !-$&-~]+|^ +| +$")
_NOT_IN_COOKIE = re.compile(r"[^!#$&-+\--:<-\[\]-~]+")


def lines(name: str, values: list[str]) -> list[str]:
    """The lines of a header; those that HTTP has a meaning for are one (RFC 9110, section 5.3)."""
    return [", ".join(values)] if len(values) > 1 and name.lower() in _VERBATIM else values


def _percent_encoded(m: re.Match[str]) -> str:
    return "".join(f"%{b:02X}" for b in m[0].encode())


def _encode_header(text: str) -> str:
    """Writes text for a header, with what can't be in one, or would not be seen at its ends, percent-encoded."""
    return _NOT_IN_HEADER.sub(_percent_encoded, text)


def _encode_cookie(text: str) -> str:
    """Writes text for a cookie, with what means something there percent-encoded (RFC 6265, section 4.1.1)."""
    return _NOT_IN_COOKIE.sub(_percent_encoded, text)


def plain(text: str) -> str:
    """A scalar as it travels outside of a body: its JSON without quotes."""
    return str(json.loads(text)) if text.startswith('"') else text


class Parameters:
    """What is put into path, query, headers and cookies."""

    def __init__(self) -> None:
        self.paths: dict[str, str] = {}
        self.queries: list[str] = []
        self.headers: dict[str, str] = {}
        self.cookies: list[tuple[str, str]] = []
        """Names and values, encoded."""
        self.violations: list[wire.Violation] = []

    def path(self, name: str, text: str) -> None:
        if text in ("", ".", ".."):
            self.violations.append(wire.Violation(wire.pointer(name), "must not be empty, . or .., in a path", "path"))
        self.paths[name] = quote(text, safe="")

    def query(self, name: str, text: str) -> None:
        self.queries.append(f"{quote(name, safe='')}={quote(text, safe='')}")

    def header(self, name: str, text: str) -> None:
        if name.lower() not in _VERBATIM:
            text = _encode_header(text)
        elif _PRINTABLE.fullmatch(text) is None:
            self.violations.append(wire.Violation("", f'the header "{name}" {_NOT_PRINTABLE}', "header"))
        self.headers[name.lower()] = text

    def cookie(self, name: str, text: str) -> None:
        self.cookies.append((name, _encode_cookie(text)))


_PERCENT = re.compile(r"%(?![0-9a-fA-F]{2})")
_LIKE_NUMBER = re.compile(r"-?[0-9]", re.ASCII)
_NO_VALUE = re.compile(r'[ \t\r\n"]')


class Arguments:
    """What is found in path, query, headers and cookies."""

    def __init__(self, placed: list[Placed], values: Callable[[Placed], list[str]]) -> None:
        self.placed = placed
        self.values = values
        self.violations: list[wire.Violation] = []

    def required(self, i: int, shape: str, read: Callable[[wire.JsonReader], T]) -> T:
        """A field that must be there. Where it is not, that is a violation, and the request is refused in the end."""
        before = len(self.violations)
        value = self.optional(i, shape, read)
        if value is None and len(self.violations) == before:
            self._refuse(self.placed[i], "is required")
        return cast("T", value)

    def optional(self, i: int, shape: str, read: Callable[[wire.JsonReader], T]) -> T | None:
        p = self.placed[i]
        values = self.values(p)
        if not values:
            return None
        if len(values) > 1:
            self._refuse(p, "comes more than once")
            return None
        return self._read(p, values[0], shape, read)

    def defaulted(self, i: int, shape: str, read: Callable[[wire.JsonReader], T], default: T) -> T:
        value = self.optional(i, shape, read)
        return default if value is None else value

    def list(self, i: int, shape: str, read: Callable[[wire.JsonReader], T]) -> list[T]:
        p = self.placed[i]
        items = [self._read(p, value, shape, read) for value in self.values(p)]
        return [item for item in items if item is not None]

    def rest(self, unlisted: Iterable[wire.UnlistedField] | None) -> None:
        """Refuses fields that travel outside of the body and came in it too."""
        for p in self.placed:
            if any(u.number == p.number or (not u.number and u.name == p.name) for u in unlisted or ()):
                detail = f"travels in the {p.place}, and must not come in the body too"
                self.violations.append(wire.Violation(wire.pointer(p.name), detail))

    def _read(self, p: Placed, value: str, shape: str, read: Callable[[wire.JsonReader], T]) -> T | None:
        try:
            text = value
            if p.place == "header" and p.parameter.lower() in _VERBATIM:
                if _PRINTABLE.fullmatch(value) is None:
                    raise wire.WireError(_NOT_PRINTABLE)
            elif p.place in ("header", "cookie"):
                text = _decode_text(value)
            if p.place == "path" and text in ("", ".", ".."):
                raise wire.WireError("must not be empty, . or .., in a path")
            bare = shape == "bare" or (shape == "number" and _LIKE_NUMBER.match(text) is not None)
            if bare and _NO_VALUE.search(text):
                raise wire.WireError("expected a value without blanks and quotes")
            r = wire.JsonReader(text if bare else wire.json_text(text))
            result = read(r)
            r.end()
        except wire.WireError as problem:
            self._refuse(p, problem.detail)
            return None
        return result

    def _refuse(self, p: Placed, detail: str) -> None:
        self.violations.append(wire.Violation(wire.pointer(p.name), detail, p.place))


def _decode_text(value: str) -> str:
    if _PERCENT.search(value):
        raise wire.WireError("has a % that is not followed by two hexadecimal digits")
    try:
        return unquote_to_bytes(value).decode()
    except UnicodeDecodeError:
        raise wire.WireError("text that is not UTF-8") from None


def locate(violations: list[wire.Violation], placed: list[Placed]) -> list[wire.Violation]:
    """Says of each violation of a whole message where its field travels."""
    places = {wire.pointer(p.name): p.place for p in placed}
    return [
        wire.Violation(v.pointer, v.detail, places.get("/" + v.pointer[1:].partition("/")[0], ""), v.unlisted)
        for v in violations
    ]


def failure(call: Call[Any, Any], status: int, text: str) -> Exception:
    """The error that a call declares where a problem is one, else the problem."""
    try:
        body = json.loads(text)
        name = str(body["type"]).rpartition("/-/errors/")[2]
        for declared in call.fails:
            if declared.NAME == name:
                cls: Any = declared
                error: Exception = cls.from_json(_member(text, "error"))
                return error
        violations = [
            wire.Violation(str(v.get("pointer", "")), str(v.get("detail", "")), str(v.get("in", "")))
            for v in body.get("errors", [])
        ]
        title, detail, instance = (str(body.get(member, "")) for member in ("title", "detail", "instance"))
        return Problem(name, int(body.get("status", status)), title, detail, violations, instance)
    except (ValueError, KeyError, TypeError, AttributeError, OverflowError, RecursionError) as problem:
        return BadAnswer(status, f"problem details that can't be read: {str(problem)[:100]}")


def refused(call: Call[Any, Any], status: int, content_type: str | None, body: bytes) -> Exception:
    """The error of an answer that is not a success.

    Without problem details, as proxies send it, it is a problem whose detail is how the body begins.
    """
    if media_type(content_type) == PROBLEM:
        return failure(call, status, body.decode(errors="replace"))
    if status < 400:
        return BadAnswer(status, "it is not problem details")
    text = " ".join(body[:800].decode(errors="ignore").split())
    return Problem("about:blank", status, status_text(status), text if len(text) <= 200 else text[:200] + "…")


def _member(text: str, name: str) -> str:
    """A member of an object as it is in the text, so that large integers stay exact."""
    r = wire.JsonReader(text)
    r.open_object("an object")
    while (member := r.member()) is not None:
        raw = r.raw()
        if member == name:
            return raw
    return "{}"
