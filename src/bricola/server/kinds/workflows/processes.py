"""Bringing in a process: its workflows, the contract that it offers, and what it asks of others, as drafts."""

import asyncio
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from bricola.core.contracts.served import read_definition_of
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import BackendDefinition, Operation, ServiceDefinition
from bricola.core.definitions.names import kebab_case
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.text import read_data, write_definition
from bricola.core.kinds.registry import kinds
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.processes.taking import Partner, Taken, take_process
from bricola.core.kinds.workflows.shape import program_of
from bricola.core.packages.fitting import namespace_base
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.forms import NEWEST
from bricola.server.kinds.workflows.writing import Ports as Writing
from bricola.server.usecases import definitions
from bricola.server.usecases.contracts import decoded_files
from bricola.server.usecases.definitions import Ports as DefinitionPorts

_SUFFIXES = (".bpel", ".wsdl", ".xsd", ".xml")


class Ports(Writing, DefinitionPorts, Protocol):
    pass


@dataclass(frozen=True)
class Wish:
    """What somebody wants of a process: the service that it becomes, who may call it, and what its open ends become (by their ids).
    `accept` takes the proposals for all others."""

    service: str
    main: str = ""
    role: str = ""
    choices: Mapping[str, str] | None = None
    accept: bool = False


async def take_in(ports: Ports, files: Mapping[str, str], wish: Wish, author: str, plan_only: bool) -> dict[str, Any]:
    """Make drafts of a process (files in base64, by path; zips are opened). A plan makes none. Raises ProblemError where nothing can be
    made of it, and while an end is open that nobody has confirmed."""
    catalogue = ports.drafts.catalogue
    existing = catalogue.find_service(wish.service)
    contract = kebab_case(wish.service)
    brought = catalogue.get(ContractDefinition, contract) is not None  # by this process, whose contract is called like its service
    if existing is not None and existing.contract != contract and not (brought and not existing.contract):
        raise ProblemError(Problem("process.service-taken", f"There is a service {wish.service} already, which follows another contract.",
                                   Kind.CONFLICT, place=f"service {wish.service}", mend="Choose another name."))
    taken, made = await asyncio.to_thread(_made, catalogue, decoded_files(files, _SUFFIXES), wish, contract, existing)
    open_ends = [one for one in taken.endings if not one.chosen]
    if open_ends and not wish.accept and not plan_only:
        raise ProblemError(*(Problem("process.open-end", f"{one.what}. Somebody has to say what callers get there.", Kind.CONFLICT,
                                     place=one.id, expected=" or ".join(one.options), found="no choice",
                                     mend=f"Confirm the proposal, '{one.proposal}', or choose another.") for one in open_ends))
    paths = {one.reference: one.path for one in ports.drafts.files}
    texts = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in made}
    changes = await definitions.apply(ports, texts, author, plan_only=plan_only)
    return {
        "service": wish.service, "contract": contract, "applied": not plan_only,
        "workflows": [{"name": one.name, "operation": operation, "steps": len(one.steps),
                       "text": write_definition(one)} for operation, one in zip(taken.operations, taken.workflows, strict=True)],
        "partners": [{"link": one.link, "calls": one.calls, "new": bool(one.name)} for one in taken.partners],
        "left": [one.as_dict() for one in taken.left], "endings": [one.as_dict() for one in taken.endings],
        "changes": [definitions.plain_change(one) | {"lines": []} for one in changes],
        "problems": await asyncio.to_thread(_problems, catalogue | Catalogue(made), taken),
    }


def _made(catalogue: Catalogue, files: Mapping[str, bytes], wish: Wish, contract: str,
          existing: ServiceDefinition | None) -> tuple[Taken, list[Definition]]:
    """The process, and the definitions that it becomes."""
    known = _sent_on(catalogue, contract)
    sends_on = next(one for one in kinds() if one.runs_on is Family.SERVICE)
    names = {one.name for one in (*catalogue.all_of(sends_on.model), *catalogue.all_of(BackendDefinition))}
    if existing is not None:  # it was brought in before, and its relays are its own
        names -= {one.name for one in catalogue.all_of(sends_on.model) if any(f.contract == contract for f in sends_on.follows(one))}
    taken = take_process(files, wish.main, contract, known, wish.choices or {}, sends_on.word, names)
    documents = taken.documents
    texts: dict[str, str] = {}
    encoded: dict[str, str] = {}
    for path, content in documents.files.items():
        try:
            texts[path] = content.decode()
        except UnicodeDecodeError:
            raise ProblemError(Problem("process.encoding", "The document is no UTF-8 text.", place=path)) from None
    made: list[Definition] = [ContractDefinition(name=contract, description=f"What the process {taken.name} offers and asks.",
                                                 source="files", main=documents.main, files=texts, encoded=encoded)]
    for partner in taken.partners:
        known_one = catalogue.get(sends_on.model, partner.name)  # brought in before, and perhaps changed by hand since
        if partner.name and (known_one is None or not any(one.contract == contract for one in sends_on.follows(known_one))):
            made += _asked(partner, contract, sends_on.word, catalogue)
    made += taken.workflows
    made.append(_service(catalogue, existing, wish, contract, taken))
    return taken, made


