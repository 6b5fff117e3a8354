"""Procedures and functions of a PostgreSQL database, from its system catalogue (documentation, section 53.39, pg_proc)."""

from typing import Any

from bricola.adapters.engines.postgresql.discovery import OURS, names_of
from bricola.adapters.engines.postgresql.types import type_in_catalogue
from bricola.adapters.tables import grouped
from bricola.core.sql.routines import CURSOR, Parameter, Routine, Way
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.tables import Column
from bricola.core.sql.types import literal

_NAME = "CASE WHEN n.nspname = current_schema() THEN p.proname ELSE n.nspname || '.' || p.proname END"
# Without those that belong to an extension (it brings them, and nobody published them), of triggers, and of languages inside the server.
_ROUTINES = f"""
SELECT p.oid::bigint, {_NAME}, p.prokind::text, pg_get_function_identity_arguments(p.oid),
  COALESCE(obj_description(p.oid, 'pg_proc'), ''), p.proretset, p.provolatile::text, p.provariadic <> 0 AND p.pronargdefaults = 0,
  format_type(p.prorettype, NULL), rt.typtype::text, rt.typrelid::bigint,
  has_function_privilege(p.oid, 'EXECUTE') AND has_schema_privilege(n.oid, 'USAGE'), format_type(rt.typbasetype, rt.typtypmod)
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace JOIN pg_type rt ON rt.oid = p.prorettype
WHERE p.prokind IN ('f', 'p') AND {OURS} AND rt.typname NOT IN ('trigger', 'event_trigger', 'internal', 'language_handler')
  AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'e')
ORDER BY 2, 4"""
_PARAMETERS = f"""
SELECT p.oid::bigint, COALESCE(p.proargnames[a.place], ''), COALESCE(p.proargmodes[a.place]::text, 'i'), format_type(a.type, NULL),
  COALESCE(pg_get_function_arg_default(p.oid, a.place::int), ''), t.typtype::text, format_type(t.typbasetype, t.typtypmod),
  COALESCE((SELECT string_agg(quote_literal(e.enumlabel), ',' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = a.type), '')
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
  CROSS JOIN LATERAL unnest(COALESCE(p.proallargtypes, p.proargtypes::oid[])) WITH ORDINALITY AS a (type, place)
  JOIN pg_type t ON t.oid = a.type
WHERE p.prokind IN ('f', 'p') AND {OURS} ORDER BY p.oid, a.place"""
_FIELDS = f"""
SELECT p.oid::bigint, a.attname::text, format_type(a.atttypid, a.atttypmod), t.typtype::text, format_type(t.typbasetype, t.typtypmod)
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace JOIN pg_type rt ON rt.oid = p.prorettype
  JOIN pg_attribute a ON a.attrelid = rt.typrelid JOIN pg_type t ON t.oid = a.atttypid
WHERE p.prokind = 'f' AND {OURS} AND rt.typrelid <> 0 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY p.oid, a.attnum"""
_WAYS: dict[str, Way] = {"i": "in", "o": "out", "b": "in-out", "v": "in", "t": "out"}


async def routines(session: DatabaseSession) -> list[Routine]:
    """All procedures and functions that this user sees."""
    given, fields = grouped(await session.rows(_PARAMETERS, [])), grouped(await session.rows(_FIELDS, []))
    return [_routine(row, given.get(row[0], []), fields.get(row[0], [])) for row in await session.rows(_ROUTINES, [])]


def _routine(row: Any, given: list[Any], fields: list[Any]) -> Routine:
    _, name, kind, signature, comment, several, changes, _, result, result_kind, _, _, base_of = row
    parameters: list[Parameter] = []
    columns: list[Column] = []
    place = 0
    for _, called, mode, declared, default, kind_of, base, labels in given:
        place += mode in "ibv"
        told = type_in_catalogue(declared, kind_of, base)
        if mode == "t" or (several and mode in "ob"):
            columns.append(Column(called or f"column{len(columns) + 1}", declared, told))
        if mode != "t" and not (several and mode == "o"):
            way = "in" if several else _WAYS[mode]  # of rows, what goes in and out is a column of theirs
            parameters.append(Parameter(called or f"${place}", way, declared, told, bool(default), literal(default), names_of(labels)))
    if kind == "f" and not columns and all(one.way == "in" for one in parameters) and result != "void":
        held = [(one[1], one[2], type_in_catalogue(one[2], one[3], one[4])) for one in fields]
        told = type_in_catalogue(result, result_kind, base_of)
        if several and result != CURSOR:
            columns = [Column(*one) for one in held] or [Column(name.rpartition(".")[2], result, told)]
        elif held:
            taken = {one.name for one in parameters}  # a field of the row may be called like an argument
            parameters += [Parameter(f"{called}{'_2' if called in taken else ''}", "out", declared, kind_of)
                           for called, declared, kind_of in held]
        else:
            own = "result" if all(one.name != "result" for one in parameters) else "result2"
            parameters.append(Parameter(own, "returns", result, told))
    shows = any(one.declared == CURSOR and one.way != "in" for one in parameters)
    return Routine(name, "procedure" if kind == "p" else "function", signature, comment, tuple(parameters), tuple(columns),
                   bool(several), shows, changes == "v", tuple(_obstacles(row, given, fields)))


def _obstacles(row: Any, given: list[Any], fields: list[Any]) -> list[str]:
    result, result_kind, allowed = row[8], row[9], row[11]
    found = [] if allowed else ["this user may not execute it"]
    if row[7]:
        found.append("it takes any number of arguments")
    kinds = {one[5] for one in given if one[2] != "v"}
    if "p" in kinds or (result_kind == "p" and result not in ("void", "record", CURSOR)):
        found.append("its types are open until it is called")
    if result == "record" and not fields and all(one[2] not in "obt" for one in given) and row[2] == "f":
        found.append("what its rows hold is open until it is called")
    return found
