"""The simple types of business data: their lexical forms (W3C XML Schema 1.0 Part 2) and Python values.

| type | Python value |
| --- | --- |
| string, anyURI | str |
| boolean | bool |
| integer and its bounded kinds | int |
| decimal | decimal.Decimal |
| float, double | float |
| date, time, dateTime | datetime.date, datetime.time, datetime.datetime |
| duration, gYearMonth | str, in the lexical form of the standard |
| base64Binary | bytes |

A date may carry a time zone (some client stacks always send one); it is dropped, since a calendar day is meant.
"""

import base64
import binascii
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

Value = Any  # one of the Python values above


@dataclass(frozen=True, slots=True)
class Primitive:
    """How one built-in type is read and written. `read` raises ValueError when the text is not of the type."""

    name: str
    python: type
    read: Callable[[str], Value]
    write: Callable[[Value], str]
    described: str
    sample: str
    lowest: int | None = None
    highest: int | None = None


_DECIMAL = re.compile(r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)", re.ASCII)
_INTEGER = re.compile(r"[+-]?\d+", re.ASCII)
_DOUBLE = re.compile(r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?|[+-]?INF|NaN", re.ASCII)
_ZONE = r"(Z|[+-](?:0\d|1[0-3]):[0-5]\d|[+-]14:00)?"
_DATE = re.compile(r"(\d{4}-\d{2}-\d{2})" + _ZONE, re.ASCII)
_TIME = re.compile(r"(\d{2}:\d{2}:\d{2})(?:\.(\d+))?" + _ZONE, re.ASCII)
_DATETIME = re.compile(r"(\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2})(?:\.(\d+))?" + _ZONE, re.ASCII)
_MONTH = re.compile(r"(?!0000)\d{4}-(?:0[1-9]|1[0-2])" + _ZONE, re.ASCII)
_DURATION = re.compile(
    r"-?P(?=.)(?:\d+Y)?(?:\d+M)?(?:\d+D)?(?:T(?=.)(?:\d+H)?(?:\d+M)?(?:\d+(?:\.\d+)?S)?)?", re.ASCII
)
_MOST_DIGITS = 400  # converting text to int is quadratic in the digits; no business number comes near


def _matched(pattern: re.Pattern[str], text: str) -> re.Match[str]:
    found = pattern.fullmatch(text)
    if found is None:
        raise ValueError(text)
    return found


def _read_boolean(text: str) -> bool:
    if text in ("true", "1"):
        return True
    if text in ("false", "0"):
        return False
    raise ValueError(text)


def _read_integer(text: str) -> int:
    if len(text) > _MOST_DIGITS:
        raise ValueError(text)
    _matched(_INTEGER, text)
    return int(text)


def _read_decimal(text: str) -> Decimal:
    if len(text) > _MOST_DIGITS:
        raise ValueError(text)
    _matched(_DECIMAL, text)
    return Decimal(text)


def _read_double(text: str) -> float:
    _matched(_DOUBLE, text)
    return float(text)


def _read_date(text: str) -> date:
    return date.fromisoformat(_matched(_DATE, text)[1])


def _clock_text(found: re.Match[str]) -> str:
    """Seconds may have any number of decimals in XML Schema; Python keeps microseconds."""
    fraction = f".{found[2][:6].ljust(6, '0')}" if found[2] else ""
    return found[1] + fraction + (found[3] or "")


def _read_time(text: str) -> time:
    return time.fromisoformat(_clock_text(_matched(_TIME, text)))


def _read_datetime(text: str) -> datetime:
    return datetime.fromisoformat(_clock_text(_matched(_DATETIME, text)))


def _read_pattern(pattern: re.Pattern[str]) -> Callable[[str], str]:
    return lambda text: _matched(pattern, text)[0]


def _read_binary(text: str) -> bytes:
    packed = "".join(text.split())
    try:
        value = base64.b64decode(packed, validate=True)
    except binascii.Error:
        raise ValueError(text) from None
    if base64.b64encode(value).decode("ascii") != packed:  # bits that belong to no byte must be zero
        raise ValueError(text)
    return value


def _write_double(value: float) -> str:
    if value != value:
        return "NaN"
    if value in (float("inf"), float("-inf")):
        return "INF" if value > 0 else "-INF"
    return repr(value)


def _write_zoned(value: datetime | time) -> str:
    text = value.isoformat()
    return text[:-6] + "Z" if text.endswith("+00:00") else text


_WRITERS: dict[type, Callable[[Any], str]] = {
    str: str, bool: lambda value: "true" if value else "false", int: int.__str__, float: _write_double,
    Decimal: lambda value: format(value, "f"), date: date.isoformat, datetime: _write_zoned, time: _write_zoned,
    bytes: lambda value: base64.b64encode(value).decode("ascii"),
}


def lexical(value: Value) -> str:
    """The text of a value of any simple type, where only the value is at hand. Raises TypeError for a value of none of them: its
    `str()` would be somebody else's form."""
    writer = _WRITERS.get(value.__class__)
    if writer is None:
        raise TypeError(f"{value.__class__.__name__} is no value of a simple type")
    return writer(value)


def _integer(name: str, lowest: int | None, highest: int | None) -> Primitive:
    if lowest is None and highest is None:
        described = "a whole number"
    elif highest is None:
        described = f"a whole number from {lowest}"
    else:
        described = f"a whole number from {lowest} to {highest}"
    return Primitive(name, int, _read_integer, int.__str__, described, "1", lowest, highest)


def _text(name: str, described: str, sample: str, read: Callable[[str], str] = str) -> Primitive:
    return Primitive(name, str, read, str, described, sample)


PRIMITIVES: dict[str, Primitive] = {
    one.name: one
    for one in (
        _text("string", "text", "text"),
        Primitive("boolean", bool, _read_boolean, _WRITERS[bool], "true or false", "true"),
        _integer("integer", None, None),
        _integer("nonNegativeInteger", 0, None),
        _integer("positiveInteger", 1, None),
        _integer("long", -(2**63), 2**63 - 1),
        _integer("int", -(2**31), 2**31 - 1),
        _integer("short", -(2**15), 2**15 - 1),
        _integer("byte", -(2**7), 2**7 - 1),
        _integer("unsignedInt", 0, 2**32 - 1),
        _integer("unsignedShort", 0, 2**16 - 1),
        Primitive("decimal", Decimal, _read_decimal, _WRITERS[Decimal], "a decimal number like 12.50", "1.00"),
        Primitive("float", float, _read_double, _write_double, "a floating-point number like 1.5E3", "1.5"),
        Primitive("double", float, _read_double, _write_double, "a floating-point number like 1.5E3", "1.5"),
        Primitive("date", date, _read_date, date.isoformat, "a date like 2026-11-24", "2026-11-24"),
        Primitive("time", time, _read_time, _write_zoned, "a time of day like 06:30:00", "06:30:00"),
        Primitive(
            "dateTime", datetime, _read_datetime, _write_zoned,
            "a date and time like 2026-11-24T06:30:00Z", "2026-11-24T06:30:00Z",
        ),
        _text("duration", "a duration like P1DT12H", "P1DT12H", _read_pattern(_DURATION)),
        _text("gYearMonth", "a month like 2026-11", "2026-11", _read_pattern(_MONTH)),
        _text("anyURI", "an address like https://larkmere.example/notice", "https://larkmere.example/notice"),
        Primitive(
            "base64Binary", bytes, _read_binary, _WRITERS[bytes],
            "bytes in base64", "TGFya21lcmU=",
        ),
    )
}

KEEPS_SPACE = frozenset({"string"})  # every other type collapses white space before it is read
TEXT_TYPES = frozenset({"string", "anyURI"})
NUMBER_TYPES = frozenset(name for name, one in PRIMITIVES.items() if one.python in (int, Decimal, float))
ORDERED_TYPES = NUMBER_TYPES | {"date", "time", "dateTime"}
