"""Implementing an operation of somebody's contract: what runs it, and from where each part comes."""

import asyncio
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from bricola.core.contracts.served import offered
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.kinds.implementing import matched
from bricola.core.kinds.resolve import resolve_operation
from bricola.core.problems import ProblemError
from bricola.core.shapes.forms import NEWEST
from bricola.core.shapes.matching import Matched
from bricola.server.usecases import definitions
from bricola.server.usecases.contracts import Ports, following, save_operation


async def implement(ports: Ports, service: str, operation: str, runs: str | None, map_in: Mapping[str, str] | None,
                    map_out: Mapping[str, str] | None, author: str, save: bool) -> dict[str, Any]:
    """What an operation of the contract would be filled with, run by `runs` with these lines; those of the draft where they are None. Saved
    as a draft when `save`, which lines that lead nowhere prevent."""
    draft, known = following(ports, service, operation)
    if runs is not None and runs != known.runs:  # another source, so the lines of the old one say nothing
        known = Operation.model_validate({**known.model_dump(exclude={"runs", "map_in", "map_out", "map_faults"}), "runs": runs})
    changed = known.model_copy(update={name: dict(one) for name, one in (("map_in", map_in), ("map_out", map_out)) if one is not None})
    place = f"service {service}, {operation}"
    pair = await asyncio.to_thread(_match, ports.drafts.catalogue, draft, changed, place)  # large contracts take their time
    problems = [problem for one in pair or () if one.problems is not None for problem in one.problems.problems]
    changes: list[definitions.Change] = []
    if save:
        if problems:
            raise ProblemError(*problems)
        changes = await save_operation(ports, draft, changed, author)
    return {"service": service, "operation": operation, "runs": changed.runs, "same_contract": pair is None,
            "map_in": _plain(pair[0] if pair else None), "map_out": _plain(pair[1] if pair else None),
            "problems": [one.as_dict() for one in problems], "offers": _offers(ports, draft),
            "changes": [definitions.plain_change(one) for one in changes]}


def _match(catalogue: Catalogue, draft: ServiceDefinition, operation: Operation, place: str) -> tuple[Matched, Matched] | None:
    offer = offered(draft, catalogue.get(ContractDefinition, draft.contract), place)
    return matched(operation, resolve_operation(operation, catalogue, NEWEST, place).shape, offer, place)


def _plain(one: Matched | None) -> dict[str, Any]:
    return {"parts": [asdict(part) | {"fits": list(part.fits)} for part in one.parts] if one else [],
            "missing": list(one.missing) if one else []}


def _offers(ports: Ports, draft: ServiceDefinition) -> list[str]:
    """What services with a contract of ours run, which this one may run as well."""
    found = {one.runs for service in ports.drafts.catalogue.services() if service.name != draft.name for one in service.operations
             if not service.contract}
    return sorted(found)
