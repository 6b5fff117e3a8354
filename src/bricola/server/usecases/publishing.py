"""Making a source callable: as an operation of a service, new or known, with a contract of ours or one of somebody else."""

import asyncio
from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from bricola.core.contracts.served import offered
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.names import kebab_case, pascal_case
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.runs import read_runs
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.registry import find_kind
from bricola.core.kinds.resolve import resolve_service
from bricola.core.packages.fitting import namespace_base
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports


async def publish(ports: Ports, runs: str, service: str, operation: str, role: str, author: str, plan_only: bool) -> dict[str, Any]:
    """Make `runs` an operation of a service, as a draft. A service that there is not is made; one that follows a contract of somebody else
    has the operations of that, and the source is put behind one of them. Without a name the operation is called as its source. Raises
    ProblemError where it cannot be one."""
    try:
        source = read_runs(runs)
    except ValueError as error:
        raise ProblemError(Problem("publish.runs", f"This names nothing that can be published: {error}.", found=shown(runs))) from None
    kind, catalogue = find_kind(source.kind), ports.drafts.catalogue
    if kind is None or catalogue.find((source.kind, source.name)) is None:
        raise ProblemError(Problem("publish.unknown", f"There is no such {kind.title if kind is not None else source.kind}.", Kind.MISSING,
                                   found=shown(source.name)))
    known = catalogue.find_service(service)
    name = operation or pascal_case(source.name)
    if known is None:
        base = namespace_base(catalogue)
        made = ServiceDefinition(name=service, namespace=f"{base}{kebab_case(service)}" if base else "",
                                 access={role: "all"} if role else {}, operations=(Operation(name=name, runs=runs),))
    elif known.contract:
        made = _behind(known, runs, operation, catalogue.get(ContractDefinition, known.contract))
    else:
        if any(one.name == name for one in known.operations):
            raise ProblemError(Problem("publish.taken", f"{service} has an operation of this name already.", Kind.CONFLICT,
                                       found=shown(name),
                                       mend="Choose another name."))
        made = known.model_copy(update={"operations": (*known.operations, Operation(name=name, runs=runs)),
                                        "access": _granted(known, name, role)})
    await asyncio.to_thread(resolve_service, made, catalogue)  # what does not fit is told before anything is stored
    path = next((one.path for one in ports.drafts.files if one.reference == (made.kind, made.name)), default_path(made))
    changes = await definitions.apply(ports, {path: write_definition(made)}, author, plan_only=plan_only)
    return {"service": service, "operation": operation or name, "applied": not plan_only,
            "changes": [definitions.plain_change(one) for one in changes]}


async def surround(ports: Ports, service: str, around: Mapping[str, str], author: str) -> list[definitions.Change]:
    """Say what stands around every operation of a service (`before`, `after`, `unforeseen`; '' for nothing), as a draft. Raises
    ProblemError for what cannot stand there."""
    draft = ports.drafts.service(service)
    try:
        made = ServiceDefinition.model_validate({**draft.model_dump(exclude_unset=True), **around})
    except ValidationError as error:
        first = error.errors()[0]
        raise ProblemError(Problem("around.runs", "This cannot stand there.", place=str(first["loc"][0]), found=shown(str(first["input"])),
                                   expected="what an operation can run, like 'workflow check-hours'; of a handler, a name")) from None
    await asyncio.to_thread(resolve_service, made, ports.drafts.catalogue)
    return await definitions.apply(ports, {ports.drafts.path_of("service", service): write_definition(made)}, author)


def _granted(service: ServiceDefinition, operation: str, role: str) -> dict[str, Any]:
    """Who may call it: a role that may call all of it may call this one, too."""
    access: dict[str, Any] = dict(service.access)
    if role and access.get(role) != "all":
        access[role] = (*access.get(role, ()), operation)
    return access


def _behind(service: ServiceDefinition, runs: str, operation: str, contract: ContractDefinition | None) -> ServiceDefinition:
    """The source behind an operation of somebody's contract. Lines of an older map say nothing about it."""
    names = list(offered(service, contract, f"service {service.name}").operations)
    if operation not in names:
        raise ProblemError(Problem("publish.contract", f"{service.name} follows a contract of somebody else, whose operations it has.",
                                   place="operation", choices=tuple(names),
                                   found=shown(operation) if operation else "none"))
    known = next((one for one in service.operations if operation in (one.name, one.implements)), None)
    fresh = Operation(name=known.name if known is not None else operation, runs=runs,
                      implements=known.implements if known is not None else "",
                      description=known.description if known is not None else "")
    rest = [one for one in service.operations if one is not known]
    at = service.operations.index(known) if known is not None else len(rest)
    return service.model_copy(update={"operations": (*rest[:at], fresh, *rest[at:])})
