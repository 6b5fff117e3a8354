"""Integration requests: taken in as drafts, and what became of them."""

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from bricola.adapters.parts import read_files
from bricola.core.contracts.reading.contract import ReadContract, ReadOperation
from bricola.core.contracts.served import offered, read_definition_of
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import BackendDefinition, Operation, ServiceDefinition
from bricola.core.definitions.names import kebab_case
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.requests import RequestDefinition, Side, lacks, locked
from bricola.core.definitions.text import read_data, read_mapping, write_definition
from bricola.core.kinds.implementing import matched
from bricola.core.kinds.registry import kinds
from bricola.core.kinds.resolve import resolve_operation
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.forms import NEWEST
from bricola.core.shapes.matching import likeness, match
from bricola.core.shapes.model import FaultShape, Record
from bricola.server.ports.drafts import unknown
from bricola.server.usecases import definitions
from bricola.server.usecases.contracts import Ports as ContractPorts
from bricola.server.usecases.contracts import Source, decoded_files, definition_of, read

_ALIKE = 0.55  # of the names of two faults


class Ports(ContractPorts, Protocol):
    pass


@dataclass
class Made:
    """What comes out of a request, and what it leaves open."""

    request: RequestDefinition
    definitions: list[Definition] = field(default_factory=list)
    lacks: list[dict[str, str]] = field(default_factory=list)
    proposed: list[dict[str, str]] = field(default_factory=list)

    def lack(self, what: str, why: str) -> None:
        self.lacks.append({"what": what, "why": why})


async def take_in(ports: Ports, text: str, files: Mapping[str, str], author: str, plan_only: bool) -> dict[str, Any]:
    """Make drafts of a request in YAML or JSON; `files` are the contracts beside it, in base64. Everything that it says is filled in, what
    it lacks is listed. Raises ProblemError where it cannot be read, or where its service is another's."""
    request = await asyncio.to_thread(_read, text)
    catalogue = ports.drafts.catalogue
    made = Made(request)
    for what, why in lacks(request):
        made.lack(what, why)
    contents = decoded_files(files)
    sides: dict[str, ContractDefinition] = {}
    for name in ("answers", "calls"):
        side: Side | None = getattr(made.request, name)
        if side is None:
            continue
        contract = await _contract(ports, side, contents, made, name)
        if contract is None:
            continue
        sides[name] = contract
        operation = side.operation or await asyncio.to_thread(_only, read_definition_of(contract), side.service)
        made.request = made.request.model_copy(update={name: side.model_copy(update={"contract": contract.name, "operation": operation})})
    await asyncio.to_thread(_make, catalogue, made, sides)
    made.definitions.append(made.request)
    paths = {one.reference: one.path for one in ports.drafts.files}
    texts = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in made.definitions}
    changes = await definitions.apply(ports, texts, author, plan_only=plan_only)
    return {"request": made.request.name, "service": made.request.service, "applied": not plan_only, "title": made.request.title,
            "taken": _taken(made.request, next((one for one in made.definitions if isinstance(one, ServiceDefinition)), None)),
            "lacks": made.lacks, "proposed": made.proposed,
            "changes": [definitions.plain_change(one) | {"lines": []} for one in changes]}


def _read(text: str) -> RequestDefinition:
    data = read_mapping(text, "request")
    found = read_data(RequestDefinition, {"name": data.get("request", ""), **{key: one for key, one in data.items() if key != "request"}},
                      "request")
    assert isinstance(found, RequestDefinition)
    try:
        found.named()
    except ValueError as error:
        raise ProblemError(Problem("request.naming", "The naming rule has a place that nothing fills.", place="request, naming",
                                   expected="{request}, {title}, {owner}, {asked_by}, {answers}, {calls}", found=str(error))) from None
    return found


async def _contract(ports: Ports, side: Side, files: Mapping[str, bytes], made: Made, name: str) -> ContractDefinition | None:
    """The contract that one side names: one that is here, a file beside the request, or an address."""
    known = ports.drafts.catalogue.get(ContractDefinition, side.contract)
    if known is not None:
        return known
    if side.contract in files:
        read_contract: ReadContract = await asyncio.to_thread(read_files, dict(files), side.contract)
        source = "files"
    elif side.contract.startswith(("http://", "https://")):
        read_contract, source = await read(ports, Source(side.contract)), side.contract
    else:
        made.lack(f"{name}, contract", f"There is no contract {shown(side.contract)} here, and no such file came with the request.")
        return None
    for one in read_contract.problems[:5]:
        made.lack(f"{name}, contract", f"{one.message} ({one.place}{f':{one.line}' if one.line else ''})")
    if not read_contract.usable:
        return None
    stem = kebab_case(side.contract.rpartition("/")[2].partition("?")[0].removesuffix(".wsdl")) or "contract"
    found = definition_of(read_contract, stem, source)
    same = next((one for one in ports.drafts.catalogue.all_of(ContractDefinition) if one.contents == found.contents), None)
    if same is not None:
        return same
    number = 1
    while ports.drafts.catalogue.get(ContractDefinition, found.name) is not None:
        number += 1
        found = found.model_copy(update={"name": f"{stem}-{number}"})
    made.definitions.append(found)
    return found


