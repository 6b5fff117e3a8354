"""Putting what is deployed into service: at the start, when an environment changes, and again while something is down."""

from functools import partial
from typing import Protocol

import structlog

from bricola.core.definitions.model import EnvironmentDefinition, segment_of
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService
from bricola.server.ports.changes import Change, Changes
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.store import releases
from bricola.store.releases import StoredDeployment

log = structlog.stdlib.get_logger("bricola.releases")

ATTEMPTS = 20  # to compile for an environment that is not changed meanwhile; each change of it takes a turn of its own


class Ports(Protocol):
    drafts: Drafts
    releases: Releases
    places: Places
    changes: Changes


async def places_in_force(ports: Ports) -> list[tuple[str, str, int]]:
    """Every place that something is deployed at: environment, service, major version."""
    found = await ports.releases.deployments(in_force=True)
    return list(dict.fromkeys((one.environment, one.service, one.version) for one in reversed(found)))


async def compile_place(ports: Ports, environment: EnvironmentDefinition,
                        deployed: list[StoredDeployment]) -> list[tuple[LiveService, int]]:
    """The live services of what is deployed at one place, with their shares. Raises ProblemError."""
    parts = []
    for one in deployed:
        frozen = await ports.releases.thaw(await ports.releases.find(one.service, one.release))
        live = await ports.places.prepare(environment, frozen.definition, one.release, frozen.catalogue, frozen.resolved, frozen.contract)
        parts.append((live, one.share))
    return parts


async def release_in(ports: Ports, environment: str, service: str, release: int) -> LiveService:
    """A release as it runs in an environment, whether or not it is deployed there. Raises ProblemError."""
    frozen = await ports.releases.thaw(await ports.releases.find(service, release))
    return await ports.places.prepare(ports.drafts.environment(environment), frozen.definition, release, frozen.catalogue, frozen.resolved,
                                      frozen.contract)


async def keep_contracts(ports: Ports) -> None:
    """Store the contracts of releases that an older program made, as callers have them from it; so no later program writes them anew."""
    for service, number in await ports.releases.without_contract():
        try:
            frozen = await ports.releases.thaw(await ports.releases.find(service, number))
        except ProblemError as error:
            log.warning("the contract of an older release cannot be written", service=service, release=number, problem=str(error))
            continue
        await ports.changes.make([], partial(_keep, service, number, frozen.contract))


def _keep(service: str, number: int, contract: str, change: Change) -> None:
    releases.keep_contract(change.db, service, number, contract)


async def bring_up(ports: Ports, environment: str, service: str, version: int) -> None:
    """Put what is deployed at a place into service; when that fails the place says why instead of answering.

    Compiling and opening sessions take a while, so they are done outside of the turn. Inside it is looked whether what was compiled is
    still what is deployed, for the environment as it is; if not, it is done again."""
    segment = segment_of(service, version)
    for _ in range(ATTEMPTS):
        deployed = await ports.releases.in_force(environment, service, version)
        if not deployed:
            return
        definition = ports.drafts.catalogue.find_environment(environment)
        outcome: list[tuple[LiveService, int]] | ProblemError
        try:
            outcome = await compile_place(ports, ports.drafts.environment(environment), deployed)
        except ProblemError as error:
            outcome = error
        async with ports.changes.turn():
            if (ports.drafts.catalogue.find_environment(environment) != definition
                    or await ports.releases.in_force(environment, service, version) != deployed):
                continue
            if isinstance(outcome, ProblemError):
                ports.places.mark_down(environment, segment, outcome)
            else:
                ports.places.swap(environment, segment, outcome)
            return
