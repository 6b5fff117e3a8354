"""How values come from PostgreSQL: as values of simple types where messages have one, and else as the server's own text.

The driver would make Python objects of documents, intervals, arrays and ranges, whose text is no longer the server's: months of an interval
would be lost, and `null` would become `None`. A date that Python cannot hold (infinity, a year before Christ) comes as text, too; the
encoder then refuses it with the name of its field, in place of a broken session.
"""

from typing import Any

import psycopg
from psycopg.adapt import AdaptersMap, Buffer, Loader
from psycopg.pq import Format
from psycopg.types.string import TextLoader

_KEPT = frozenset(("bool", "int2", "int4", "int8", "float4", "float8", "numeric", "bytea", "text", "varchar", "bpchar", "name", "char",
                   "oid", "date", "time", "timetz", "timestamp", "timestamptz"))
_DATED = ("date", "time", "timetz", "timestamp", "timestamptz")


def adapters() -> AdaptersMap:
    """For connections: the driver's own, with the server's text for every type that messages do not have."""
    made = AdaptersMap(psycopg.adapters)
    for one in made.types:
        if one.name not in _KEPT:
            made.register_loader(one.oid, TextLoader)
        if one.array_oid:
            made.register_loader(one.array_oid, TextLoader)
    for name in _DATED:
        oid = made.types[name].oid
        known = made.get_loader(oid, Format.TEXT)
        assert known is not None
        made.register_loader(oid, _or_text(known))
    return made


def _or_text(known: type[Any]) -> type[Loader]:
    """A loader that gives the text of what the driver's own cannot hold."""

    class OrText(Loader):
        format = Format.TEXT

        def __init__(self, oid: int, context: Any = None) -> None:
            super().__init__(oid, context)
            self._known = known(oid, context)

        def load(self, data: Buffer) -> Any:
            try:
                return self._known.load(data)
            except psycopg.DataError:
                return bytes(data).decode()

    return OrText


class Texts:
    """What a connection takes its adapters from."""

    adapters = adapters()
    connection = None