def _only(contract: ReadContract, service: str) -> str:
    """The operation of a contract that has one only."""
    names = list(_operations(contract, service))
    return names[0] if len(names) == 1 else ""


def _operations(contract: ReadContract, service: str) -> dict[str, ReadOperation]:
    ports = [port for known, one in contract.services.items() if service in ("", known) for port in one.ports.values() if port.soap]
    return {name: operation for port in ports for name, operation in port.operations.items()}


def _make(catalogue: Catalogue, made: Made, sides: Mapping[str, ContractDefinition]) -> None:
    """The service, what calls the other side, and the maps between them."""
    request = made.request
    answers, calls = request.answers, request.calls
    if answers is None or "answers" not in sides:
        return
    offers = _operations(read_definition_of(sides["answers"]), answers.service)
    if answers.operation not in offers:
        made.lack("answers, operation", f"The contract has no operation {shown(answers.operation)}; it has {', '.join(offers)}.")
        return
    name = request.service_name
    existing = catalogue.find_service(name)
    if existing is not None and existing.request != request.name:
        raise ProblemError(Problem("request.service-taken", f"There is a service {name} already, which no request of this name made.",
                                   Kind.CONFLICT, place=f"service {name}",
                                   mend="Say another naming rule, or name 'service:' in the request."))
    made.request = request = request.model_copy(update={"service": name})
    runs = _calling(catalogue, made, calls, sides.get("calls")) or f"contract {sides['answers'].name}.{answers.operation}"
    operations = []
    for one in offers:
        kept = next((two for two in existing.operations if one in (two.name, two.implements)), None) if existing is not None else None
        if kept is not None:
            operations.append(kept)
        elif one == answers.operation:
            operations.append(Operation(name=one, runs=runs))
        else:
            operations.append(Operation(name=one, runs=f"contract {sides['answers'].name}.{one}", stub="fault"))
    service = (existing or ServiceDefinition(name=name, access={request.role: "all"} if request.role else {})).model_copy(
        update={**request.says(), "request": request.name, "operations": tuple(operations)})
    everything = catalogue | Catalogue([*made.definitions, service])
    service = _mapped(everything, service, answers.operation, made)
    made.definitions.append(service)


def _calling(catalogue: Catalogue, made: Made, calls: Side | None, contract: ContractDefinition | None) -> str:
    """What sends on the call: one that is here, or a new one with its backend."""
    if calls is None or contract is None:
        return ""
    offers = _operations(read_definition_of(contract), calls.service)
    if calls.operation not in offers:
        made.lack("calls, operation", f"The contract has no operation {shown(calls.operation)}; it has {', '.join(offers)}.")
        return ""
    for kind in kinds():
        for one in catalogue.all_of(kind.model):
            if any(followed.contract == contract.name and followed.service in ("", calls.service) for followed in kind.follows(one)):
                return f"{kind.word} {one.name}.{calls.operation}"
    sends_on = next(one for one in kinds() if one.runs_on is Family.SERVICE)
    name = made.request.plain_name
    words = f"What {made.request.title or made.request.name} asks."[:200]
    data = {"name": name, "description": words, "contract": contract.name, "service": calls.service, "backend": name,
            "writes": [calls.operation]}
    if catalogue.find_backend(name) is None:
        made.definitions.append(read_data(BackendDefinition, {"name": name, "engine": "soap", "description": words}, name))
    made.definitions.append(read_data(sends_on.model, data, name))
    made.lack("calls, address", f"Where {name} is, each environment says: add it under 'backends:' there.")
    made.lack("calls, reads or writes", f"It does not say whether {calls.operation} only reads, so it is said to change something.")
    return f"{sends_on.word} {name}.{calls.operation}"


