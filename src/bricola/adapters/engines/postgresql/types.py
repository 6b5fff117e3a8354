"""The types of PostgreSQL, as messages know them."""

import re

from bricola.core.sql.tables import ColumnType
from bricola.core.sql.types import column_type


def type_of(code: int, name: str) -> ColumnType | None:
    """Of a column of a result, by its number and the driver's word for it. One that the driver does not know is an enumeration or comes
    from an extension, and is carried as its text. None for one of the server's own, of which nothing is said."""
    found = ColumnType("string") if name == str(code) else declared_type(_LONG.get(name.partition("(")[0], name))
    return found if found.base else None


_LONG = {"bpchar": "character", "bool": "boolean", "int2": "smallint", "int4": "integer", "int8": "bigint", "float4": "real",
         "float8": "double precision", "timetz": "time with time zone", "varbit": "bit varying"}  # words of the catalogue for those of SQL


def declared_type(declared: str) -> ColumnType:
    """What messages have no type for is carried as the server's own text, which it reads back (documentation, chapter 8)."""
    word = re.split(r"[ (]", declared.removesuffix("[]"))[0] if declared.endswith("[]") else re.split(r"[(]| (?!varying)", declared)[0]
    if declared.endswith("[]") or word in _OWN_TEXT or declared.startswith("interval"):
        return ColumnType("string")
    return column_type(declared)


def type_in_catalogue(declared: str, kind: str, base: str) -> ColumnType:
    """Of a type by its `typtype` (documentation, section 53.64): an enumeration is a text, and a domain what it is made of."""
    return declared_type("text" if kind == "e" else base if kind == "d" else declared)


_OWN_TEXT = frozenset((
    "json", "jsonb", "interval", "inet", "cidr", "macaddr", "macaddr8", "money", "point", "line", "lseg", "box", "path", "polygon",
    "circle", "int4range", "int8range", "numrange", "tsrange", "tstzrange", "daterange", "int4multirange", "int8multirange",
    "nummultirange", "tsmultirange", "tstzmultirange", "datemultirange", "tsvector", "tsquery", "pg_lsn", "bit varying", "ltree", "hstore",
))
