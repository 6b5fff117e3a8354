"""What is known of a value before there is one: its class, whether it may be absent, and how large it can get."""

import keyword
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time
from decimal import Decimal
from enum import StrEnum
from typing import Any

from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.primitives import ANY
from bricola.core.shapes.simple import SimpleType


class Of(StrEnum):
    """Classes of values, in the words that findings use."""

    TEXT = "text"
    WHOLE = "whole number"
    DECIMAL = "decimal number"
    FLOAT = "floating-point number"
    BOOLEAN = "true or false"
    DATE = "date"
    TIME = "time of day"
    MOMENT = "moment"
    DURATION = "duration"
    BINARY = "bytes"
    PART = "part of a date"  # gYearMonth and its kin, kept as written
    XML = "XML"
    UNION = "value of several types"
    RECORD = "record"
    LIST = "list"
    LOOKUP = "lookup"
    NOTHING = "nothing"
    UNKNOWN = "something that is wrong itself"


_BY_PYTHON: dict[type, Of] = {
    str: Of.TEXT, int: Of.WHOLE, Decimal: Of.DECIMAL, float: Of.FLOAT, bool: Of.BOOLEAN, date: Of.DATE, time: Of.TIME, datetime: Of.MOMENT,
    bytes: Of.BINARY,
}
NUMBERS = frozenset({Of.WHOLE, Of.DECIMAL, Of.FLOAT})
EXACT = frozenset({Of.WHOLE, Of.DECIMAL})
ORDERED = NUMBERS | {Of.TEXT, Of.DATE, Of.TIME, Of.MOMENT, Of.DURATION}
SIMPLE = ORDERED | {Of.BOOLEAN, Of.BINARY, Of.PART, Of.UNION}
_PARTS = frozenset({"gYear", "gYearMonth", "gMonth", "gDay", "gMonthDay"})
_INTEGER_DIGITS = {"int": 10, "short": 5, "byte": 3, "long": 19, "unsignedInt": 10, "unsignedShort": 5, "unsignedByte": 3,
                   "unsignedLong": 20}
NONE = object()  # no constant
Digits = tuple[int, int]  # before and after the point


@dataclass(frozen=True)
class Type:
    """The type of a term. `digits` bounds a number's places, None when nothing does; `codes` are all values that a text can have."""

    of: Of
    optional: bool = False
    base: str = ""  # the built-in type, where a part of a date or a union is meant
    codes: tuple[str, ...] = ()
    digits: Digits | None = None
    length: int | None = None  # of a text, at most
    record: Record | None = field(default=None, compare=False)
    fields: tuple[tuple[str, "Type"], ...] = ()  # of a record that an expression made
    item: "Type | None" = None  # of a list or a lookup
    key: "Type | None" = None  # of a lookup
    least: int = 0  # items of a list
    constant: Any = field(default=NONE, compare=False)
    sensitive: bool = field(default=False, compare=False)  # masked wherever people look on
    simple: SimpleType | None = field(default=None, compare=False)  # whose values it has, where it comes from a shape

    @property
    def names(self) -> list[str]:
        """The fields of a record."""
        return [one.name for one in self.record.slots] if self.record is not None else [name for name, _ in self.fields]

    def field(self, name: str) -> "Type | None":
        if self.record is not None:
            found = next((one for one in self.record.slots if one.name == name), None)
            return type_of(found) if found is not None else None
        return dict(self.fields).get(name)

    @property
    def present(self) -> "Type":
        return replace(self, optional=False) if self.optional else self

    @property
    def absent(self) -> "Type":
        """The same, which may be absent; an absent list is an empty one."""
        if self.of is Of.LIST:
            return replace(self, least=0)
        return replace(self, optional=True, constant=NONE) if self.of not in (Of.NOTHING, Of.UNKNOWN) else self

    @property
    def kept(self) -> "Type":
        """Of a name that may get another value later: nothing that holds for this one value only."""
        return replace(self, digits=None if self.of in EXACT else self.digits, constant=NONE, least=0)

    @property
    def words(self) -> str:
        text = self._words
        return f"{text} that may be absent" if self.optional else text

    @property
    def _words(self) -> str:
        if self.of is Of.RECORD:
            name = self.record.name if self.record is not None else ""
            if name:
                return f"record {name}"
            return f"record of {', '.join(self.names[:6])}"
        if self.of in (Of.LIST, Of.LOOKUP):
            return f"{self.of} of {self.item.words if self.item is not None else Of.NOTHING}"
        if self.codes and self.constant is NONE:
            listed = ", ".join(self.codes[:6])
            return f"{self.of}, one of {listed}{', …' if len(self.codes) > 6 else ''}"
        return f"{self.of} ({self.base})" if self.of is Of.PART else str(self.of)


BOOLEAN, TEXT, WHOLE, FLOAT, DECIMAL = Type(Of.BOOLEAN), Type(Of.TEXT), Type(Of.WHOLE), Type(Of.FLOAT), Type(Of.DECIMAL)
DATE, TIME, MOMENT, DURATION, XML = Type(Of.DATE), Type(Of.TIME), Type(Of.MOMENT), Type(Of.DURATION), Type(Of.XML)
NOTHING = Type(Of.NOTHING, optional=True)
UNKNOWN = Type(Of.UNKNOWN)  # of what could not be worked out: nothing is said of what speaks of it


def list_of(item: Type, least: int = 0) -> Type:
    return Type(Of.LIST, item=item, least=least)


def record_of(fields: Iterable[tuple[str, Type]]) -> Type:
    return Type(Of.RECORD, fields=tuple(fields))


def of_record(record: Record) -> Type:
    return Type(Of.RECORD, record=record)


