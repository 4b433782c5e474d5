"""What every client makes of calls and of answers, whatever carries them."""

from __future__ import annotations

import copy
import math
import re
import ssl
import time
from base64 import b64encode
from collections.abc import Callable, Mapping
from contextlib import nullcontext
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from types import TracebackType
from typing import Any, Literal, TypedDict, TypeVar
from urllib.parse import urlsplit

from . import web, wire
from .trace import current_trace

E = TypeVar("E", bound="Exchange")

CredentialSource = str | Callable[[], str]
"""The value of a credential, or what is asked for it on every call; that of basic credentials is "user:password"."""


@dataclass
class Request:
    """A request as middleware sees it."""

    call: str
    method: str
    target: str
    headers: dict[str, str]
    body: bytes | wire.Body | None
    """A Body is sent as it is, and as it comes."""


class CommonOptions(TypedDict, total=False):
    """How every client calls."""

    encoding: Literal["cbor", "json"]
    """What requests are sent as; "cbor" where it is not given."""
    timeout: float
    """In seconds, for each call and everything that it waits for: credentials, tries and the pauses between them; 60
    where it is not given. Of a stream, until it begins."""
    idle_timeout: float
    """In seconds, how long a stream may be silent; 60 where it is not given."""
    tries: int
    """How often a call that is safe or idempotent is sent at most; 4 where it is not given."""
    headers: Mapping[str, str]
    compression: bool
    """Whether to ask for answers in gzip, and send bodies of more than 1 KiB so."""
    answer_limit: int
    """In bytes; 4 MiB where it is not given."""
    answer_item_limit: int
    """How much an answer, or an element of a stream, may contain: list items and entries of maps and messages count one, a
    message one plus its declared fields; 1,000,000 where it is not given."""
    element_limit: int
    """In bytes; 1 MiB where it is not given."""
    watcher: web.Watcher
    """Told of each call, for metrics, logs and traces."""
    on_digest: Callable[[str], None]
    """Told when a server's definitions are not the ones of this client."""
    ssl_context: ssl.SSLContext


class CallOptions(TypedDict, total=False):
    """How one call is made."""

    headers: Mapping[str, str]
    """Of the request: added to the client's, and replacing those of the same name."""
    credentials: Mapping[str, Any]
    """By the name of each, with or without its module: added to the client's, and replacing those of the same name."""
    answered: Callable[[int, dict[str, str]], None]
    """Told the status and the headers of the answer, by lower-case name, once it begins; of a refusal, too."""


class Watch:
    """Counts what goes through one call, for who watches it: around that, as a context."""

    def __init__(self, watcher: web.Watcher, call: str) -> None:
        self.headers: dict[str, str] = {}
        self.tries = self.status = self.received = self.sent = 0
        self.lasts = False
        """Whether it goes on when the context is left, until end is called."""
        self._failed: BaseException | None = None
        self._start = time.monotonic()
        self._done: Callable[[web.Watched], None] | None = watcher(call, self.headers)

    def fail(self, problem: BaseException) -> None:
        if self._failed is None and not isinstance(problem, web.NotModified):
            self._failed = problem

    def end(self) -> None:
        """Tells, once, how the call went."""
        done, self._done = self._done, None
        if done is not None:
            duration = time.monotonic() - self._start
            done(web.Watched(duration, self.status, self.tries, self.received, self.sent, self._failed))

    def __enter__(self) -> None:
        pass

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        if problem is not None:
            self.fail(problem)
        if problem is not None or not self.lasts:
            self.end()


