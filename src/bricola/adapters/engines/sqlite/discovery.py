"""What a SQLite database holds, from its schema table and its pragma functions."""

import re
from dataclasses import replace
from typing import Any

from bricola.adapters.engines.sqlite.types import declared_type
from bricola.adapters.tables import with_references
from bricola.core.problems import ProblemError
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import quoted
from bricola.core.sql.tables import Column, ColumnType, ForeignKey, Table
from bricola.core.sql.types import checked_codes, literal


async def tables(session: DatabaseSession) -> list[Table]:
    """All tables and views, with exact counts of rows."""
    found = []
    listed = await session.rows("SELECT name, type, COALESCE(sql, '') FROM sqlite_schema WHERE type IN ('table', 'view')"
                                " AND name NOT LIKE 'sqlite!_%' ESCAPE '!' ORDER BY name", [])
    for name, kind, sql in listed:
        found.append(await _table(session, name, kind, sql))
    return [with_references(one, found) for one in found]


async def count(session: DatabaseSession, name: str) -> int:
    return int((await session.rows(f"SELECT COUNT(*) FROM {quoted(name)}", []))[0][0])


async def _table(session: DatabaseSession, name: str, kind: str, sql: str) -> Table:
    info = await session.rows(
        'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(?) WHERE hidden IN (0, 2, 3)', [name]
    )
    keys = [row[0] for row in sorted((row for row in info if row[4]), key=lambda row: row[4])]
    key, key_from = tuple(keys), "primary key" if keys else ""
    if not key and kind == "table":
        key, key_from = await _unique(session, name, {row[0] for row in info if row[2]})
    serial = bool(re.search(r"\bautoincrement\b", sql, re.IGNORECASE))
    obstacles: tuple[str, ...] = ()
    rows: int | None = None
    try:
        rows = await count(session, name)
    except ProblemError as error:  # a view on what is not there, a virtual table whose module is not loaded
        if error.problem.code != "backend.slow":  # of a very large table the number of rows stays open
            obstacles = (f"it cannot be read: {error.problem.inner}",)
    columns = tuple(_as_key(_column(row, sql, keys, serial), key) for row in info)
    unique = tuple(one for one in await _alone(session, name) if (one,) != key) if kind == "table" else ()
    return Table(name, kind, "", rows, True, columns, key, key_from, unique, await _foreign_keys(session, name), (), obstacles)


def _as_key(column: Column, key: tuple[str, ...]) -> Column:
    """This engine has no moments, only texts and numbers that somebody means as such: one that is a key is found by its very text."""
    return replace(column, type=ColumnType("string")) if column.name in key and column.type.base in ("dateTime", "time") else column


def _column(row: Any, sql: str, keys: list[str], serial: bool) -> Column:
    name, declared, required, default, pk, hidden = row
    kind = declared_type(declared or "text")
    codes = next((found for clause in re.findall(r"check\s*\((.*?\))\s*\)", sql, re.IGNORECASE | re.DOTALL)
                  if (found := checked_codes(clause, name))), ())
    value = literal(default)
    rowid = keys == [name] and declared.upper() == "INTEGER"  # an alias of the row's number, which is made where none is given
    made = bool(hidden) or (serial and rowid)
    filled = not made and (rowid or bool(default and not value and default.upper() != "NULL"))
    return Column(name, declared or "any", kind, not required and not pk, value, filled, made, "", codes,
                  "check constraint" if codes else "")


async def _unique(session: DatabaseSession, name: str, required: set[str]) -> tuple[tuple[str, ...], str]:
    for (index,) in await session.rows(
        'SELECT name FROM pragma_index_list(?) WHERE "unique" = 1 AND partial = 0 ORDER BY seq DESC', [name]
    ):
        columns = [row[0] for row in await session.rows("SELECT name FROM pragma_index_info(?) ORDER BY seqno", [index])]
        if columns and all(one in required for one in columns):
            return tuple(columns), f"unique index {index}"
    return (), ""


async def _alone(session: DatabaseSession, name: str) -> list[str]:
    """Columns that are alone in a unique index."""
    rows = await session.rows('SELECT i.name, c.name FROM pragma_index_list(?) AS i JOIN pragma_index_info(i.name) AS c'
                              ' WHERE i."unique" = 1 AND i.partial = 0 ORDER BY i.seq DESC, c.seqno', [name])
    grouped: dict[str, list[str]] = {}
    for index, column in rows:
        grouped.setdefault(index, []).append(column)
    return [parts[0] for parts in grouped.values() if len(parts) == 1 and parts[0] is not None]


async def _foreign_keys(session: DatabaseSession, name: str) -> tuple[ForeignKey, ...]:
    rows = await session.rows('SELECT id, "table", "from", COALESCE("to", \'\') FROM pragma_foreign_key_list(?) ORDER BY id, seq', [name])
    grouped: dict[int, list[Any]] = {}
    for row in rows:
        grouped.setdefault(row[0], []).append(row)
    found = []
    for parts in grouped.values():
        targets = [row[3] for row in parts]
        if not all(targets):  # it refers to the primary key without naming it
            info = await session.rows("SELECT name FROM pragma_table_xinfo(?) WHERE pk > 0 ORDER BY pk", [parts[0][1]])
            targets = [row[0] for row in info]
        if len(targets) == len(parts):
            found.append(ForeignKey(tuple(row[2] for row in parts), parts[0][1], tuple(targets)))
    return tuple(found)
