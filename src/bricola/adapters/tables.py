"""What the readers of all databases share."""

from dataclasses import replace

from bricola.core.sql.tables import Table


def with_references(table: Table, all_tables: list[Table]) -> Table:
    """The table with the keys by which others refer to it."""
    found = tuple((other.name, key) for other in all_tables for key in other.foreign_keys if key.table == table.name)
    return replace(table, referenced_by=found)
