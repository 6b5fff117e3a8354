"""Who is affected when something below a service changes: its operations, the cases that prove them, the callers who use them."""

import asyncio
import time
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, Protocol

from bricola.core.definitions.access import AccessDefinition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition, Operation, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.durations import DAY
from bricola.core.kinds.registry import needs
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.kind import Ports as KindPorts
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts
from bricola.server.usecases import drift
from bricola.server.usecases.standing import standing

_DAYS = 30
_NOT_BELOW = (ServiceDefinition.kind, EnvironmentDefinition.kind, SuiteDefinition.kind, AccessDefinition.kind)


class Ports(drift.Ports, KindPorts, Protocol):
    """What contracts and kinds ask together."""


def reaching(catalogue: Catalogue, wanted: Iterable[Reference]) -> Iterator[tuple[ServiceDefinition, Operation, list[Reference]]]:
    """The operations that need one of these definitions, directly or by something else, with those that they need."""
    sought = list(wanted)
    for service in catalogue.all_of(ServiceDefinition):
        for operation in service.operations:
            thin = service.model_copy(update={"operations": (operation,), "contract": ""})
            needed = needs(catalogue, thin)
            found = [one for one in sought if one in needed]
            if found:
                yield service, operation, found


async def affected(drafts: Drafts, calls: Calls, wanted: Iterable[Reference]) -> list[dict[str, Any]]:
    """The operations that need one of these definitions, each with its cases and with who called it in the last month."""
    catalogue = drafts.catalogue
    cases: dict[tuple[str, str], list[str]] = {}
    for suite in catalogue.all_of(SuiteDefinition):
        for one in suite.cases:
            cases.setdefault((suite.service, one.operation), []).append(f"{suite.name}.{one.name}")
    rows: list[dict[str, Any]] = []
    used: dict[str, list[dict[str, Any]]] = {}
    for service, operation, found in reaching(catalogue, wanted):
        if service.name not in used:
            used[service.name] = await calls.users_of(service.name, time.time() - _DAYS * DAY, "")
        callers = {one["caller"] for one in used[service.name] if one["operation"] == operation.name and one["caller"]}
        rows.append({"service": service.name, "operation": operation.name, "by": [f"{kind} {name}" for kind, name in found],
                     "cases": cases.get((service.name, operation.name), []), "callers": sorted(callers)})
    return rows


def meant(catalogue: Catalogue, of: str) -> list[Reference]:
    """What a name, or a kind with a name, stands for: backends, sources, copybooks, contracts. Raises ProblemError where nothing is."""
    kind, _, name = of.partition(" ")
    known = [(one.kind, one.name) for one in catalogue if one.kind not in _NOT_BELOW]
    found = [one for one in known if one == (kind, name)] if name else [one for one in known if one[1] == of]
    if not found:
        raise ProblemError(Problem("impact.name", "There is nothing of this name below a service.", Kind.MISSING, place=of, found=shown(of),
                                   choices=tuple(dict.fromkeys(name for _, name in known))))
    return found


async def impact(ports: Ports, kinds: Sequence[KindServer], of: str, environments: Sequence[str]) -> dict[str, Any]:
    """Who is affected by what is below: the operations that need it, and what of them does not fit what is there now, in each of these
    environments (none said: in all). Every backend is asked; nothing is read or changed by it."""
    catalogue = ports.drafts.catalogue
    wanted = meant(catalogue, of)
    rows = await affected(ports.drafts, ports.calls, wanted)
    unseen: list[dict[str, Any]] = []
    places = [ports.drafts.environment(name) for name in environments] or list(catalogue.all_of(EnvironmentDefinition))
    for row in rows:
        row["problems"], row["changes"] = [], []
    for place in places:
        for row in rows:
            found, blind = await _misfits(ports, kinds, catalogue, row, wanted, place)
            row["problems"] += found
            unseen += [one for one in blind if one not in unseen]
    followed = [name for kind, name in wanted if kind in (ContractDefinition.kind, BackendDefinition.kind)]
    if followed:
        for place in places:
            await _drifted(ports, followed, place.name, rows, unseen)
    of = " and ".join(f"{kind} {name}" for kind, name in wanted)
    return {"of": of, "environments": [one.name for one in places], "operations": rows, "unseen": unseen}


async def _misfits(ports: Ports, kinds: Sequence[KindServer], catalogue: Catalogue, row: dict[str, Any], of: Sequence[Reference],
                   place: EnvironmentDefinition) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """What of an operation does not fit an environment's backends, and the backends that could not be asked."""
    service = catalogue.find_service(row["service"])
    assert service is not None
    operation = next(one for one in service.operations if one.name == row["operation"])
    thin = service.model_copy(update={"operations": (operation,), "contract": "", "access": {}})
    problems: list[tuple[str, Problem]] = []
    blind: list[dict[str, Any]] = []
    try:
        resolved = await asyncio.to_thread(resolve_service, thin, catalogue)
    except ProblemError as error:
        return [one.as_dict() | {"environment": place.name} for one in error.problems], []
    for backend, fact in (await standing(ports, place, resolved, catalogue)).items():
        if all(kind == BackendDefinition.kind and name != backend for kind, name in of):
            continue  # what ails another backend is not asked for
        if fact.seen is None:
            blind.append({"backend": backend, "environment": place.name, "why": "; ".join(one.sentence() for one in fact.problems)[:300]})
        else:
            problems += [(backend, one) for one in fact.problems]
    needed = needs(catalogue, thin)
    for kind in kinds:
        if kind.prepare is not None and any(needed.all_of(kind.kind.model)):
            problems += [("", one) for one in await kind.prepare(ports, needed, thin, place)]
    return [one.as_dict() | {"environment": place.name} for _, one in problems], blind


async def _drifted(ports: Ports, names: Sequence[str], environment: str, rows: Sequence[dict[str, Any]],
                   unseen: list[dict[str, Any]]) -> None:
    """What the contracts of others say now, where they are followed."""
    for one in await drift.check(ports, environment):
        if {one["contract"], one["backend"]}.isdisjoint(names):
            continue
        if one["state"] == "not checked":
            unseen.append({"backend": one["backend"] or one["contract"], "environment": environment,
                           "why": "; ".join(two["message"] for two in one["problems"])[:300]})
        for change in one["changes"]:
            ours = {(two["service"], two["operation"]) for two in change["operations"]}
            for row in rows:
                service = ports.drafts.catalogue.find_service(row["service"])
                if service is not None and (service.segment, row["operation"]) in ours:
                    row["changes"].append({"environment": environment, "verdict": change["verdict"], "place": change["place"],
                                           "message": change["message"], "before": change["before"], "after": change["after"]})
