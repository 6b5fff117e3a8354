"""Who may call what where: the grants of environments, given and taken as live settings, and moved there from services that state them."""

import asyncio
import time
from dataclasses import asdict
from typing import Any, Protocol

from bricola.core.definitions.access import AccessChange, AccessDefinition, Grant, access_changes, granted_in, with_grants
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path, read_bundle
from bricola.core.definitions.model import ServiceDefinition, segment_of
from bricola.core.definitions.text import write_definition
from bricola.core.durations import MONTH
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import unknown
from bricola.server.ports.people import People
from bricola.server.ports.releases import Releases
from bricola.server.usecases import definitions
from bricola.server.usecases.bringing_up import ATTEMPTS, places_in_force


class Ports(definitions.Ports, Protocol):
    people: People
    calls: Calls
    releases: Releases


async def grants(ports: Ports) -> list[dict[str, Any]]:
    """For every service that an environment names or runs: which roles may call which operations there, where that is said, and the callers
    who have the roles."""
    callers = await ports.people.known_callers()
    found = []
    for environment, segment, service in await _places(ports):
        own = granted_in(ports.drafts.catalogue, environment, segment)
        effective = with_grants(service, own)
        names = [one.name for one in service.operations]
        roles = [{"role": role, "operations": names if granted == "all" else [one for one in granted if one in names],
                  "all": granted == "all", "callers": [one.name for one in callers if role in one.roles]}
                 for role, granted in sorted(effective.access.items())]
        found.append({"environment": environment, "service": segment, "said_in": "environment" if own is not None else "service",
                      "operations": names, "roles": roles})
    return found


async def _places(ports: Ports) -> list[tuple[str, str, ServiceDefinition]]:
    """Environment, segment and definition of what is deployed or named: of what is deployed as it was released."""
    found: dict[tuple[str, str], ServiceDefinition] = {}
    for environment, name, version in await places_in_force(ports):
        deployed = await ports.releases.in_force(environment, name, version)
        thawed = await ports.releases.thaw(await ports.releases.find(name, deployed[-1].release))
        found[environment, segment_of(name, version)] = thawed.definition
    drafts = {one.segment: one for one in ports.drafts.catalogue.services()}
    for access in ports.drafts.catalogue.all_of(AccessDefinition):
        for segment in access.services:
            if segment in drafts:
                found.setdefault((access.name, segment), drafts[segment])
    order = {one.name: place for place, one in enumerate(ports.drafts.catalogue.environments())}  # as a release passes them
    ranked = sorted(found, key=lambda place: (order.get(place[0], len(order)), place))
    return [(*place, found[place]) for place in ranked]


async def change(ports: Ports, environment: str, segment: str, role: str, operations: Grant | None, author: str,
                 plan_only: bool = False) -> dict[str, Any]:
    """Let a role call these operations of a service in an environment, and no others; None or none takes all of them away. In effect at
    once. What a service said before for itself is kept for its other roles. Raises ProblemError."""
    ports.drafts.environment(environment)
    service = await _service(ports, environment, segment)
    names = [one.name for one in service.operations]
    wrong = [] if operations in (None, "all") else [one for one in operations or () if one not in names]
    if wrong:
        raise ProblemError(*(unknown("operation", one, names) for one in wrong))
    for left in reversed(range(ATTEMPTS)):
        before = dict(with_grants(service, granted_in(ports.drafts.catalogue, environment, segment)).access)
        after = {key: value for key, value in before.items() if key != role}
        if operations:
            after[role] = operations
        try:
            return await _apply(ports, {environment: {segment: after}}, {}, author, plan_only)
        except ProblemError as error:
            if left == 0 or error.problem.code != definitions.CHANGED_MEANWHILE:
                raise  # else: somebody changed another role meanwhile, and both hold
    raise AssertionError("the last attempt answers or raises")


async def _service(ports: Ports, environment: str, segment: str) -> ServiceDefinition:
    places = {(one, two): service for one, two, service in await _places(ports)}
    found = places.get((environment, segment)) or next((one for one in ports.drafts.catalogue.services() if one.segment == segment), None)
    if found is None:
        raise ProblemError(unknown("service", segment, sorted({one.segment for one in ports.drafts.catalogue.services()})))
    return found


