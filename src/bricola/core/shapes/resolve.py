"""From definitions to shapes: what the operations of a service take and give.

Raises ProblemError with every reference that leads nowhere and every facet that its type cannot have.
"""

from dataclasses import dataclass, field, replace

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.objects import Finder, ObjectDefinition
from bricola.core.definitions.screens import ScreenFlowDefinition
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.flows import ResolvedFlow, flow_shape, resolve_flow
from bricola.core.shapes.given import Given, apply_parameters
from bricola.core.shapes.model import Element, OperationShape, Record, ServiceShape
from bricola.core.shapes.objects import (
    VERBS,
    ResolvedObject,
    check_shape,
    finder_shape,
    get_shape,
    item_name,
    resolve_object,
)
from bricola.core.shapes.queries import ResolvedQuery, details_shape, query_inputs, query_shape, resolve_query
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.writing import NESTED, write_shape


@dataclass(frozen=True)
class ResolvedOperation:
    """An operation's shape with what it runs and the values that callers neither give nor see."""

    shape: OperationShape
    source: ResolvedObject | ResolvedQuery | ResolvedFlow
    verb: str  # one of VERBS, or the finder's name; rows or details of a query
    finder: Finder | None = None
    given: Given = field(default_factory=Given)

    @property
    def backend(self) -> str:
        return self.source.definition.backend

    @property
    def nested(self) -> str:
        """The element that holds all inputs, where there is one."""
        return item_name(self.source.row) if isinstance(self.source, ResolvedObject) and self.verb in NESTED and self.finder is None else ""


@dataclass(frozen=True)
class ResolvedService:
    shape: ServiceShape
    operations: tuple[ResolvedOperation, ...]


def resolve_service(service: ServiceDefinition, catalogue: Catalogue) -> ResolvedService:
    """The shape of a service. `place` in the problems is a path of definition names and keys."""
    problems: list[Problem] = []
    operations: list[ResolvedOperation] = []
    for operation in service.operations:
        try:
            operations.append(_operation(operation, catalogue, f"service {service.name}, {operation.name}"))
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*dict.fromkeys(problems))
    shape = ServiceShape(service.name, service.target_namespace, tuple(one.shape for one in operations),
                         service.description)
    named = {}
    tops = [record for one in shape.operations for record in (one.input, one.output, *(f.record for f in one.faults))]
    for record in (*tops, *shape.records()):
        for element in record.elements:
            if isinstance(element.type, SimpleType) and element.type.name:
                named[element.type.name] = element.type
    return ResolvedService(replace(shape, types=tuple(named[name] for name in sorted(named))), tuple(operations))


def _operation(operation: Operation, catalogue: Catalogue, place: str) -> ResolvedOperation:
    definition = catalogue.find_source(operation)
    kind, name = operation.source
    if definition is None:
        raise ProblemError(
            Problem(
                f"reference.{kind}",
                f"The operation runs {'an' if kind == 'object' else 'a'} {kind.replace('-', ' ')} that is not defined.",
                place=f"{place}, runs",
                found=shown(name),
                mend=f"Define the {kind} {name}, or name another one.",
            )
        )
    if isinstance(definition, ObjectDefinition):
        return _object_operation(operation, definition, catalogue, place)
    if isinstance(definition, ScreenFlowDefinition):
        return _flow_operation(operation, definition, catalogue, place)
    source = resolve_query(definition, catalogue)
    drill = operation.verb == "details"
    row = _narrowed(operation, source.details if drill else source.groups, place)
    inputs = query_inputs(source, catalogue, drill)
    hidden, inputs = _taken(operation, inputs, place, tuple(one.name for one in inputs if one.least))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    shape = (details_shape if drill else query_shape)(operation, source, row, inputs)
    return ResolvedOperation(shape, source, operation.verb, None, given)


def _flow_operation(operation: Operation, definition: ScreenFlowDefinition, catalogue: Catalogue, place: str) -> ResolvedOperation:
    source = resolve_flow(definition, catalogue)
    hidden, inputs = _taken(operation, source.inputs, place, tuple(one.name for one in source.inputs if one.least))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    outputs = _narrowed(operation, Record("", source.outputs), place).elements
    return ResolvedOperation(flow_shape(operation, source, inputs, outputs), source, "rows", None, given)


def _object_operation(operation: Operation, definition: ObjectDefinition, catalogue: Catalogue, place: str) -> ResolvedOperation:
    verb = operation.verb
    finder = next((one for one in definition.finders if one.name == verb), None)
    if finder is None and verb not in VERBS:
        offered = ", ".join([*VERBS, *(one.name for one in definition.finders)])
        raise ProblemError(Problem(
            "reference.verb", f"The object {definition.name} has no such operation or finder.", place=f"{place}, runs",
            expected=f"one of {offered}", found=shown(verb),
        ))
    source = resolve_object(definition, catalogue)
    if finder is not None:
        shape = finder_shape(operation, source, finder, _narrowed(operation, source.row, place))
    elif verb == "get":
        shape = get_shape(operation, source, _narrowed(operation, source.row, place))
    elif verb == "check":
        shape = check_shape(operation, source)
    else:
        shape = write_shape(operation, verb, source)
    if operation.gives and finder is None and verb != "get":
        raise ProblemError(
            Problem("operation.gives", "What a write or a check answers is fixed.", place=f"{place}, gives", mend="Take 'gives:' out.")
        )
    needed = () if verb in NESTED and finder is None else tuple(one.name for one in shape.input.elements if one.least)
    hidden, elements = _taken(operation, shape.input.elements, place, needed)
    given, elements = apply_parameters(operation, elements, place, hidden)
    resolved = ResolvedOperation(shape, source, verb, finder, given)
    message = Record(operation.name, elements)
    if resolved.nested:  # the row stands in an element of its own
        message = Record(operation.name, (Element(resolved.nested, Record(f"{operation.name}Input", elements)),))
    return replace(resolved, shape=replace(shape, input=message))


def _narrowed(operation: Operation, row: Record, place: str) -> Record:
    """The row with only what the operation gives, under a name of its own."""
    if not operation.gives:
        return row
    names = [element.name for element in row.elements]
    unknown = [one for one in operation.gives if one not in names]
    if unknown:
        raise ProblemError(*(Problem("operation.gives", "The operation cannot give this.", place=f"{place}, gives",
                                     expected=f"one of {', '.join(names)}", found=shown(one)) for one in unknown))
    return Record(f"{operation.name}{row.name}", tuple(one for one in row.elements if one.name in operation.gives), row.description)


def _taken(
    operation: Operation, elements: tuple[Element, ...], place: str, needed: tuple[str, ...] = ()
) -> tuple[Given, tuple[Element, ...]]:
    """The inputs that the operation takes, with those that it gives itself by `input`; what is left out keeps its default."""
    if not operation.takes:
        return Given(), elements
    names = [element.name for element in elements]
    kept = {*operation.takes, *(one.name for one in operation.input)}
    problems = [Problem("operation.takes", "The operation has no such input.", place=f"{place}, takes",
                        expected=f"one of {', '.join(names)}", found=shown(one)) for one in operation.takes if one not in names]
    problems += [Problem("operation.takes", f"The operation cannot do without {one}.", place=f"{place}, takes",
                         mend=f"Take {one}, or give it under 'input:'.") for one in needed if one not in kept]
    if problems:
        raise ProblemError(*problems)
    hidden = {one.name: one.default for one in elements if one.name not in kept and one.default is not None}
    return Given(hidden), tuple(one for one in elements if one.name in kept)


__all__ = ["ResolvedOperation", "ResolvedService", "resolve_service"]
