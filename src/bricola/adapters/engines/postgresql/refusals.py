"""What PostgreSQL refuses: by SQLSTATE and the fields of its messages (documentation, appendix A and section 55.8).

Its detail and context tell values of the row, and stay out. Of its first line so do the texts that it could not read as a value.
"""

import contextlib
import re
from collections.abc import Mapping
from typing import Any

import psycopg

from bricola.core.problems import ProblemError
from bricola.core.sql.refusals import Refusal, Why
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import quoted, table_name

_BY_STATE: Mapping[str, Why] = {
    "23505": Why.UNIQUE, "23P01": Why.UNIQUE, "23503": Why.FOREIGN, "23001": Why.FOREIGN, "23514": Why.CHECK, "44000": Why.CHECK,
    "23502": Why.REQUIRED, "42501": Why.RIGHTS, "25006": Why.RIGHTS, "42P01": Why.MISSING, "42703": Why.MISSING, "42883": Why.MISSING,
    "3F000": Why.MISSING, "2D000": Why.COMMITS, "42704": Why.MISSING, "428C9": Why.CHECK,
}
_VALUES = ("22001", "22003", "22007", "22008", "22P02", "22P03", "22P05", "22021", "22026", "22032", "2200N")
_RAISED = "P0001"  # raise_exception (appendix A), which other languages use, too
_RAISING = "exec_stmt_raise"  # the server's own function that runs RAISE, in whatever language its messages are
_ABOUT = re.compile(r"\((.+?)\)=")  # the columns in the detail of a violation, in every language of the server
_QUOTED = re.compile(r'"[^"]*"')
_LENGTH = re.compile(r"(?:character(?: varying)?|bit(?: varying)?)\((\d+)\)")
_KEYED = ("SELECT a.attname FROM pg_constraint c CROSS JOIN LATERAL unnest(c.conkey) AS k(n) JOIN pg_attribute a ON a.attrelid = c.conrelid"
          " AND a.attnum = k.n WHERE c.conrelid = to_regclass(?) AND c.conname = ?"
          " UNION ALL SELECT a.attname FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid CROSS JOIN LATERAL unnest(i.indkey) AS k(n)"
          " JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.n WHERE i.indrelid = to_regclass(?) AND x.relname = ?")
_TYPES = ("SELECT attname, format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = to_regclass(?) AND attnum > 0"
          " AND NOT attisdropped")


def refusal(error: psycopg.Error, bound: bool) -> Refusal:
    """`bound` says whether the statement had parameters: without any, a value that cannot be read is none of the caller's."""
    told = error.diag
    state = error.sqlstate or ""
    first = (told.message_primary or str(error).strip().split("\n")[0]).strip()
    if told.source_function == _RAISING or state == _RAISED:
        return Refusal(Why.RAISED, f"A function of the database raises an error of its own (SQLSTATE {state}).", _columns(told),
                       told.constraint_name or "", first, state)
    if state in _VALUES:
        why = Why.VALUE if bound else Why.OTHER
        return Refusal(why, f"{_QUOTED.sub('…', first)} (SQLSTATE {state}).", _columns(told), told.datatype_name or "", state=state)
    why = _BY_STATE.get(state) or (Why.STATEMENT if state[:2] == "42" else Why.OTHER)
    if state[:2] == "22":
        first = _QUOTED.sub("…", first)
    return Refusal(why, f"{first} (SQLSTATE {state})." if state else first, _columns(told), told.constraint_name or "", state=state)


def _columns(told: Any) -> tuple[str, ...]:
    if told.column_name:
        return (told.column_name,)
    found = _ABOUT.search(told.message_detail or "") if told.constraint_name else None
    return tuple(one.strip().strip('"') for one in found[1].split(",")) if found else ()


async def blamed(session: DatabaseSession, table: str, refused: Refusal, values: Mapping[str, Any]) -> list[str]:
    """The columns of a constraint; or those whose type does not take the value, found by trying each alone."""
    name = table_name(table)
    if refused.rule and refused.why is not Why.VALUE:
        rows = await session.rows(_KEYED, [name, refused.rule, name, refused.rule])
        if rows:
            return [row[0] for row in rows]
    if refused.why not in (Why.VALUE, Why.CHECK):
        return []
    found = []
    for column, declared in await session.rows(_TYPES, [name]):
        value = values.get(column)
        if value is not None and not await _fits(session, declared, value):
            found.append(column)
    return found


async def _fits(session: DatabaseSession, declared: str, value: Any) -> bool:
    """Without its length a cast would cut a text instead of refusing it."""
    bound = _LENGTH.search(declared)
    if bound and isinstance(value, str):
        return len(value.rstrip(" ") if declared.startswith("character(") else value) <= int(bound[1])
    with contextlib.suppress(ProblemError):
        await session.rows(f"SELECT CAST(? AS {declared}) AS {quoted('value')}", [value])
        return True
    return False