def _mapped(catalogue: Catalogue, service: ServiceDefinition, operation: str, made: Made) -> ServiceDefinition:
    """The lines that names do not say: for what is required the likeliest is proposed, and said to be a proposal."""
    changed = next(one for one in service.operations if operation in (one.name, one.implements))
    place = f"service {service.name}, {changed.name}"
    try:
        offer = offered(service, catalogue.get(ContractDefinition, service.contract), place)
        inner = resolve_operation(changed, catalogue, NEWEST, place).shape
        pair = matched(changed, inner, offer, place)
    except ProblemError as error:
        for one in error.problems[:5]:
            made.lack(one.place, one.message)
        return service
    if pair is None:
        return service
    lines: dict[str, dict[str, str]] = {"map_in": dict(changed.map_in), "map_out": dict(changed.map_out)}
    for side, found in zip(("map_in", "map_out"), pair, strict=True):
        for part in found.parts:
            if part.path not in found.missing:
                continue
            if part.fits:
                lines[side][part.path] = part.fits[0]
                made.proposed.append({"map": side, "part": part.path, "from": part.fits[0], "or": ", ".join(part.fits[1:4])})
            else:
                made.lack(f"{side}, {part.path}", f"It is required ({part.type}), and nothing of that type comes from the other side.")
    lines["map_faults"] = dict(changed.map_faults)
    for fault in inner.faults:
        _fault(fault, offer.operations[operation].faults, lines["map_faults"], made)
    changed = changed.model_copy(update=lines)
    return service.model_copy(update={"operations": tuple(changed if one.name == changed.name else one for one in service.operations)})


def _fault(fault: FaultShape, offered_faults: Mapping[str, Record], lines: dict[str, str], made: Made) -> None:
    """The fault of the contract that one of the other side becomes: of its name, the only one, or the likeliest."""
    names = {one.lower(): one for one in offered_faults}
    if fault.name in lines or fault.name.lower() in names:
        return
    ranked = sorted(offered_faults, key=lambda one: -likeness(fault.name, one))
    chosen = ranked[0] if len(ranked) == 1 or (ranked and likeness(fault.name, ranked[0]) > _ALIKE) else ""
    if not chosen:
        made.lack(f"map_faults, {fault.name}", "No fault of the contract to answer is like it: callers are told of it as of any failure.")
        return
    found = match(offered_faults[chosen], fault.record, {}, f"map_faults, {fault.name}")
    parts = {one.path: one.fits for one in found.parts}
    if any(not parts.get(one) for one in found.missing):
        made.lack(f"map_faults, {fault.name}", f"The fault {chosen} needs what it does not have.")
        return
    lines[fault.name] = chosen
    made.proposed.append({"map": "map_faults", "part": fault.name, "from": chosen, "or": ", ".join(ranked[1:4])})
    for one in found.missing:
        path, fits = f"{fault.name}.{one}", parts[one]
        lines[path] = fits[0]
        made.proposed.append({"map": "map_faults", "part": path, "from": fits[0], "or": ", ".join(fits[1:4])})


def _taken(request: RequestDefinition, service: ServiceDefinition | None) -> list[dict[str, Any]]:
    """Every setting that the request says, what it is here, and whether it is locked."""
    found = [{"setting": name, "value": value, "here": str(getattr(service, name)) if service is not None else "", "locked": True}
             for name, value in request.says().items()]
    for name, side in (("operation", request.answers), ("calls", request.calls)):
        if side is not None and side.operation and service is not None:
            here = next((one.runs if name == "calls" else one.name for one in service.operations
                         if request.answers is not None and request.answers.operation in (one.name, one.implements)), "")
            found.append({"setting": name, "value": side.operation, "here": here, "locked": name == "operation"})
    if request.role:
        found.append({"setting": "role", "value": request.role, "here": ", ".join(service.access) if service is not None else "",
                      "locked": False})
    return found


def listed(ports: Ports) -> list[dict[str, Any]]:
    """The requests that were taken in."""
    return [_about(one) for one in ports.drafts.catalogue.all_of(RequestDefinition)]


def _about(one: RequestDefinition) -> dict[str, Any]:
    return {"name": one.name, "title": one.title, "purpose": one.purpose, "owner": one.owner, "asked_by": one.asked_by, "link": one.link,
            "service": one.service}


def shown_request(ports: Ports, name: str) -> dict[str, Any]:
    """One, with what was taken over and is locked, and what it still lacks."""
    catalogue = ports.drafts.catalogue
    found = catalogue.get(RequestDefinition, name)
    if found is None:
        raise ProblemError(unknown("request", name, [one.name for one in catalogue.all_of(RequestDefinition)]))
    service = catalogue.find_service(found.service) if found.service else None
    return _about(found) | {"taken": _taken(found, service), "lacks": [{"what": what, "why": why} for what, why in lacks(found)],
                            "problems": [one.as_dict() for one in (locked(service, found) if service is not None else [])]}