class Exchange:
    """Makes requests of calls and results of answers."""

    def __init__(self, base: str, definitions: web.Definitions, options: Mapping[str, Any]) -> None:
        parts = urlsplit(base)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            example = base if base and "//" not in base else "127.0.0.1:8080"
            raise ValueError(f'"{base}" is not the URL of a server; write, for example: http://{example}')
        self.secure = parts.scheme == "https"
        self.host, self.port = parts.hostname, parts.port
        self.base = base.rstrip("/")
        self.path = parts.path.rstrip("/")
        self._digest = definitions.digest
        self.json = options.get("encoding", "cbor") == "json"
        self.timeout: float = options.get("timeout", 60.0)
        self.idle_timeout: float = options.get("idle_timeout", 60.0)
        self.element_limit: int = options.get("element_limit", 1 << 20)
        self.answer_limit: int = options.get("answer_limit", 4 << 20)
        self._compression: bool = options.get("compression", False)
        self._tries: int = options.get("tries", 4)
        self.items: int = options.get("answer_item_limit", wire.DEFAULT_BUDGET)
        self._headers = {name.lower(): value for name, value in options.get("headers", {}).items()}
        self._credentials: Mapping[str, Any] = options.get("credentials", {})
        self._on_digest: Callable[[str], None] | None = options.get("on_digest")
        self._answered: Callable[[int, dict[str, str]], None] | None = None
        self._watcher: web.Watcher | None = options.get("watcher")
        self.watch: Watch | None = None
        """Of the one call that this client makes, where it is watched."""

    def _copy(self: E) -> E:
        """The same client, for one call."""
        return copy.copy(self)

    def watched(self: E, call: web.Call[Any, Any]) -> tuple[E, Watch | nullcontext[None]]:
        """The same client for one call, and the context to make it in."""
        if self._watcher is None:
            return self, _UNWATCHED
        own = self._copy()
        own.watch = watch = Watch(self._watcher, call.name)
        return own, watch

    def tried(self) -> None:
        """A request is sent."""
        if self.watch is not None:
            self.watch.tries += 1
            self.watch.status = 0

    def came(self, size: int) -> None:
        """So many bytes came."""
        if self.watch is not None:
            self.watch.received += size

    def went(self, size: int) -> None:
        """So many bytes went."""
        if self.watch is not None:
            self.watch.sent += size

    def fail(self, problem: BaseException) -> None:
        """Keeps what the call failed with, for who watches it."""
        if self.watch is not None:
            self.watch.fail(problem)

    def lasts(self) -> None:
        """The call goes on until end is called."""
        if self.watch is not None:
            self.watch.lasts = True

    def end(self) -> None:
        """The call is over."""
        if self.watch is not None:
            self.watch.end()

    def given(self: E, options: CallOptions | None) -> E:
        """The same client, for one call with options of its own."""
        if not options:
            return self
        own = self._copy()
        own._headers = self._headers | {name.lower(): value for name, value in options.get("headers", {}).items()}
        credentials = options.get("credentials", {})
        kept = {
            name: value
            for name, value in self._credentials.items()
            if not any(web.is_named(name, other) or web.is_named(other, name) for other in credentials)
        }
        own._credentials = kept | dict(credentials)
        own._answered = options.get("answered")
        return own

    @property
    def encoding(self) -> str:
        return web.JSON if self.json else web.CBOR

    @property
    def sequence(self) -> str:
        return web.JSON_SEQ if self.json else web.CBOR_SEQ

    @property
    def socket_base(self) -> str:
        """Where the server is, for a WebSocket, without the path."""
        scheme = "wss" if self.secure else "ws"
        return scheme + self.base[self.base.index(":") : len(self.base) - len(self.path)]

    def tries(self, call: web.Call[Any, Any], request: Request) -> int:
        """How often a request is sent at most."""
        if isinstance(request.body, wire.Body) and not request.body.again():
            return 1  # a stream can't be read again
        return self._tries if (call.safe or call.idempotent) and not call.request_stream else 1

    def look(self, status: int, headers: Any) -> None:
        """Tells the hooks that an answer begins, and that a server has other definitions."""
        if self.watch is not None:
            self.watch.status = status
        if self._answered is not None:
            self._answered(status, {name.lower(): value for name, value in headers.items()})
        digest: str | None = headers.get("faithful-definitions")
        if self._on_digest is not None and digest is not None and digest != self._digest:
            self._on_digest(digest)

    def understand(
        self, call: web.Call[Any, Any], asked: Request, status: int, headers: Callable[[str], list[str]], body: bytes
    ) -> Any:
        """What an answer that is not a stream says; headers are what each line of one says."""
        coding = ", ".join(headers("content-encoding")) or "identity"
        plain: bytes | None = body
        if len(body) > self.answer_limit:
            plain = None
        elif web.is_gzip(coding):
            try:
                plain = web.expanded(body, self.answer_limit)
            except ValueError as problem:
                raise web.BadAnswer(status, "it is not whole gzip") from problem
        elif coding.lower() != "identity":
            raise web.BadAnswer(status, f"its content coding is {coding!r}")
        if plain is None:
            raise web.BadAnswer(status, "it is too large")
        body = plain
        content_type = ", ".join(headers("content-type"))
        if status == 304 and "if-none-match" in asked.headers:
            raise web.NotModified(call.name, ", ".join(headers("etag")))
        if not web.succeeds(call, status):
            raise web.refused(call, status, content_type, body)
        if call.answer is None or call.answer_stream:
            return None
        travel = call.answer_travel
        if travel is None:
            return self._decoded(status, content_type, body, call.answer)
        in_body: Any = None
        if travel.body is not None and not body:  # as if all of it were absent
            in_body = self._decoded(status, web.JSON, b"{}", travel.body)
        elif travel.body is not None:
            in_body = self._decoded(status, content_type, body, travel.body)
        arguments = web.Arguments(travel.placed, lambda p: _received(p, headers))
        return self._taken(travel, arguments, in_body, status)

    @staticmethod
    def _taken(travel: web.Travel[Any], arguments: web.Arguments, body: Any, status: int) -> Any:
        message = travel.take(arguments, body)
        for wrong in arguments.violations:
            raise web.BadAnswer(status, f"{wrong.pointer} in its {wrong.place or 'body'} {wrong.detail}")
        return message

    def understand_raw(
        self, travel: web.Travel[Any], status: int, headers: Callable[[str], list[str]], chunks: Any
    ) -> Any:
        """An answer whose body is one field as it is, and comes in chunks."""
        length = "".join(headers("content-length"))
        body = wire.Body(chunks, ", ".join(headers("content-type")), int(length) if length.isdecimal() else None)
        arguments = web.Arguments(travel.placed, lambda p: _received(p, headers))
        return self._taken(travel, arguments, body, status)

    def _decoded(self, status: int, content_type: str, body: bytes, cls: Any) -> Any:
        encoding = web.media_type(content_type)
        if encoding not in (web.CBOR, web.JSON):
            raise web.BadAnswer(status, f"its type is {encoding!r}" if encoding or body else "it has no body")
        try:
            return web.decode(encoding, body, cls, self.items)
        except wire.WireError as problem:
            raise web.BadAnswer(status, str(problem)) from problem

    def request(
        self,
        call: web.Call[Any, Any],
        message: Any,
        accept: str,
        wait: float | None,
        given: Mapping[str, CredentialSource] | None = None,
    ) -> Request:
        """A request for an answer of an encoding, that waits for so many seconds; of a stream, message is its head.

        Credentials are those that the client has, unless others are given.
        """
        parameters = web.Parameters()
        headers = dict(self._headers)
        headers["accept"] = accept
        if self._compression:
            headers["accept-encoding"] = "gzip"
        body: bytes | wire.Body | None = None
        travel = call.travel or call.head
        if call.head is not None or (call.request is not None and not call.request_stream):
            violations = message.validate()
            if travel is not None:
                travel.place(message, parameters)
                violations = web.locate(violations, travel.placed) + parameters.violations
            if violations:
                raise wire.InvalidRequest(violations, call.name)
            try:
                if travel is None:
                    body = web.encode(self.encoding, message)
                elif travel.raw is not None:
                    body = travel.raw.of(message)
                elif travel.body is not None:
                    body = web.encode(self.encoding, travel.body_of(message))
            except wire.WireError as problem:  # a value out of its type's range is a violation, too
                raise wire.InvalidRequest([wire.Violation(problem.path, problem.detail)], call.name) from problem
            if isinstance(body, wire.Body) and travel is not None and travel.raw is not None:
                headers["content-type"] = travel.raw.bounds.sent(body.media_type)
            elif isinstance(body, bytes):
                headers["content-type"] = self.encoding
                if self._compression and len(body) > web.COMPRESSED_FROM:
                    body = web.compressed(body)
                    headers["content-encoding"] = "gzip"
        if call.needs:
            self._present(call, headers, parameters, self._credentials if given is None else given)
        headers.update(parameters.headers)
        if parameters.cookies:
            headers["cookie"] = "; ".join(f"{name}={value}" for name, value in parameters.cookies)
        if wait is not None and wait < math.inf:
            headers["prefer"] = f"wait={max(1, math.ceil(wait))}"  # RFC 7240, section 4.3
        trace = current_trace.get()
        if trace is not None:
            headers["traceparent"] = trace.traceparent
            if trace.tracestate:
                headers["tracestate"] = trace.tracestate
        if self.watch is not None:
            headers.update((name.lower(), value) for name, value in self.watch.headers.items())
        path = call.path
        for name, value in parameters.paths.items():
            path = path.replace("{" + name + "}", value, 1)
        query = "?" + "&".join(parameters.queries) if parameters.queries else ""
        return Request(call.name, call.method, self.path + path + query, headers, body)

    def _present(
        self,
        call: web.Call[Any, Any],
        headers: dict[str, str],
        parameters: web.Parameters,
        given: Mapping[str, CredentialSource],
    ) -> None:
        """Puts the first alternative that the client can fill into a request."""

        def source(credential: web.Credential) -> CredentialSource | None:
            return next((value for name, value in given.items() if web.is_named(credential.name, name)), None)

        for every in call.needs:
            sources = [source(credential) for credential in every]
            if any(value is None for value in sources):
                continue
            for credential, value in zip(every, sources, strict=True):
                text = value() if callable(value) else value or ""
                if credential.kind not in ("query", "basic") and not _HEADER_TEXT.fullmatch(text):
                    # Its value is not shown.
                    raise ValueError(
                        f"the credential {credential.name} has characters in it that no header can contain"
                    )
                if credential.kind == "header":
                    headers[credential.key.lower()] = text
                elif credential.kind == "query":
                    parameters.query(credential.key, text)
                elif credential.kind == "cookie":
                    parameters.cookies.append((credential.key, text))
                elif credential.kind == "basic":
                    headers["authorization"] = "Basic " + b64encode(text.encode()).decode()
                else:
                    headers["authorization"] = "Bearer " + text
            return
        raise web.MissingCredential(call.name, web.needs_text(call.needs), list(given))


def _received(p: web.Placed, headers: Callable[[str], list[str]]) -> list[str]:
    """Where a client finds what travels outside of an answer's body."""
    if p.place == "header":
        return web.lines(p.parameter, headers(p.parameter))
    begin = p.parameter + "="
    values = [line[len(begin) :].partition(";")[0].strip() for line in headers("set-cookie") if line.startswith(begin)]
    return values[-1:]  # the last one is the one that is kept


_UNWATCHED = nullcontext()

_HEADER_TEXT = re.compile("[\t\x20-\x7e\x80-\xff]*")
"""What a header can contain (RFC 9110, section 5.5)."""


def retry_after(header: str | None) -> float | None:
    """What Retry-After says, in seconds."""
    if header is None:
        return None
    if header.isdecimal():
        return float(header[:20])
    try:
        return max(0.0, parsedate_to_datetime(header).timestamp() - time.time())
    except (ValueError, TypeError, OverflowError):
        return None


def checked(call: web.Call[Any, Any], message: Any) -> Any:
    """A message that the definitions allow, or a refusal."""
    violations = message.validate()
    if violations:
        raise wire.InvalidRequest(violations, call.name)
    return message
