"""Procedures and functions of a MariaDB database, from information_schema (ISO/IEC 9075-11, 5.51 and 5.35)."""

from typing import Any

from bricola.adapters.engines.mariadb.types import declared_type
from bricola.adapters.tables import grouped
from bricola.core.sql.routines import Parameter, Routine, Way
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.types import enumeration, literal

_OURS = "NOT IN ('mysql', 'sys', 'information_schema', 'performance_schema')"
_NAME = "CASE WHEN {0} = DATABASE() THEN specific_name ELSE CONCAT({0}, '.', specific_name) END"
_ROUTINES = (f"SELECT {_NAME.format('routine_schema')}, routine_type, COALESCE(routine_comment, ''), sql_data_access"
             f" FROM information_schema.routines WHERE routine_schema {_OURS} AND routine_type IN ('FUNCTION', 'PROCEDURE')"
             " ORDER BY routine_schema <> DATABASE(), 1, 2")
_PARAMETERS = (f"SELECT CONCAT(routine_type, ' ', {_NAME.format('specific_schema')}), ordinal_position, parameter_mode, parameter_name,"
               f" dtd_identifier, DEFAULT_OF FROM information_schema.parameters WHERE specific_schema {_OURS} ORDER BY 1, ordinal_position")
_DEFAULTS = ("SELECT COUNT(*) FROM information_schema.columns WHERE table_schema = 'information_schema' AND table_name = 'PARAMETERS'"
             " AND column_name = 'PARAMETER_DEFAULT'")  # from version 11.8 on
_WAYS: dict[str, Way] = {"IN": "in", "OUT": "out", "INOUT": "in-out"}
_READS = ("READS SQL DATA", "NO SQL")


async def routines(session: DatabaseSession) -> list[Routine]:
    """All procedures and functions that this user may call or change. What rows a procedure gives no catalogue tells."""
    has_defaults = (await session.rows(_DEFAULTS, []))[0][0]
    given = grouped(await session.rows(_PARAMETERS.replace("DEFAULT_OF", "parameter_default" if has_defaults else "NULL"), []))
    return [_routine(row, given.get(f"{row[1]} {row[0]}", [])) for row in await session.rows(_ROUTINES, [])]


def _routine(row: Any, given: list[Any]) -> Routine:
    name, kind, comment, access = row
    parameters = tuple(_parameter(one, {two[3] for two in given}) for one in given)
    signature = ", ".join(f"{one.name} {one.declared}" for one in parameters if one.way != "returns")
    obstacles = ["what comes out of a function beside its value cannot be read"] if kind == "FUNCTION" and any(
        one.way in ("out", "in-out") for one in parameters) else []
    ordered = tuple(sorted(parameters, key=lambda one: one.way == "returns"))  # the catalogue has the value of a function at place 0
    return Routine(name, "procedure" if kind == "PROCEDURE" else "function", signature, comment, ordered,
                   shows_rows=kind == "PROCEDURE", writes=access not in _READS, obstacles=tuple(obstacles))


def _parameter(row: Any, names: set[str]) -> Parameter:
    _, place, mode, name, declared, default = row
    if place == 0:
        return Parameter("result" if "result" not in names else "result2", "returns", declared, declared_type(declared),
                         codes=enumeration(declared))
    return Parameter(name, _WAYS[mode or "IN"], declared, declared_type(declared), default is not None, literal(default),
                     enumeration(declared))
