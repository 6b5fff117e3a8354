"""The readiness review with everything that the running service knows."""

import asyncio
import contextlib
import time
from datetime import datetime

from bricola.core.definitions.catalogue import Catalogue, backends_of
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.problems import ProblemError
from bricola.core.review import CredentialFact, Facts, Finding, PoolFact, review
from bricola.core.runtime.statements import quoted, table_name
from bricola.server.bricola import Bricola
from bricola.server.runtime import ENGINES
from bricola.server.usecases.compare import breaking_changes, draft_side, released_side
from bricola.server.usecases.lookup import find_environment, find_service
from bricola.store import credentials, films, people, releases

LOOKED_AT = 10_000  # rows in which a field that never has a value is looked for


async def review_service(bricola: Bricola, service: str, environment: str = "") -> list[Finding]:
    """The findings of a draft; with an environment, also of running it there."""
    definition = find_service(bricola.catalogue, service)
    place = find_environment(bricola.catalogue, environment) if environment else None
    facts = await gather_facts(bricola, bricola.catalogue, definition, place)
    return await asyncio.to_thread(review, bricola.catalogue, definition, place, facts)


async def gather_facts(bricola: Bricola, catalogue: Catalogue, service: ServiceDefinition,
                       environment: EnvironmentDefinition | None, release: int | None = None) -> Facts:
    """What the review should know beyond the definitions; `release` is the one to be deployed, None for the draft."""
    callers = await bricola.storage.main(people.callers)
    empty = await empty_fields(bricola, catalogue, service, environment) if environment is not None else frozenset()
    return Facts(
        now=time.time(),
        engines=ENGINES,
        credentials=await _credentials(bricola),
        held_roles=frozenset(role for one in callers for role in one.roles),
        missing_files=_missing_files(bricola, catalogue, service, environment) if environment is not None else {},
        empty_fields=empty, rows_looked_at=LOOKED_AT,
        moved=await _moved(bricola, environment) if environment is not None else {},
        pools=_pools(bricola, environment) if environment is not None else {},
        breaking=await _breaking(bricola, service) if release is None else (),
        passed=await _passed(bricola, service, environment, release) if environment is not None and release is not None else None,
    )


async def _moved(bricola: Bricola, environment: EnvironmentDefinition) -> dict[str, str]:
    """What the last checks of films found there, by flow."""
    found = {}
    for one in await bricola.storage.main(films.checks):
        if one["environment"] == environment.name and not one["passed"]:
            told = [f"{two['screen']}: {two['what']}, {two['found']}" for two in one["moved"]]
            found[one["flow"]] = "; ".join(told[:3]) or (one["stopped"] or {}).get("message", "")
    return found


async def _credentials(bricola: Bricola) -> dict[str, CredentialFact]:
    found = {}
    for one in await bricola.storage.main(credentials.credentials):
        ends = [text for text in (one.versions[0].expires_at,) if text] if one.versions else []
        found[one.name] = CredentialFact(one.kind, datetime.fromisoformat(ends[0]).timestamp() if ends else None)
    return found


async def empty_fields(bricola: Bricola, catalogue: Catalogue, service: ServiceDefinition,
                       environment: EnvironmentDefinition) -> frozenset[tuple[str, str]]:
    """The optional fields that have no value in the first rows of their tables. What cannot be reached says nothing here:
    the check of the way to it tells why."""
    found: set[tuple[str, str]] = set()
    for kind, name in dict.fromkeys(one.source for one in service.operations):
        definition = catalogue.find_object(name) if kind == "object" else None
        pool = bricola.runtime.pools().get((environment.name, definition.backend)) if definition is not None else None
        if definition is None or pool is None or pool.state != "serving":
            continue
        fields = [one for one in definition.fields if not one.required and not one.parent]
        if not fields:
            continue
        columns = ", ".join(quoted(one.column_name) for one in fields)
        counts = ", ".join(f"COUNT({quoted(one.column_name)})" for one in fields)
        sql = f'SELECT COUNT(*), {counts} FROM (SELECT {columns} FROM {table_name(definition.table)} LIMIT {LOOKED_AT}) AS "t"'
        with contextlib.suppress(ProblemError):
            async with pool.session() as session:
                total, *filled = (await session.rows(sql, []))[0]
            found |= {(definition.name, one.name) for one, count in zip(fields, filled, strict=True) if total and not count}
    return frozenset(found)


def _missing_files(bricola: Bricola, catalogue: Catalogue, service: ServiceDefinition,
                   environment: EnvironmentDefinition) -> dict[str, str]:
    missing = {}
    for name in backends_of(catalogue, service):
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        if backend is not None and binding is not None and backend.engine == "sqlite":
            absent = [one.address for one in binding.ends if not (bricola.settings.data / one.address).is_file()]
            if absent:
                missing[name] = absent[0]
    return missing


def _pools(bricola: Bricola, environment: EnvironmentDefinition) -> dict[str, PoolFact]:
    facts = {}
    for (where, backend), pool in bricola.runtime.pools().items():
        if where == environment.name:
            view = pool.view()
            facts[backend] = PoolFact(view["advised_size"], view["backend_limit"])
    return facts


async def _breaking(bricola: Bricola, service: ServiceDefinition) -> tuple[str, ...]:
    """In which ways the draft breaks callers of the newest release of the same major version."""
    known = [one for one in await bricola.storage.main(releases.releases, service.name) if one.version == service.version]
    if not known:
        return ()
    try:
        changes = await breaking_changes(await released_side(known[0]), await draft_side(bricola, service))
    except ProblemError:
        return ()  # the draft has no contract yet, and the review says why
    return tuple(f"{one.place}: {one.message}" for one in changes)


async def _passed(bricola: Bricola, service: ServiceDefinition, environment: EnvironmentDefinition, release: int) -> bool | None:
    if not environment.follows:
        return None
    history = await bricola.storage.main(releases.deployments, service=service.name, limit=100_000)
    return any(one.environment == environment.follows and one.release == release for one in history)
