"""What the readers of all databases share."""

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from bricola.core.sql.sessions import DriverRow
from bricola.core.sql.tables import Table


def with_references(table: Table, all_tables: list[Table]) -> Table:
    """The table with the keys by which others refer to it."""
    found = tuple((other.name, key) for other in all_tables for key in other.foreign_keys if key.table == table.name)
    return replace(table, referenced_by=found)


def grouped(rows: Iterable[DriverRow]) -> dict[Any, list[DriverRow]]:
    """Rows by what stands in their first column."""
    found: dict[Any, list[DriverRow]] = {}
    for row in rows:
        found.setdefault(row[0], []).append(row)
    return found