async def move(ports: Ports, author: str, plan_only: bool = False) -> dict[str, Any]:
    """Say in every environment what the services that run there state for themselves, and take it out of their drafts. Nobody gets or loses
    a right by it."""
    wanted: dict[str, dict[str, dict[str, Grant]]] = {}
    for environment, segment, service in await _places(ports):
        if service.access and granted_in(ports.drafts.catalogue, environment, segment) is None:
            wanted.setdefault(environment, {})[segment] = dict(service.access)
    emptied = {one.name: one.model_copy(update={"access": {}}) for one in ports.drafts.catalogue.services()
               if one.access and (any(one.segment in named for named in wanted.values()) or _named(ports.drafts.catalogue, one.segment))}
    if not wanted and not emptied:
        raise ProblemError(Problem("access.moved", "Every service that is deployed has its grants in its environments already.",
                                   Kind.CONFLICT, mend="See them: bricola access"))
    return await _apply(ports, wanted, emptied, author, plan_only)


def _named(catalogue: Catalogue, segment: str) -> bool:
    return any(segment in one.services for one in catalogue.all_of(AccessDefinition))


async def _apply(ports: Ports, wanted: dict[str, dict[str, dict[str, Grant]]], emptied: dict[str, ServiceDefinition], author: str,
                 plan_only: bool) -> dict[str, Any]:
    began = ports.drafts.revisions
    made: list[AccessDefinition | ServiceDefinition] = list(emptied.values())
    for environment, services in wanted.items():
        known = ports.drafts.catalogue.get(AccessDefinition, environment) or AccessDefinition(name=environment)
        made.append(known.model_copy(update={"services": {**known.services, **services}}))
    paths = {one.reference: one.path for one in ports.drafts.files}
    files = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in made}
    told = await verdict(ports, ports.drafts.catalogue, ports.drafts.catalogue | Catalogue(made))
    changes = await definitions.apply(ports, files, author, plan_only=plan_only,
                                      based_on=definitions.started_from(began, ((one.kind, one.name) for one in made)))
    return {"applied": not plan_only, "rights": told,
            "changes": [definitions.plain_change(one) for one in changes if one.action != "unchanged"]}


async def verdict(ports: Ports, before: Catalogue, after: Catalogue) -> list[dict[str, Any]]:
    """Every right that is given or taken away, with the callers who have the role, and those of them who used it in the last month."""
    places = {(environment, segment): service for environment, segment, service in await _places(ports)}
    drafts = {one.segment: one for one in after.services()}
    found = list(access_changes(before, after, lambda environment, segment: places.get((environment, segment)) or drafts.get(segment)))
    if not found:
        return []
    callers = await ports.people.known_callers()
    used: dict[tuple[str, str], set[tuple[str, str]]] = {}
    for environment, segment in dict.fromkeys((one.environment, one.service) for one in found):
        calls = await ports.calls.users_of(segment, time.time() - MONTH, environment)
        used[environment, segment] = {(one["caller"], one["operation"]) for one in calls}
    return [_told(one, [two.name for two in callers if one.role in two.roles], used[one.environment, one.service]) for one in found]


def _told(one: AccessChange, holders: list[str], used: set[tuple[str, str]]) -> dict[str, Any]:
    return {**asdict(one), "words": one.sentence, "callers": holders,
            "used_by": [name for name in holders if (name, one.operation) in used]}


async def lost_by(ports: Ports, texts: dict[str, str], remove_others: bool) -> list[Problem]:
    """The rights that these files would take away at once, if they became drafts."""
    mine = Catalogue([one.definition for one in await asyncio.to_thread(read_bundle, texts)])
    before = ports.drafts.catalogue
    return _lost(await verdict(ports, before, mine if remove_others else before | mine))


def _lost(rights: list[dict[str, Any]]) -> list[Problem]:
    """What is taken away, as problems of a plan."""
    return [Problem("access.lost", one["words"], Kind.CONFLICT, place=f"access {one['environment']}, {one['service']}, {one['role']}",
                    found=f"{', '.join(one['used_by'])} called it in the last month" if one["used_by"] else shown(one["role"]))
            for one in rights if not one["gained"]]
