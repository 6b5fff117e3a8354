"""The readiness review: everything that stands between a draft and a sound release, in one list.

Errors stop a release or a deployment, warnings and hints do not. Only what concerns the service is reviewed.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from urllib.parse import urlsplit

from bricola.core.definitions.catalogue import Catalogue, backends_of
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Record
from bricola.core.shapes.resolve import ResolvedService, resolve_service


class Severity(StrEnum):
    ERROR = "error"
    WARNING = "warning"
    HINT = "hint"


@dataclass(frozen=True)
class Finding:
    severity: Severity
    problem: Problem


def review(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition | None = None,
           ) -> list[Finding]:
    """All findings of a service, and of running it in an environment when one is given; errors first."""
    findings: list[Finding] = []
    try:
        resolved = resolve_service(service, catalogue)
    except ProblemError as error:
        findings += [Finding(Severity.ERROR, problem) for problem in error.problems]
    else:
        findings += _contract_findings(service, resolved)
    findings += _service_findings(catalogue, service)
    if environment is not None:
        findings += _environment_findings(catalogue, service, environment)
    order = list(Severity)
    return sorted(dict.fromkeys(findings), key=lambda one: order.index(one.severity))


def _service_findings(catalogue: Catalogue, service: ServiceDefinition) -> Iterator[Finding]:
    place = f"service {service.name}"
    names = [operation.name for operation in service.operations]
    if not names:
        yield Finding(Severity.ERROR, Problem("service.empty", "The service has no operations.", place=place,
                                              mend="Add one under 'operations:'."))
    for role, granted in service.access.items():
        for name in () if granted == "all" else granted:
            if name not in names:
                yield Finding(Severity.ERROR, Problem(
                    "access.operation", f"The role {role} is given an operation that does not exist.",
                    place=f"{place}, access, {role}", expected=f"one of {', '.join(names)}", found=shown(name)))
    for name in names:
        if not service.roles_for(name):
            yield Finding(Severity.WARNING, Problem(
                "access.nobody", f"No role may call {name}, so nobody can.", place=f"{place}, access",
                mend=f"Name a role: 'access: {{some-role: [{name}]}}', or remove the operation."))
    if not service.description:
        yield Finding(Severity.WARNING, Problem("service.description", "The service does not say what it is.",
                                                place=place, mend="Add 'description:'; callers read it."))
    if not service.namespace:
        yield Finding(Severity.HINT, Problem(
            "service.namespace", "The namespace is derived from the name.", place=place,
            found=service.target_namespace, mend="Set 'namespace:' before the first release; a later change breaks callers."))
    for name in backends_of(catalogue, service):
        if catalogue.find_backend(name) is None:
            yield Finding(Severity.ERROR, Problem(
                "reference.backend", "An object uses a backend that is not defined.", place=place,
                found=shown(name), mend=f"Define it: 'backend: {name}'."))


def _contract_findings(service: ServiceDefinition, resolved: ResolvedService) -> Iterator[Finding]:
    place = f"service {service.name}"
    seen: dict[str, Record] = {}
    for record in resolved.shape.records():
        other = seen.setdefault(record.name, record)
        if other != record:
            yield Finding(Severity.ERROR, Problem("contract.record", "Two different records have one name.",
                                                  place=place, found=shown(record.name)))
    wrappers = {one for operation in resolved.shape.operations for one in (operation.name, operation.output.name)}
    for operation in resolved.operations:
        where = f"{place}, {operation.shape.name}"
        for fault in operation.shape.faults:
            if fault.name in wrappers:
                yield Finding(Severity.ERROR, Problem("contract.element", "A fault and an operation share one name.",
                                                      place=where, found=shown(fault.name)))
        if not operation.shape.description:
            yield Finding(Severity.WARNING, Problem("operation.description", "The operation does not say what it does.",
                                                    place=where, mend="Add 'description:' to it or to its finder."))
        for element in operation.shape.input.elements:
            if element.least and element.sample is None:
                yield Finding(Severity.HINT, Problem(
                    "operation.sample", f"{element.name} has no sample, so the sample request may find nothing.",
                    place=where, mend=f"Add 'sample:' to the field {element.name}."))
        if operation.finder is not None and not operation.finder.filters:
            yield Finding(Severity.HINT, Problem("finder.unfiltered", "The finder has no filters and lists every row.",
                                                 place=where))


def _environment_findings(
    catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition
) -> Iterator[Finding]:
    place = f"environment {environment.name}"
    for name in backends_of(catalogue, service):
        binding = environment.binding(name)
        if binding is None or not binding.file:
            yield Finding(Severity.ERROR, Problem(
                "binding.missing", f"The backend {name} has no place in {environment.name}.",
                place=f"{place}, backends", mend=f"Add '{name}: {{file: …}}' there."))
        elif binding.pool.min_size > binding.pool.max_size:
            yield Finding(Severity.ERROR, Problem(
                "pool.bounds", "The pool's least size is above its greatest.", place=f"{place}, backends, {name}, pool",
                expected=f"min_size up to {binding.pool.max_size}", found=str(binding.pool.min_size)))
        elif binding.pool.min_size == binding.pool.max_size > 1:
            yield Finding(Severity.HINT, Problem(
                "pool.rigid", "The pool cannot grow or shrink.", place=f"{place}, backends, {name}, pool",
                found=f"min_size and max_size are both {binding.pool.max_size}"))
    if environment.follows and catalogue.find_environment(environment.follows) is None:
        yield Finding(Severity.ERROR, Problem("reference.environment", "It follows an environment that is not defined.",
                                              place=f"{place}, follows", found=shown(environment.follows)))
    if service.name in environment.anonymous:
        yield Finding(Severity.WARNING, Problem(
            "access.anonymous", f"{service.name} answers callers without identity in {environment.name}.",
            place=f"{place}, anonymous", mend="Remove it from the list unless this is meant."))
    host = urlsplit(environment.address).hostname or ""
    if environment.protected and not environment.address:
        yield Finding(Severity.HINT, Problem(
            "environment.address", "Contracts name the host that they were asked by.", place=place,
            mend="Set 'address:' to the public base address of this environment."))
    elif environment.protected and (host == "localhost" or host.startswith("127.") or host == "::1"):
        yield Finding(Severity.WARNING, Problem(
            "environment.local-address", "The address can be reached from this machine only.",
            place=f"{place}, address", found=shown(environment.address)))
