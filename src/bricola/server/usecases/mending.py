"""Doing the mends of the review that are mechanical: worked out first, shown, and then applied at once."""

import asyncio
from dataclasses import dataclass
from typing import Protocol

from bricola.api.words import ChangeAction
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.review import Finding, review
from bricola.server.usecases import definitions, reviews
from bricola.server.usecases.definitions import Change, apply, is_live
from bricola.server.usecases.reviews import gather_facts

_MOST = 100  # each mend may change what the next one starts from
_DELIBERATE = ("access.anonymous",)  # done only when they are asked for by name


class Ports(definitions.Ports, reviews.Ports, Protocol):
    """Reviews, and changes drafts."""


@dataclass(frozen=True)
class Mended:
    """What was changed, or would be; and the findings whose mends are of environments, which nobody asked for."""

    changes: list[Change]
    left: list[Finding]


async def mend(ports: Ports, service: str, environment: str, code: str, author: str, settings: bool = False,
               plan_only: bool = False) -> Mended:
    """Do the mends that are mechanical: of one rule, or of all that stop and warn when no code is given. What an environment says is in
    effect at once, so it is changed only with `settings`."""
    definition = ports.drafts.service(service)
    place = ports.drafts.environment(environment) if environment else None
    catalogue, mended, left = ports.drafts.catalogue, dict[tuple[str, str], Definition](), list[Finding]()
    for _ in range(_MOST):
        found = [one for one in await _findings(ports, catalogue, definition, place)
                 if one.mended is not None and (one.problem.code == code if code else one.problem.code not in _DELIBERATE)]
        left = [one for one in found if one.mended is not None and is_live(one.mended.kind) and not settings]
        chosen = next((one.mended for one in found if one not in left), None)
        if chosen is None:
            break
        mended[chosen.kind, chosen.name] = chosen
        catalogue |= Catalogue([chosen])
        definition = catalogue.get(ServiceDefinition, service) or definition
        place = catalogue.get(EnvironmentDefinition, environment) if place is not None else None
    if not mended and not left:
        raise ProblemError(Problem("mend.nothing", "There is nothing that can be mended mechanically.", Kind.MISSING, place=code,
                                   mend=f"Read the findings: bricola review {service} {environment}".rstrip()))
    paths = {one.reference: one.path for one in ports.drafts.files}
    files = {paths.get(reference, default_path(one)): write_definition(one) for reference, one in mended.items()}
    changes = [one for one in await apply(ports, files, author, plan_only=plan_only) if one.action is not ChangeAction.UNCHANGED] \
        if files else []
    return Mended(changes, left)


async def _findings(ports: Ports, catalogue: Catalogue, service: ServiceDefinition, place: EnvironmentDefinition | None) -> list[Finding]:
    facts = await gather_facts(ports, catalogue, service, place, look=False)
    return await asyncio.to_thread(review, catalogue, service, place, facts)
