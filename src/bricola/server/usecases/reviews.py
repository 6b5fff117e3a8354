"""The readiness review with everything that the running service knows."""

import asyncio
import time
from collections.abc import Sequence
from datetime import datetime
from typing import Protocol

from bricola.adapters.engines import able
from bricola.adapters.folders import Folders
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.kinds.registry import backends_of, needs
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import ProblemError
from bricola.core.review import BackendFact, CredentialFact, Facts, Finding, PoolFact, review
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.changes import Changes
from bricola.server.ports.credentials import Credentials
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.films import Films
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.ports.storage import Storage
from bricola.server.settings import Settings
from bricola.server.usecases import drift
from bricola.server.usecases.compare import breaking_changes, draft_side, released_side
from bricola.server.usecases.standing import standing


class Ports(Protocol):
    storage: Storage
    changes: Changes
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    people: People
    credentials: Credentials
    calls: Calls
    films: Films
    settings: Settings


async def review_service(ports: Ports, service: str, environment: str = "") -> list[Finding]:
    """The findings of a draft; with an environment, also of running it there."""
    definition = ports.drafts.service(service)
    place = ports.drafts.environment(environment) if environment else None
    facts = await gather_facts(ports, ports.drafts.catalogue, definition, place)
    return await asyncio.to_thread(review, ports.drafts.catalogue, definition, place, facts)


async def gather_facts(ports: Ports, catalogue: Catalogue, service: ServiceDefinition,
                       environment: EnvironmentDefinition | None, release: int | None = None, look: bool = True) -> Facts:
    """What the review should know beyond the definitions; `release` is the one to be deployed, None for the draft. Backends are asked
    what they make of the service unless `look` is False."""
    callers = await ports.people.known_callers()
    of_kind = {one.kind.word: await one.facts(ports, catalogue, service, environment) for one in ports.kinds
               if one.facts is not None and environment is not None}
    return Facts(
        now=time.time(),
        engines=able(),
        credentials=await _credentials(ports),
        held_roles=frozenset(role for one in callers for role in one.roles),
        missing_files=_missing_files(ports, catalogue, service, environment) if environment is not None else {},
        backends=await _standing(ports, catalogue, service, environment) if environment is not None and look else {},
        pools=_pools(ports, environment) if environment is not None else {},
        breaking=await _breaking(ports, service) if release is None else (),
        of_kind=of_kind,
        live={f"{one.name}.{name}": two.shape.input for one in ports.places.services() if one.environment == environment.name
              for name, two in one.by_name.items()} if environment is not None else None,
        drifted=await _drifted(ports, catalogue, service, environment) if environment is not None else {},
        passed=await _passed(ports, service, environment, release) if environment is not None and release is not None else None,
    )


async def _credentials(ports: Ports) -> dict[str, CredentialFact]:
    found = {}
    allowed = await ports.credentials.places()
    for one in await ports.credentials.known():
        ends = [text for text in (one.versions[0].expires_at,) if text] if one.versions else []
        places = frozenset((two.environment, two.engine, two.address) for two in allowed if two.credential == one.name)
        found[one.name] = CredentialFact(one.kind, datetime.fromisoformat(ends[0]).timestamp() if ends else None, places)
    return found


async def _standing(ports: Ports, catalogue: Catalogue, service: ServiceDefinition,
                    environment: EnvironmentDefinition) -> dict[str, BackendFact]:
    try:
        resolved = await asyncio.to_thread(resolve_service, service, catalogue)
    except ProblemError:
        return {}  # the review says why
    return await standing(ports, environment, resolved, catalogue)


def _missing_files(ports: Ports, catalogue: Catalogue, service: ServiceDefinition,
                   environment: EnvironmentDefinition) -> dict[str, str]:
    missing = {}
    for name in backends_of(catalogue, service):
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        if backend is not None and binding is not None and backend.about.is_file:
            absent = [one.address for one in binding.ends if not _is_there(ports.places.surroundings.folders, one.address,
                                                                           backend.about.is_folder)]
            if absent:
                missing[name] = absent[0]
    return missing


def _is_there(folders: Folders, path: str, folder: bool) -> bool:
    try:
        found = folders.find(path)
        return found.is_dir() if folder else found.is_file()
    except ProblemError:
        return True  # a finding of its own says what is wrong with it


def _pools(ports: Ports, environment: EnvironmentDefinition) -> dict[str, PoolFact]:
    facts = {}
    for (where, backend), pool in ports.places.pools().items():
        if where == environment.name:
            view = pool.view()
            facts[backend] = PoolFact(view["advised_size"], view["backend_limit"])
    return facts


async def _breaking(ports: Ports, service: ServiceDefinition) -> tuple[str, ...]:
    """In which ways the draft breaks callers of the release of the same major version that was served last."""
    served = await ports.releases.newest_served(service.name, service.version)
    if served is None:
        return ()
    try:
        changes = await breaking_changes(await released_side(ports, served), await draft_side(ports, service))
    except ProblemError:
        return ()  # the draft has no contract yet, and the review says why
    return tuple(f"{one.place}: {one.message}" for one in changes)


async def _drifted(ports: Ports, catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition) -> dict[str, str]:
    """What the last checks found there of the contracts of others that a service follows."""
    followed = {one.name for one in needs(catalogue, service) if isinstance(one, ContractDefinition)}
    found = {one["contract"]: "; ".join(f"{two['place']}: {two['message']}" for two in one["changes"][:3])
             for one in await drift.known(ports) if one["environment"] == environment.name and one["state"] == "changed"}
    return {name: words for name, words in found.items() if name in followed}


async def _passed(ports: Ports, service: ServiceDefinition, environment: EnvironmentDefinition, release: int) -> bool | None:
    if not environment.follows:
        return None
    history = await ports.releases.deployments(service=service.name, limit=100_000)
    return any(one.environment == environment.follows and one.release == release for one in history)
