"""Looking around in a backend's database, and drafting definitions from what is there."""

import contextlib
from collections.abc import Iterator
from dataclasses import asdict, replace
from typing import Any

from bricola.adapters.engines import DOORS
from bricola.adapters.engines.door import TableFunctions
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.drafting import USUAL, Wish, draft, left_out, open_zones
from bricola.core.problems import Problem, ProblemError
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import quoted, table_name
from bricola.core.sql.tables import Column, Table
from bricola.server.ports.drafts import unknown
from bricola.server.ports.places import bound_backend
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports
from bricola.server.usecases.new_services import refuse_taken
from bricola.server.usecases.publishing_state import published

_LOOKUP_COLUMNS = 3
_ROWS_LOOKED_AT = 20  # for samples


async def tables(ports: Ports, environment: str, backend: str, search: str = "") -> list[dict[str, Any]]:
    """The tables and views whose name, comment or column has the text in it, with what is published of them already."""
    place = ports.drafts.environment(environment)
    words = search.lower().split()
    found = [one for one in await all_tables(ports, place, backend) if all(_mentions(one, word) for word in words)]
    known = _published(ports, environment, backend)
    return [_summary(one, known) for one in found]


async def table(ports: Ports, environment: str, backend: str, name: str) -> dict[str, Any]:
    """One table with everything that is known of it, its rows counted, and proposals for children."""
    place = ports.drafts.environment(environment)
    found, everything = await _one(ports, place, backend, name)
    others = {one.name: one for one in everything}
    async with ports.places.visit(place, backend, ports.drafts.catalogue) as session:
        found = await _counted(session, found, _tables(ports, place, backend))
    return _summary(found, _published(ports, environment, backend)) | {
        "columns": [_column(one) for one in found.columns], "unique": list(found.unique), "key_from": found.key_from,
        "foreign_keys": [asdict(one) for one in found.foreign_keys],
        "children": [{"table": other, "columns": list(key.columns), "targets": list(key.targets), "rows": others[other].rows,
                      "reasons": list(others[other].reasons)} for other, key in found.referenced_by],
    }


async def draft_object(
    ports: Ports, environment: str, backend: str, name: str, wish: dict[str, Any], save: bool, author: str
) -> dict[str, Any]:
    """Definitions made of a table: object, children, service. With `save` they become drafts."""
    place = ports.drafts.environment(environment)
    found, everything = await _one(ports, place, backend, name)
    if wish.get("key"):
        missing = [one for one in wish["key"] if found.column(one) is None]
        if missing:
            raise ProblemError(unknown("column", missing[0], [one.name for one in found.columns]))
        found = found.keyed(tuple(wish["key"]))
    others = {one.name: one for one in everything}
    children = []
    reader = _tables(ports, place, backend)
    async with ports.places.visit(place, backend, ports.drafts.catalogue) as session:
        if not found.reasons:
            found = await _counted(session, found, reader)
        for child in wish.get("children", ()):
            if child not in others:
                raise ProblemError(unknown("table", child, sorted(others)))
            children.append(others[child])
        samples = {} if found.reasons else await real_values(session, found)
    lookups = tuple(dict.fromkeys(one for each in (found, *children) for one in _lookups(each, others) if one.name != found.name))
    made = draft(found, Wish(backend, wish.get("name", ""), wish.get("service", ""), tuple(wish.get("operations") or USUAL),
                             tuple(wish.get("roles", ())), tuple(children), samples, lookups, wish.get("zone", "")), ports.drafts.catalogue)
    refuse_taken(ports.drafts.catalogue, made)
    files = {default_path(one): write_definition(one) for one in made}
    changes = [definitions.plain_change(one) for one in await definitions.apply(ports, files, author)] if save else []
    return {"files": files, "saved": save, "changes": changes,
            "left_out": [{"table": each.name, "column": one.name, "declared": one.declared}
                         for each in (found, *children) for one in left_out(each)],
            "open_zones": [] if wish.get("zone") else [{"table": each.name, "field": one} for each in (found, *children)
                                                       for one in open_zones(each)]}


