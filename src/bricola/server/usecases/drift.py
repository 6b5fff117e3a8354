"""Whether contracts of others are still what was taken in: fetched again where they are, and held against what live services follow."""

import asyncio
import time
from collections.abc import Generator
from dataclasses import asdict, dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol
from urllib.parse import urlsplit

import httpx
import structlog

from bricola.adapters.engines import DOORS
from bricola.adapters.networks import Networks, read_networks
from bricola.adapters.parts import Web
from bricola.core.contracts.compatibility import ContractChange, Verdict, worst
from bricola.core.contracts.drift import drift
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.contracts.served import read_definition_of
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.durations import MONTH
from bricola.core.kinds.registry import find_source, kind_of
from bricola.core.problems import Problem, ProblemError
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places, bound_backend
from bricola.server.ports.releases import Releases, Thawed
from bricola.server.ports.storage import Storage
from bricola.server.settings import Settings
from bricola.store.contract_checks import contract_checks, keep_contract_check

log = structlog.get_logger("bricola.contracts")


class Ports(Protocol):
    storage: Storage
    drafts: Drafts
    releases: Releases
    places: Places
    calls: Calls
    settings: Settings


@dataclass
class _Followed:
    """A contract that live services follow in one environment, with which of their operations; through which backend, '' for none."""

    definition: ContractDefinition
    service: str
    backend: str
    users: dict[tuple[str, str], list[str]] = field(default_factory=dict)  # service, their operation -> our operations
    thawed: Thawed | None = None


async def check(ports: Ports, environment: str) -> list[dict[str, Any]]:
    """Fetch every contract that live services of an environment follow, and tell how it differs from the one that they were released with:
    by operation, with the services and callers concerned. What is found is kept."""
    place = ports.drafts.environment(environment)
    found = []
    for one in await _followed(ports, environment):
        outcome = await _check_one(ports, place, one)
        at = await ports.storage.write(keep_contract_check, one.definition.name, one.backend, environment, outcome)
        found.append({"contract": one.definition.name, "backend": one.backend, "environment": environment, "at": at, **outcome})
    return found


async def known(ports: Ports) -> list[dict[str, Any]]:
    """What the last checks found."""
    return await ports.storage.read(contract_checks)


async def check_due(ports: Ports) -> None:
    """The scheduled checks: of each environment that asks for them, when the last one is older than its hours."""
    checks = await known(ports)
    for place in ports.drafts.catalogue.environments():
        if place.contract_check_hours is None:
            continue
        last = [datetime.fromisoformat(one["at"]) for one in checks if one["environment"] == place.name]
        # the newest counts: what is not followed any more keeps the row of its last check for ever
        if not last or max(last) <= datetime.now(UTC) - timedelta(hours=place.contract_check_hours):
            for one in await check(ports, place.name):
                if one["state"] != "same":
                    log.warning("a contract of somebody else is not as it was", contract=one["contract"], environment=place.name,
                                state=one["state"], verdict=one["verdict"])


async def _followed(ports: Ports, environment: str) -> list[_Followed]:
    found: dict[tuple[str, str], _Followed] = {}
    for live in ports.places.services():
        if live.environment != environment:
            continue
        thawed = await ports.releases.thaw(await ports.releases.find(live.name, live.release))
        service = thawed.definition
        for operation in service.operations:
            definition = find_source(thawed.catalogue, operation)
            kind = kind_of(definition) if definition is not None else None
            ways = [(one.contract, one.service, one.backend, operation.implements or operation.verb)
                    for one in (kind.follows(definition) if kind is not None and definition is not None else ())]
            if service.contract and service.contract not in [contract for contract, *_ in ways]:
                ways.append((service.contract, service.contract_service, "", operation.implements or operation.name))
            for contract, offers, backend, theirs in ways:
                followed = thawed.catalogue.get(ContractDefinition, contract)
                if followed is not None and (backend or _is_address(followed.source)):
                    one = found.setdefault((contract, backend), _Followed(followed, offers, backend, thawed=thawed))
                    one.users.setdefault((service.segment, theirs), []).append(operation.name)
    through = {contract for contract, backend in found if backend}
    return [one for (contract, backend), one in found.items() if backend or contract not in through]


def _is_address(source: str) -> bool:
    return source.startswith(("http://", "https://"))


async def _check_one(ports: Ports, place: EnvironmentDefinition, one: _Followed) -> dict[str, Any]:
    address = one.definition.source
    try:
        if one.backend:
            address, web = await _outside(ports, place, one)
        else:
            web = Web(Networks(read_networks(ports.settings.networks)), None, address)
        now = await asyncio.to_thread(read_contract, address, web)
    except ProblemError as error:
        return _outcome(address, "not checked", [], [], [error.problem], [])
    problems = [Problem(two.code, two.message, place=two.place) for two in now.problems]
    if not now.usable:
        return _outcome(address, "not checked", [], [], problems, [])
    changes = await asyncio.to_thread(lambda: drift(read_definition_of(one.definition), now, one.service))
    changes = [two for two in changes if two.rule != "documentation"]
    callers: list[dict[str, Any]] = []
    for service in dict.fromkeys(name for name, _ in one.users):
        callers += [two | {"service": service} for two in await ports.calls.users_of(service, time.time() - MONTH, place.name)]
    return _outcome(address, "changed" if changes else "same", changes, [
        _told(change, one, callers) for change in changes], problems, callers)


def _outcome(address: str, state: str, changes: list[ContractChange], told: list[dict[str, Any]], problems: list[Problem],
             callers: list[dict[str, Any]]) -> dict[str, Any]:
    concerned = sorted({name for one in told for name in one["callers"]})
    return {"address": address, "state": state, "verdict": worst(changes).words, "changes": told, "callers": concerned,
            "problems": [one.as_dict(for_owners=True) for one in problems[:20]]}


def _told(change: ContractChange, one: _Followed, callers: list[dict[str, Any]]) -> dict[str, Any]:
    """A change with our operations that go there, and who called them in the last month."""
    ours = {(service, name) for (service, theirs), names in one.users.items() if change.operation in ("", theirs) for name in names}
    concerned = {two["caller"] for two in callers if (two["service"], two["operation"]) in ours}
    return asdict(change) | {
        "verdict": change.verdict.words, "operations": [{"service": service, "operation": name} for service, name in sorted(ours)],
        "callers": sorted(concerned) if change.verdict is not Verdict.COMPATIBLE else []}


async def _outside(ports: Ports, place: EnvironmentDefinition, one: _Followed) -> tuple[str, Web]:
    """Where the other side's contract is in an environment, and how it is fetched: with what Bricola presents there, at that host only."""
    assert one.thawed is not None
    backend, binding = bound_backend(place, one.backend, one.thawed.catalogue)
    ports.places.require_credential(backend, binding, place.name)
    base = binding.ends[0].address
    address = binding.contract_address or (base if "?" in base else f"{base}?wsdl")
    around = ports.places.surroundings
    host = urlsplit(base).hostname or ""
    await around.networks.find(host, urlsplit(base).port or (443 if base.startswith("https") else 80))
    networks = replace(Networks(read_networks(ports.settings.networks)), hosts=frozenset((host.lower(),)))
    door = DOORS[backend.engine]
    verify = door.trusts(binding, around) if door.trusts is not None and base.startswith("https") else True
    return address, Web(networks, _Presents(door.presents(binding, around)) if door.presents is not None else None, base, verify=verify)


class _Presents(httpx.Auth):
    """Header fields that sign in."""

    def __init__(self, headers: dict[str, str]) -> None:
        self._headers = headers

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        request.headers.update(self._headers)
        yield request