def spoken(name: str) -> str:
    """How a name of a contract is written in an expression: each sign that is none of a name as `_`, and a `_` behind a word of the
    language (`order-id` is `order_id`, `from` is `from_`)."""
    plain = "".join(one if one.isalnum() or one == "_" else "_" for one in name)
    plain = plain if plain[:1].isidentifier() else f"_{plain}"
    return f"{plain}_" if keyword.iskeyword(plain) else plain


def meant(written: str, names: Iterable[str]) -> str:
    """The name that is meant by what is written: itself, or the one that is spoken so."""
    found = list(names)
    return written if written in found else next((one for one in found if spoken(one) == written), written)


def type_of(element: Element) -> Type:
    """The type of an element's value: a list where it repeats, else absent where it is optional and has no default."""
    one = of_record(element.type) if isinstance(element.type, Record) else _simple(element.type)
    if element.sensitive:
        one = replace(one, sensitive=True)
    if element.is_list:
        return replace(list_of(one, element.least), sensitive=element.sensitive)
    may_miss = (element.least == 0 and element.default is None) or element.nillable
    return replace(one, optional=True) if may_miss and one.of is not Of.LIST else one


def _simple(kind: SimpleType) -> Type:
    if kind.item is not None:
        return list_of(_simple(kind.item))
    if kind.members:
        return Type(Of.UNION, base=kind.name or "union")
    if kind.base == ANY:
        return XML
    if kind.base in _PARTS:
        return Type(Of.PART, base=kind.base)
    if kind.base == "duration":
        return DURATION
    of = _BY_PYTHON[kind.primitive.python]
    codes = kind.codes if of is Of.TEXT else ()
    digits: Digits | None = None
    if of is Of.DECIMAL and kind.digits is not None:
        digits = kind.digits - (kind.fraction or 0) if kind.fraction is not None else kind.digits, kind.fraction or kind.digits
    elif of is Of.WHOLE:
        most = kind.digits or _INTEGER_DIGITS.get(kind.base)
        digits = (most, 0) if most is not None else None
    return Type(of, codes=codes, digits=digits, length=kind.max_length or kind.length, simple=kind)


def of_value(value: Any) -> Type:
    """The type of a constant."""
    if value is None:
        return NOTHING
    of = _BY_PYTHON[type(value)]
    digits: Digits | None = None
    if isinstance(value, Decimal):
        _, numerals, exponent = value.as_tuple()
        assert isinstance(exponent, int)
        digits = max(0, len(numerals) + exponent), max(0, -exponent)
    elif of is Of.WHOLE:
        digits = len(str(abs(value))), 0
    return Type(of, codes=(value,) if of is Of.TEXT else (), digits=digits, length=len(value) if of is Of.TEXT else None, constant=value)


def join(one: Type, other: Type) -> Type | None:
    """What is of either type; None where nothing is."""
    if Of.UNKNOWN in (one.of, other.of):
        return UNKNOWN
    if one.of is Of.NOTHING or other.of is Of.NOTHING:
        return (other if one.of is Of.NOTHING else one).absent
    optional = one.optional or other.optional
    if one.of is not other.of:
        if {one.of, other.of} == EXACT:
            return Type(Of.DECIMAL, optional, digits=widest(one.digits, other.digits))
        return None
    if one.of is Of.RECORD:
        return _join_records(one, other, optional)
    if one.of is Of.LIST:
        return _join_lists(one, other)
    if one.of is Of.LOOKUP or (one.of in (Of.PART, Of.UNION) and one.base != other.base):
        return replace(one, optional=optional) if one == other else None
    codes = tuple(dict.fromkeys((*one.codes, *other.codes))) if one.codes and other.codes else ()
    length = max(one.length, other.length) if one.length is not None and other.length is not None else None
    return Type(one.of, optional, one.base, codes, widest(one.digits, other.digits), length)


def _join_records(one: Type, other: Type, optional: bool) -> Type | None:
    if one.record is not None and one.record == other.record:
        return replace(one, optional=optional)
    if set(one.names) != set(other.names):
        return None
    fields = []
    for name in one.names:
        left, right = one.field(name), other.field(name)
        both = join(left, right) if left is not None and right is not None else None
        if left is None or right is None or both is None or {left.of, right.of} - {both.of, Of.NOTHING}:
            return None  # a value inside would have to be turned into another class
        fields.append((name, both))
    return replace(record_of(fields), optional=optional)


def _join_lists(one: Type, other: Type) -> Type | None:
    if one.item is None or other.item is None:
        return replace(one if one.item is not None else other, least=0)
    item = join(one.item, other.item)
    if item is None or {one.item.of, other.item.of} - {item.of, Of.NOTHING}:
        return None
    return list_of(item, min(one.least, other.least))


def merge(one: Type, other: Type) -> Type | None:
    """What is of either type, where records may have fields that the other one lacks; those may be absent then."""
    if Of.UNKNOWN in (one.of, other.of):
        return UNKNOWN
    if one.of is other.of is Of.RECORD and (one.record is None or one.record != other.record):
        fields = []
        for name in dict.fromkeys((*one.names, *other.names)):
            left, right = one.field(name), other.field(name)
            if left is None or right is None:
                fields.append((name, (left or right or NOTHING).absent))
                continue
            both = merge(left, right)
            if both is None:
                return None
            fields.append((name, both))
        return replace(record_of(fields), optional=one.optional or other.optional)
    found = join(one, other)
    return found if found is None or not {one.of, other.of} - {found.of, Of.NOTHING} else None


def widest(one: Digits | None, other: Digits | None) -> Digits | None:
    return (max(one[0], other[0]), max(one[1], other[1])) if one is not None and other is not None else None
