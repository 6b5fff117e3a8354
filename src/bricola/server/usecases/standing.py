"""How the backends of an environment stand to what a service asks of them: every statement that it will send is read by the backend itself,
and what the columns give is held against the types of the definitions. Nothing is read or changed by it."""

import asyncio
import time
from collections.abc import Iterable, Iterator, Sequence
from typing import Protocol

from bricola.adapters.engines import DOORS
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.findings import BackendFact
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.kinds.bindings import marks_table
from bricola.core.kinds.kind import UNFIT, Probe
from bricola.core.kinds.resolve import ResolvedService
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.sql.fitting import misfits
from bricola.core.sql.marks import mark_statements
from bricola.core.sql.refusals import RefusedError, Why
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.statements import table_name
from bricola.server.ports.places import Places

UNSEEN = "backend.unseen"
_SECONDS = 15.0  # for all that is asked of one backend
_WORDS = {
    Why.RIGHTS: ("The user of {0} there may not {1}.", "Give the user of the credential this right, or leave the operation out."),
    Why.MISSING: ("{0} does not have what it asks for.", "Correct 'table:' or 'column:', or the database."),
}
_NOT_TAKEN = ("{0} does not take a statement of it.", "Correct the definition, or the database.")


class Ports(Protocol):
    places: Places


async def standing(ports: Ports, environment: EnvironmentDefinition, resolved: ResolvedService,
                   catalogue: Catalogue) -> dict[str, BackendFact]:
    """By backend: when it was seen, and what does not fit. A backend without a place is left out; the review says so already."""
    probes: dict[str, list[Probe]] = {}
    for one in resolved.probes:
        probes.setdefault(one.backend, []).append(one)
    bound = [name for name in probes if (binding := environment.binding(name)) is not None and binding.ends]
    facts = await asyncio.gather(*(_one(ports, environment, name, probes[name], catalogue) for name in bound))
    return dict(zip(bound, facts, strict=True))


async def _one(ports: Ports, environment: EnvironmentDefinition, backend: str, probes: Sequence[Probe],
               catalogue: Catalogue) -> BackendFact:
    try:
        async with asyncio.timeout(_SECONDS), ports.places.visit(environment, backend, catalogue) as session:
            found: list[Problem] = []
            for probe in _merged(probes):
                found += await _held_against(session, backend, probe)
            found += await _routines(session, backend, probes, catalogue)
            if any(one.writes or one.marked for one in probes) and marks_table(backend, environment):
                found += await _marks(session, backend, environment)
            seen = ports.places.seen[environment.name, backend] = time.time()
            powers = tuple(await session.powers()) if any(one.statement or one.grants for one in probes) else ()
            ports.places.powers[environment.name, backend] = powers
            return BackendFact(seen, tuple(found), powers, tuple(_rights(probes)) if powers else ())
    except TimeoutError:
        problem = Problem(UNSEEN, f"{backend} did not answer within {_SECONDS:g} seconds.", Kind.BACKEND)
    except ProblemError as error:
        problem = error.problem
    return BackendFact(None, (Problem(UNSEEN, problem.message, place=f"environment {environment.name}, backends, {backend}",
                                      found=problem.inner or problem.found,
                                      mend=problem.mend or f"Try the way stage by stage: bricola check {environment.name} {backend}"),))


def _rights(probes: Iterable[Probe]) -> Iterator[str]:
    """What a technical account needs for a service, and no more."""
    needed: dict[str, set[str]] = {}
    yield from dict.fromkeys(f"GRANT {right}" for one in probes for right in one.grants)
    for one in probes:
        if one.table:
            verbs = needed.setdefault(one.table, {"SELECT"})
            verbs |= {statement.split(" ", 1)[0] for statement in one.writes if f" {table_name(one.table)} " in statement}
            verbs |= {"UPDATE"} if one.holds else set()
    for table, verbs in needed.items():
        yield f"GRANT {', '.join(verb for verb in ('SELECT', 'INSERT', 'UPDATE', 'DELETE') if verb in verbs)} ON {table_name(table)}"


def _merged(probes: Iterable[Probe]) -> list[Probe]:
    """One for each statement: several operations of an object read the same."""
    found: dict[tuple[str, tuple[object, ...]], Probe] = {}
    for one in probes:
        known = found.get((one.statement, one.columns))
        if known is not None:
            one = known._replace(holds=tuple(dict.fromkeys(known.holds + one.holds)), marked=known.marked or one.marked,
                                 writes=tuple(dict.fromkeys(known.writes + one.writes)),
                                 grants=tuple(dict.fromkeys(known.grants + one.grants)))
        found[one.statement, one.columns] = one
    return list(found.values())


async def _held_against(session: DatabaseSession, backend: str, probe: Probe) -> list[Problem]:
    if not probe.statement:
        return []  # a session that is signed on says enough
    about = probe.place.partition(",")[0] or f"backend {backend}"
    try:
        columns = await session.described(probe.statement)
    except RefusedError as error:
        return [_refused(error, backend, about, "read this")]
    wrong = misfits(probe.columns, columns, probe.dialect) if probe.dialect is not None else []
    found = [Problem(UNFIT, f"A field is of another type than its column in {backend}.", place=f"{probe.place}, {one.field}",
                     expected=f"a column that holds {one.expected}", found=one.found,
                     mend="Correct the type of the field, or 'column:'.") for one in wrong]
    for statement, holding in [*((one, True) for one in probe.holds), *((one, False) for one in probe.writes)]:
        try:
            await session.prepared(statement, holding)
        except RefusedError as error:
            found.append(_refused(error, backend, about, "lock rows of it" if holding else _verb(statement)))
    return found


def _verb(statement: str) -> str:
    return {"INSERT": "make rows of it", "UPDATE": "change rows of it", "DELETE": "remove rows of it"}[statement.split(" ", 1)[0]]


def _refused(error: RefusedError, backend: str, about: str, act: str) -> Problem:
    words, mend = _WORDS.get(error.refusal.why, _NOT_TAKEN)
    return Problem(UNFIT, words.format(backend, act), place=about, found=error.refusal.said, mend=mend)


async def _routines(session: DatabaseSession, backend: str, probes: Sequence[Probe], catalogue: Catalogue) -> list[Problem]:
    """What of the routines that are called is not as it is there."""
    asking = {one.place: one.routine for one in probes if one.routine is not None}
    definition = catalogue.find_backend(backend)
    reader = DOORS[definition.engine].routines if asking and definition is not None else None
    if reader is None:
        return []
    known = await reader(session)
    return [problem for ask in asking.values() for problem in ask(known)]


async def _marks(session: DatabaseSession, backend: str, environment: EnvironmentDefinition) -> list[Problem]:
    """Whether the marks of requests can be left there: every write leaves one."""
    table, found = marks_table(backend, environment), []
    for statement in mark_statements(table):
        try:
            await session.prepared(statement)
        except RefusedError as error:
            words = "There is no table {1} in {0} for the marks of requests." if error.refusal.why is Why.MISSING \
                else "The user of {0} there may not keep the marks of requests in {1}."
            place = f"environment {environment.name}, backends, {backend}, requests"
            found.append(Problem(UNFIT, words.format(backend, table), place=place, found=error.refusal.said,
                                 mend="Make the table, give the user the rights on it, or take 'requests:' out."))
            break
    return found
