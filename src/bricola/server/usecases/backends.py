"""Backends in environments: what is bound, staged checks, pools with their sessions, and what is done with them."""

from dataclasses import asdict
from typing import Any, Protocol

from bricola.adapters.checks import check_endpoint
from bricola.adapters.engines import DOORS
from bricola.adapters.stages import Stage
from bricola.api.words import PoolAct
from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition
from bricola.core.kinds.kind import Probe
from bricola.core.kinds.registry import backends_of
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.ports.changes import Changes, Topic
from bricola.server.ports.credentials import Credentials
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.places import Places
from bricola.server.ports.storage import Storage
from bricola.server.settings import Settings
from bricola.server.usecases.audit import note


class Ports(Protocol):
    storage: Storage
    changes: Changes
    drafts: Drafts
    places: Places
    credentials: Credentials
    settings: Settings


def ends(ports: Ports) -> list[dict[str, Any]]:
    """Every backend in every environment, bound or unbound, with who uses it."""
    users: dict[str, list[str]] = {}
    for service in ports.drafts.catalogue.services():
        for name in backends_of(ports.drafts.catalogue, service):
            users.setdefault(name, []).append(service.name)
    found = []
    for backend in ports.drafts.catalogue.all_of(BackendDefinition):
        for environment in ports.drafts.catalogue.environments():
            binding = environment.binding(backend.name)
            pool = ports.places.pools().get((environment.name, backend.name))
            found.append({
                "backend": backend.name, "engine": backend.engine, "family": ENGINES[backend.engine].family,
                "environment": environment.name, "protected": environment.protected,
                "bound": binding is not None and bool(binding.ends), "endpoints": [one.address for one in binding.ends] if binding else [],
                "database": binding.database if binding else "", "credential": binding.credential if binding else "",
                "tls": binding.tls if binding else "", "pool": pool.state if pool is not None else "not started",
                "services": users.get(backend.name, []),
            })
    return found


def _find_backend(ports: Ports, name: str) -> BackendDefinition:
    found = ports.drafts.catalogue.find_backend(name)
    if found is None:
        raise ProblemError(unknown("backend", name, [one.name for one in ports.drafts.catalogue.all_of(BackendDefinition)]))
    return found


async def check(ports: Ports, environment: str, backend: str = "") -> list[dict[str, Any]]:
    """Try the way to one backend, or to all that are bound, stage by stage and endpoint by endpoint."""
    place = ports.drafts.environment(environment)
    names = [_find_backend(ports, backend).name] if backend else [one.name for one in place.backends]
    results = []
    for name in names:
        definition, binding = _find_backend(ports, name), place.binding(name)
        if binding is None or not binding.ends:
            problem = Problem("binding.missing", f"The backend {name} has no place in {environment}.", Kind.MISSING,
                              place=f"environment {environment}, backends", mend=f"Bind it there under 'backends: {name}:'.")
            results.append(_result(place, name, "", [Stage("bound", "failed", problem.message, 0.0, problem)]))
            continue
        probes = _probes(ports, name)
        door, running = DOORS[definition.engine], ports.places.running_kind(place, definition)
        try:
            ports.places.require_credential(definition, binding, environment)
        except ProblemError as error:
            results.append(_result(place, name, "", [Stage("signed on", "failed", error.problem.message, 0.0, error.problem)]))
            continue
        for end in binding.ends:
            stages = await check_endpoint(door.checker(definition, binding, end, probes, ports.places.surroundings, running))
            results.append(_result(place, name, end.name, stages) | {"address": end.address})
    return results


def _result(environment: EnvironmentDefinition, backend: str, endpoint: str, stages: list[Stage]) -> dict[str, Any]:
    return {
        "environment": environment.name, "backend": backend, "endpoint": endpoint,
        "passed": all(one.outcome not in ("failed", "not tried") for one in stages),
        "stages": [{**asdict(one), "problem": one.problem.as_dict(for_owners=True) if one.problem else None} for one in stages],
    }


def _probes(ports: Ports, backend: str) -> list[Probe]:
    """One row of every object that a service publishes from this backend, and every routine."""
    found: dict[tuple[str, str], Probe] = {}
    for service in ports.drafts.catalogue.services():
        try:
            resolved = resolve_service(service, ports.drafts.catalogue)
        except ProblemError:
            continue  # the review of that service says why
        for one in resolved.operations:
            for probe in one.kind.probes(one):
                if probe.backend == backend and (probe.sample or probe.calls):
                    found.setdefault((probe.object, probe.calls), probe)
    return list(found.values())


def pools(ports: Ports) -> list[dict[str, Any]]:
    return [pool_view(ports, environment, backend) for environment, backend in sorted(ports.places.pools())]


def pool_view(ports: Ports, environment: str, backend: str) -> dict[str, Any]:
    """One pool: sessions, endpoints, statistics, measured load and advice."""
    pool = ports.places.pools().get((environment, backend))
    if pool is None:
        known = [f"{one} {two}" for one, two in sorted(ports.places.pools())]
        raise ProblemError(unknown("pool", f"{environment} {backend}", known))
    place, view = ports.drafts.environment(environment), pool.view()
    binding = place.binding(backend)
    services = [one.name for one in ports.drafts.catalogue.services() if backend in backends_of(ports.drafts.catalogue, one)]
    return {"environment": environment, "protected": place.protected, "backend": backend, "services": services,
            "credential": binding.credential if binding else "",
            "effective": ports.places.effective.get(f"environment {environment}", ""), "advice": _advice(view), **view}


def _advice(view: dict[str, Any]) -> list[str]:
    """What the measured load and the limits say, in words."""
    size, most, least, limit = view["advised_size"], view["settings"]["max_size"], view["settings"]["min_size"], view["backend_limit"]
    words = []
    if size is None:
        words.append("Too few calls were measured for advice on the size.")
    elif size > most:
        words.append(f"{size} sessions are needed so that fewer than 1 call in 20 waits; at most {most} are allowed.")
    else:
        words.append(f"{size} {'session is' if size == 1 else 'sessions are'} enough for the busiest minute; at most {most} are allowed.")
    if least == most > 1:
        words.append("The least and the greatest size are equal, so the pool can neither grow nor shrink.")
    if limit is not None and limit * max(1, len(view["endpoints"])) < most:
        words.append(f"The backend itself allows {limit} sessions an endpoint, fewer than the pool may open.")
    return words


async def act(ports: Ports, environment: str, backend: str, action: PoolAct, author: str) -> dict[str, Any]:
    """start; stop (calls in flight end); cut (they fail); recycle (every session is renewed). Answers the pool."""
    before = pool_view(ports, environment, backend)
    pool = ports.places.pools()[environment, backend]
    if action is PoolAct.START:
        pool.start()
    elif action is PoolAct.RECYCLE:
        pool.recycle()
    else:
        pool.stop(cut=action is PoolAct.CUT)
    await note(ports, Topic.POOLS, author, action, f"pool {environment} {backend}", {"state": before["state"]}, {"state": pool.state})
    return pool_view(ports, environment, backend)


async def evict(ports: Ports, environment: str, backend: str, session: int, cut: bool, author: str) -> dict[str, Any]:
    """Close one session, when its call has ended or at once."""
    pool_view(ports, environment, backend)
    pool = ports.places.pools()[environment, backend]
    if not pool.evict(session, cut):
        raise ProblemError(unknown("session", str(session), [str(one["session"]) for one in pool.view()["sessions"]]))
    await note(ports, Topic.POOLS, author, "evict", f"pool {environment} {backend}", {"session": session}, {"cut": cut})
    return pool_view(ports, environment, backend)
