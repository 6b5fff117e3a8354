"""What MariaDB refuses: by the numbers of its messages (documentation, Error Codes). Many of them tell values, which are cut out."""

import re
from collections.abc import Mapping
from typing import Any

from pymysql.constants import ER

from bricola.core.sql.refusals import Refusal, Why
from bricola.core.sql.sessions import DatabaseSession

_BY_CODE: Mapping[int, Why] = {
    ER.DUP_ENTRY: Why.UNIQUE, ER.DUP_KEY: Why.UNIQUE, 1586: Why.UNIQUE, ER.NO_REFERENCED_ROW: Why.FOREIGN,
    ER.NO_REFERENCED_ROW_2: Why.FOREIGN,
    ER.ROW_IS_REFERENCED: Why.FOREIGN, ER.ROW_IS_REFERENCED_2: Why.FOREIGN, ER.BAD_NULL_ERROR: Why.REQUIRED, 1364: Why.REQUIRED,
    4025: Why.CHECK, 1906: Why.CHECK, ER.DATA_TOO_LONG: Why.VALUE, ER.WARN_DATA_OUT_OF_RANGE: Why.VALUE, 1292: Why.VALUE, 1366: Why.VALUE,
    1265: Why.VALUE, 1411: Why.VALUE, 1918: Why.VALUE, 3140: Why.VALUE,
    ER.TABLEACCESS_DENIED_ERROR: Why.RIGHTS, ER.COLUMNACCESS_DENIED_ERROR: Why.RIGHTS, ER.DBACCESS_DENIED_ERROR: Why.RIGHTS,
    1227: Why.RIGHTS,
    1370: Why.RIGHTS, 1290: Why.RIGHTS, 1792: Why.RIGHTS, 1836: Why.RIGHTS,
    ER.NO_SUCH_TABLE: Why.MISSING, ER.BAD_FIELD_ERROR: Why.MISSING, ER.BAD_TABLE_ERROR: Why.MISSING, 1305: Why.MISSING, 1046: Why.MISSING,
    1049: Why.MISSING, ER.PARSE_ERROR: Why.STATEMENT, 1064: Why.STATEMENT, 1149: Why.STATEMENT, 1055: Why.STATEMENT, 1058: Why.STATEMENT,
}
_RAISED = (1643, 1644)  # SIGNAL, unless its author gave it a number of his own
_SERVER = range(1, 5000)  # the server's own numbers
# Messages in which what stands in apostrophes is a name.
_NAMES = (1048, 1054, 1142, 1143, 1146, 1227, 1290, 1305, 1364, 1370, 1049, 1051, 1055, 1264, 1265, 1406, 1906)
_ENTRY = re.compile(r"'.*'(?= for (?:key|column)\b)|(?<=value: )'.*'(?= for)", re.DOTALL)
_QUOTED = re.compile(r"'.*'", re.DOTALL)
# Names stand in backticks or, as sessions are set, in the standard's quotes.
_COLUMN = re.compile(r"""(?:[Cc]olumn|[Ff]ield) (?:[`"][^`"]*[`"]\.[`"][^`"]*[`"]\.)?[`'"]([^`'"]+)[`'"]""")
_KEY = re.compile(r"for key '(?:[^'.]+\.)?([^']+)'$")
_CONSTRAINT = re.compile(r"""CONSTRAINT [`'"](?:[^`'".]+\.)?([^`'"]+)[`'"]""")
_FOREIGN = re.compile(r"FOREIGN KEY \(([^)]*)\)")
_PART = re.compile(r"""[`"]([^`"]+)[`"]""")


def refusal(code: int, message: str, state: str) -> Refusal:
    if code in _RAISED or code not in _SERVER:
        return Refusal(Why.RAISED, f"The database signals an error of its own (error {code}).", words=message,
                       state=state, number=code)
    why = _BY_CODE.get(code, Why.OTHER)
    key = _KEY.search(message) if why is Why.UNIQUE else None
    rule = key or _CONSTRAINT.search(message)
    columns: tuple[str, ...] = ()
    if why is Why.FOREIGN and (foreign := _FOREIGN.search(message)):
        columns = tuple(_PART.findall(foreign[1]))
    elif why is not Why.UNIQUE and (column := _COLUMN.search(message)):
        columns = (column[1],)
    said = message if code in _NAMES else _ENTRY.sub("…", message) if _ENTRY.search(message) else _QUOTED.sub("…", message)
    return Refusal(why, f"{said} (error {code}).", columns, rule[1] if rule else "", state=state, number=code)


async def blamed(session: DatabaseSession, table: str, refused: Refusal, values: Mapping[str, Any]) -> list[str]:
    """The columns of a unique index, and those that the condition of a CHECK mentions."""
    name = table.rpartition(".")[2]
    if refused.why is Why.UNIQUE and refused.rule:
        rows = await session.rows("SELECT column_name FROM information_schema.statistics WHERE table_schema = DATABASE() AND table_name = ?"
                                  " AND index_name = ? ORDER BY seq_in_index", [name, refused.rule])
        return [row[0] for row in rows]
    if refused.why is Why.CHECK and refused.rule:
        rows = await session.rows("SELECT check_clause FROM information_schema.check_constraints WHERE constraint_schema = DATABASE()"
                                  " AND table_name = ? AND constraint_name = ?", [name, refused.rule])
        return [part for row in rows for part in _PART.findall(row[0]) if part in values] or [
            part for row in rows for part in _PART.findall(row[0])]
    return []
