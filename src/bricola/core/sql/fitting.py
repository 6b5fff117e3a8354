"""Whether what a database's statement gives fits what a definition says of it: asked before anything is deployed, without reading a row."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal

from bricola.core.definitions.engines.engine import Dialect
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.tables import ColumnType

_INTEGERS = frozenset(("short", "int", "long", "unsignedInt", "nonNegativeInteger", "byte", "integer"))
_NUMBERS = _INTEGERS | {"decimal", "float", "double"}


@dataclass(frozen=True)
class Misfit:
    """A field whose column is of another type; `index` is its place among the statement's columns."""

    index: int
    field: str
    expected: str
    found: str


def misfits(elements: Sequence[Element], found: Sequence[ColumnType | None], dialect: Dialect) -> list[Misfit]:
    """The fields that cannot hold what their columns give. Of a column that the database tells nothing of (None), nothing is said."""
    wrong = []
    for index, (element, column) in enumerate(zip(elements, found, strict=True)):
        if column is not None and isinstance(element.type, SimpleType) and not _fits(element.type, column, dialect):
            wrong.append(Misfit(index, element.name, element.type.primitive.name, column.base or "a type that messages do not have"))
    return wrong


def _fits(kind: SimpleType, column: ColumnType, dialect: Dialect) -> bool:
    test = _HOLDS.get(kind.primitive.python)
    return bool(column.base) and (test is None or test(column, dialect))


def _whole(column: ColumnType, dialect: Dialect) -> bool:
    return column.base in _NUMBERS and not column.facets.get("fraction")


def _exact(column: ColumnType, dialect: Dialect) -> bool:
    return column.base in _NUMBERS or (column.base == "string" and dialect.casts_decimals)  # numbers kept as text


def _one_of(*bases: str) -> Callable[[ColumnType, Dialect], bool]:
    return lambda column, dialect: column.base in bases


# By the Python class of the type that a definition gives; of the other types each value is judged when it is read.
_HOLDS: Mapping[type, Callable[[ColumnType, Dialect], bool]] = {
    str: lambda column, dialect: column.base != "base64Binary",
    bool: lambda column, dialect: column.base == "boolean" or column.base in _INTEGERS,
    int: _whole,
    float: lambda column, dialect: column.base in _NUMBERS,
    Decimal: _exact,
    date: _one_of("date", "string"),
    datetime: _one_of("dateTime", "string"),
    time: _one_of("time", "string"),
    bytes: _one_of("base64Binary", "string"),
}
