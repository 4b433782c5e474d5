"""Reads and writes payloads: CBOR (RFC 8949) and JSON (RFC 8259).

The message types next to it call it; other code seldom needs more than Instant,
Duration, WireError and InvalidRequest.
"""

# pyright: reportPrivateUsage=false
# The modules of these stubs use what is private in each other, and nobody else does.

from __future__ import annotations

import binascii
import copy
import dataclasses
import enum
import json
import math
import re
import struct
import types
import typing
import uuid
from collections.abc import AsyncIterable, AsyncIterator, Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta, timezone
from decimal import Context, Decimal
from fractions import Fraction
from json.encoder import encode_basestring
from typing import Any as _Any
from typing import BinaryIO, ClassVar, Final, NoReturn, Protocol, TypeVar

MAX_DEPTH = 100
"""How deep messages, lists and maps may nest."""

DEFAULT_BUDGET = 1_000_000
"""How much one payload may contain: a list item or an entry of a map or message counts one, a message one and its
declared fields as well, whether they are there or not, since memory is taken for all of them."""

Any = bool | int | float | str | list[_Any] | dict[str, _Any] | None
"""A value of the scalar any: an int is an integer, a float is not."""

K = TypeVar("K")
T = TypeVar("T")
V = TypeVar("V")


class WireError(ValueError):
    """Says why a payload could not be read, or a value not be written."""

    def __init__(self, detail: str, offset: int = -1, *, too_large: bool = False) -> None:
        super().__init__(detail)
        self.detail = detail
        self.path = ""
        """RFC 6901; "" is the whole payload."""
        self.offset = offset
        """In bytes from the start; -1 when writing."""
        self.too_large = too_large

    def inside(self, step: str | int) -> WireError:
        """Adds a step to the path, on the way up."""
        self.path = pointer(str(step)) + self.path
        return self

    def __str__(self) -> str:
        at = "" if self.offset < 0 else f" (byte {self.offset})"
        return f"{self.path or 'payload'}: {self.detail}{at}"


@dataclass(frozen=True, slots=True)
class Violation:
    """One way in which a request violates its definitions."""

    pointer: str
    """RFC 6901."""
    detail: str
    place: str = ""
    """Where it travels when not in the body: "path", "query", "header" or "cookie"."""
    unlisted: bool = False
    """Whether it is a member or alternative that is not listed."""


class InvalidRequest(ValueError):
    """Lists every violation of a message."""

    def __init__(self, violations: list[Violation], call: str = "") -> None:
        super().__init__(violations, call)
        self.violations = violations
        self.call = call

    def __str__(self) -> str:
        text = "; ".join(f"{v.pointer} {v.detail}".lstrip() for v in self.violations)
        return f"{self.call}: {text}" if self.call else text


@dataclass(frozen=True, slots=True)
class UnlistedField:
    """A field that the definitions do not know: by number as CBOR, or (number 0) by name as JSON."""

    number: int
    name: str
    cbor: bytes
    json: str


class _Unlisted(list[UnlistedField]):
    """The unlisted fields of a message: those with a name are equal in any order, as in all of JSON."""

    __slots__ = ()

    def __eq__(self, other: object) -> bool:
        if super().__eq__(other) is True:
            return True
        return isinstance(other, _Unlisted) and len(self) == len(other) and set(self) == set(other)

    def __ne__(self, other: object) -> bool:
        return not self == other


def unlisted_fields(m: Message) -> list[UnlistedField]:
    """The fields that a message was read with and its definitions do not list, in the order in which they are written."""
    return list(m._unlisted or ())


def keep_unlisted_fields(m: Message, fields: Iterable[UnlistedField]) -> None:
    """Makes a message pass on what another message was read with."""
    m._unlisted = _Unlisted(fields) or None


def pointer(step: str) -> str:
    """A step of a JSON Pointer (RFC 6901)."""
    return "/" + step.replace("~", "~0").replace("/", "~1")


_MIN_SECONDS = -62135596800
_MAX_SECONDS = 253402300799
_EPOCH = datetime(1970, 1, 1, tzinfo=timezone.utc)
_BARE_EPOCH = datetime(1970, 1, 1)
_EPOCH_DAY = date(1970, 1, 1).toordinal()
_INSTANT = re.compile(r"(\d{4})-(\d\d)-(\d\d)T(\d\d):(\d\d):(\d\d)(?:\.(\d{1,9}))?(?:Z|([+-])(\d\d):(\d\d))", re.ASCII)
_DATE = re.compile(r"(\d{4})-(\d\d)-(\d\d)", re.ASCII)
_DURATION = re.compile(
    r"(-?)P(?:(\d{1,24})D)?(?:T(?=\d)(?:(\d{1,24})H)?(?:(\d{1,24})M)?(?:(\d{1,24})(?:\.(\d{1,9}))?S)?)?", re.ASCII
)


