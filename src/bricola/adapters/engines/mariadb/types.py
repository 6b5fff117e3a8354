"""The types of MariaDB, as messages know them."""

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from pymysql.constants import FIELD_TYPE

from bricola.core.sql.tables import ColumnType
from bricola.core.sql.types import column_type

_TYPES = {"float": "float", "real": "double", "inet6": "string", "inet4": "string"}
_BINARY = 63  # the character set of what is no text (MariaDB documentation, result set packets)
_WORDS: Mapping[int, str] = {
    FIELD_TYPE.TINY: "tinyint", FIELD_TYPE.SHORT: "smallint", FIELD_TYPE.INT24: "mediumint", FIELD_TYPE.LONG: "int",
    FIELD_TYPE.LONGLONG: "bigint", FIELD_TYPE.YEAR: "year", FIELD_TYPE.FLOAT: "float", FIELD_TYPE.DOUBLE: "double",
    FIELD_TYPE.DATE: "date", FIELD_TYPE.NEWDATE: "date", FIELD_TYPE.TIME: "time", FIELD_TYPE.DATETIME: "datetime",
    FIELD_TYPE.TIMESTAMP: "timestamp", FIELD_TYPE.JSON: "json",
}
_TEXTS = frozenset((FIELD_TYPE.VARCHAR, FIELD_TYPE.VAR_STRING, FIELD_TYPE.STRING, FIELD_TYPE.BLOB, FIELD_TYPE.TINY_BLOB,
                    FIELD_TYPE.MEDIUM_BLOB, FIELD_TYPE.LONG_BLOB))


def type_of(field: Any) -> ColumnType | None:
    """Of a column of a result, by its description packet: `type_code`, `length`, `scale`, `charsetnr`. None where it says nothing, as of
    NULL and of what an extension brings."""
    code = field.type_code
    if code in _TEXTS:
        return ColumnType("base64Binary" if field.charsetnr == _BINARY else "string")
    if code in (FIELD_TYPE.DECIMAL, FIELD_TYPE.NEWDECIMAL):
        return ColumnType("decimal", {"fraction": field.scale})
    if code == FIELD_TYPE.BIT:
        return ColumnType("boolean" if field.length == 1 else "nonNegativeInteger")
    word = _WORDS.get(code)
    if word is None:
        return None
    return declared_type(f"{word}(1)" if word == "tinyint" and field.length == 1 else word)


def declared_type(declared: str) -> ColumnType:
    if re.match(r"set\(", declared, re.IGNORECASE):
        return ColumnType("string")  # its members with commas between, as the server writes and reads it
    if re.match(r"bit\((?!1\))", declared, re.IGNORECASE):
        return ColumnType("nonNegativeInteger")
    found = column_type(declared, _TYPES)
    # A TIMESTAMP is an instant; sessions have the time zone UTC. What a DATETIME means only its owner knows.
    return replace(found, zone="utc") if re.match("timestamp", declared, re.IGNORECASE) else found
