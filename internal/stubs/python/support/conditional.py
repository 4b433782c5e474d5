"""Entity-tags, and what answers say to whoever keeps them (RFC 9110, sections 8.8.3 and 13; RFC 9111)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from . import web

_TAG = re.compile(r'(?:W/)?"[^\x00-\x20"\x7f]*"')
_SUFFIX = re.compile(r'"([^"]*?)(?:\.(?:cbor|json)(?:\.gz)?)?"')


def is_tag(text: str) -> bool:
    """Whether a text is an entity-tag."""
    return _TAG.fullmatch(text) is not None


def tagged(tag: str, encoding: str, gzip: bool) -> str:
    """The tag of an answer of an encoding, compressed or not: each has its own."""
    return f'{tag[:-1]}.{encoding.removeprefix("application/")}{".gz" if gzip else ""}"'


def without_encodings(text: str) -> str:
    """Takes from the entity-tags of If-Match and If-None-Match what tagged has added."""
    return _SUFFIX.sub(r'"\1"', text)


def matches(header: str | None, tag: str) -> bool:
    """Whether If-None-Match names the tag of an answer, weakly."""
    if header is None:
        return False
    return header.strip() == "*" or tag.removeprefix("W/") in re.findall(r'"[^"]*"', header)


@dataclass(frozen=True)
class Caching:
    """What a call's answers say to whoever keeps answers."""

    vary: bytes
    """The headers of requests that answers depend on."""
    none: str
    """Cache-Control where nothing is to be kept."""
    checked: str
    """And where what is kept has to be asked for each time."""


def caching_of(call: web.Call[Any, Any], compressible: bool) -> Caching:
    vary = {} if web.answer_raw_of(call) is not None else {"accept": "Accept"}
    needed = [c for every in call.needs for c in every]
    for c in needed:
        if c.kind != "query":
            name = c.key if c.kind == "header" else "Cookie" if c.kind == "cookie" else "Authorization"
            vary.setdefault(name.lower(), name)
    travel = call.travel or call.head
    placed = travel.placed if travel is not None else []
    for p in placed:
        if p.place == "cookie":
            vary.setdefault("cookie", "Cookie")
        elif p.place == "header" and p.parameter.lower() not in ("if-match", "if-none-match"):
            vary.setdefault(p.parameter.lower(), p.parameter)
    if compressible:
        vary["accept-encoding"] = "Accept-Encoding"
    private = "private, " if needed or any(p.place == "cookie" for p in placed) else ""
    return Caching(", ".join(vary.values()).encode(), private + "no-store", private + "no-cache")
