"""Comparing any two of a service's releases, its draft and what is live: definitions, contract, verdict, callers."""

import asyncio
import time
from dataclasses import asdict, dataclass
from typing import Any, Protocol

from bricola.core.contracts.compatibility import ContractChange, Verdict, compare_contracts, worst
from bricola.core.contracts.kept import ADDRESS
from bricola.core.definitions.compare import compare_lines, compare_texts
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.durations import MONTH
from bricola.core.kinds.resolve import ResolvedService, resolve_service
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import ServiceShape
from bricola.core.testing.checking import check_suite
from bricola.core.testing.mending import mend_suite
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases, freeze
from bricola.store.releases import StoredRelease


class Ports(Protocol):
    drafts: Drafts
    releases: Releases
    places: Places
    calls: Calls


DRAFT = "draft"


@dataclass(frozen=True)
class Side:
    """One side of a comparison."""

    label: str
    release: int | None  # None: the draft
    definition: ServiceDefinition
    bundle: dict[str, str]
    shape: ServiceShape
    contract: str  # with its address marked


async def draft_side(ports: Ports, definition: ServiceDefinition) -> Side:
    catalogue = ports.drafts.catalogue

    def resolve() -> Side:
        resolved = resolve_service(definition, catalogue)
        return Side(DRAFT, None, definition, freeze(catalogue, definition)[0], resolved.shape, _text(resolved, resolved.kept_contract()))

    return await asyncio.to_thread(resolve)


async def released_side(ports: Ports, release: StoredRelease, where: str = "") -> Side:
    frozen = await ports.releases.thaw(release)
    label = f"release {release.number}" + (f", live in {where}" if where else "")
    return Side(label, release.number, frozen.definition, release.bundle, frozen.resolved.shape, _text(frozen.resolved, frozen.contract))


def _text(resolved: ResolvedService, kept: str) -> str:
    """The contract to be read by people: the document that it begins with."""
    found = resolved.offer.document(0, ADDRESS) if resolved.offer is not None else None
    return found[0].decode(found[1], "replace") if found is not None else kept


async def find_side(ports: Ports, service: str, which: str) -> Side:
    """`which` is a release number, 'draft', or the name of an environment for what is live there."""
    if which == DRAFT:
        return await draft_side(ports, ports.drafts.service(service))
    if which.isascii() and which.isdigit():
        return await released_side(ports, await ports.releases.find(service, int(which)))
    here = [one for one in ports.places.services() if one.environment == which and one.name == service]
    draft = ports.drafts.catalogue.find_service(service)
    newest = max(here, key=lambda one: one.release, default=None)
    live = next((one for one in here if draft is not None and one.segment == draft.segment), newest)
    if live is None:
        known = ", ".join(one.name for one in ports.drafts.catalogue.environments())
        raise ProblemError(Problem("compare.side", f"There is no version {which} of {service}.", Kind.MISSING, place=which,
                                   expected=f"a release number, draft, or an environment where it is live ({known})"))
    return await released_side(ports, await ports.releases.find(service, live.release), which)


async def breaking_changes(old: Side, new: Side) -> list[ContractChange]:
    changes = await asyncio.to_thread(compare_sides, old, new)
    return [one for one in changes if one.verdict is Verdict.BREAKING]


def compare_sides(old: Side, new: Side) -> list[ContractChange]:
    """The changes of the contract, and the grants that callers lose."""
    changes = compare_contracts(old.shape, new.shape)
    for name in (one.name for one in new.shape.operations if old.shape.operation(one.name) is not None):
        lost = old.definition.roles_for(name) - new.definition.roles_for(name)
        if lost and new.definition.access:  # a service that states none leaves it to its environments
            changes.append(ContractChange(Verdict.BREAKING, "access.removed", name, f"{name}/access",
                                          f"Roles lose the right to call {name}.", ", ".join(sorted(lost)), "none"))
    order = list(Verdict)
    return sorted(changes, key=lambda one: -order.index(one.verdict))


async def compare(ports: Ports, service: str, old: str, new: str) -> dict[str, Any]:
    """Everything that a person needs to judge the step from `old` to `new`, as JSON data."""
    before, after = await find_side(ports, service, old), await find_side(ports, service, new)
    changes = await asyncio.to_thread(compare_sides, before, after)
    contract = await asyncio.to_thread(compare_lines, before.contract.replace(ADDRESS, ""), after.contract.replace(ADDRESS, ""))
    used = await ports.calls.users_of(before.definition.segment, time.time() - MONTH)
    return {
        "service": service,
        "old": {"label": before.label, "release": before.release, "version": before.definition.version},
        "new": {"label": after.label, "release": after.release, "version": after.definition.version},
        "verdict": worst(changes).words,
        "changes": [asdict(one) | {"verdict": one.verdict.words, "callers": _callers_of(one, used)} for one in changes],
        "callers": _judge_callers(changes, used),
        "cases": await asyncio.to_thread(_cases, ports.drafts.catalogue.all_of(SuiteDefinition), service, changes, after.shape),
        "definitions": [asdict(one) for one in compare_texts(before.bundle, after.bundle)],
        "contract": contract,
    }


def _cases(suites: list[SuiteDefinition], service: str, changes: list[ContractChange], shape: ServiceShape) -> list[dict[str, Any]]:
    """The test cases that the changes are about, and those that do not fit the new contract, with whether that can be mended by itself."""
    found = []
    for suite in (one for one in suites if one.service == service):
        problems, mended = check_suite(suite, shape), mend_suite(suite, shape)[1]
        for section, case in suite.all_parts:
            mark = f"test-suite {suite.name}, {section}, {case.name}"
            wrong = [one for one in problems if one.place == mark or one.place.startswith(f"{mark},")]
            about = [one for one in changes if one.operation in ("", case.operation) and one.rule != "documentation"]
            if wrong or about:
                at = f"{section}, {case.name}"
                mends = [words for place, words in mended if place == at or place.startswith(f"{at},")]
                found.append({"suite": suite.name, "case": case.name, "operation": case.operation,
                              "changes": [one.message for one in about], "problems": [one.as_dict() for one in wrong], "mends": mends})
    return found


def _callers_of(change: ContractChange, used: list[dict[str, Any]]) -> list[str]:
    if change.verdict is Verdict.COMPATIBLE:
        return []
    return sorted({one["caller"] for one in used if change.operation in ("", one["operation"])})


def _judge_callers(changes: list[ContractChange], used: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Every caller of the last 30 days with the worst that happens to an operation that it used."""
    callers: dict[str, dict[str, Any]] = {}
    for one in used:
        entry = callers.setdefault(one["caller"], {"caller": one["caller"], "calls": 0, "last": 0.0, "operations": []})
        entry["calls"] += one["calls"]
        entry["last"] = max(entry["last"], one["last"])
        entry["operations"].append(one["operation"])
    for entry in callers.values():
        entry["verdict"] = worst([one for one in changes if one.operation in ("", *entry["operations"])]).words
    return sorted(callers.values(), key=lambda one: -one["calls"])
