"""Contracts of others: read, taken in as a service, taken in again when they changed."""

import asyncio
import base64
import binascii
import re
from collections.abc import Collection, Mapping
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any, Literal, Protocol
from urllib.parse import unquote, urlsplit

import httpx

from bricola.adapters.networks import Networks, read_networks
from bricola.adapters.parts import SUFFIXES, Web, read_files, read_source, zip_files
from bricola.core.contracts.compatibility import compare_contracts
from bricola.core.contracts.reading.contract import ReadContract
from bricola.core.contracts.reading.parts import Part, local_name
from bricola.core.contracts.says import MAY_DIFFER
from bricola.core.contracts.served import read_definition_of
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.names import kebab_case
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.breaking import broken_by
from bricola.core.kinds.registry import needs
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.settings import Settings
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports as DefinitionPorts


class Ports(DefinitionPorts, Protocol):
    settings: Settings


@dataclass(frozen=True)
class Source:
    """Where a contract comes from: an address that the service fetches, or files by path (in base64), one of which may be a zip. `user` and
    `password` sign in at the address, and are kept nowhere."""

    address: str = ""
    files: Mapping[str, str] | None = None
    main: str = ""
    user: str = ""
    password: str = field(default="", repr=False)


async def read(ports: Ports, source: Source) -> ReadContract:
    """Read a contract, beside the event loop. What is wrong in it is in its problems; raises ProblemError when there is nothing to read."""
    return await asyncio.to_thread(_read, ports.settings, source)


def _read(settings: Settings, source: Source) -> ReadContract:
    if source.address:
        if not source.address.startswith(("http://", "https://")):
            raise ProblemError(Problem("contract.source", "This is no address that a contract is fetched from.", place="address",
                                       expected="an address with http or https", found=source.address[:100]))
        networks = Networks(read_networks(settings.networks))
        signs_in = httpx.BasicAuth(source.user, source.password) if source.user else None
        return read_source(source.address, remote=lambda address: Web(networks, signs_in, address))
    return read_files(decoded_files(source.files or {}), source.main)


def decoded_files(given: Mapping[str, str], suffixes: tuple[str, ...] = SUFFIXES) -> dict[str, bytes]:
    """Files that came in base64, by path, with what is in zips. Raises ProblemError."""
    files: dict[str, bytes] = {}
    for path, text in given.items():
        try:
            content = base64.b64decode(text, validate=True)
        except binascii.Error:
            raise ProblemError(Problem("contract.base64", "The content of the file is no base64.", place=path)) from None
        files |= zip_files(content, suffixes) if path.lower().endswith(".zip") else {path: content}
    return files


async def differ(ports: Ports, service: str, operation: str, setting: str, value: str | None, author: str) -> list[definitions.Change]:
    """Differ from the contract in one setting of an operation, as a new draft; None goes back to what the contract says."""
    draft, known = following(ports, service, operation)
    if setting not in MAY_DIFFER:
        raise ProblemError(Problem("contract.locked", "The contract decides this, and callers go by it.", Kind.CONFLICT,
                                   place=setting[:100], choices=tuple(MAY_DIFFER),
                                   mend="Ask its owner for another contract, and take that in."))
    line = {setting: Operation.model_fields[setting].default if value is None else value}
    return await save_operation(ports, draft, known.model_copy(update=line), author)


def following(ports: Ports, service: str, operation: str) -> tuple[ServiceDefinition, Operation]:
    """The draft of a service that follows a contract of somebody else, and one of its operations. Raises ProblemError."""
    draft = ports.drafts.service(service)
    known = next((one for one in draft.operations if one.name == operation), None)
    if known is None or not draft.contract:
        raise ProblemError(Problem("reference.operation", "No operation of a contract of somebody else has this name here.", Kind.MISSING,
                                   place=f"{service}.{operation}"[:200], expected=", ".join(one.name for one in draft.operations)))
    return draft, known


async def save_operation(ports: Ports, draft: ServiceDefinition, changed: Operation, author: str) -> list[definitions.Change]:
    """A new draft with one operation changed."""
    operations = tuple(changed if one.name == changed.name else one for one in draft.operations)
    text = write_definition(draft.model_copy(update={"operations": operations}))  # which is read again, and so judged
    return await definitions.apply(ports, {ports.drafts.path_of("service", draft.name): text}, author)


def definition_of(contract: ReadContract, name: str, source: str, description: str = "") -> ContractDefinition:
    """A contract that was read, as a definition: every part as it came, by a path of its own."""
    files: dict[str, str] = {}
    encoded: dict[str, str] = {}
    places: dict[str, str] = {}
    for part in contract.parts:
        path = unquote(part.name) if part.location.startswith("file:") else _file_name(part, {*files, *encoded})
        if not part.location.startswith("file:"):
            places[path] = part.location
        try:
            files[path] = part.content.decode()
        except UnicodeDecodeError:
            encoded[path] = base64.b64encode(part.content).decode()
    main = next(iter((*places, *files, *encoded))) if len(contract.parts) == 1 or places else unquote(contract.parts[0].name)
    return ContractDefinition(name=name, description=description, source=source, fetched=f"{datetime.now(UTC):%Y-%m-%d}", main=main,
                              files=files, encoded=encoded, places=places)


