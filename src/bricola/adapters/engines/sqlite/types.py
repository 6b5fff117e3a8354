"""The types of SQLite, as messages know them."""

from bricola.core.sql.tables import ColumnType
from bricola.core.sql.types import column_type

# Whatever a column is declared as, a whole number has up to 64 bits and any other is a double (SQLite documentation, Datatypes, 2 and 3.1).
_TYPES = dict.fromkeys(("int", "integer", "smallint", "tinyint", "mediumint", "bigint", "int2", "int4", "int8"), "long") | dict.fromkeys(
    ("real", "float", "double", "double precision"), "double") | {"tinyint unsigned": "long"}
_ANYTHING = frozenset(("", "any", "blob", "num", "numeric"))  # what holds values of every kind; also the engine's words for expressions


def declared_type(declared: str) -> ColumnType:
    return column_type(declared, _TYPES)


def type_of(declared: str) -> ColumnType | None:
    """Of a column of a result. None where the engine says nothing of its values: it keeps to no type but by its affinity."""
    found = declared_type(declared)
    return None if declared.strip().lower() in _ANYTHING or not found.base else found
