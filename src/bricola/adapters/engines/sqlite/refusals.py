"""What SQLite refuses: by its extended result codes (documentation, Result and Error Codes). Its messages hold no values."""

import re
import sqlite3
from collections.abc import Mapping
from typing import Any

from bricola.core.sql.refusals import Refusal, Why
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import quoted, table_name

_BY_CODE: Mapping[int, Why] = {
    sqlite3.SQLITE_CONSTRAINT_UNIQUE: Why.UNIQUE, sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY: Why.UNIQUE,
    sqlite3.SQLITE_CONSTRAINT_ROWID: Why.UNIQUE,
    sqlite3.SQLITE_CONSTRAINT_FOREIGNKEY: Why.FOREIGN, sqlite3.SQLITE_CONSTRAINT_NOTNULL: Why.REQUIRED,
    sqlite3.SQLITE_CONSTRAINT_CHECK: Why.CHECK, sqlite3.SQLITE_CONSTRAINT_TRIGGER: Why.RAISED, sqlite3.SQLITE_MISMATCH: Why.VALUE,
    sqlite3.SQLITE_TOOBIG: Why.VALUE, 3091: Why.VALUE,  # SQLITE_CONSTRAINT_DATATYPE, of a strict table
}
_BY_PRIMARY = {sqlite3.SQLITE_READONLY: Why.RIGHTS, sqlite3.SQLITE_PERM: Why.RIGHTS, sqlite3.SQLITE_AUTH: Why.RIGHTS,
               sqlite3.SQLITE_CONSTRAINT: Why.CHECK, sqlite3.SQLITE_RANGE: Why.STATEMENT}
_MISSING = re.compile(r"no such |has no column named ")
_ABOUT = re.compile(r"constraint failed: (.+)|column (\S+)$")
_WORD = re.compile(r"[A-Za-z_][A-Za-z_0-9]*|\"[^\"]+\"|\[[^\]]+\]|`[^`]+`")


def refusal(error: Exception) -> Refusal:
    code = getattr(error, "sqlite_errorcode", 0)
    message = str(error)
    if isinstance(error, OverflowError):
        return Refusal(Why.VALUE, "A whole number has more than 64 bits.")
    why = _BY_CODE.get(code) or _BY_PRIMARY.get(code & 0xFF, Why.OTHER)
    if why is Why.RAISED:
        return Refusal(why, "A trigger raises an error of its own.", words=message)
    if why is Why.OTHER and code == sqlite3.SQLITE_ERROR:
        why = Why.MISSING if _MISSING.search(message) else Why.STATEMENT if "syntax error" in message else Why.OTHER
    told = _ABOUT.search(message)
    about = (told[1] or told[2]) if told else ""
    if why is Why.CHECK:
        return Refusal(why, message, rule=about)
    columns = tuple(one.strip().rpartition(".")[2] for one in about.split(",")) if about and why is not Why.FOREIGN else ()
    return Refusal(why, message, columns)


async def blamed(session: DatabaseSession, table: str, refused: Refusal, values: Mapping[str, Any]) -> list[str]:
    """The columns that a CHECK mentions; and those that refer to a row that is not there, since the engine does not say which."""
    name = table.rpartition(".")[2]
    if refused.why is Why.FOREIGN:
        return await _dangling(session, name, values)
    if refused.why is not Why.CHECK or not refused.rule:
        return []
    condition = refused.rule
    schema = await session.rows("SELECT sql FROM sqlite_master WHERE type = 'table' AND lower(name) = lower(?)", [name])
    named = re.search(rf"CONSTRAINT\s+[\"\[`]?{re.escape(condition)}[\"\]`]?\s+CHECK\s*\((.*)", schema[0][0] if schema else "",
                      re.IGNORECASE | re.DOTALL)
    if named:
        condition = _balanced(named[1])
    known = {row[0].lower(): row[0] for row in await session.rows("SELECT name FROM pragma_table_info(?)", [name])}
    return list(dict.fromkeys(known[word] for one in _WORD.findall(condition) if (word := one.strip('"[]`').lower()) in known))


def _balanced(text: str) -> str:
    depth = 1
    for index, letter in enumerate(text):
        depth += (letter == "(") - (letter == ")")
        if not depth:
            return text[:index]
    return text


async def _dangling(session: DatabaseSession, name: str, values: Mapping[str, Any]) -> list[str]:
    keys: dict[int, list[Any]] = {}
    for row in await session.rows('SELECT id, "table", "from", "to" FROM pragma_foreign_key_list(?) ORDER BY id, seq', [name]):
        keys.setdefault(row[0], []).append(row)
    for rows in keys.values():
        given = [values.get(row[2]) for row in rows]
        if any(one is None for one in given):
            continue
        target = rows[0][1]
        theirs = [row[3] for row in rows]
        if None in theirs:  # to the primary key, without naming it
            theirs = [row[0] for row in await session.rows("SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", [target])]
        where = " AND ".join(f"{quoted(one)} = ?" for one in theirs)
        if not await session.rows(f"SELECT 1 FROM {table_name(target)} WHERE {where} LIMIT 1", given):
            return [row[2] for row in rows]
    return []
