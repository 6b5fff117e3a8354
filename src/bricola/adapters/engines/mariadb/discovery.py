"""What a MariaDB database holds, from information_schema (ISO/IEC 9075-11)."""

import re
from typing import Any

from bricola.adapters.engines.mariadb.types import declared_type
from bricola.adapters.tables import grouped, with_references
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import table_name
from bricola.core.sql.tables import Column, ForeignKey, Table
from bricola.core.sql.types import checked_codes, enumeration, literal

_TABLES = ("SELECT table_name, table_type, COALESCE(table_comment, ''), table_rows FROM information_schema.tables"
           " WHERE table_schema = DATABASE() ORDER BY table_name")
_COLUMNS = ("SELECT table_name, column_name, column_type, is_nullable, column_default, column_comment, extra, generation_expression"
            " FROM information_schema.columns WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position")
_KEYS = ("SELECT table_name, index_name, column_name, nullable FROM information_schema.statistics"
         " WHERE table_schema = DATABASE() AND non_unique = 0 ORDER BY table_name, index_name, seq_in_index")
_REFERENCES = ("SELECT table_name, constraint_name, column_name, referenced_table_name, referenced_column_name"
               " FROM information_schema.key_column_usage WHERE table_schema = DATABASE() AND referenced_table_schema = DATABASE()"
               " ORDER BY table_name, constraint_name, ordinal_position")
_CHECKS = "SELECT table_name, check_clause FROM information_schema.check_constraints WHERE constraint_schema = DATABASE()"


async def tables(session: DatabaseSession) -> list[Table]:
    """All tables and views of the database, with the server's estimates of their rows."""
    columns, keys = grouped(await session.rows(_COLUMNS, [])), grouped(await session.rows(_KEYS, []))
    references, checks = grouped(await session.rows(_REFERENCES, [])), grouped(await session.rows(_CHECKS, []))
    found = []
    for name, kind, comment, estimate in await session.rows(_TABLES, []):
        key, key_from = _key(keys.get(name, []))
        is_view = "VIEW" in kind
        clauses = [row[1] for row in checks.get(name, [])]
        found.append(Table(
            name, "view" if is_view else "table", "" if is_view else comment, None if is_view or estimate is None else int(estimate), False,
            tuple(_column(row, clauses) for row in columns.get(name, [])), key, key_from,
            tuple(one for one in _unique(keys.get(name, [])) if (one,) != key), _foreign_keys(references.get(name, []))))
    return [with_references(one, found) for one in found]


async def count(session: DatabaseSession, name: str) -> int:
    return int((await session.rows(f"SELECT COUNT(*) FROM {table_name(name)}", []))[0][0])


def _key(rows: list[Any]) -> tuple[tuple[str, ...], str]:
    indexes: dict[str, list[Any]] = {}
    for row in rows:
        indexes.setdefault(row[1], []).append(row)
    usable = {name: parts for name, parts in indexes.items() if all(row[3] != "YES" for row in parts)}
    chosen = "PRIMARY" if "PRIMARY" in usable else next(iter(sorted(usable, key=lambda name: len(usable[name]))), "")
    if not chosen:
        return (), ""
    return tuple(row[2] for row in usable[chosen]), "primary key" if chosen == "PRIMARY" else f"unique index {chosen}"


def _unique(rows: list[Any]) -> list[str]:
    """Columns that are alone in a unique index."""
    indexes: dict[str, list[str]] = {}
    for row in rows:
        indexes.setdefault(row[1], []).append(row[2])
    return [parts[0] for parts in indexes.values() if len(parts) == 1]


def _foreign_keys(rows: list[Any]) -> tuple[ForeignKey, ...]:
    grouped: dict[str, list[Any]] = {}
    for row in rows:
        grouped.setdefault(row[1], []).append(row)
    return tuple(ForeignKey(tuple(row[2] for row in parts), parts[0][3], tuple(row[4] for row in parts)) for parts in grouped.values())


def _column(row: Any, checks: list[str]) -> Column:
    _, name, declared, nullable, default, comment, extra, expression = row
    codes = enumeration(declared)
    codes_from = "enumeration" if codes else ""
    if not codes:
        codes = next((found for clause in checks if (found := checked_codes(clause, name))), ())
        codes_from = "check constraint" if codes else ""
    value = literal(default)
    made = bool(re.search(r"auto_increment|generated", extra or "", re.IGNORECASE)) or bool(expression)
    filled = not made and bool(default and not value and str(default).upper() != "NULL")
    return Column(name, declared, declared_type(declared), nullable == "YES", value, filled, made, comment or "", codes, codes_from)
