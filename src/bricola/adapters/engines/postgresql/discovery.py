"""What a PostgreSQL database holds, from its system catalogues (PostgreSQL documentation, chapter 53)."""

from typing import Any

from bricola.adapters.engines.postgresql.types import type_in_catalogue
from bricola.adapters.tables import grouped
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import table_name
from bricola.core.sql.tables import Column, ForeignKey, Table
from bricola.core.sql.types import checked_codes, literal

_KINDS = {"r": "table", "p": "table", "f": "table", "v": "view", "m": "view"}
_NAME = "CASE WHEN n.nspname = current_schema() THEN c.relname ELSE n.nspname || '.' || c.relname END"
OURS = "n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg!_%' ESCAPE '!'"
_TABLES = f"""
SELECT c.oid::bigint, {_NAME}, c.relkind::text, COALESCE(obj_description(c.oid, 'pg_class'), ''), c.reltuples::bigint,
  has_table_privilege(c.oid, 'SELECT') AND has_schema_privilege(n.oid, 'USAGE')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm') AND NOT c.relispartition AND {OURS} ORDER BY 2"""
_COLUMNS = f"""
SELECT a.attrelid::bigint, a.attname::text, format_type(a.atttypid, a.atttypmod), a.attnotnull,
  COALESCE(pg_get_expr(d.adbin, d.adrelid), ''),
  COALESCE(col_description(a.attrelid, a.attnum), ''), a.attidentity::text <> '' OR a.attgenerated::text <> '',
  COALESCE((SELECT string_agg(quote_literal(e.enumlabel), ',' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = a.atttypid), ''),
  t.typtype::text, format_type(t.typbasetype, t.typtypmod)
FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  JOIN pg_type t ON t.oid = a.atttypid
  LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'f', 'v', 'm') AND {OURS} ORDER BY a.attrelid, a.attnum"""
_KEYS = f"""
SELECT i.indrelid::bigint, i.indisprimary, x.relname::text, array_to_string(ARRAY(SELECT quote_literal(a.attname) FROM unnest(i.indkey)
    WITH ORDINALITY AS k (n, o) JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.n ORDER BY k.o), ','),
  (SELECT bool_and(a.attnotnull) FROM unnest(i.indkey) AS k (n) JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.n)
FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class x ON x.oid = i.indexrelid
WHERE i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indisvalid AND {OURS}
ORDER BY i.indisprimary DESC, i.indnatts, x.relname"""
_CONSTRAINTS = f"""
SELECT k.conrelid::bigint, k.contype::text, pg_get_constraintdef(k.oid), k.confrelid::bigint,
  array_to_string(ARRAY(SELECT quote_literal(a.attname) FROM unnest(k.conkey) WITH ORDINALITY AS p (n, o)
    JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = p.n ORDER BY p.o), ','),
  array_to_string(ARRAY(SELECT quote_literal(a.attname) FROM unnest(k.confkey) WITH ORDINALITY AS p (n, o)
    JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = p.n ORDER BY p.o), ',')
FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE k.contype IN ('f', 'c') AND {OURS} ORDER BY k.oid"""


async def tables(session: DatabaseSession) -> list[Table]:
    """All tables and views that this user sees, with the server's estimates of their rows."""
    listed = await session.rows(_TABLES, [])
    names = {row[0]: row[1] for row in listed}
    columns = grouped(await session.rows(_COLUMNS, []))
    keys = grouped(await session.rows(_KEYS, []))
    constraints = grouped(await session.rows(_CONSTRAINTS, []))
    references: dict[int, list[tuple[str, ForeignKey]]] = {}
    foreign: dict[int, list[ForeignKey]] = {}
    for oid, rows in constraints.items():
        for row in rows:
            if row[1] == "f" and row[3] in names:
                one = ForeignKey(names_of(row[4]), names[row[3]], names_of(row[5]))
                foreign.setdefault(oid, []).append(one)
                references.setdefault(row[3], []).append((names[oid], one))
    found = []
    for oid, name, kind, comment, estimate, readable in listed:
        checks = [row[2] for row in constraints.get(oid, []) if row[1] == "c"]
        usable = [row for row in keys.get(oid, []) if row[4]]
        key, key_from = (names_of(usable[0][3]), "primary key" if usable[0][1] else f"unique index {usable[0][2]}") if usable else ((), "")
        found.append(
            Table(
                name,
                _KINDS[kind],
                comment,
                estimate if estimate >= 0 and kind != "v" else None,
                False,
                tuple(_column(row, checks) for row in columns.get(oid, [])),
                key,
                key_from,
                tuple(parts[0] for row in keys.get(oid, []) if len(parts := names_of(row[3])) == 1 and parts != key),
                tuple(foreign.get(oid, [])),
                tuple(references.get(oid, [])),
                () if readable else ("this user may not read it",),
            )
        )
    return found


async def count(session: DatabaseSession, name: str) -> int:
    return int((await session.rows(f"SELECT COUNT(*) FROM {table_name(name)}", []))[0][0])


def names_of(text: str) -> tuple[str, ...]:
    """Names from `'a','b'`, as quote_literal writes them."""
    names, current, inside, index = [], "", False, 0
    while index < len(text):
        letter = text[index]
        if letter == "'" and inside and text[index + 1:index + 2] == "'":
            current, index = current + "'", index + 1
        elif letter == "'":
            if inside:
                names.append(current)
                current = ""
            inside = not inside
        elif inside:
            current += letter
        index += 1
    return tuple(names)


def _column(row: Any, checks: list[str]) -> Column:
    _, name, declared, required, default, comment, generated, labels, kind, base = row
    codes = names_of(labels)
    codes_from = "enumeration" if codes else ""
    if not codes:
        codes = next((found for clause in checks if (found := checked_codes(clause, name))), ())
        codes_from = "check constraint" if codes else ""
    told = type_in_catalogue(declared, kind, base)
    value = literal(default)
    serial = "nextval(" in default
    return Column(
        name,
        declared,
        told,
        not required,
        value,
        not generated and not serial and bool(default and not value and default != "NULL"),
        generated or serial,
        comment,
        codes,
        codes_from,
    )
