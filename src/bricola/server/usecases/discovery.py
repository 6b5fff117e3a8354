"""Looking around in a backend's database, and drafting definitions from what is there."""

import contextlib
from dataclasses import asdict, replace
from types import ModuleType
from typing import Any

from bricola.adapters.discovery import mariadb, postgres, sqlite
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition
from bricola.core.definitions.objects import ObjectDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.discovery.draft import USUAL, Wish, draft
from bricola.core.discovery.model import Column, Table
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.databases import DatabaseSession
from bricola.core.runtime.statements import quoted, table_name
from bricola.server.bricola import Bricola
from bricola.server.runtime import bound_backend
from bricola.server.usecases import catalogue
from bricola.server.usecases.lookup import find_environment, unknown

_READERS: dict[str, ModuleType] = {"sqlite": sqlite, "postgresql": postgres, "mariadb": mariadb}
_SMALL = 40  # rows of a lookup table whose keys are taken as codes
_LOOKUP_COLUMNS = 3


async def tables(bricola: Bricola, environment: str, backend: str, search: str = "") -> list[dict[str, Any]]:
    """The tables and views whose name, comment or column has the text in it, with what is published of them already."""
    place = find_environment(bricola.catalogue, environment)
    words = search.lower().split()
    found = [one for one in await _all(bricola, place, backend) if all(_mentions(one, word) for word in words)]
    published = _published(bricola, backend)
    return [_summary(one, published) for one in found]


async def table(bricola: Bricola, environment: str, backend: str, name: str) -> dict[str, Any]:
    """One table with everything that is known of it, its rows counted, and proposals for children."""
    place = find_environment(bricola.catalogue, environment)
    found, everything = await _one(bricola, place, backend, name)
    others = {one.name: one for one in everything}
    async with bricola.runtime.visit(place, backend, bricola.catalogue) as session:
        found = await _completed(session, found, others, _engine(bricola, place, backend))
    return _summary(found, _published(bricola, backend)) | {
        "columns": [_column(one) for one in found.columns], "key_from": found.key_from,
        "foreign_keys": [asdict(one) for one in found.foreign_keys],
        "children": [{"table": other, "columns": list(key.columns), "targets": list(key.targets), "rows": others[other].rows,
                      "reasons": list(others[other].reasons)} for other, key in found.referenced_by],
    }


async def draft_object(
    bricola: Bricola, environment: str, backend: str, name: str, wish: dict[str, Any], save: bool, author: str
) -> dict[str, Any]:
    """Definitions made of a table: object, children, service. With `save` they become drafts."""
    place = find_environment(bricola.catalogue, environment)
    found, everything = await _one(bricola, place, backend, name)
    if wish.get("key"):
        missing = [one for one in wish["key"] if found.column(one) is None]
        if missing:
            raise ProblemError(unknown("column", missing[0], [one.name for one in found.columns]))
        found = found.keyed(tuple(wish["key"]))
    others = {one.name: one for one in everything}
    children = []
    engine = _engine(bricola, place, backend)
    async with bricola.runtime.visit(place, backend, bricola.catalogue) as session:
        if not found.reasons:
            found = await _completed(session, found, others, engine)
        for child in wish.get("children", ()):
            if child not in others:
                raise ProblemError(unknown("table", child, sorted(others)))
            children.append(await _completed(session, others[child], others, engine))
        samples = {} if found.reasons else await _first_row(session, found)
    made = draft(found, Wish(backend, wish.get("name", ""), wish.get("service", ""), tuple(wish.get("operations") or USUAL),
                             tuple(wish.get("roles", ())), tuple(children), samples), bricola.catalogue)
    taken = [one for one in made if (one.kind, one.name) in bricola.catalogue]
    if taken:
        raise ProblemError(
            *(
                Problem(
                    "discover.taken",
                    f"{one.name} is the name of another {one.kind}.",
                    Kind.CONFLICT,
                    place=f"{one.kind} {one.name}",
                    mend="Give the new one another name: --object for the object, --service for the service.",
                )
                for one in taken
            )
        )
    files = {default_path(one): write_definition(one) for one in made}
    changes = [catalogue.plain_change(one) for one in await catalogue.apply(bricola, files, author)] if save else []
    return {"files": files, "saved": save, "changes": changes}

TERMINALS = ("tn3270", "tn5250")


async def connect(
    bricola: Bricola, name: str, environment: str, engine: str, binding: dict[str, Any], description: str, author: str
) -> dict[str, Any]:
    """Define a backend where it is new, and bind it in an environment. The environment takes it up at once."""
    place = find_environment(bricola.catalogue, environment)
    existing = bricola.catalogue.find_backend(name)
    if existing is not None and existing.engine != engine:
        raise ProblemError(
            Problem(
                "connect.engine",
                f"The backend {name} has the engine {existing.engine}.",
                Kind.CONFLICT,
                place=f"backend {name}",
                expected=existing.engine,
                found=engine,
                mend="Choose another name for the new backend.",
            )
        )
    if engine in TERMINALS and existing is None:
        raise ProblemError(Problem("connect.terminal", "A terminal host needs its screens before it can be bound.", place=f"backend {name}",
                                   mend=f"Define it first: a file with 'backend: {name}' and 'terminal:', and bricola apply."))
    backend = existing or BackendDefinition(name=name, engine=engine, description=description)
    old = place.binding(name)
    kept = {"pool": old.pool, "requests": old.requests, "limits": old.limits} if old is not None else {}
    devices = tuple(binding.pop("devices", ())) or (old.devices if old is not None else ())
    bound = Binding(name=name, devices=devices, **kept, **binding)
    bound_there = tuple(bound if one.name == name else one for one in place.backends) if old is not None else (*place.backends, bound)
    changed = place.model_copy(update={"backends": bound_there})
    paths = {one.reference: one.path for one in bricola.drafts}
    files = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in (backend, changed)}
    return {"changes": [catalogue.plain_change(one) for one in await catalogue.apply(bricola, files, author)]}