@dataclass(slots=True, order=True, frozen=True, init=False)
class Instant:
    """A point in time, to the nanosecond, in the years 0001 to 9999."""

    seconds: int
    """Whole seconds since 1970-01-01T00:00:00Z."""
    nanos: int
    """Nanoseconds after that, 0 to 999,999,999."""

    def __init__(self, seconds: int, nanos: int = 0) -> None:
        if not (_MIN_SECONDS <= seconds <= _MAX_SECONDS and 0 <= nanos <= 999_999_999):
            raise WireError("an instant lies in the years 0001 to 9999")
        object.__setattr__(self, "seconds", seconds)
        object.__setattr__(self, "nanos", nanos)

    @classmethod
    def of(cls, moment: datetime) -> Instant:
        """The instant of a datetime that knows its time zone."""
        if moment.tzinfo is None:
            raise ValueError("a datetime without a time zone is not an instant")
        since = moment - _EPOCH
        return cls(since.days * 86400 + since.seconds, since.microseconds * 1000)

    @classmethod
    def now(cls) -> Instant:
        return cls.of(datetime.now(timezone.utc))

    @classmethod
    def parse(cls, text: str) -> Instant:
        """Reads RFC 3339 with any offset and up to 9 digits of a fraction."""
        m = _INSTANT.fullmatch(text)
        try:
            if m is None:
                raise ValueError
            year, month, day, hour, minute, second = (int(m[i]) for i in range(1, 7))
            hours, minutes = int(m[9] or 0), int(m[10] or 0)
            if hour > 23 or minute > 59 or second > 59 or hours > 23 or minutes > 59:
                raise ValueError
            days = date(year, month, day).toordinal() - _EPOCH_DAY
        except ValueError:
            raise WireError("an instant is written as in 2026-07-15T09:30:00Z") from None
        offset = (hours * 3600 + minutes * 60) * (-1 if m[8] == "-" else 1)
        return cls(days * 86400 + hour * 3600 + minute * 60 + second - offset, int((m[7] or "0").ljust(9, "0")))

    def to_datetime(self) -> datetime:
        """The instant to the microsecond below, in UTC."""
        return _EPOCH + timedelta(seconds=self.seconds, microseconds=self.nanos // 1000)

    def __str__(self) -> str:
        """RFC 3339 in UTC with the shortest exact fraction."""
        fraction = f".{self.nanos:09d}".rstrip("0") if self.nanos else ""
        return f"{(_BARE_EPOCH + timedelta(0, self.seconds)).isoformat()}{fraction}Z"


@dataclass(slots=True, order=True, frozen=True)
class Duration:
    """A length of time, to the nanosecond, of at most 2^63 of them: about 292 years."""

    nanoseconds: int

    def __post_init__(self) -> None:
        if not -(1 << 63) <= self.nanoseconds < 1 << 63:
            raise WireError("a duration has at most 2^63 nanoseconds")

    @classmethod
    def of(cls, length: timedelta) -> Duration:
        return cls((length.days * 86400 + length.seconds) * 1_000_000_000 + length.microseconds * 1000)

    @classmethod
    def seconds(cls, seconds: float) -> Duration:
        return cls(round(seconds * 1_000_000_000))

    @classmethod
    def parse(cls, text: str) -> Duration:
        """Reads ISO 8601: days, hours, minutes and seconds in this order, a fraction in the seconds alone."""
        m = _DURATION.fullmatch(text)
        if m is None or all(m[i] is None for i in range(2, 6)):
            raise WireError("a duration is written as in PT1.5S")
        seconds = int(m[2] or 0) * 86400 + int(m[3] or 0) * 3600 + int(m[4] or 0) * 60 + int(m[5] or 0)
        total = seconds * 1_000_000_000 + int((m[6] or "0").ljust(9, "0"))
        return cls(-total if m[1] else total)

    def to_timedelta(self) -> timedelta:
        """The duration to the microsecond below."""
        return timedelta(microseconds=self.nanoseconds // 1000)

    def __str__(self) -> str:
        """Seconds alone, with the shortest exact fraction: PT90S."""
        seconds, nanos = divmod(abs(self.nanoseconds), 1_000_000_000)
        fraction = f".{nanos:09d}".rstrip("0") if nanos else ""
        return f"{'-' if self.nanoseconds < 0 else ''}PT{seconds}{fraction}S"


def parse_date(text: str) -> date:
    """Reads YYYY-MM-DD."""
    m = _DATE.fullmatch(text)
    try:
        if m is None:
            raise ValueError
        return date(int(m[1]), int(m[2]), int(m[3]))
    except ValueError:
        raise WireError("a date is written as in 2026-07-15") from None


_MAX_DIGITS = 34
_EXACT = Context(prec=6000)
_DECIMAL = re.compile(r"(-?)(0|[1-9][0-9]*)(?:\.([0-9]+))?(?:[eE]([+-]?[0-9]+))?", re.ASCII)
_DECIMAL_LONG = f"a decimal has at most {_MAX_DIGITS} digits, and as many after the point"


def decimal_of(coefficient: int, exponent: int) -> Decimal:
    """coefficient times ten to the power of exponent, brought into the range of decimals where that is exact."""
    if coefficient == 0:
        return Decimal((0, (0,), max(min(exponent, 0), -_MAX_DIGITS)))
    digits = str(abs(coefficient))
    if exponent > 0:
        if len(digits) + exponent > _MAX_DIGITS:
            raise WireError(_DECIMAL_LONG)
        digits, exponent = digits + "0" * exponent, 0
    if exponent < -_MAX_DIGITS:
        cut = -_MAX_DIGITS - exponent
        if cut >= len(digits) or digits[-cut:].strip("0"):
            raise WireError(_DECIMAL_LONG)
        digits, exponent = digits[:-cut], -_MAX_DIGITS
    if len(digits) > _MAX_DIGITS:
        raise WireError(_DECIMAL_LONG)
    return Decimal((1 if coefficient < 0 else 0, tuple(map(int, digits)), exponent))


def parse_decimal(text: str) -> Decimal:
    """Reads the text of a JSON number (RFC 8259, section 6); -0 is refused."""
    m = _DECIMAL.fullmatch(text)
    if m is None:
        raise WireError('a decimal is written as in "12.50"')
    fraction = m[3] or ""
    digits = (m[2] + fraction).lstrip("0")
    if not digits and m[1]:
        raise WireError("a decimal has no -0")
    exponent = m[4] or "0"
    if len(digits) > 4096 or len(exponent) > 8 or abs(int(exponent)) > 1 << 20:
        raise WireError(_DECIMAL_LONG)
    return decimal_of(int(m[1] + (digits or "0")), int(exponent) - len(fraction))


def _parts(v: Decimal) -> tuple[int, int]:
    """The coefficient and exponent of a decimal, in the range that is written."""
    sign, digits, exponent = v.as_tuple()
    if not isinstance(exponent, int) or (sign and not any(digits)):
        raise WireError(f"{v} is not a decimal")
    if exponent > 0 or exponent < -_MAX_DIGITS or len(digits) > _MAX_DIGITS:
        sign, digits, exponent = decimal_of(int(v.scaleb(-exponent, _EXACT)), exponent).as_tuple()
        assert isinstance(exponent, int)
    coefficient = int("".join(map(str, digits)))
    return (-coefficient if sign else coefficient), exponent


def decimal_text(v: Decimal) -> str:
    """All digits, and no exponent."""
    coefficient, exponent = _parts(v)
    digits = str(abs(coefficient)).rjust(1 - exponent, "0")
    whole = len(digits) + exponent
    return ("-" if coefficient < 0 else "") + digits[:whole] + ("." + digits[whole:] if exponent else "")


def float_text(v: float) -> str:
    """A number as ECMAScript prints it, but -0 as -0; NaN and Infinity by name."""
    if v != v:
        return "NaN"
    if math.isinf(v):
        return "Infinity" if v > 0 else "-Infinity"
    if v == 0:
        return "-0" if math.copysign(1, v) < 0 else "0"
    mantissa, _, exponent = repr(v).partition("e")
    if not exponent:
        text = mantissa[:-2] if mantissa.endswith(".0") else mantissa
        if abs(v) >= 1e-6:
            return text
    sign = "-" if v < 0 else ""
    whole, _, fraction = mantissa.lstrip("-").partition(".")
    fraction = "" if fraction == "0" else fraction
    digits = (whole + fraction).lstrip("0")
    point = len(whole) + int(exponent or 0) - (len(whole + fraction) - len(digits))
    digits = digits.rstrip("0")
    n = len(digits)
    if n <= point <= 21:
        return sign + digits + "0" * (point - n)
    if 0 < point <= 21:
        return sign + digits[:point] + "." + digits[point:]
    if -6 < point <= 0:
        return sign + "0." + "0" * -point + digits
    power = point - 1
    tail = "." + digits[1:] if n > 1 else ""
    return f"{sign}{digits[0]}{tail}e{'+' if power >= 0 else '-'}{abs(power)}"


_FLOAT32 = struct.Struct(">f")
_FLOAT64 = struct.Struct(">d")
_HEAD16 = struct.Struct(">BH")
_HEAD32 = struct.Struct(">BI")
_HEAD64 = struct.Struct(">BQ")


def narrow(v: float) -> float:
    """A number as the nearest float32; one that is too large is refused."""
    try:
        (near,) = _FLOAT32.unpack(_FLOAT32.pack(v))
    except OverflowError:
        raise WireError(f"{v} is too large for a float32") from None
    return float(near)


pack_float64: Callable[[int, float], bytes] = struct.Struct(">Bd").pack
"""A float64 as CBOR, given its first byte."""

# CBOR major types (RFC 8949, section 3.1).
_UNSIGNED, _NEGATIVE, _BYTES, _TEXT, _ARRAY, _MAP, _TAG, _SIMPLE = range(8)
_NAMES = (
    "an integer",
    "a negative integer",
    "a byte string",
    "a text",
    "an array",
    "a map",
    "a tag",
    "a simple value or float",
)
_INDEFINITE = -1

Out = list[bytes]
"""The pieces of what is written."""


def head(major: int, n: int) -> bytes:
    """The head of an item (RFC 8949, section 3), in its shortest form."""
    if n < 24:
        return bytes((major << 5 | n,))
    if n < 1 << 8:
        return bytes((major << 5 | 24, n))
    if n < 1 << 16:
        return _HEAD16.pack(major << 5 | 25, n)
    if n < 1 << 32:
        return _HEAD32.pack(major << 5 | 26, n)
    return _HEAD64.pack(major << 5 | 27, n)


UINTS = tuple(head(_UNSIGNED, n) for n in range(1024))
"""The small integers, as they are written."""
TEXTS = tuple(head(_TEXT, n) for n in range(256))
"""The heads of short texts."""
BYTES = tuple(head(_BYTES, n) for n in range(256))
LISTS = tuple(head(_ARRAY, n) for n in range(256))
MAPS = tuple(head(_MAP, n) for n in range(256))


def list_head(n: int) -> bytes:
    return LISTS[n] if n < 256 else head(_ARRAY, n)


def map_head(n: int) -> bytes:
    return MAPS[n] if n < 256 else head(_MAP, n)


def misplaced(v: object, kind: str) -> NoReturn:
    """Refuses a value of another kind."""
    raise _not_of(v, kind)


def whole(v: object, kind: str) -> int:
    """The int of a class that derives from it; a bool is not one."""
    return int(v) if isinstance(v, int) and not isinstance(v, bool) else misplaced(v, kind)


def real(v: object, kind: str) -> float:
    """The float of an int, or of a class that derives from one; a bool is not one."""
    return float(v) if isinstance(v, (int, float)) and not isinstance(v, bool) else misplaced(v, kind)


def cbor_int(v: int) -> bytes:
    if 0 <= v < 1024:
        return UINTS[v]
    return head(_UNSIGNED, v) if v >= 0 else head(_NEGATIVE, -1 - v)


def beyond(v: int, kind: str) -> NoReturn:
    """Refuses an integer that is out of its type's range."""
    raise WireError(f"{v} is not {'an' if kind.startswith('i') else 'a'} {kind}")


def cbor_int8(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "int8")
    return cbor_int(v) if -128 <= v <= 127 else beyond(v, "int8")


def cbor_int16(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "int16")
    return cbor_int(v) if -32768 <= v <= 32767 else beyond(v, "int16")


def cbor_int32(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "int32")
    return cbor_int(v) if -2147483648 <= v <= 2147483647 else beyond(v, "int32")


def cbor_int64(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "int64")
    return cbor_int(v) if -(1 << 63) <= v < 1 << 63 else beyond(v, "int64")


def cbor_uint8(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "uint8")
    return cbor_int(v) if 0 <= v <= 255 else beyond(v, "uint8")


def cbor_uint16(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "uint16")
    return cbor_int(v) if 0 <= v <= 65535 else beyond(v, "uint16")


def cbor_uint32(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "uint32")
    return cbor_int(v) if 0 <= v <= 4294967295 else beyond(v, "uint32")


def cbor_uint64(v: int) -> bytes:
    if v.__class__ is not int:
        v = whole(v, "uint64")
    return cbor_int(v) if 0 <= v < 1 << 64 else beyond(v, "uint64")


def cbor_text(v: str) -> bytes:
    try:
        b = v.encode()
    except UnicodeEncodeError:
        raise WireError("text with half of a surrogate pair") from None
    n = len(b)
    return (TEXTS[n] if n < 256 else head(_TEXT, n)) + b


def cbor_bytes(v: bytes) -> bytes:
    n = len(v)
    return (BYTES[n] if n < 256 else head(_BYTES, n)) + v


def cbor_float64(v: float) -> bytes:
    if v.__class__ is not float:
        v = real(v, "float64")
    return b"\xfb" + _FLOAT64.pack(v) if v == v else b"\xfb\x7f\xf8\0\0\0\0\0\0"


def cbor_float32(v: float) -> bytes:
    if v.__class__ is not float:
        v = real(v, "float32")
    try:
        return b"\xfa" + _FLOAT32.pack(v) if v == v else b"\xfa\x7f\xc0\0\0"
    except OverflowError:
        raise WireError(f"{v} is too large for a float32") from None


def cbor_bool(v: bool) -> bytes:
    return b"\xf5" if v is True else b"\xf4" if v is False else misplaced(v, "bool")


def cbor_uuid(v: uuid.UUID) -> bytes:
    return b"\xd8\x25\x50" + v.bytes


def _fraction(seconds: int, nanos: int) -> bytes:
    """Seconds and the coarsest exact fraction (RFC 9581)."""
    if nanos == 0:
        return b"\xa1\x01" + cbor_int(seconds)
    if nanos % 1_000_000 == 0:
        return b"\xa2\x01" + cbor_int(seconds) + b"\x22" + cbor_int(nanos // 1_000_000)
    if nanos % 1000 == 0:
        return b"\xa2\x01" + cbor_int(seconds) + b"\x25" + cbor_int(nanos // 1000)
    return b"\xa2\x01" + cbor_int(seconds) + b"\x28" + cbor_int(nanos)


_MILLIS_HEAD = b"\xd9\x03\xe9\xa2\x01\x1a"
_MILLIS_UNIT = 0x2219
_MILLIS = struct.Struct(">6sIHH")
"""An instant of the years 1970 to 2106 and more than 255 milliseconds, or one with fewer that others wrote."""


def cbor_instant(v: Instant) -> bytes:
    seconds, nanos = v.seconds, v.nanos
    if nanos == 0:
        return b"\xc1" + cbor_int(seconds)
    if nanos >= 256_000_000 and nanos % 1_000_000 == 0 and 65536 <= seconds < 1 << 32:
        return _MILLIS.pack(_MILLIS_HEAD, seconds, _MILLIS_UNIT, nanos // 1_000_000)
    return b"\xd9\x03\xe9" + _fraction(seconds, nanos)


def cbor_duration(v: Duration) -> bytes:
    seconds, nanos = divmod(v.nanoseconds, 1_000_000_000)
    return b"\xd9\x03\xea" + _fraction(seconds, nanos)


def cbor_date(v: date) -> bytes:
    if isinstance(v, datetime):
        misplaced(v, "date")
    return b"\xd8\x64" + cbor_int(v.toordinal() - _EPOCH_DAY)


def cbor_decimal(v: Decimal) -> bytes:
    coefficient, exponent = _parts(v)
    n = coefficient if coefficient >= 0 else -1 - coefficient
    if n < 1 << 64:
        mantissa = cbor_int(coefficient)
    else:
        mantissa = (b"\xc2" if coefficient >= 0 else b"\xc3") + cbor_bytes(n.to_bytes((n.bit_length() + 7) // 8, "big"))
    return b"\xc4\x82" + cbor_int(exponent) + mantissa


def too_deep() -> NoReturn:
    raise WireError(f"a nesting over {MAX_DEPTH}")


def _any_entries(v: object) -> dict[str, Any]:
    """The last kind of value that an any may be."""
    if not isinstance(v, dict):
        raise WireError(f"an any can't contain a {type(v).__name__}")
    return typing.cast("dict[str, Any]", v)


def cbor_any(v: Any, out: Out, depth: int) -> None:
    if v is None:
        out.append(b"\xf6")
    elif isinstance(v, bool):
        out.append(b"\xf5" if v else b"\xf4")
    elif isinstance(v, int):
        out.append(cbor_int(v) if -(1 << 63) <= v < 1 << 64 else beyond(v, "int64, and not a uint64"))
    elif isinstance(v, float):
        if not math.isfinite(v):
            raise WireError(f"an any can't contain {v}")
        out.append(cbor_float64(v))
    elif isinstance(v, str):
        out.append(cbor_text(v))
    elif isinstance(v, list):
        if depth >= MAX_DEPTH:
            too_deep()
        out.append(list_head(len(v)))
        for item in v:
            cbor_any(item, out, depth + 1)
    else:
        entries = _any_entries(v)
        if depth >= MAX_DEPTH:
            too_deep()
        out.append(map_head(len(entries)))
        for key, item in sorted_texts(entries):
            out.append(cbor_text(key))
            cbor_any(item, out, depth + 1)


def _text_order(key: str) -> tuple[int, bytes]:
    b = key.encode(errors="surrogatepass")
    return len(b), b


S = TypeVar("S", bound=str)
N = TypeVar("N", bound=int)


def sorted_texts(entries: dict[S, V]) -> Iterable[tuple[S, V]]:
    """Entries in the order of their encoded keys (RFC 8949, section 4.2.1): shorter ones first, then bytewise."""
    if len(entries) < 2:
        return entries.items()
    return sorted(entries.items(), key=lambda entry: _text_order(entry[0]))


def sorted_integers(entries: dict[N, V]) -> Iterable[tuple[N, V]]:
    """sorted_texts for integers: those from 0 up, then -1, -2…."""
    return sorted(entries.items(), key=lambda entry: (entry[0] < 0, abs(entry[0])))


def merge_cbor(known: bytes, unlisted: list[UnlistedField]) -> bytes:
    """Puts unlisted fields among those of a message, in the order of their numbers."""
    kept = [
        (u.number, UINTS[u.number] if u.number < 1024 else head(_UNSIGNED, u.number), u.cbor)
        for u in unlisted
        if u.number
    ]
    if not kept:
        return known
    r = CborReader(known)
    r.budget = len(known)
    entries: list[tuple[int, bytes, bytes]] = []
    for _ in range(r.open_map()):
        start = r.at
        number = r.field_number()
        r.skip()
        entries.append((number, b"", known[start : r.at]))
    entries = sorted(entries + kept, key=lambda entry: entry[0])
    return map_head(len(entries)) + b"".join(key + value for _, key, value in entries)


class Unchanged(enum.Enum):
    """The type of UNCHANGED."""

    UNCHANGED = "UNCHANGED"

    def __repr__(self) -> str:
        return self.name


UNCHANGED: Final = Unchanged.UNCHANGED
"""What a field of a patch is that stays as it is."""

_NULL = b"\xf6"


def not_cleared(name: str) -> NoReturn:
    """Refuses None for a field of a patch that is required."""
    raise WireError("the field is required, and can't be cleared").inside(name)


def changed(change: T | Unchanged, before: T) -> T:
    """What a field is once a change is applied that can't clear it."""
    return before if isinstance(change, Unchanged) else change


def changed_or(change: T | Unchanged | None, before: T, cleared: T) -> T:
    """What a field is once a change is applied; cleared is what None makes of it."""
    if isinstance(change, Unchanged):
        return before
    return cleared if change is None else change


def change(a: T, b: T) -> T | Unchanged:
    """The change of a field that is a before and b after it."""
    return UNCHANGED if a.__class__ is b.__class__ and (a == b or (a != a and b != b)) else b


def _cleared(field: UnlistedField) -> bool:
    return field.cbor == _NULL if field.number else field.json == "null"


def apply_unlisted(kept: list[UnlistedField] | None, changes: list[UnlistedField] | None) -> list[UnlistedField] | None:
    """What a message keeps when the unlisted fields of a patch are applied: null takes one away."""
    fields = {(u.number, u.name): u for u in kept or ()}
    for u in changes or ():
        if _cleared(u):
            fields.pop((u.number, u.name), None)
        else:
            fields[u.number, u.name] = u
    return settle(list(fields.values())) or None


def unlisted_between(a: list[UnlistedField] | None, b: list[UnlistedField] | None) -> list[UnlistedField] | None:
    """What a patch has of unlisted fields that are not the same in two messages."""
    before = {(u.number, u.name): u for u in a or ()}
    after = {(u.number, u.name): u for u in b or ()}
    gone = [
        UnlistedField(u.number, u.name, _NULL, "") if u.number else UnlistedField(0, u.name, b"", "null")
        for key, u in before.items()
        if key not in after
    ]
    return settle(gone + [u for key, u in after.items() if before.get(key) != u]) or None


def unlisted_change(r: JsonReader, name: str, known: dict[int, str]) -> UnlistedField | tuple[int, CborReader]:
    """JsonReader.unlisted for a patch, in which null may replace a number."""
    number = int(name[1:]) if re.fullmatch("#[1-9][0-9]{0,4}", name) else 65536
    if number > 65535 or not r.null():
        return r.unlisted(name, known)
    if number in known:
        return number, CborReader(_NULL, r.budget, r.depth)
    return UnlistedField(number, "", _NULL, "")


class CborReader:
    """Reads CBOR; what is wrong is raised as a WireError."""

    __slots__ = ("at", "budget", "data", "depth", "info", "major")

    def __init__(self, data: bytes, budget: int = DEFAULT_BUDGET, depth: int = 0) -> None:
        self.data = data
        self.at: int = 0
        self.budget = budget
        self.depth = depth
        self.major = 0
        self.info = 0

    def fail(self, detail: str, at: int | None = None, *, too_large: bool = False) -> NoReturn:
        raise WireError(detail, self.at if at is None else at, too_large=too_large)

    def wrong(self, start: int, expected: str) -> NoReturn:
        self.fail(f"expected {expected}, found {_NAMES[self.major]}", start)

    def end(self) -> None:
        if self.at < len(self.data):
            self.fail("more bytes after the end")

    def once(self, seen: bool) -> None:
        """Refuses a field that was read before."""
        if seen:
            self.fail("the field comes twice")

    def missing(self, name: str) -> NoReturn:
        raise WireError("the field is required", self.at).inside(name)

    def head(self) -> int:
        """Reads the first byte and the argument of an item (RFC 8949, section 3)."""
        start = self.at
        if start >= len(self.data):
            self.fail("the payload ends too early")
        first = self.data[start]
        self.major, self.info = major, info = first >> 5, first & 31
        self.at = start + 1
        if info < 24:
            return info
        if info < 28:
            size = 1 << (info - 24)
            end = self.at + size
            if end > len(self.data):
                self.fail("the payload ends too early", len(self.data))
            n = int.from_bytes(self.data[self.at : end], "big")
            self.at = end
            if major == _SIMPLE and info == 24 and n < 32:
                self.fail("a simple value that is not well formed", start)
            return n
        if info == 31 and (_BYTES <= major <= _MAP or major == _SIMPLE):
            return 0
        self.fail(f"the reserved byte 0x{first:02x}", start)

    def spend(self, n: int) -> None:
        self.budget -= n
        if self.budget < 0:
            self.fail("more elements and entries than a payload may contain", too_large=True)

    def open(self, major: int, per_element: int, expected: str) -> int:
        """Begins an array or map: its length, or -1."""
        start = self.at
        n = self.head()
        if self.major != major:
            self.wrong(start, expected)
        self.depth += 1
        if self.depth > MAX_DEPTH:
            self.fail(f"a nesting over {MAX_DEPTH}", start)
        if self.info == 31:
            return _INDEFINITE
        if n > (len(self.data) - self.at) // per_element:
            self.fail(f"a length of {n}, more than the payload contains", start)
        self.spend(n)
        return n

    def open_message(self, name: str, fields: int) -> int:
        """Begins a message that declares so many fields: its number of entries, or -1."""
        self.spend(1 + fields)
        return self.open(_MAP, 2, name)

    def open_list(self) -> int:
        return self.open(_ARRAY, 1, "a list")

    def open_map(self) -> int:
        return self.open(_MAP, 2, "a map")

    def leave(self) -> None:
        self.depth -= 1

    def more(self, i: int, n: int) -> bool:
        """Whether an i-th element follows, of n or until a break."""
        if n >= 0:
            return i < n
        if self.at < len(self.data) and self.data[self.at] == 0xFF:
            self.at += 1
            return False
        self.spend(1)
        return True

    def field_number(self) -> int:
        start = self.at
        n = self.head()
        if self.major != _UNSIGNED or not 1 <= n <= 65535:
            self.fail("expected a field number from 1 to 65535", start)
        return n

    def boolean(self) -> bool:
        start = self.at
        self.head()
        if self.major != _SIMPLE or self.info not in (20, 21):
            self.wrong(start, "bool")
        return self.info == 21

    def integer(self, expected: str, low: int, high: int) -> int:
        start = self.at
        n = self.head()
        if self.major == _NEGATIVE:
            n = -1 - n
        elif self.major != _UNSIGNED:
            self.wrong(start, expected)
        if not low <= n <= high:
            self.fail(f"expected {expected}, found {n}", start)
        return n

    def enum_number(self) -> int:
        return self.integer("the number of a member, 0 to 65535", 0, 65535)

    def float64(self) -> float:
        start = self.at
        n = self.head()
        if self.major == _SIMPLE:
            part = self.data[start + 1 : self.at]
            encoding = {25: ">e", 26: ">f", 27: ">d"}.get(self.info)
            if encoding is not None:
                (value,) = struct.unpack(encoding, part)
                return float(value)
        elif self.major <= _NEGATIVE:
            exact = n if self.major == _UNSIGNED else -1 - n
            near = float(exact)
            if int(near) == exact:
                return near
        self.wrong(start, "float64")

    def float32(self) -> float:
        """Reads a float of any width, rounded to the nearest, or an integer that it can represent."""
        start = self.at
        value = self.float64()
        is_float = self.major == _SIMPLE
        try:
            near = narrow(value)
        except WireError:
            near = math.nan
        if (near != near and value == value) or (not is_float and near != value):
            self.fail("expected float32, found a number that it can't represent", start)
        return near

    def chunks(self, major: int, n: int, start: int) -> bytes:
        """The content of a string, its head just read: all of it, or its chunks (RFC 8949, section 3.2.3)."""
        if self.info != 31:
            if n > len(self.data) - self.at:
                self.fail(f"a length of {n}, more than the payload contains", start)
            self.at += n
            return self.data[self.at - n : self.at]
        parts: list[bytes] = []
        while True:
            at = self.at
            if at < len(self.data) and self.data[at] == 0xFF:
                self.at += 1
                return b"".join(parts)
            length = self.head()
            if self.major != major or self.info == 31:
                self.wrong(at, "a chunk of the string")
            part = self.chunks(major, length, at)
            if major == _TEXT:
                self.decode(part, at)
            parts.append(part)

    def decode(self, text: bytes, start: int) -> str:
        try:
            return text.decode()
        except UnicodeDecodeError:
            self.fail("text that is not UTF-8", start)

    def text(self) -> str:
        start = self.at
        n = self.head()
        if self.major != _TEXT:
            self.wrong(start, "text")
        return self.decode(self.chunks(_TEXT, n, start), start)

    def octets(self) -> bytes:
        start = self.at
        n = self.head()
        if self.major != _BYTES:
            self.wrong(start, "bytes")
        return self.chunks(_BYTES, n, start)

    def uuid(self) -> uuid.UUID:
        start = self.at
        if self.head() != 37 or self.major != _TAG:
            self.wrong(start, "uuid")
        b = self.octets()
        if len(b) != 16:
            self.fail(f"expected the 16 bytes of a uuid, found {len(b)}", start)
        return uuid.UUID(bytes=b)

    def instant(self) -> Instant:
        """Reads tag 1 with integer seconds, or tag 1001 (RFC 9581)."""
        start = self.at
        tag = self.head()
        nanos = 0
        if self.major == _TAG and tag == 1:
            seconds = self.integer("an integer", -(1 << 63), (1 << 63) - 1)
        elif self.major == _TAG and tag == 1001:
            seconds, nanos = self._extended_time()
        else:
            self.wrong(start, "instant")
        if not _MIN_SECONDS <= seconds <= _MAX_SECONDS:
            self.fail("an instant outside the years 0001 to 9999", start)
        return Instant(seconds, nanos)

    def duration(self) -> Duration:
        """Reads tag 1002 (RFC 9581)."""
        start = self.at
        if self.head() != 1002 or self.major != _TAG:
            self.wrong(start, "duration")
        seconds, nanos = self._extended_time()
        total = seconds * 1_000_000_000 + nanos
        if not -(1 << 63) <= total < 1 << 63:
            self.fail("a duration of over 2^63 nanoseconds", start)
        return Duration(total)

    def _extended_time(self) -> tuple[int, int]:
        start = self.at
        n = self.head()
        if self.major != _MAP or n > 2:
            self.fail("expected seconds and at most one fraction", start)
        count = _INDEFINITE if self.info == 31 else n
        seconds: int | None = None
        nanos = i = 0
        while self.more(i, count):
            key = self.integer("a key", -(1 << 63), (1 << 63) - 1)
            value = self.integer("an integer", -(1 << 63), (1 << 63) - 1)
            unit = {-3: 1_000_000, -6: 1000, -9: 1}.get(key, 0)
            if key == 1 and seconds is None:
                seconds = value
            elif unit and not nanos and 1 <= value <= 999_999_999 // unit:
                nanos = value * unit
            else:
                self.fail("expected seconds and at most one fraction of 1 to 999…", start)
            i += 1
        if seconds is None:
            self.fail("expected seconds and at most one fraction", start)
        return seconds, nanos

    def date(self) -> date:
        """Reads tag 100 (RFC 8943)."""
        start = self.at
        if self.head() != 100 or self.major != _TAG:
            self.wrong(start, "date")
        days = self.integer("an integer", -(1 << 63), (1 << 63) - 1)
        try:
            return date.fromordinal(days + _EPOCH_DAY)
        except (ValueError, OverflowError):
            self.fail("a date outside the years 0001 to 9999", start)

    def decimal(self) -> Decimal:
        """Reads tag 4 over exponent and mantissa (RFC 8949, section 3.4.4)."""
        start = self.at
        if self.head() != 4 or self.major != _TAG:
            self.wrong(start, "decimal")
        n = self.head()
        indefinite = self.info == 31
        if self.major != _ARRAY or (n != 2 and not indefinite):
            self.wrong(start, "an array of exponent and mantissa")
        exponent = self.integer("an exponent", -(1 << 64), (1 << 64) - 1)
        mantissa = self._mantissa(start)
        if indefinite:
            if self.at >= len(self.data) or self.data[self.at] != 0xFF:
                self.fail("expected the end of exponent and mantissa")
            self.at += 1
        if abs(exponent) > 1 << 20:
            if mantissa:
                self.fail(f"a decimal with the exponent {exponent}", start)
            exponent = -_MAX_DIGITS if exponent < 0 else 0
        try:
            return decimal_of(mantissa, exponent)
        except WireError as problem:
            self.fail(problem.detail, start)

    def _mantissa(self, start: int) -> int:
        n = self.head()
        if self.major == _UNSIGNED:
            return n
        if self.major == _NEGATIVE:
            return -1 - n
        if self.major != _TAG or n not in (2, 3):
            self.wrong(start, "a mantissa")
        magnitude = int.from_bytes(self.octets(), "big")
        if magnitude.bit_length() > 4096:
            self.fail("a decimal of more digits than it may have", start)
        return magnitude if n == 2 else -1 - magnitude

    def any(self) -> Any:
        start = self.at
        n = self.head()
        major = self.major
        if major == _UNSIGNED:
            return n
        if major == _NEGATIVE and n < 1 << 63:
            return -1 - n
        if major == _TEXT:
            return self.decode(self.chunks(_TEXT, n, start), start)
        if major == _ARRAY:
            self.at = start
            items: list[_Any] = []
            length = self.open_list()
            while self.more(len(items), length):
                try:
                    items.append(self.any())
                except WireError as problem:
                    raise problem.inside(len(items)) from None
            self.leave()
            return items
        if major == _MAP:
            self.at = start
            entries: dict[str, _Any] = {}
            length = self.open_map()
            while self.more(len(entries), length):
                key = self.text()
                try:
                    put_once(entries, key, self.any())
                except WireError as problem:
                    raise problem.inside(key) from None
            self.leave()
            return entries
        if major == _SIMPLE:
            if self.info in (20, 21):
                return self.info == 21
            if self.info == 22:
                return None
            if 25 <= self.info <= 27:
                self.at = start
                value = self.float64()
                if math.isfinite(value):
                    return value
        self.wrong(start, "null, a bool, an integer, a finite float, text, a list or a map with text keys")

    def open_union(self, name: str) -> int:
        """Begins a union: the number of its alternative, negative where close_union must find a break."""
        start = self.at
        n = self.head()
        indefinite = self.info == 31
        if self.major != _MAP:
            self.wrong(start, f"a map of one entry for {name}")
        if not indefinite and n != 1:
            self.fail(f"expected one alternative of {name}, found {n}", start)
        self.depth += 1
        if self.depth > MAX_DEPTH:
            self.fail(f"a nesting over {MAX_DEPTH}", start)
        if indefinite and self.at < len(self.data) and self.data[self.at] == 0xFF:
            self.fail(f"expected one alternative of {name}, found none", start)
        number = self.field_number()
        return -number if indefinite else number

    def close_union(self, number: int) -> None:
        if number < 0:
            if self.at >= len(self.data) or self.data[self.at] != 0xFF:
                self.fail("expected one alternative, found a second one")
            self.at += 1
        self.depth -= 1

    def null(self) -> bool:
        if self.data[self.at : self.at + 1] != _NULL:
            return False
        self.at += 1
        return True

    def unlisted(self, number: int) -> UnlistedField:
        """Keeps an entry whose number the definitions do not know."""
        start = self.at
        self.skip()
        return UnlistedField(number, "", self.data[start : self.at], "")

    def element(self) -> int:
        """Begins an element of a stream: a map of one entry, which counts as no level of its own."""
        n = self.head()
        if self.major != _MAP or (self.info != 31 and n != 1):
            self.fail("expected a map of one entry as the element of a stream", 0)
        indefinite = self.info == 31
        number = self.integer("the number of an element", 0, (1 << 64) - 1)
        return -1 - number if indefinite else number

    def close_element(self, number: int) -> None:
        if number < 0:
            if self.at >= len(self.data) or self.data[self.at] != 0xFF:
                self.fail("expected the end of an element")
            self.at += 1
        self.end()

    def skip(self) -> None:
        """Passes over one well-formed item."""
        start = self.at
        n = self.head()
        while self.major == _TAG:
            start = self.at
            n = self.head()
        if self.major == _BYTES:
            self.chunks(_BYTES, n, start)
        elif self.major == _TEXT:
            self.decode(self.chunks(_TEXT, n, start), start)
        elif self.major in (_ARRAY, _MAP):
            major, per_element = self.major, self.major - _ARRAY + 1
            self.at = start
            length = self.open(major, per_element, "a value")
            i = 0
            while self.more(i, length):
                for _ in range(per_element):
                    self.skip()
                i += 1
            self.leave()
        elif self.major == _SIMPLE and self.info == 31:
            self.fail("a break where a value is due", start)


def put_once(entries: dict[K, V], key: K, value: V) -> None:
    """Adds an entry whose key must be new."""
    if key in entries:
        raise WireError("the key comes twice")
    entries[key] = value


def inside_field(problem: WireError, names: dict[int, str], number: int) -> WireError:
    """Adds the step of the field with a number to what went wrong."""
    return problem.inside(names.get(number, f"#{number}")) if number else problem


def finished(
    r: CborReader | JsonReader,
    values: dict[str, _Any],
    unlisted: list[UnlistedField],
    required: list[tuple[str, str]],
) -> dict[str, _Any]:
    """What a message is made of: a required field that is missing is refused."""
    for field, name in required:
        if field not in values:
            r.missing(name)
    if unlisted:
        values["_unlisted"] = settle(unlisted)
    return values


def shallow(items: Iterable[T], depth: int) -> Iterable[T]:
    """The items of a list or map that is not nested too deep."""
    if depth >= MAX_DEPTH:
        too_deep()
    return items


def enum_head(member: Enum) -> bytes:
    """A member as CBOR."""
    number = member.number()
    return UINTS[number] if number < 1024 else head(_UNSIGNED, number)


def unlisted_cbor(alternative: UnlistedField, union: str, out: Out, depth: int) -> None:
    """Writes an alternative that union does not list."""
    if not alternative.number:
        raise WireError(
            f"the alternative {alternative.name!r} is not listed in {union}, and binary payloads contain numbers"
        )
    if depth >= MAX_DEPTH:
        too_deep()
    out += (b"\xa1", cbor_int(alternative.number), alternative.cbor)


def unlisted_json(alternative: UnlistedField, depth: int, mode: int) -> str:
    if mode == FOR_PEOPLE:
        return '"(unlisted)"'
    if depth >= MAX_DEPTH:
        too_deep()
    if alternative.number:
        return f'{{"#{alternative.number}":{json_bytes(alternative.cbor)}}}'
    return f"{{{json_text(alternative.name)}:{alternative.json}}}"


def settle(unlisted: list[UnlistedField]) -> list[UnlistedField]:
    """Puts unlisted fields in order, numbers ascending before names, and refuses what came twice."""
    if len({u.number or u.name for u in unlisted}) != len(unlisted):
        raise WireError("an unlisted field comes twice")
    return _Unlisted(sorted(unlisted, key=lambda u: u.number or 65536))


PAYLOAD, FOR_PEOPLE, COMPARED = range(3)
"""What JSON is written for. For people, secrets are left out; compared, equal decimals are alike."""

SECRET = '"(secret)"'


def json_text(v: str) -> str:
    if not v.isascii():
        try:
            v.encode()
        except UnicodeEncodeError:
            raise WireError("text with half of a surrogate pair") from None
    return encode_basestring(v)


def json_int(v: int) -> str:
    """An integer; one beyond 2^53-1 as a string (RFC 8259, section 6)."""
    return str(v) if -(1 << 53) < v < 1 << 53 else f'"{v}"'


def json_int8(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "int8")
    return str(v) if -128 <= v <= 127 else beyond(v, "int8")


def json_int16(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "int16")
    return str(v) if -32768 <= v <= 32767 else beyond(v, "int16")


def json_int32(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "int32")
    return str(v) if -2147483648 <= v <= 2147483647 else beyond(v, "int32")


def json_int64(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "int64")
    return json_int(v) if -(1 << 63) <= v < 1 << 63 else beyond(v, "int64")


def json_uint8(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "uint8")
    return str(v) if 0 <= v <= 255 else beyond(v, "uint8")


def json_uint16(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "uint16")
    return str(v) if 0 <= v <= 65535 else beyond(v, "uint16")


def json_uint32(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "uint32")
    return str(v) if 0 <= v <= 4294967295 else beyond(v, "uint32")


def json_uint64(v: int) -> str:
    if v.__class__ is not int:
        v = whole(v, "uint64")
    return json_int(v) if 0 <= v < 1 << 64 else beyond(v, "uint64")


def json_float64(v: float) -> str:
    if v.__class__ is not float:
        v = real(v, "float64")
    return float_text(v) if math.isfinite(v) else f'"{float_text(v)}"'


def json_float32(v: float) -> str:
    if v.__class__ is not float:
        v = real(v, "float32")
    return json_float64(narrow(v))


def json_bool(v: bool) -> str:
    return "true" if v is True else "false" if v is False else misplaced(v, "bool")


def json_uuid(v: object) -> str:
    if not isinstance(v, uuid.UUID):
        misplaced(v, "uuid")
    h = f"{v.int:032x}"
    return f'"{h[:8]}-{h[8:12]}-{h[12:16]}-{h[16:20]}-{h[20:]}"'


def json_instant(v: object) -> str:
    return f'"{v}"' if isinstance(v, Instant) else misplaced(v, "instant")


def json_duration(v: object) -> str:
    return f'"{v}"' if isinstance(v, Duration) else misplaced(v, "duration")


def json_date(v: object) -> str:
    return f'"{v}"' if isinstance(v, date) and not isinstance(v, datetime) else misplaced(v, "date")


_URL_SAFE = bytes.maketrans(b"+/", b"-_")


def json_bytes(v: bytes) -> str:
    """base64url without padding (RFC 4648, section 5)."""
    return '"' + binascii.b2a_base64(v, newline=False).translate(_URL_SAFE).rstrip(b"=").decode() + '"'


def json_decimal(v: Decimal, mode: int = PAYLOAD) -> str:
    text = decimal_text(v)
    if mode == COMPARED and "." in text:
        text = text.rstrip("0").rstrip(".")
    return f'"{text}"'


def json_any(v: Any, depth: int) -> str:
    if v is None:
        return "null"
    if isinstance(v, bool):
        return json_bool(v)
    if isinstance(v, int):
        return str(v) if -(1 << 63) <= v < 1 << 64 else beyond(v, "int64, and not a uint64")
    if isinstance(v, float):
        if not math.isfinite(v):
            raise WireError(f"an any can't contain {v}")
        text = float_text(v)
        return text if "." in text or "e" in text else text + ".0"
    if isinstance(v, str):
        return json_text(v)
    if depth >= MAX_DEPTH:
        too_deep()
    if isinstance(v, list):
        return "[" + ",".join(json_any(item, depth + 1) for item in v) + "]"
    return json_object(
        [json_text(key) + ":" + json_any(item, depth + 1) for key, item in sorted_texts(_any_entries(v))]
    )


def json_object(members: Iterable[str]) -> str:
    return "{" + ",".join(members) + "}"


def json_list(items: Iterable[str]) -> str:
    return "[" + ",".join(items) + "]"


def merge_json(members: dict[int, str], unlisted: list[UnlistedField], mode: int) -> str:
    """Puts unlisted fields among members by number: numbers in their places, names last."""
    if mode == FOR_PEOPLE:
        return json_object([*members.values(), f'"(unlisted fields)":{len(unlisted)}'])
    members.update((u.number, f'"#{u.number}":{json_bytes(u.cbor)}') for u in unlisted if u.number)
    named = [f"{json_text(u.name)}:{u.json}" for u in unlisted if not u.number]
    return json_object([members[number] for number in sorted(members)] + named)


_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?", re.ASCII)
_PLAIN = re.compile(r'[^"\\\x00-\x1f]*')
_BLANKS = re.compile(r"[ \t\r\n]*")
_INTEGER = re.compile(r"0|-?[1-9][0-9]*", re.ASCII)
_SURROGATE = re.compile("[\ud800-\udfff]")
_ESCAPES = {'"': '"', "\\": "\\", "/": "/", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t"}
_HEX4 = re.compile(r"[0-9a-fA-F]{4}", re.ASCII)
_BASE64 = re.compile(rb"[A-Za-z0-9+/_-]*={0,2}")
_STANDARD = bytes.maketrans(b"-_", b"+/")


def from_base64(text: str) -> bytes | None:
    """Reads both alphabets of base64, with complete padding or none, without stray bits."""
    if not text.isascii():
        return None
    b = text.encode()
    bare = b.rstrip(b"=")
    if _BASE64.fullmatch(b) is None or (len(bare) != len(b) and len(b) % 4) or len(bare) % 4 == 1:
        return None
    value = binascii.a2b_base64(bare.translate(_STANDARD) + b"=" * (-len(bare) % 4))
    again = binascii.b2a_base64(value, newline=False).rstrip(b"=")
    return value if again == bare.translate(_STANDARD) else None


def _nearest_float32(digits: str) -> float:
    """The float32 nearest to a decimal number; by way of a float64 it would be rounded twice."""
    double = float(digits)
    if math.isinf(double):
        raise WireError("too large for a float32")
    try:
        near = narrow(double)
    except WireError:
        near = math.copysign(math.inf, double)
    if near == double:
        return near
    (bits,) = (
        struct.unpack(">i", struct.pack(">f", near))
        if math.isfinite(near)
        else (0x7F7FFFFF if near > 0 else -0x800001,)
    )
    candidates = [near] if math.isfinite(near) else []
    for neighbour in (bits - 1, bits, bits + 1):
        try:
            (value,) = struct.unpack(">f", struct.pack(">i", neighbour))
        except struct.error:
            continue
        if math.isfinite(value):
            candidates.append(float(value))
    exact = Fraction(digits) if len(digits) < 5000 else Fraction(double)
    limit = Fraction((1 << 25) - 1, 1) * (1 << 103)  # halfway between the largest float32 and what would follow
    if abs(exact) >= limit:
        raise WireError("too large for a float32")

    def distance(value: float) -> tuple[Fraction, int]:
        (pattern,) = struct.unpack(">I", struct.pack(">f", value))
        return abs(Fraction(value) - exact), int(pattern) & 1  # of two alike the even one

    best = min(candidates, key=distance)
    return math.copysign(0.0, double) if best == 0 else best


class JsonReader:
    """Reads JSON; what is wrong is raised as a WireError."""

    __slots__ = ("at", "budget", "depth", "fresh", "text")

    def __init__(self, payload: str | bytes, budget: int = DEFAULT_BUDGET) -> None:
        self.at: int = 0
        self.depth = 0
        self.fresh = False
        self.budget = budget
        if isinstance(payload, str):
            self.text = payload
            if not payload.isascii() and _SURROGATE.search(payload):
                raise WireError("text with half of a surrogate pair", 0)
            return
        try:
            self.text = payload.decode()
        except UnicodeDecodeError:
            raise WireError("text that is not UTF-8", 0) from None

    def fail(self, detail: str, at: int | None = None, *, too_large: bool = False) -> NoReturn:
        offset = len(self.text[: self.at if at is None else at].encode(errors="surrogatepass"))
        raise WireError(detail, offset, too_large=too_large)

    def peek(self) -> str:
        c = self.text[self.at : self.at + 1]
        if c in (" ", "\t", "\r", "\n"):
            m = _BLANKS.match(self.text, self.at)
            self.at = m.end() if m else self.at
            c = self.text[self.at : self.at + 1]
        return c

    def wrong(self, expected: str) -> NoReturn:
        c = self.peek()
        found = {"": "the end", "{": "an object", "[": "an array", '"': "a string"}.get(c)
        if found is None:
            found = "a number" if c in "-0123456789" else "null" if self.text.startswith("null", self.at) else repr(c)
        self.fail(f"expected {expected}, found {found}")

    def once_in(self, seen: set[int], number: int) -> None:
        """Refuses a field that was read before."""
        if number in seen:
            self.fail("the field comes twice")
        seen.add(number)

    def missing(self, name: str) -> NoReturn:
        raise WireError("the field is required", len(self.text[: self.at].encode())).inside(name)

    def end(self) -> None:
        if self.peek():
            self.fail("more text after the end")

    def begin(self, bracket: str, expected: str) -> None:
        if self.peek() != bracket:
            self.wrong(expected)
        self.at += 1
        self.depth += 1
        if self.depth > MAX_DEPTH:
            self.fail(f"a nesting over {MAX_DEPTH}")
        self.fresh = True

    def open_message(self, name: str, fields: int) -> None:
        """Begins a message that declares so many fields."""
        self.budget -= 1 + fields
        if self.budget < 0:
            self.fail("more elements and entries than a payload may contain", too_large=True)
        self.begin("{", name)

    def open_object(self, name: str) -> None:
        self.begin("{", name)

    def open_list(self) -> None:
        self.begin("[", "a list")

    def following(self, closing: str) -> bool:
        c = self.peek()
        if c == closing:
            self.at += 1
            self.fresh = False
            self.depth -= 1
            return False
        if self.fresh:
            self.fresh = False
        elif c == ",":
            self.at += 1
        else:
            self.wrong(f"a comma or {closing}")
        self.budget -= 1
        if self.budget < 0:
            self.fail("more elements and entries than a payload may contain", too_large=True)
        return True

    def more(self) -> bool:
        """Whether another item of a list follows."""
        return self.following("]")

    def member(self) -> str | None:
        """The name of the next member, or None after the last."""
        if not self.following("}"):
            return None
        if self.peek() != '"':
            self.wrong("a name in quotes")
        name = self.string()
        if self.peek() != ":":
            self.wrong("a colon")
        self.at += 1
        return name

    def word(self, word: str) -> bool:
        self.peek()
        if not self.text.startswith(word, self.at):
            return False
        self.at += len(word)
        return True

    def null(self) -> bool:
        return self.peek() == "n" and self.word("null")

    def boolean(self) -> bool:
        if self.word("true"):
            return True
        if not self.word("false"):
            self.wrong("bool")
        return False

    def number(self, expected: str) -> str:
        c = self.peek()
        if not c or c not in "-0123456789":
            self.wrong(expected)
        m = _NUMBER.match(self.text, self.at)
        if m is None or self.text[m.end() : m.end() + 1] in tuple("0123456789.eE"):
            self.fail("a number that is not well formed")
        self.at = m.end()
        return m[0]

    def integer(self, expected: str, low: int, high: int) -> int:
        quoted = self.peek() == '"'
        start = self.at
        text = self.string() if quoted else self.number(expected)
        if text == "-0" and not quoted:
            return 0
        if len(text) > 20 or _INTEGER.fullmatch(text) is None or not low <= int(text) <= high:
            self.fail(f"expected {expected}, found {json_text(text[:40]) if quoted else text[:40]}", start)
        return int(text)

    def key(self, name: str, low: int, high: int) -> int:
        """A key of a map as an integer: its canonical digits."""
        if len(name) > 20 or _INTEGER.fullmatch(name) is None or not low <= int(name) <= high:
            self.fail(f"expected an integer of the key's type, found {name[:40]}")
        return int(name)

    def float64(self) -> float:
        if self.peek() == '"':
            return self._named_float("float64")
        start = self.at
        value = float(self.number("float64"))
        if not math.isfinite(value):
            self.fail("too large for a float64", start)
        return value

    def float32(self) -> float:
        """Reads a float32, rounded straight from the digits."""
        if self.peek() == '"':
            return self._named_float("float32")
        start = self.at
        try:
            return _nearest_float32(self.number("float32"))
        except WireError as problem:
            self.fail(problem.detail, start)

    def _named_float(self, expected: str) -> float:
        start = self.at
        value = {"NaN": math.nan, "Infinity": math.inf, "-Infinity": -math.inf}.get(self.string())
        if value is None:
            self.fail(f"expected {expected}, found a string", start)
        return value

    def string(self) -> str:
        """The value of the string here (RFC 8259, section 7)."""
        start = self.at
        m = _PLAIN.match(self.text, start + 1)
        end = m.end() if m else start + 1
        if self.text[end : end + 1] == '"':
            self.at = end + 1
            return self.text[start + 1 : end]
        parts = [self.text[start + 1 : end]]
        while (c := self.text[end : end + 1]) != '"':
            if c != "\\":
                self.fail("a control character in a string" if c else "a string that is not closed", start)
            escaped = self.text[end + 1 : end + 2]
            end += 2
            if escaped == "u":
                digits = _HEX4.match(self.text, end)
                if digits is None:
                    self.fail("an escape that is not well formed", end)
                parts.append(chr(int(digits[0], 16)))
                end += 4
            elif escaped in _ESCAPES:
                parts.append(_ESCAPES[escaped])
            else:
                self.fail("an escape that is not well formed", end)
            m = _PLAIN.match(self.text, end)
            parts.append(m[0] if m else "")
            end += len(parts[-1])
        self.at = end + 1
        value = "".join(parts)
        if not value.isascii() and _SURROGATE.search(value):
            try:
                value = value.encode("utf-16", "surrogatepass").decode("utf-16")
            except UnicodeDecodeError:
                self.fail("half of a surrogate pair", start)
        return value

    def parsed(self, expected: str, parse: Callable[[str], T]) -> T:
        """Reads text with a parser of the scalars."""
        if self.peek() != '"':
            self.wrong(expected)
        start = self.at
        text = self.string()
        try:
            return parse(text)
        except ValueError as problem:
            detail = problem.detail if isinstance(problem, WireError) else f"expected {expected}"
            self.fail(f"{detail}, found {json_text(text[:40])}", start)

    def quoted(self) -> str:
        if self.peek() != '"':
            self.wrong("text")
        return self.string()

    def octets(self) -> bytes:
        if self.peek() != '"':
            self.wrong("bytes as base64url")
        start = self.at
        value = from_base64(self.string())
        if value is None:
            self.fail("expected bytes as base64url", start)
        return value

    def uuid(self) -> uuid.UUID:
        return self.parsed("a uuid as 8-4-4-4-12 hexadecimal digits", parse_uuid)

    def instant(self) -> Instant:
        return self.parsed("instant", Instant.parse)

    def duration(self) -> Duration:
        return self.parsed("duration", Duration.parse)

    def date(self) -> date:
        return self.parsed("date", parse_date)

    def decimal(self) -> Decimal:
        if self.peek() == '"':
            return self.parsed("decimal", parse_decimal)
        start = self.at
        try:
            return parse_decimal(self.number("decimal"))
        except WireError as problem:
            self.fail(problem.detail, start)

    def any(self) -> Any:
        c = self.peek()
        if c == "n" and self.word("null"):
            return None
        if c in ("t", "f"):
            return self.boolean()
        if c == '"':
            return self.string()
        if c == "[":
            items: list[_Any] = []
            self.open_list()
            while self.more():
                try:
                    items.append(self.any())
                except WireError as problem:
                    raise problem.inside(len(items)) from None
            return items
        if c == "{":
            entries: dict[str, _Any] = {}
            self.open_object("a map")
            while (name := self.member()) is not None:
                try:
                    put_once(entries, name, self.any())
                except WireError as problem:
                    raise problem.inside(name) from None
            return entries
        start = self.at
        text = self.number("a JSON value")
        if "." in text or "e" in text or "E" in text:
            value = float(text)
            if not math.isfinite(value):
                self.fail("too large for a float64", start)
            return value
        if len(text) > 20 or not -(1 << 63) <= int(text) < 1 << 64:
            self.fail(f"{text[:40]} is neither an int64 nor a uint64", start)
        return int(text)

    def open_union(self, union: str) -> str:
        """Begins a union: the name of its alternative."""
        self.open_object(union)
        self.budget += 1  # a union is one value, whatever it is written as
        name = self.member()
        if name is None:
            self.fail(f"expected one alternative of {union}, found none")
        return name

    def element(self) -> str:
        """Begins an element of a stream: an object of one member, which counts as no level of its own."""
        self.open_object("an element of a stream")
        name = self.member()
        if name is None:
            self.fail("expected one member in an element")
        self.depth -= 1
        return name

    def close_element(self) -> None:
        self.depth += 1
        if self.member() is not None:
            self.fail("expected one member in an element")
        self.end()

    def close_union(self) -> None:
        if self.member() is not None:
            self.fail("expected one alternative, found a second one")

    def entry(self, name: str) -> tuple[int, CborReader] | None:
        """Reads "#13" and its CBOR as base64url; None where name is not a number."""
        if not (name.startswith("#") and name[1:].isdecimal() and name.isascii()):
            return None
        if name[1] == "0" or len(name) > 6 or int(name[1:]) > 65535:
            self.fail(f"expected #1 to #65535, found {name[:40]}")
        return int(name[1:]), CborReader(self.octets(), self.budget, self.depth)

    def absorb(self, inner: CborReader) -> None:
        """Takes over what is left of the budget of an entry that was read."""
        inner.end()
        self.budget = inner.budget

    def unlisted(self, name: str, known: dict[int, str]) -> UnlistedField | tuple[int, CborReader]:
        """Keeps a member whose name the definitions do not know. Of a field that they do know by number, the entry is returned."""
        entry = self.entry(name)
        if entry is None:
            try:
                return UnlistedField(0, name, b"", self.raw())
            except WireError as problem:
                raise problem.inside(name) from None
        if entry[0] in known:
            return entry
        kept = entry[1].unlisted(entry[0])
        self.absorb(entry[1])
        return kept

    def raw(self) -> str:
        """Any JSON value without the blanks between its tokens."""
        c = self.peek()
        start = self.at
        if c == "{":
            members: list[str] = []
            self.open_object("an object")
            while self.following("}"):
                if self.peek() != '"':
                    self.wrong("a name in quotes")
                begin = self.at
                self.string()
                name = self.text[begin : self.at]
                if self.peek() != ":":
                    self.wrong("a colon")
                self.at += 1
                members.append(f"{name}:{self.raw()}")
            return json_object(members)
        if c == "[":
            items: list[str] = []
            self.open_list()
            while self.more():
                items.append(self.raw())
            return json_list(items)
        if c == '"':
            self.string()
        elif not (self.word("true") or self.word("false") or self.word("null")):
            self.number("a JSON value")
        return self.text[start : self.at]


_UUID = re.compile(r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}", re.ASCII | re.IGNORECASE)


def parse_uuid(text: str) -> uuid.UUID:
    """Reads 8-4-4-4-12 hexadecimal digits."""
    if _UUID.fullmatch(text) is None:
        raise WireError("a uuid is written as 8-4-4-4-12 hexadecimal digits")
    return uuid.UUID(text)


E = TypeVar("E", bound="Enum")


class Enum(str):
    """An open enum: a member by its name, an unlisted number as "#7", an unlisted name as "?name"."""

    __slots__ = ()

    _numbers: ClassVar[dict[str, int]]
    _names: ClassVar[dict[int, str]]
    _to_json: ClassVar[dict[str, str]]
    _from_json: ClassVar[dict[str, str]]
    _heads: ClassVar[dict[str, bytes]]
    """The listed members as CBOR."""
    _members: ClassVar[dict[int, _Any]]
    """The listed members by number."""
    _named: ClassVar[dict[str, _Any]]
    """The listed members by what they are called in JSON."""
    _quoted: ClassVar[dict[str, str]]
    """The listed members as JSON."""

    def __init_subclass__(cls, numbers: dict[str, int], renamed: dict[str, str]) -> None:
        cls._numbers = numbers
        cls._names = {number: name for name, number in numbers.items()}
        cls._to_json = {name: renamed.get(name, name) for name in numbers}
        cls._from_json = {text: name for name, text in cls._to_json.items()}
        cls._heads = {name: head(_UNSIGNED, number) for name, number in numbers.items()}
        cls._members = {number: cls(name) for name, number in numbers.items()}
        cls._named = {text: cls(name) for name, text in cls._to_json.items()}
        cls._quoted = {name: json_text(text) for name, text in cls._to_json.items()}

    @property
    def listed(self) -> bool:
        """Whether it is one of the members that the definitions list."""
        return str.__str__(self) in self._numbers

    def __repr__(self) -> str:
        return f"{type(self).__name__}({str.__str__(self)!r})"

    def number(self) -> int:
        """The number of the member; a name that is not listed has none."""
        name = str.__str__(self)
        number = self._numbers.get(name)
        if number is not None:
            return number
        if name[:1] == "?":
            raise WireError(f"{name!r} is not listed in {type(self).__name__}, and binary payloads contain numbers")
        return self._unlisted_number()

    def _unlisted_number(self) -> int:
        """The number of a member that is not listed, "#7"; no other text has one."""
        name = str.__str__(self)
        number = int(name[1:]) if name[:1] == "#" and name[1:].isdecimal() and len(name) <= 6 else 65536
        if number > 65535:
            raise WireError(f"{name!r} is not listed in {type(self).__name__}")
        return number

    def _json_key(self) -> str:
        """What it is called as a key of a JSON object."""
        name = str.__str__(self)
        return self._to_json.get(name, name[1:] if name[:1] in ("#", "?") else name)

    def _written_key(self) -> str:
        """What it is written as, as a key of a JSON object."""
        name = str.__str__(self)
        if name not in self._to_json and name[:1] != "?":
            self._unlisted_number()
        return self._json_key()

    def _json(self) -> str:
        text = self._quoted.get(self)
        if text is not None:
            return text
        name = str.__str__(self)
        if name[:1] == "?":
            return json_text(name[1:])
        return str.__str__(cbor_free_number(self))

    @classmethod
    def _of_number(cls: type[E], number: int) -> E:
        return cls(cls._names.get(number) or f"#{number}")

    @classmethod
    def _of_name(cls: type[E], text: str) -> E:
        return cls(cls._from_json.get(text) or f"?{text}")

    @classmethod
    def _read_cbor(cls: type[E], r: CborReader) -> E:
        return cls._of_number(r.enum_number())

    @classmethod
    def _read_json(cls: type[E], r: JsonReader) -> E:
        if r.peek() == '"':
            return cls._of_name(r.string())
        return cls._of_number(r.integer(cls.__name__, 0, 65535))

    @classmethod
    def _read_key(cls: type[E], r: JsonReader, name: str) -> E:
        """The member that a key of a JSON object means: a name, or canonical digits."""
        if name.isascii() and name.isdecimal() and (name == "0" or name[0] != "0"):
            return cls._of_number(r.key(name, 0, 65535))
        return cls._of_name(name)

    def _violations(self, found: list[Violation], path: str) -> None:
        if not self.listed:
            refuse_unlisted(found, path, ", ".join(self._to_json.values()))


def cbor_free_number(member: Enum) -> str:
    """The number of an unlisted member as text."""
    return str(member.number())


def sorted_members(entries: dict[E, V]) -> Iterable[tuple[E, V]]:
    """Entries by the numbers of their keys, then those whose names have none."""

    def order(entry: tuple[E, V]) -> tuple[int, tuple[int, bytes]]:
        try:
            return entry[0].number(), (0, b"")
        except WireError:
            return 65536, _text_order(str.__str__(entry[0]))

    return sorted(entries.items(), key=order)


def refuse(found: list[Violation], path: str, detail: str) -> None:
    """Adds a violation."""
    found.append(Violation(path, detail))


def refuse_unlisted(found: list[Violation], path: str, listed: str) -> None:
    """Adds the violation of a member or alternative that is not listed."""
    found.append(Violation(path, f"must be one of {listed}", unlisted=True))


def unique(found: list[Violation], path: str, items: Iterable[T], write: Callable[[T], str]) -> None:
    """Adds a violation for each item that is equal to one before it: they are compared by what write makes of them."""
    first: dict[str, int] = {}
    for i, item in enumerate(items):
        before = first.setdefault(write(item), i)
        if before != i:
            refuse(found, f"{path}/{i}", f"must be unique, and is equal to element {before}")


class Body:
    """A body that travels as it is, and is read as it comes.

    Iterate over its chunks, with "async for" in coroutines, or take all of it with read or aread. What is not read to its
    end is to be closed.
    """

    __slots__ = ("_begin", "media_type", "size", "source")

    def __init__(
        self,
        source: bytes | BinaryIO | Iterable[bytes] | AsyncIterable[bytes],
        media_type: str = "",
        size: int | None = None,
    ) -> None:
        self.source = source
        self.media_type = media_type
        """Such as "image/png"; "" where the definitions allow one alone, or nobody said."""
        self.size = size
        """In bytes; None where it is not known. Of bytes and files it is found out."""
        self._begin: int | None = None
        if isinstance(source, bytes | bytearray | memoryview):
            self.size = len(source)
            return
        file: _Any = source
        if hasattr(file, "seekable") and file.seekable():
            begin: int = file.tell()
            self._begin = begin
            if size is None:
                self.size = file.seek(0, 2) - begin
                file.seek(begin)

    def __repr__(self) -> str:
        return f"Body({self.media_type!r}, {'?' if self.size is None else self.size} bytes)"

    def __iter__(self) -> Iterator[bytes]:
        source: _Any = self.source
        if issubclass(type(source), bytes | bytearray | memoryview):
            for at in range(0, len(source), 65536):
                yield bytes(source[at : at + 65536])
        elif hasattr(source, "read"):
            while chunk := source.read(65536):
                yield chunk
        elif hasattr(source, "__iter__"):
            yield from source
        else:
            raise TypeError("the body is asynchronous: read it with async for, or aread")

    def __aiter__(self) -> AsyncIterator[bytes]:
        source = self.source
        return source.__aiter__() if isinstance(source, AsyncIterable) else self._each()

    async def _each(self) -> AsyncIterator[bytes]:
        for chunk in self:
            yield chunk

    def read(self) -> bytes:
        """All of it."""
        return b"".join(self)

    async def aread(self) -> bytes:
        """All of it."""
        return b"".join([chunk async for chunk in self])

    def close(self) -> None:
        """Gives up what has not been read."""
        close = getattr(self.source, "close", None)
        if close is not None:
            close()

    async def aclose(self) -> None:
        """Gives up what has not been read, in coroutines."""
        close = getattr(self.source, "aclose", None)
        if close is not None:
            await close()
        else:
            self.close()

    def again(self) -> bool:
        """Goes back to the beginning; False where that can't be done."""
        seek = getattr(self.source, "seek", None)
        if self._begin is not None and seek is not None:
            seek(self._begin)
            return True
        return isinstance(self.source, bytes | bytearray | memoryview)


@dataclass(frozen=True)
class RawBounds:
    """What the definitions say of a body."""

    media_type: str
    """Its subtype, or all of it, may be "*"."""
    low: int = 0
    """In bytes."""
    high: int | None = None

    def sent(self, own: str) -> str:
        """The media type with which a body is sent: its own, or the one that is allowed; "" where it is missing."""
        return own or ("" if "*" in self.media_type else self.media_type)

    def allows(self, given: str) -> bool:
        """Whether a media type is allowed; parameters are not looked at."""
        kind = given.partition(";")[0].strip().lower()
        if self.media_type == "*/*":
            return "/" in kind
        return kind.startswith(self.media_type[:-1]) if self.media_type.endswith("*") else kind == self.media_type

    def wrong(self, size: int) -> str:
        """What is wrong with a length; "" is nothing."""
        if size >= self.low and (self.high is None or size <= self.high):
            return ""
        allowed = f"{self.low} to {self.high}"
        if self.high is None:
            allowed = f"at least {self.low}"
        elif self.low == 0:
            allowed = f"at most {self.high}"
        return f"must have {allowed} bytes, not {size}"

    def violations(self, found: list[Violation], path: str, body: Body) -> None:
        """Adds what is known to be wrong before a body is read."""
        kind = self.sent(body.media_type)
        if not kind:
            found.append(Violation(path, f"needs its media type: {self.media_type}"))
        elif not self.allows(kind):
            found.append(Violation(path, f"must be {self.media_type}, not {kind}"))
        if body.size is not None and (detail := self.wrong(body.size)):
            found.append(Violation(path, detail))


class Message(Protocol):
    """What every generated message is."""

    _unlisted: list[UnlistedField] | None

    def to_cbor(self) -> bytes: ...

    def to_json(self) -> str: ...

    def validate(self) -> list[Violation]: ...

    def _write_cbor(self, out: Out, depth: int) -> None: ...

    def _write_json(self, depth: int, mode: int) -> str: ...


M_co = TypeVar("M_co", covariant=True)


class Codec(Protocol[M_co]):
    """The class of a message, as far as it reads."""

    def from_cbor(self, payload: bytes, items: int = DEFAULT_BUDGET) -> M_co: ...

    def from_json(self, payload: str | bytes, items: int = DEFAULT_BUDGET) -> M_co: ...

    def _read_cbor(self, r: CborReader) -> M_co: ...

    def _read_json(self, r: JsonReader) -> M_co: ...


class DeclaredError(Exception):
    """What every declared error is."""

    NAME: ClassVar[str]
    """Full: module and error."""
    STATUS: ClassVar[int]
    TITLE: ClassVar[str]

    def __str__(self) -> str:
        try:
            fields = self.to_text()
        except (WireError, TypeError, AttributeError):
            fields = "{}"  # a value that can't be written is found where the error is sent
        return f"{self.NAME}: {self.TITLE}" + ("" if fields == "{}" else f" {fields}")

    def to_text(self) -> str:
        raise NotImplementedError

    def __reduce__(self) -> tuple[Callable[..., DeclaredError], tuple[type[DeclaredError], dict[str, object]]]:
        # Exceptions are made again of their positional arguments, which these have not.
        return _again, (type(self), {name: value for name, value in vars(self).items() if not name.startswith("__")})

    def to_json(self) -> str:
        raise NotImplementedError


def _again(cls: type[DeclaredError], fields: dict[str, object]) -> DeclaredError:
    return cls(**fields)


def to_cbor(m: Message) -> bytes:
    out: Out = []
    try:
        m._write_cbor(out, 0)
        return b"".join(out)
    except UnicodeEncodeError:
        raise WireError("text with half of a surrogate pair") from None
    except (AttributeError, TypeError, ValueError, struct.error) as wrong:
        raise _misfit(m, wrong) from wrong


def to_json(m: Message) -> str:
    try:
        return m._write_json(0, PAYLOAD)
    except (AttributeError, TypeError, ValueError) as wrong:
        raise _misfit(m, wrong) from wrong


def _misfit(m: Message, wrong: Exception) -> WireError:
    """What a value can't be written for: where it is, what it should be and what it is."""
    found = _misplaced_in(m, type(m))
    if found is not None:
        return found
    told = wrong if isinstance(wrong, WireError) else WireError(f"{type(wrong).__name__}: {wrong}")
    if not told.path:
        for step in reversed(_place(m)):
            told = told.inside(step)
    return told


def _place(m: _Any) -> list[str]:
    """The steps to what can't be written: what is left out one by one, until the rest can be."""
    if not dataclasses.is_dataclass(m):
        return []
    names = [f.name for f in dataclasses.fields(m) if not f.name.startswith("_")]
    for name in names:
        for steps, inner in _messages_in(getattr(m, name)):
            if not _writes(inner):
                return [name.rstrip("_"), *steps, *_place(inner)]
    for name in names:
        value = getattr(m, name)
        others = {other: _nothing(getattr(m, other)) for other in names if other != name}
        if not _writes(m, others):
            for step, item in _parts_of(value):
                if not _writes(m, {name: {step: item} if isinstance(value, dict) else [item]}):
                    return [name.rstrip("_"), str(step)]
            return [name.rstrip("_")]
    return []


def _messages_in(v: _Any) -> Iterable[tuple[list[str], _Any]]:
    """Messages and unions in the value of a field, with the steps to them."""
    if hasattr(v, "_write_json"):
        yield [], v
        return
    for step, item in _parts_of(v):
        for steps, inner in _messages_in(item):
            yield [str(step), *steps], inner


def _parts_of(v: object) -> list[tuple[object, _Any]]:
    """The items of a list with their indices, the entries of a dict; nothing else has any."""
    if isinstance(v, dict):
        return list(typing.cast("dict[object, _Any]", v).items())
    return list(enumerate(typing.cast("list[_Any]", v))) if isinstance(v, (list, tuple)) else []


def _nothing(v: _Any) -> _Any:
    """What can be written in the place of a value."""
    empty: Callable[[], object] = v.__class__
    return empty() if isinstance(v, (bool, int, float, str, bytes, list, dict)) and not isinstance(v, Enum) else v


def _writes(m: _Any, changes: dict[str, _Any] | None = None) -> bool:
    """Whether a message, or a copy with other values, can be written in both encodings."""
    try:
        trial = copy.copy(m)
        for name, value in (changes or {}).items():
            setattr(trial, name, value)
        trial._write_json(0, PAYLOAD)
        trial._write_cbor([], 0)
    except (AttributeError, TypeError, ValueError, struct.error):
        return False
    return True


def _misplaced_in(v: _Any, hint: _Any) -> WireError | None:
    """The first value inside of v that is not of its type."""
    kind, inner = _kind_of(hint)
    if kind in (typing.Union, types.UnionType):
        fit = [one for one in inner if not isinstance(_kind_of(one)[0], type) or isinstance(v, _kind_of(one)[0])]
        return (
            _misplaced_in(v, fit[0])
            if fit
            else _not_of(v, " | ".join(getattr(one, "__name__", str(one)) for one in inner if one is not type(None)))
        )
    if kind is list and issubclass(type(v), (list, tuple)):
        return _first((str(i), item, inner[0]) for i, item in _parts_of(v))
    if kind is dict and issubclass(type(v), dict):
        keys = _first((str(key), key, inner[0]) for key in v)
        return keys or _first((str(key), item, inner[1]) for key, item in _parts_of(v))
    if not isinstance(kind, type) or (kind in (list, dict) and not inner):
        return None
    if kind is float and isinstance(v, int) and not isinstance(v, bool):
        return None
    odd = (isinstance(v, bool) and kind in (int, float)) or (isinstance(v, datetime) and kind is date)
    if odd or not isinstance(v, kind):
        return _not_of(v, kind.__name__)
    if dataclasses.is_dataclass(v) and kind.__module__ != __name__:
        try:
            hints = typing.get_type_hints(typing.cast("type[_Any]", kind))
        except (NameError, TypeError):
            return None  # an annotation of a class that somebody made
        names = [f.name for f in dataclasses.fields(v) if not f.name.startswith("_")]
        return _first((name.rstrip("_"), getattr(v, name), hints[name]) for name in names)
    return None


def _kind_of(hint: _Any) -> tuple[_Any, tuple[_Any, ...]]:
    """The class of the values of an annotation and what is in its brackets; names of types are followed."""
    while hasattr(hint, "__supertype__"):
        hint = hint.__supertype__
    return object if hint is _Any else typing.get_origin(hint) or hint, typing.get_args(hint)


def _first(parts: Iterable[tuple[str, _Any, _Any]]) -> WireError | None:
    for step, v, hint in parts:
        found = _misplaced_in(v, hint)
        if found is not None:
            return found.inside(step)
    return None


def _not_of(v: object, kind: str) -> WireError:
    shown = repr(v)
    return WireError(f"expected {kind}, found {shown if len(shown) <= 100 else shown[:99] + '…'}, a {type(v).__name__}")


def from_cbor(
    payload: bytes,
    fast: Callable[[bytes, int, int, Meter], tuple[T, int]],
    read: Callable[[CborReader], T],
    items: int,
    weight: int,
) -> T:
    """Reads a payload in the order that writers write it; where it is not in that, with all that readers allow.

    The value weighs so much, without its lists and maps.
    """
    if items >= weight:
        try:
            value, end = fast(payload, 0, 0, Meter(items - weight))
            if end == len(payload):
                return value
        except (SurpriseError, LookupError, ValueError, OverflowError, RecursionError):
            pass  # the other way says what is wrong, if anything is
    r = CborReader(payload, items)
    value = read(r)
    r.end()
    return value


def from_json(
    payload: str | bytes,
    scanned: Callable[[Object, int, Meter], T],
    read: Callable[[JsonReader], T],
    items: int,
    weight: int,
) -> T:
    """Reads a payload as from_cbor does."""
    try:
        if isinstance(payload, str) and not payload.isascii():
            payload.encode()  # refuses halves of surrogate pairs
        text = payload if isinstance(payload, str) else payload.decode()
        if items >= weight and _scannable(text, items):
            value, end = _SCANNER.raw_decode(text)
            if end == len(text):
                meter = Meter(items - weight, text)
                result = scanned(value, 0, meter)
                if meter.members == text.count('":'):  # no member came twice
                    return result
    except (SurpriseError, LookupError, ValueError, OverflowError, RecursionError):
        pass
    r = JsonReader(payload, items)
    value = read(r)
    r.end()
    return value


class SurpriseError(Exception):
    """Raised by the fast way of reading when anything is not as writers write it."""


def surprise() -> NoReturn:
    raise SurpriseError


class Meter:
    """What is left of the budget of a payload, which may be text."""

    __slots__ = ("left", "members", "text")

    def __init__(self, left: int, text: str = "") -> None:
        self.left = left
        self.members = 0
        """How many members the objects have that were read."""
        self.text: str | None = text

    def zero(self) -> None:
        """Makes sure that no 0 of the text is a -0: the scanner makes the same integer of both."""
        if self.text is not None and _NEGATIVE_ZERO.search(self.text):
            raise SurpriseError
        self.text = None

    def spend(self, items: int) -> None:
        self.left -= items
        if self.left < 0:
            raise SurpriseError


# The fast way reads at an offset and returns the value with the offset after
# it. An offset after the end is found there.


def fast_int(d: bytes, i: int) -> tuple[int, int]:
    h = d[i]
    if h < 0x18:
        return h, i + 1
    if h == 0x18:
        return d[i + 1], i + 2
    if h == 0x19:
        return d[i + 1] << 8 | d[i + 2], i + 3
    if h == 0x1A or h == 0x1B:
        j = i + (5 if h == 0x1A else 9)
        return int.from_bytes(d[i + 1 : j], "big"), j
    if 0x20 <= h < 0x38:
        return 0x1F - h, i + 1
    size = _NEGATIVE_SIZES.get(h)
    if size is None:
        raise SurpriseError
    j = i + size
    return -1 - int.from_bytes(d[i + 1 : j], "big"), j


_NEGATIVE_SIZES = {0x38: 2, 0x39: 3, 0x3A: 5, 0x3B: 9}


def fast_length(d: bytes, i: int, major: int) -> tuple[int, int]:
    """The length of a string, list or map."""
    h = d[i] - (major << 5)
    if 0 <= h < 0x18:
        return h, i + 1
    if h == 0x18:
        return d[i + 1], i + 2
    if h == 0x19:
        return d[i + 1] << 8 | d[i + 2], i + 3
    if h == 0x1A:
        return int.from_bytes(d[i + 1 : i + 5], "big"), i + 5
    raise SurpriseError


def fast_text(d: bytes, i: int) -> tuple[str, int]:
    n, i = fast_length(d, i, 3)
    return d[i : i + n].decode(), i + n


def fast_octets(d: bytes, i: int) -> tuple[bytes, int]:
    n, i = fast_length(d, i, 2)
    return d[i : i + n], i + n


def fast_bool(d: bytes, i: int) -> tuple[bool, int]:
    h = d[i]
    if h == 0xF5:
        return True, i + 1
    if h == 0xF4:
        return False, i + 1
    raise SurpriseError


_read_float64 = _FLOAT64.unpack_from


def fast_float64(d: bytes, i: int) -> tuple[float, int]:
    if d[i] != 0xFB or i + 9 > len(d):
        raise SurpriseError
    return _read_float64(d, i + 1)[0], i + 9


def fast_float32(d: bytes, i: int) -> tuple[float, int]:
    if d[i] != 0xFA or i + 5 > len(d):
        raise SurpriseError
    return _FLOAT32.unpack_from(d, i + 1)[0], i + 5


new = object.__new__
"""Makes an object without its constructor, which would look at every argument again."""
_set = object.__setattr__
_UNKNOWN_SAFETY = uuid.SafeUUID.unknown


def fast_uuid(d: bytes, i: int) -> tuple[uuid.UUID, int]:
    j = i + 19
    if d[i : i + 3] != b"\xd8\x25\x50" or j > len(d):
        raise SurpriseError
    # As its constructor does, without looking at all that it may be given.
    u = new(uuid.UUID)
    _set(u, "int", int.from_bytes(d[i + 3 : j], "big"))
    _set(u, "is_safe", _UNKNOWN_SAFETY)
    return u, j


def fast_instant(d: bytes, i: int) -> tuple[Instant, int]:
    if d[i] == 0xC1:
        if d[i + 1] == 0x1A:
            j = i + 6
            at = new(Instant)
            _set(at, "seconds", int.from_bytes(d[i + 2 : j], "big"))
            _set(at, "nanos", 0)
            return at, j
        seconds, i = fast_int(d, i + 1)
        return Instant(seconds), i
    if i + 14 <= len(d):
        start, seconds, unit, millis = _MILLIS.unpack_from(d, i)
        if start == _MILLIS_HEAD and unit == _MILLIS_UNIT and 0 < millis < 1000:
            at = new(Instant)
            _set(at, "seconds", seconds)
            _set(at, "nanos", millis * 1_000_000)
            return at, i + 14
    if d[i : i + 3] != b"\xd9\x03\xe9":
        raise SurpriseError
    seconds, nanos, i = _fast_time(d, i + 3)
    return Instant(seconds, nanos), i


def _fast_time(d: bytes, i: int) -> tuple[int, int, int]:
    if d[i : i + 2] == b"\xa1\x01":
        seconds, i = fast_int(d, i + 2)
        return seconds, 0, i
    if d[i : i + 2] != b"\xa2\x01":
        raise SurpriseError
    seconds, i = fast_int(d, i + 2)
    unit = {0x22: 1_000_000, 0x25: 1000, 0x28: 1}.get(d[i], 0)
    value, j = fast_int(d, i + 1)
    if not unit or not 1 <= value <= 999_999_999 // unit:
        raise SurpriseError
    return seconds, value * unit, j


def fast_duration(d: bytes, i: int) -> tuple[Duration, int]:
    if d[i : i + 3] != b"\xd9\x03\xea":
        raise SurpriseError
    seconds, nanos, i = _fast_time(d, i + 3)
    return Duration(seconds * 1_000_000_000 + nanos), i


def fast_date(d: bytes, i: int) -> tuple[date, int]:
    if d[i : i + 2] != b"\xd8\x64":
        raise SurpriseError
    days, i = fast_int(d, i + 2)
    return date.fromordinal(days + _EPOCH_DAY), i


def fast_decimal(d: bytes, i: int) -> tuple[Decimal, int]:
    if d[i : i + 2] != b"\xc4\x82":
        raise SurpriseError
    exponent, i = fast_int(d, i + 2)
    mantissa, i = fast_int(d, i)
    if not -_MAX_DIGITS <= exponent <= 0:
        raise SurpriseError
    return Decimal(mantissa).scaleb(exponent, _EXACT), i


def fast_any(d: bytes, i: int, depth: int, meter: Meter) -> tuple[Any, int]:
    """Reads an any the other way: it has no order to be read in."""
    r = CborReader(d, meter.left, depth)
    r.at = i
    value = r.any()
    meter.left = r.budget
    return value, r.at


def fast_enum(d: bytes, i: int, cls: type[E]) -> tuple[E, int]:
    number = d[i]
    if number < 24:
        i += 1
    else:
        number, i = fast_int(d, i)
        if not 0 <= number <= 65535:
            raise SurpriseError
    member: E | None = cls._members.get(number)
    return member if member is not None else cls._of_number(number), i


# JSON is scanned by the standard library, and what it makes of a payload is read on by these.

Object = dict[str, _Any]
"""An object that was scanned."""


def _refuse_constant(name: str) -> NoReturn:
    raise SurpriseError(name)


_SCANNER = json.JSONDecoder(parse_constant=_refuse_constant)
_NEGATIVE_ZERO = re.compile(r"-0(?![.0-9])")


def _scannable(text: str, items: int) -> bool:
    """Whether the scanner makes no more of text than items, of no escape what may be half of a surrogate pair.

    And whether every colon between a name and its value follows the quote.
    """
    if len(text) > items and text.count(",") + text.count("{") + text.count("[") > items:
        return False
    if " :" in text or "\n:" in text or "\t:" in text or "\r:" in text:
        return False
    return "\\u" not in text or ("\\ud" not in text and "\\uD" not in text)


def scanned_int(v: _Any, low: int, high: int) -> int:
    """An integer beyond 2^53-1 is a string."""
    if v.__class__ is not str:
        raise SurpriseError
    return scanned_key(v, low, high)


def scanned_key(v: str, low: int, high: int) -> int:
    if len(v) > 20 or _INTEGER.fullmatch(v) is None:
        raise SurpriseError
    n = int(v)
    if not low <= n <= high:
        raise SurpriseError
    return n


def scanned_bool(v: _Any) -> bool:
    if v.__class__ is not bool:
        raise SurpriseError
    return bool(v)


def scanned_float64(v: _Any, meter: Meter) -> float:
    if v.__class__ is float and v - v == 0:
        return float(v)
    if v.__class__ is not int or not -_EXACT_FLOAT <= v <= _EXACT_FLOAT:
        raise SurpriseError
    if v == 0:
        meter.zero()
    return float(v)


_EXACT_FLOAT = 1 << 53


def scanned_float32(v: _Any, meter: Meter) -> float:
    wide = scanned_float64(v, meter)
    near = narrow(wide)
    if near != wide:
        raise SurpriseError  # it has to be rounded from its digits
    return near


def scanned_octets(v: _Any) -> bytes:
    octets = from_base64(v) if v.__class__ is str else None
    if octets is None:
        raise SurpriseError
    return octets


def scanned_uuid(v: _Any) -> uuid.UUID:
    octets = bytes.fromhex(v.replace("-", "")) if v.__class__ is str and len(v) == 36 else b""
    if len(octets) != 16 or not v[8] == v[13] == v[18] == v[23] == "-":
        raise SurpriseError
    u = new(uuid.UUID)  # as fast_uuid does
    _set(u, "int", int.from_bytes(octets, "big"))
    _set(u, "is_safe", _UNKNOWN_SAFETY)
    return u


def scanned_instant(v: _Any) -> Instant:
    if v.__class__ is not str:
        raise SurpriseError
    if v[-1:] != "Z" or v[4:11:3] != "--T" or not v.isascii():
        return Instant.parse(v)
    since = datetime.fromisoformat(v[:19]) - _BARE_EPOCH
    fraction = v[19:-1]
    nanos = 0
    if fraction:
        if fraction[0] != "." or len(fraction) > 10 or not fraction[1:].isdecimal():
            raise SurpriseError
        nanos = int(fraction[1:].ljust(9, "0"))
    at = new(Instant)
    _set(at, "seconds", since.days * 86400 + since.seconds)
    _set(at, "nanos", nanos)
    return at


def scanned_duration(v: _Any) -> Duration:
    if v.__class__ is not str:
        raise SurpriseError
    return Duration.parse(v)


def scanned_date(v: _Any) -> date:
    if v.__class__ is not str:
        raise SurpriseError
    return parse_date(v)


def scanned_decimal(v: _Any) -> Decimal:
    if v.__class__ is not str:
        raise SurpriseError
    return parse_decimal(v)


def scanned_enum(v: _Any, cls: type[E]) -> E:
    """A listed member."""
    member: E | None = cls._named.get(v) if v.__class__ is str else None
    if member is None:
        raise SurpriseError
    return member


def scanned_any(v: _Any, depth: int, meter: Meter) -> Any:
    kind = v.__class__
    if kind is dict or kind is list:
        if depth > MAX_DEPTH:
            raise SurpriseError
        meter.spend(len(v))
        if kind is list:
            return [scanned_any(item, depth + 1, meter) for item in v]
        meter.members += len(v)
        return {name: scanned_any(item, depth + 1, meter) for name, item in v.items()}
    if (kind is int and not -(1 << 63) <= v < 1 << 64) or (kind is float and v - v != 0):
        raise SurpriseError
    value: Any = v
    return value