def _file_name(part: Part, taken: set[str]) -> str:
    """A file name for a part that came from an address."""
    suffix = ".xsd" if local_name(part.root.tag) == "schema" else ".wsdl"
    name = re.sub(r"[^\w.-]+", "-", urlsplit(part.location).path.rpartition("/")[2]).strip("-") or "contract"
    name = name if name.lower().endswith(suffix) else f"{name}{suffix}"
    number = 1
    while name in taken:
        number += 1
        name = f"{number}-{name.partition('-')[2] if number > 2 else name}"
    return name


def list_contracts(ports: Ports) -> list[dict[str, Any]]:
    """The contracts of others that were taken in, with the services that follow them."""
    followers: dict[str, list[str]] = {}
    for service in ports.drafts.catalogue.services():
        for one in needs(ports.drafts.catalogue, service):
            if isinstance(one, ContractDefinition):
                followers.setdefault(one.name, []).append(service.name)
    return [{"name": one.name, "description": one.description, "source": one.source, "fetched": one.fetched,
             "parts": len(one.files) + len(one.encoded), "services": followers.get(one.name, [])}
            for one in ports.drafts.catalogue.all_of(ContractDefinition)]


async def find_contract(ports: Ports, name: str) -> ReadContract:
    """What a contract that was taken in offers."""
    found = ports.drafts.catalogue.get(ContractDefinition, name)
    if found is None:
        raise ProblemError(unknown("contract", name, [one.name for one in ports.drafts.catalogue.all_of(ContractDefinition)]))
    return await asyncio.to_thread(read_definition_of, found)


async def take_in(ports: Ports, source: Source, service: str, author: str, *, offers: str = "", name: str = "", role: str = "",
                  not_built: Collection[str] = (), plan_only: bool = False) -> dict[str, Any]:
    """Make a service of a contract, one operation for each of its own, all of them stubs (those of `not_built` answer that they are none
    yet); or bring one that follows an older version of it up to date, with its maps kept. Answers the plan, what changed for callers, and
    every problem of the contract."""
    contract = await read(ports, source)
    if not contract.usable:
        raise ProblemError(*(Problem(one.code, one.message, place=one.place + (f":{one.line}" if one.line else ""))
                             for one in contract.problems[:20]))
    catalogue = ports.drafts.catalogue
    existing = catalogue.find_service(service)
    if existing is not None and not existing.contract:
        raise ProblemError(Problem("contract.service-taken", f"There is a service {service} already, with a contract of its own.",
                                   place=f"service {service}", mend="Choose another name."))
    words = _described(contract, offers)
    taken = definition_of(contract, existing.contract if existing is not None else name or kebab_case(service),
                          source.address or "files", words)
    made = _service(existing, service, taken, contract, offers, role, words, frozenset(not_built))
    after = catalogue | Catalogue([taken, made])
    broken = await asyncio.to_thread(broken_by, catalogue, after) if plan_only else []
    resolved = await asyncio.to_thread(resolve_service, made, after)
    changes = []
    if existing is not None:
        before = await asyncio.to_thread(resolve_service, existing, catalogue)
        changes = await asyncio.to_thread(compare_contracts, before.shape, resolved.shape)
    paths = {one.reference: one.path for one in ports.drafts.files}
    files = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in (taken, made)}
    plan = await definitions.apply(ports, files, author, plan_only=plan_only)
    return {
        "service": service, "contract": taken.name, "applied": not plan_only,
        "operations": [{"name": one.name, "runs": one.runs} for one in made.operations],
        "changes": [definitions.plain_change(one) | {"lines": []} for one in plan],
        "for_callers": [asdict(one) | {"verdict": one.verdict.words, "callers": []} for one in changes],
        "breaks": [one.as_dict() for one in broken], "problems": [one.as_dict() for one in contract.problems],
    }


def _described(contract: ReadContract, offers: str) -> str:
    found = contract.services.get(offers) or next(iter(contract.services.values()))
    return found.description[:2000]


def _service(existing: ServiceDefinition | None, service: str, taken: ContractDefinition, contract: ReadContract, offers: str, role: str,
             words: str, not_built: frozenset[str]) -> ServiceDefinition:
    usable = {name: one for name, one in contract.services.items() if any(port.soap and port.operations for port in one.ports.values())}
    chosen = offers or (existing.contract_service if existing is not None else "")
    if chosen not in usable and (chosen or len(usable) > 1):
        what = "There is no such service in it." if chosen else "The contract has several services."
        raise ProblemError(Problem("contract.service", what, found=chosen, choices=tuple(usable),
                                   mend="Say which one is meant."))
    read_service = usable[chosen] if chosen else next(iter(usable.values()))
    names = {name: None for port in read_service.ports.values() if port.soap for name in port.operations}
    kept = {one.implements or one.name: one for one in existing.operations} if existing is not None else {}
    operations = tuple(kept.get(name) or _stub(name, taken.name, "fault" if name in not_built else "answer") for name in names)
    if existing is not None:
        return existing.model_copy(update={"operations": operations})
    access: dict[str, Any] = {role: "all"} if role else {}
    return ServiceDefinition(name=service, description=words, contract=taken.name, contract_service=chosen if len(usable) > 1 else "",
                             access=access, operations=operations)


def _stub(name: str, contract: str, answers: Literal["answer", "fault"]) -> Operation:
    plain = re.sub(r"\W", "_", name)
    plain = plain if re.match(r"[A-Za-z]", plain) else f"Op{plain}"
    return Operation(name=plain, runs=f"contract {contract}.{plain}", implements="" if plain == name else name, stub=answers)


__all__ = ["Drafts", "Ports", "Source", "definition_of", "read", "take_in"]
