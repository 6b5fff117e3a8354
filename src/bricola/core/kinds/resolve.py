"""From definitions to shapes: what the operations of a service take and give.

Raises ProblemError with every reference that leads nowhere and every facet that its type cannot have.
"""

from dataclasses import dataclass, replace

from bricola.core.contracts.kept import keep_contract
from bricola.core.contracts.served import Offered, offered
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.kinds.around import AFTER, BEFORE, misfits
from bricola.core.kinds.implementing import implemented
from bricola.core.kinds.kind import Probe, ResolvedOperation
from bricola.core.kinds.registry import find_kind, find_source
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.forms import NEWEST, Form
from bricola.core.shapes.model import ServiceShape
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.styles import Style, styled


@dataclass(frozen=True)
class ResolvedService:
    shape: ServiceShape
    operations: tuple[ResolvedOperation, ...]
    offer: Offered | None = None  # the contract of somebody else that it follows
    around: tuple[ResolvedOperation | None, ResolvedOperation | None] = (None, None)  # what is run before and after each of them

    @property
    def probes(self) -> tuple[Probe, ...]:
        """What is tried once on its backends before it goes live."""
        everything = [*self.operations, *(one for one in self.around if one is not None)]
        inner = [one if one.ways is None else one.ways.inner for one in everything]
        return tuple(dict.fromkeys(probe for one in inner for probe in one.kind.probes(one)))

    def kept_contract(self) -> str:
        """The contract as a release keeps it; '' for one of somebody else, which is kept as it came."""
        return "" if self.offer is not None else keep_contract(self.shape)


def resolve_service(service: ServiceDefinition, catalogue: Catalogue, form: Form = NEWEST) -> ResolvedService:
    """The shape of a service, in the form of its release; drafts are in the newest. `place` in the problems is a path of definition
    names and keys."""
    problems: list[Problem] = []
    operations: list[ResolvedOperation] = []
    place = f"service {service.name}"
    offer = offered(service, catalogue.get(ContractDefinition, service.contract), place) if service.contract else None
    for operation in service.operations:
        where = f"{place}, {operation.name}"
        try:
            resolved = replace(resolve_operation(operation, catalogue, form, where), written=operation)
            operations.append(resolved if offer is None else implemented(operation, resolved, offer, where))
            if offer is None:
                operations += _companions(service, operation, catalogue, form, where)
        except ProblemError as error:
            problems += error.problems
    around: dict[str, ResolvedOperation | None] = {}
    for side in (BEFORE, AFTER):
        try:
            around[side] = _around(service, side, catalogue, form)
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*dict.fromkeys(problems))
    sides = around[BEFORE], around[AFTER]
    style = Style(service.style)
    if offer is None:
        for operation in service.operations:
            if operation.soap_action is not None:
                raise ProblemError(Problem("service.soap-action", "SOAPAction is made from names, unless a contract of somebody else is "
                                           "followed.", place=f"{place}, {operation.name}, soap_action", mend="Take the line out."))
        operations = [replace(one, shape=styled(one.shape, style, service.target_namespace)) for one in operations]
    else:
        _refuse_what_the_contract_says(service, place)
    shape = ServiceShape(service.name, service.target_namespace if offer is None else offer.namespace,
                         tuple(one.shape for one in operations), service.description, form=form,
                         soap=tuple(sorted(set(service.soap))), style=service.style)
    if not shape.soap:
        raise ProblemError(Problem("service.soap", "A service speaks at least one SOAP version.", place=f"{place}, soap",
                                   expected="1.1, 1.2 or both"))
    if offer is not None:
        return ResolvedService(replace(shape, soap=offer.soap, foreign=True), tuple(operations), offer, sides)
    named = {}
    tops = [record for one in shape.operations for record in (one.input, one.output, *(f.record for f in one.faults))]
    for record in (*tops, *shape.records()):
        for element in record.elements:
            if isinstance(element.type, SimpleType) and element.type.name:
                named[element.type.name] = element.type
    return ResolvedService(replace(shape, types=tuple(named[name] for name in sorted(named))), tuple(operations), around=sides)


def _around(service: ServiceDefinition, side: str, catalogue: Catalogue, form: Form) -> ResolvedOperation | None:
    """What is run before or after every operation."""
    text, place = getattr(service, side), f"service {service.name}, {side}"
    if not text:
        return None
    resolved = resolve_operation(Operation(name=side.capitalize(), runs=text), catalogue, form, place)
    problems = misfits(resolved.shape.input, side, place)
    if problems:
        raise ProblemError(*problems)
    return resolved


def _companions(service: ServiceDefinition, operation: Operation, catalogue: Catalogue, form: Form, place: str) -> list[ResolvedOperation]:
    """What is published together with an operation, for the same callers, unless the service has an operation of that name."""
    kind, definition = find_kind(operation.source[0]), find_source(catalogue, operation)
    if kind is None or definition is None:
        return []
    taken = {one.name for one in service.operations}
    return [replace(resolve_operation(one, catalogue, form, place), of=operation.name, written=one)
            for one in kind.companions(operation, definition) if one.name not in taken]


def _refuse_what_the_contract_says(service: ServiceDefinition, place: str) -> None:
    """A setting that nobody would follow contradicts the contract in silence."""
    untouched = ServiceDefinition(name=service.name)
    found = [one for one in ("namespace", "style", "soap") if getattr(service, one) != getattr(untouched, one)]
    if found:
        raise ProblemError(*(Problem("service.contract-says", f"The contract of somebody else says the {one} itself.",
                                     place=f"{place}, {one}",
                                     mend="Take the line out; 'ports:' chooses among what the contract offers.") for one in found))


def resolve_operation(operation: Operation, catalogue: Catalogue, form: Form, place: str) -> ResolvedOperation:
    """One operation, with the shape of what it runs; the contract of its service is nobody's here."""
    word, name = operation.source
    kind, definition = find_kind(word), find_source(catalogue, operation)
    if kind is None or definition is None:
        what = f"{kind.article} {kind.title}" if kind is not None else f"a {word}"
        raise ProblemError(
            Problem(f"reference.{word}", f"The operation runs {what} that is not defined.", place=f"{place}, runs", found=shown(name),
                    mend=f"Define the {word} {name}, or name another one."))
    return kind.resolve(operation, definition, catalogue, place, form)


__all__ = ["ResolvedOperation", "ResolvedService", "resolve_operation", "resolve_service"]