def _sent_on(catalogue: Catalogue, contract: str) -> dict[tuple[str, str], str]:
    """What sends on messages already, by their element and operation; not what an earlier import of the same contract made."""
    found: dict[tuple[str, str], str] = {}
    for kind in kinds():
        for definition in catalogue.all_of(kind.model):
            for one in kind.follows(definition):
                followed = catalogue.get(ContractDefinition, one.contract)
                if followed is None or one.contract == contract:
                    continue
                for name, service in read_definition_of(followed).services.items():
                    for port in service.ports.values() if one.service in ("", name) else ():
                        for operation in port.operations.values():
                            found.setdefault((operation.input.tag or "", operation.name), f"{kind.word} {definition.name}")
    return found


def _asked(partner: Partner, contract: str, word: str, catalogue: Catalogue) -> list[Definition]:
    """A backend for a partner, and what sends messages on to it. Nobody has said which of them change something, so all are said to."""
    data = {"name": partner.name, "description": f"The partner {partner.link} of a process.", "contract": contract,
            "service": partner.service, "backend": partner.name, "writes": list(partner.operations)}
    backend = {"name": partner.name, "engine": "soap", "description": f"The partner {partner.link} of a process."}
    known = catalogue.find_backend(partner.name)
    return [*([read_data(BackendDefinition, backend, partner.name)] if known is None else []),
            read_data(next(one.model for one in kinds() if one.word == word), data, partner.name)]


def _service(catalogue: Catalogue, existing: ServiceDefinition | None, wish: Wish, contract: str, taken: Taken) -> ServiceDefinition:
    if not taken.service:  # no message begins it, so its contract is ours
        operations = tuple(Operation(name=name, runs=f"workflow {workflow}") for name, workflow in taken.operations.items())
        if existing is not None:
            return existing.model_copy(update={"operations": operations})
        base = namespace_base(catalogue)
        return ServiceDefinition(name=wish.service, description=taken.workflows[0].description, operations=operations,
                                 namespace=f"{base}{kebab_case(wish.service)}" if base else "",
                                 access={wish.role: "all"} if wish.role else {})
    operations = tuple(Operation(name=workflow.operation, runs=f"workflow {workflow.name}",
                                 implements="" if workflow.operation == name else name)
                       for name, workflow in zip(taken.operations, taken.workflows, strict=True))
    if existing is not None:
        kept = {one.name: one for one in existing.operations}
        return existing.model_copy(update={"operations": tuple(kept.get(one.name, one) for one in operations)})
    offered = taken.documents.contract.services.get(taken.service)
    for name in {name: None for port in offered.ports.values() for name in port.operations} if offered is not None else ():
        if name not in taken.operations:  # nothing begins with it, so nothing is behind it yet
            plain = re.sub(r"\W", "_", name)
            operations += (Operation(name=plain, runs=f"contract {contract}.{plain}", stub="fault",
                                     implements="" if plain == name else name),)
    return ServiceDefinition(name=wish.service, description=taken.workflows[0].description, contract=contract,
                             contract_service=taken.service if len(taken.documents.contract.services) > 1 else "",
                             access={wish.role: "all"} if wish.role else {}, operations=operations)


def _problems(catalogue: Catalogue, taken: Taken) -> list[dict[str, Any]]:
    """What is still to be done by hand: parts of the contract that cannot be read, and mistakes of the workflows."""
    found = [Problem(one.code, one.message, place=one.place + (f":{one.line}" if one.line else ""))
             for one in taken.documents.contract.problems]
    for one in taken.workflows:
        try:
            program_of(catalogue.get(WorkflowDefinition, one.name) or one, catalogue, NEWEST)
        except ProblemError as error:
            found += error.problems
    return [one.as_dict() for one in found[:100]]