def _tables(ports: Ports, place: EnvironmentDefinition, backend: str) -> TableFunctions:
    """What reads the tables of a backend. Raises ProblemError for one that has none."""
    engine = bound_backend(place, backend, ports.drafts.catalogue)[0].about
    tables = DOORS[engine.word].tables
    if tables is None:
        raise ProblemError(
            Problem(
                "discover.tables",
                f"{backend} is a {engine.title} and has no tables.",
                place=backend,
                mend=f"Record a walk through its screens in the console, or look: bricola terminal {place.name} {backend}",
            )
        )
    return tables


async def all_tables(ports: Ports, place: EnvironmentDefinition, backend: str) -> list[Table]:
    reader = _tables(ports, place, backend)
    async with ports.places.visit(place, backend, ports.drafts.catalogue) as session:
        found: list[Table] = await reader.tables(session)
    marks = bound_backend(place, backend, ports.drafts.catalogue)[1].requests
    return [one for one in found if one.name != marks]  # Bricola's own


async def _one(ports: Ports, place: EnvironmentDefinition, backend: str, name: str) -> tuple[Table, list[Table]]:
    everything = await all_tables(ports, place, backend)
    found = next((one for one in everything if one.name == name), None)
    if found is None:
        raise ProblemError(unknown("table", name, [one.name for one in everything]))
    return found, everything


async def _counted(session: DatabaseSession, table: Table, reader: TableFunctions) -> Table:
    if not table.exact and not table.obstacles:
        with contextlib.suppress(ProblemError):  # of a very large table the estimate has to do
            table = replace(table, rows=await reader.count(session, table.name), exact=True)
    return table


def _lookups(table: Table, others: dict[str, Table]) -> Iterator[Table]:
    """Tables of codes that it refers to. Their rows are data, and come and go: callers pick one, and no contract lists them."""
    for key in table.foreign_keys:
        target = others.get(key.table)
        if target is not None and len(key.columns) == 1 and target.key == key.targets and len(target.columns) <= _LOOKUP_COLUMNS \
                and not target.reasons:
            yield target


async def real_values(session: DatabaseSession, table: Table) -> dict[str, Any]:
    """Values of the first row, so that samples work unedited; what is empty there is taken from one of the next rows."""
    names = [one.name for one in table.columns if one.type.base and one.type.base != "base64Binary"]
    order = ", ".join(quoted(one) for one in table.key)
    rows = await session.rows(
        f"SELECT {', '.join(quoted(one) for one in names)} FROM {table_name(table.name)} ORDER BY {order} LIMIT {_ROWS_LOOKED_AT}", []
    )
    found: dict[str, Any] = {}
    for row in rows:
        found = {name: value for name, value in zip(names, row, strict=True) if value is not None} | found
    return found


def _mentions(table: Table, word: str) -> bool:
    told = [table.name, table.comment, *(one.name for one in table.columns), *(one.comment for one in table.columns)]
    return any(word in text.lower() for text in told)


def _published(ports: Ports, environment: str, backend: str) -> dict[str, list[tuple[str, bool]]]:
    """By table: the objects made of it with the services that publish them, and whether one is live there."""
    found: dict[str, list[tuple[str, bool]]] = {}
    for one in ports.drafts.catalogue:
        if isinstance(one, ObjectDefinition) and one.backend == backend:
            found.setdefault(one.table, []).append(published(ports.drafts, ports.places, environment, one))
    return found


def _summary(table: Table, known: dict[str, list[tuple[str, bool]]]) -> dict[str, Any]:
    return {
        "name": table.name,
        "kind": table.kind,
        "comment": table.comment,
        "rows": table.rows,
        "exact": table.exact,
        "columns": [one.name for one in table.columns],
        "key": list(table.key),
        "reasons": list(table.reasons),
        "used": [words for words, _ in known.get(table.name, [])],
        "serving": any(live for _, live in known.get(table.name, [])),
    }


def _column(column: Column) -> dict[str, Any]:
    return {
        "name": column.name,
        "declared": column.declared,
        "type": column.type.base,
        "zone": column.type.zone,
        "required": not column.nullable,
        "default": column.default,
        "filled": column.filled,
        "made": column.made,
        "comment": column.comment,
        "codes": list(column.codes),
        "codes_from": column.codes_from,
    }