def _engine(bricola: Bricola, place: EnvironmentDefinition, backend: str) -> str:
    engine = bound_backend(place, backend, bricola.catalogue)[0].engine
    if engine in TERMINALS:
        raise ProblemError(
            Problem(
                "discover.terminal",
                f"{backend} is a terminal host and has no tables.",
                place=backend,
                mend=f"Record a walk through its screens in the console, or look: bricola terminal {place.name} {backend}",
            )
        )
    return engine


async def _all(bricola: Bricola, place: EnvironmentDefinition, backend: str) -> list[Table]:
    reader = _READERS[_engine(bricola, place, backend)]
    async with bricola.runtime.visit(place, backend, bricola.catalogue) as session:
        found: list[Table] = await reader.tables(session)
    marks = bound_backend(place, backend, bricola.catalogue)[1].requests
    return [one for one in found if one.name != marks]  # Bricola's own


async def _one(bricola: Bricola, place: EnvironmentDefinition, backend: str, name: str) -> tuple[Table, list[Table]]:
    everything = await _all(bricola, place, backend)
    found = next((one for one in everything if one.name == name), None)
    if found is None:
        raise ProblemError(unknown("table", name, [one.name for one in everything]))
    return found, everything


async def _completed(session: DatabaseSession, table: Table, others: dict[str, Table], engine: str) -> Table:
    """The table with its rows counted, and with the keys of small lookup tables as codes."""
    if not table.exact and not table.obstacles:
        with contextlib.suppress(ProblemError):  # of a very large table the estimate has to do
            table = replace(table, rows=await _READERS[engine].count(session, table.name), exact=True)
    columns = list(table.columns)
    for key in table.foreign_keys:
        target = others.get(key.table)
        if target is None or len(key.columns) != 1 or target.key != key.targets or len(target.columns) > _LOOKUP_COLUMNS:
            continue
        position = next(index for index, one in enumerate(columns) if one.name == key.columns[0])
        if columns[position].codes or columns[position].type.base != "string":
            continue
        code = quoted(key.targets[0])
        rows = await session.rows(f"SELECT {code} FROM {table_name(target.name)} ORDER BY {code} LIMIT {_SMALL + 1}", [])
        if 0 < len(rows) <= _SMALL:
            codes = tuple(str(row[0]) for row in rows)
            columns[position] = replace(columns[position], codes=codes, codes_from=f"lookup table {target.name}")
    return replace(table, columns=tuple(columns))


async def _first_row(session: DatabaseSession, table: Table) -> dict[str, Any]:
    """A real row, so that samples work unedited."""
    names = [one.name for one in table.columns if one.type.base and one.type.base != "base64Binary"]
    order = ", ".join(quoted(one) for one in table.key)
    rows = await session.rows(
        f"SELECT {', '.join(quoted(one) for one in names)} FROM {table_name(table.name)} ORDER BY {order} LIMIT 1", []
    )
    return dict(zip(names, rows[0], strict=True)) if rows else {}


def _mentions(table: Table, word: str) -> bool:
    told = [table.name, table.comment, *(one.name for one in table.columns), *(one.comment for one in table.columns)]
    return any(word in text.lower() for text in told)


def _published(bricola: Bricola, backend: str) -> dict[str, list[str]]:
    """By table: the objects made of it, and the services that publish them."""
    found: dict[str, list[str]] = {}
    for one in bricola.catalogue:
        if isinstance(one, ObjectDefinition) and one.backend == backend:
            users = [two.name for two in bricola.catalogue.services() if ("object", one.name) in (op.source for op in two.operations)]
            found.setdefault(one.table, []).append(f"object {one.name}" + (f", in {', '.join(users)}" if users else ", not published"))
    return found


def _summary(table: Table, published: dict[str, list[str]]) -> dict[str, Any]:
    return {
        "name": table.name,
        "kind": table.kind,
        "comment": table.comment,
        "rows": table.rows,
        "exact": table.exact,
        "columns": [one.name for one in table.columns],
        "key": list(table.key),
        "reasons": list(table.reasons),
        "used": published.get(table.name, []),
    }


def _column(column: Column) -> dict[str, Any]:
    return {
        "name": column.name,
        "declared": column.declared,
        "type": column.type.base,
        "required": not column.nullable,
        "default": column.default,
        "filled": column.filled,
        "comment": column.comment,
        "codes": list(column.codes),
        "codes_from": column.codes_from,
    }
