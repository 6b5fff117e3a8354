"""From the types that databases declare to the simple types of messages, with the facets that they imply.

One table for what the standard names, and a short one for each engine where the same word means another thing there. What messages have no
type for is carried as the database's own text where the engine writes and reads that (PostgreSQL does of every type), and else left out.
"""

import re
from collections.abc import Callable, Mapping

from bricola.core.sql.tables import OPEN_ZONE, ColumnType

_SIZED = re.compile(
    r"\s*([A-Za-z_ ]+?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*(unsigned|with(?:out)? time zone)?\s*(?:zerofill)?\s*", re.IGNORECASE
)
_ENUM = re.compile(r"enum\((.*)\)", re.IGNORECASE | re.DOTALL)
_STRING = re.compile(r"'((?:[^']|'')*)'")

_PLAIN: dict[str, str] = {
    "boolean": "boolean", "bool": "boolean", "date": "date", "time": "time", "year": "int", "uuid": "string", "json": "string",
    "xml": "string", "name": "string",
    "smallint": "short", "int2": "short", "tinyint": "short", "mediumint": "int", "int": "int", "integer": "int", "int4": "int",
    "serial": "int", "bigint": "long", "int8": "long", "bigserial": "long",
    "real": "float", "float4": "float", "double precision": "double", "double": "double", "float8": "double", "float": "double",
    "bytea": "base64Binary", "blob": "base64Binary", "tinyblob": "base64Binary", "mediumblob": "base64Binary", "longblob": "base64Binary",
    "binary": "base64Binary", "varbinary": "base64Binary",
    "text": "string", "tinytext": "string", "mediumtext": "string", "longtext": "string", "clob": "string", "citext": "string",
}
_TEXTS = {
    "character varying",
    "varchar",
    "character",
    "char",
    "bpchar",
    "nvarchar",
    "nchar",
    "varchar2",
    "varying character",
    "native character",
}
_DECIMALS = {"decimal", "numeric", "dec", "fixed", "number"}
_MOMENTS = {"timestamp", "datetime", "timestamp with time zone", "timestamp without time zone", "timestamptz"}
_NOTHING_OWN: Mapping[str, str] = {}
_UNSIGNED = {"short": "int", "int": "unsignedInt", "long": "nonNegativeInteger"}


def column_type(declared: str, own: Mapping[str, str] = _NOTHING_OWN) -> ColumnType:
    """The type for a declared one, by the engine's own table and then the common one; `base` is '' where messages have no such type."""
    word = declared.strip().lower()
    if _ENUM.match(word):
        return ColumnType("string")
    found = _SIZED.fullmatch(declared)
    if found is None:
        return ColumnType("")
    name = " ".join(found[1].lower().split())
    size, scale, after = found[2], found[3], (found[4] or "").lower()
    if "zone" in after:
        name = f"{name} {after}"
    if name in own:
        return ColumnType(_UNSIGNED.get(own[name], own[name]) if after == "unsigned" else own[name])
    make = _SPECIAL.get(name)
    if make is not None:
        return make(size)
    if name in _TEXTS:
        return ColumnType("string", {"max_length": int(size)} if size else {})
    if name in _DECIMALS:
        return ColumnType("decimal", {"digits": int(size), "fraction": int(scale or 0)} if size else {})
    if name in _MOMENTS:
        return ColumnType("dateTime", {}, "" if name in ("timestamp with time zone", "timestamptz") else OPEN_ZONE)
    if name.startswith("time with"):
        return ColumnType("time")
    base = _PLAIN.get(name, "")
    return ColumnType(_UNSIGNED.get(base, base) if after == "unsigned" else base)


_SPECIAL: dict[str, Callable[[str | None], ColumnType]] = {
    "tinyint": lambda size: ColumnType("boolean" if size == "1" else "short"),
    "bit": lambda size: ColumnType("boolean" if size in (None, "1") else ""),
    "uuid": lambda size: ColumnType("string", {"length": 36}),
}


def enumeration(declared: str) -> tuple[str, ...]:
    """The codes of an `enum('a', 'b')`."""
    found = _ENUM.match(declared.strip())
    return quoted_strings(found[1]) if found else ()


def quoted_strings(text: str) -> tuple[str, ...]:
    return tuple(one.replace("''", "'") for one in _STRING.findall(text))


def checked_codes(clause: str, column: str) -> tuple[str, ...]:
    """The codes that a check constraint allows a column, when the constraint is just a list of them.

    Read are `kind IN ('a', 'b')` and what engines make of it: quoted names, casts, `= ANY (ARRAY['a'::text, …])`."""
    name = re.escape(column)
    pattern = rf"""[("`\s]*{name}["`)\s]*(?:::[a-z ]+\)?\s*)?(?:in\s*\(|=\s*any\s*\(+\s*array\s*\[)(?P<list>(?:[^()]|\([^()]*\))*?)[\])]"""
    found = re.search(pattern, clause, re.IGNORECASE)
    if found is None or re.search(r"\b(and|or)\b", re.sub(r"'(?:[^']|'')*'", "", clause), re.IGNORECASE):
        return ()
    return quoted_strings(found["list"])


def literal(text: str | None) -> str:
    """The value of a default that is a plain literal: a number, a quoted text, true or false. '' for anything else."""
    word = re.sub(r"::[a-z \"()0-9]+$", "", (text or "").strip(), flags=re.IGNORECASE).strip()
    while word.startswith("(") and word.endswith(")"):
        word = word[1:-1].strip()
    if re.fullmatch(r"-?\d+(\.\d+)?", word):
        return word
    if re.fullmatch(r"'(?:[^']|'')*'", word):
        return word[1:-1].replace("''", "'")
    return word.lower() if word.lower() in ("true", "false") else ""
