"""The simple types of business data: their lexical forms (W3C XML Schema 1.0 Part 2) and Python values.

| type | Python value |
| --- | --- |
| string and what derives from it, anyURI, anySimpleType | str |
| boolean | bool |
| integer and its bounded kinds | int |
| decimal | decimal.Decimal |
| float, double | float |
| date, time, dateTime | datetime.date, datetime.time, datetime.datetime |
| duration, gYear and its kin | str, in the lexical form of the standard |
| base64Binary, hexBinary | bytes |
| QName, NOTATION | str: `{namespace}name`, since a prefix means nothing outside its message |
| anyType (an element with anything inside) | str: the element as XML that stands alone |

`OFFERED` are those that definitions may use; the others are met in contracts of others.

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
    base: str = ""  # the built-in type that it derives from (Part 2, section 3)
    space: str = "collapse"  # what becomes of white space: preserve, replace, collapse (section 4.3.6)


_DECIMAL = re.compile(r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)", re.ASCII)
_INTEGER = re.compile(r"[+-]?\d+", re.ASCII)
_DOUBLE = re.compile(r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?|[+-]?INF|NaN", re.ASCII)
_ZONE = r"(Z|[+-](?:0\d|1[0-3]):[0-5]\d|[+-]14:00)?"
_DATE = re.compile(r"(\d{4}-\d{2}-\d{2})" + _ZONE, re.ASCII)
_TIME = re.compile(r"(\d{2}:\d{2}:\d{2})(?:\.(\d+))?" + _ZONE, re.ASCII)
_DATETIME = re.compile(r"(\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2})(?:\.(\d+))?" + _ZONE, re.ASCII)
_YEAR = r"-?(?!0000)(?:[1-9]\d{4,}|\d{4})"
_MONTH = re.compile(r"(?!0000)\d{4}-(?:0[1-9]|1[0-2])" + _ZONE, re.ASCII)
_PARTIAL = {
    "gYear": re.compile(_YEAR + _ZONE, re.ASCII), "gMonth": re.compile(r"--(?:0[1-9]|1[0-2])" + _ZONE, re.ASCII),
    "gDay": re.compile(r"---(?:0[1-9]|[12]\d|3[01])" + _ZONE, re.ASCII),
    "gMonthDay": re.compile(
        r"--(?:(?:0[13578]|1[02])-(?:0[1-9]|[12]\d|3[01])|(?:0[469]|11)-(?:0[1-9]|[12]\d|30)|02-(?:0[1-9]|[12]\d))" + _ZONE, re.ASCII),
}
# Names of XML 1.0; `\w` of Python is close to, and wider than, the letters of NameStartChar, which stand here.
_START = r"A-Z_a-z\xC0-\xD6\xD8-\xF6\xF8-\u02FF\u0370-\u037D\u037F-\u1FFF\u200C\u200D\u2070-\u218F\u2C00-\u2FEF\u3001-\uD7FF" \
         r"\uF900-\uFDCF\uFDF0-\uFFFD\U00010000-\U000EFFFF"
_MORE = _START + r"\-.0-9\xB7\u0300-\u036F\u203F\u2040"
_NCNAME = re.compile(f"[{_START}][{_MORE}]*")
_XML_NAME = re.compile(f"[:{_START}][:{_MORE}]*")
_NMTOKEN = re.compile(f"[:{_MORE}]+")
_LANGUAGE = re.compile(r"[a-zA-Z]{1,8}(?:-[a-zA-Z0-9]{1,8})*")
_EXPANDED = re.compile(r"(?:\{[^{}]*\})?" + f"[{_START}][{_MORE}]*")
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


def _integer(name: str, lowest: int | None, highest: int | None, base: str) -> Primitive:
    if lowest is None and highest is None:
        described = "a whole number"
    elif highest is None:
        described = f"a whole number from {lowest}"
    elif lowest is None:
        described = f"a whole number up to {highest}"
    else:
        described = f"a whole number from {lowest} to {highest}"
    sample = "1" if highest is None or highest > 0 else str(highest)
    return Primitive(name, int, _read_integer, int.__str__, described, sample, lowest, highest, base)


def _text(name: str, described: str, sample: str, read: Callable[[str], str] = str, base: str = "anySimpleType",
          space: str = "collapse") -> Primitive:
    return Primitive(name, str, read, str, described, sample, base=base, space=space)


def _form(name: str, described: str, sample: str, pattern: re.Pattern[str], base: str = "anySimpleType") -> Primitive:
    return _text(name, described, sample, _read_pattern(pattern), base)


def _read_hex(text: str) -> bytes:
    _matched(_HEX, text)
    return bytes.fromhex(text)


_HEX = re.compile(r"(?:[0-9a-fA-F]{2})*")
_INTEGERS: tuple[tuple[str, int | None, int | None, str], ...] = (
    ("integer", None, None, "decimal"), ("nonNegativeInteger", 0, None, "integer"), ("positiveInteger", 1, None, "nonNegativeInteger"),
    ("long", -(2**63), 2**63 - 1, "integer"), ("int", -(2**31), 2**31 - 1, "long"), ("short", -(2**15), 2**15 - 1, "int"),
    ("byte", -(2**7), 2**7 - 1, "short"), ("unsignedInt", 0, 2**32 - 1, "unsignedLong"), ("unsignedShort", 0, 2**16 - 1, "unsignedInt"),
)
_MORE_INTEGERS: tuple[tuple[str, int | None, int | None, str], ...] = (
    ("unsignedLong", 0, 2**64 - 1, "nonNegativeInteger"), ("unsignedByte", 0, 255, "unsignedShort"),
    ("nonPositiveInteger", None, 0, "integer"), ("negativeInteger", None, -1, "nonPositiveInteger"),
)

OFFERED: dict[str, Primitive] = {
    one.name: one
    for one in (
        _text("string", "text", "text", space="preserve"),
        Primitive("boolean", bool, _read_boolean, _WRITERS[bool], "true or false", "true", base="anySimpleType"),
        *(_integer(*one) for one in _INTEGERS),
        Primitive("decimal", Decimal, _read_decimal, _WRITERS[Decimal], "a decimal number like 12.50", "1.00", base="anySimpleType"),
        Primitive("float", float, _read_double, _write_double, "a floating-point number like 1.5E3", "1.5", base="anySimpleType"),
        Primitive("double", float, _read_double, _write_double, "a floating-point number like 1.5E3", "1.5", base="anySimpleType"),
        Primitive("date", date, _read_date, date.isoformat, "a date like 2026-11-24", "2026-11-24", base="anySimpleType"),
        Primitive("time", time, _read_time, _write_zoned, "a time of day like 06:30:00", "06:30:00", base="anySimpleType"),
        Primitive(
            "dateTime", datetime, _read_datetime, _write_zoned,
            "a date and time like 2026-11-24T06:30:00Z", "2026-11-24T06:30:00Z", base="anySimpleType",
        ),
        _form("duration", "a duration like P1DT12H", "P1DT12H", _DURATION),
        _form("gYearMonth", "a month like 2026-11", "2026-11", _MONTH),
        _text("anyURI", "an address like https://service.example/notice", "https://service.example/notice"),
        Primitive(
            "base64Binary", bytes, _read_binary, _WRITERS[bytes],
            "bytes in base64", "TGFya21lcmU=", base="anySimpleType",
        ),
    )
}

ANY = "anyType"  # an element with anything inside; read and written as XML
QNAMES = frozenset({"QName", "NOTATION"})  # their prefixes mean what they mean at their place

PRIMITIVES: dict[str, Primitive] = OFFERED | {
    one.name: one
    for one in (
        *(_integer(*one) for one in _MORE_INTEGERS),
        _text("normalizedString", "text on one line", "text", base="string", space="replace"),
        _text("token", "text without spaces around it", "text", base="normalizedString"),
        _form("language", "a language like en", "en", _LANGUAGE, "token"),
        _form("Name", "a name", "name", _XML_NAME, "token"),
        _form("NCName", "a name without a colon", "name", _NCNAME, "Name"),
        _form("NMTOKEN", "a word of letters, digits and .-_:", "word", _NMTOKEN, "token"),
        _form("ID", "a name that stands once in the message", "id1", _NCNAME, "NCName"),
        _form("IDREF", "a name that is an ID of the message", "id1", _NCNAME, "NCName"),
        _form("ENTITY", "the name of an entity", "name", _NCNAME, "NCName"),
        _form("gYear", "a year like 2026", "2026", _PARTIAL["gYear"]),
        _form("gMonth", "a month of any year like --11", "--11", _PARTIAL["gMonth"]),
        _form("gDay", "a day of any month like ---24", "---24", _PARTIAL["gDay"]),
        _form("gMonthDay", "a day of any year like --11-24", "--11-24", _PARTIAL["gMonthDay"]),
        Primitive("hexBinary", bytes, _read_hex, lambda value: value.hex().upper(), "bytes in hexadecimal", "4C61", base="anySimpleType"),
        _form("QName", "a name with its namespace, as {namespace}name", "name", _EXPANDED),
        _form("NOTATION", "the name of a notation", "name", _EXPANDED),
        _text("anySimpleType", "any simple value", "text", base="anyType", space="preserve"),
        _text(ANY, "an element as XML", "text", base="", space="preserve"),
    )
}
LIST_TYPES = {"NMTOKENS": "NMTOKEN", "IDREFS": "IDREF", "ENTITIES": "ENTITY"}  # the built-in lists, and what they are lists of


def derives(name: str, base: str) -> bool:
    """Whether a built-in type is another one or derives from it."""
    while name and name != base:
        name = PRIMITIVES[name].base if name in PRIMITIVES else "anySimpleType" if name in LIST_TYPES else ""
    return bool(name)


TEXT_TYPES = frozenset(name for name, one in PRIMITIVES.items() if derives(name, "string")) | {"anyURI", "anySimpleType"}
NUMBER_TYPES = frozenset(name for name, one in PRIMITIVES.items() if one.python in (int, Decimal, float))
ORDERED_TYPES = NUMBER_TYPES | {"date", "time", "dateTime"}
BINARY_TYPES = frozenset({"base64Binary", "hexBinary"})
