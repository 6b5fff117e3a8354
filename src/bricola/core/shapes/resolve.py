"""From definitions to shapes: what the operations of a service take and give.

Raises ProblemError with every reference that leads nowhere and every facet that its type cannot have.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import (
    Facets,
    Filter,
    Finder,
    ObjectDefinition,
    Operation,
    ServiceDefinition,
    TypedPart,
)
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, OperationShape, Record, ServiceShape
from bricola.core.shapes.primitives import NUMBER_TYPES, ORDERED_TYPES, PRIMITIVES, TEXT_TYPES, Value
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.writing import CHANGE_TOKEN, NESTED, TOKEN, VERBS, item_name, not_found, write_shape

_FACETS = tuple(Facets.model_fields)
_FACET_OWNERS = {
    "length": TEXT_TYPES | {"base64Binary"}, "min_length": TEXT_TYPES | {"base64Binary"},
    "max_length": TEXT_TYPES | {"base64Binary"}, "pattern": TEXT_TYPES, "codes": TEXT_TYPES | NUMBER_TYPES,
    "digits": NUMBER_TYPES - {"float", "double"}, "fraction": frozenset({"decimal"}),
    "min": ORDERED_TYPES, "max": ORDERED_TYPES,
}
_POSITION = SimpleType("string", max_length=2000)


@dataclass(frozen=True)
class ResolvedOperation:
    """An operation's shape with what it runs and the values that callers neither give nor see."""

    shape: OperationShape
    object: ObjectDefinition
    finder: Finder | None  # None: what `verb` says, on one row
    verb: str  # one of VERBS, or the finder's name
    row: Record  # of the object, as it is read
    fixed: dict[str, Value]
    context: dict[str, tuple[str, SimpleType]] = field(default_factory=dict)  # input -> the environment's value, its type


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
    source, _, verb = operation.runs.partition(".")
    definition = catalogue.find_object(source)
    if definition is None:
        raise ProblemError(Problem(
            "reference.object", "The operation runs an object that is not defined.", place=f"{place}, runs",
            found=shown(source), mend=f"Define the object {source}, or name another one.",
        ))
    finder = next((one for one in definition.finders if one.name == verb), None)
    if finder is None and verb not in VERBS:
        offered = ", ".join([*VERBS, *(one.name for one in definition.finders)])
        raise ProblemError(Problem(
            "reference.verb", f"The object {source} has no such operation or finder.", place=f"{place}, runs",
            expected=f"one of {offered}", found=shown(verb),
        ))
    row = object_record(definition, catalogue)
    if finder is not None:
        shape = _finder_shape(operation, definition, finder, row)
    elif verb == "get":
        shape = _get_shape(operation, definition, row)
    else:
        shape = write_shape(operation, verb, definition, row)
    fixed, context, elements = _apply_parameters(operation, shape.input.elements, place)
    message = Record(operation.name, elements)
    if verb in NESTED and finder is None:  # the row stands in an element of its own
        message = Record(operation.name, (Element(item_name(row), Record(f"{operation.name}Input", elements)),))
    return ResolvedOperation(replace(shape, input=message), definition, finder, verb, row, fixed, context)


def object_record(definition: ObjectDefinition, catalogue: Catalogue) -> Record:
    """The record of one row as callers see it: the fields, then the change token."""
    place = f"object {definition.name}, fields"
    elements = list(typed_elements(definition.fields, catalogue, place))
    names = {element.name for element in elements}
    problems = [
        Problem("object.key", "The key names a field that the object does not have.",
                place=f"object {definition.name}, key", expected=f"one of {', '.join(sorted(names))}", found=shown(key))
        for key in definition.key if key not in names
    ]
    for finder in definition.finders:
        where = f"object {definition.name}, finders, {finder.name}"
        if finder.name in VERBS:
            problems.append(Problem("finder.name", f"A finder cannot be called {finder.name}.", place=where,
                                    mend=f"Every object has {', '.join(VERBS)}. Give the finder another name."))
        for used in (*finder.order, *(one.field for one in finder.filters)):
            if used not in names:
                problems.append(Problem("finder.field", "The finder uses a field that the object does not have.",
                                        place=where, expected=f"one of {', '.join(sorted(names))}",
                                        found=shown(used)))
        problems += [Problem("finder.filter-name", "limit and after are inputs that every finder has.",
                             place=f"{where}, {one.name}", mend="Give the filter another name.")
                     for one in finder.filters if one.name in ("limit", "after")]
        if finder.limit.default > finder.limit.most:
            problems.append(Problem("finder.limit", "The default limit is above the greatest limit.", place=where,
                                    expected=f"at most {finder.limit.most}", found=str(finder.limit.default)))
    if problems:
        raise ProblemError(*problems)
    if definition.change_token:
        elements.append(Element(CHANGE_TOKEN, TOKEN, description="Changes with every write of this row"))
    return Record(definition.record_name, tuple(elements), definition.description)


def typed_elements(parts: Iterable[TypedPart], catalogue: Catalogue, place: str,
                   inside: tuple[str, ...] = ()) -> Iterable[Element]:
    """The elements of fields; `inside` names the records around them."""
    problems: list[Problem] = []
    elements: list[Element] = []
    for part in parts:
        try:
            elements.append(_element(part, catalogue, f"{place}, {part.name}", inside))
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*problems)
    return elements


def _element(part: TypedPart, catalogue: Catalogue, place: str, inside: tuple[str, ...]) -> Element:
    kind = _type_of(part, catalogue, place, inside)
    sample = None
    if part.sample is not None and isinstance(kind, SimpleType):
        sample = _value(kind, part.sample, f"{place}, sample")
    most = part.at_most if part.repeats else 1
    return Element(part.name, kind, int(part.required and not part.repeats), most, part.description, None, sample,
                   part.label, part.unit)


def _type_of(part: TypedPart, catalogue: Catalogue, place: str, inside: tuple[str, ...]) -> SimpleType | Record:
    facets = {name: value for name in _FACETS if (value := getattr(part, name)) not in (None, ())}
    if part.type in PRIMITIVES:
        return simple_type(part.type, facets, place)
    named = catalogue.find_type(part.type)
    if named is not None:
        if facets:
            raise ProblemError(Problem("type.facet", f"{part.type} is a named type and brings its own rules.",
                                       place=place, found=", ".join(facets),
                                       mend=f"Change the type {part.type}, or use its base here."))
        own = {name: value for name in _FACETS if (value := getattr(named, name)) not in (None, ())}
        kind = simple_type(named.base, own, f"type {named.name}")
        return replace(kind, name=named.name, description=named.description)
    record = catalogue.find_record(part.type)
    if record is not None:
        if record.name in inside:
            raise ProblemError(Problem(
                "reference.circle", "A record contains itself, so no message of it could ever end.", place=f"record {record.name}",
                found=" -> ".join((*inside[inside.index(record.name):], record.name)), mend="Take one of these fields out."))
        elements = tuple(typed_elements(record.fields, catalogue, f"record {record.name}", (*inside, record.name)))
        return Record(record.name, elements, record.description)
    raise ProblemError(Problem("reference.type", "There is no such type.", place=f"{place}, type",
                               expected="a built-in type, a type or a record", found=shown(part.type),
                               mend=f"Built-in types: {', '.join(PRIMITIVES)}."))


def simple_type(base: str, facets: dict[str, Value], place: str) -> SimpleType:
    """A checked simple type: every facet belongs to the base, and every bound and code can be read."""
    if base not in PRIMITIVES:
        raise ProblemError(Problem("type.base", "This is not a built-in type.", place=place, found=shown(base),
                                   expected=f"one of {', '.join(PRIMITIVES)}"))
    problems = [
        Problem("type.facet", f"The type {base} cannot have {name}.", place=place, mend=f"Remove {name}.")
        for name in facets if base not in _FACET_OWNERS[name]
    ]
    kind = SimpleType(base, **facets)
    if kind.pattern is not None:
        try:
            re.compile(kind.pattern)
        except re.error as error:
            problems.append(Problem("type.pattern", f"The pattern cannot be read: {error}.", place=place,
                                    found=shown(kind.pattern)))
    read = kind.primitive.read
    for text in (*kind.codes, *(one for one in (kind.min, kind.max) if one is not None)):
        try:
            read(text)
        except ValueError:
            problems.append(Problem("type.value", f"This is not {kind.primitive.described}.", place=place,
                                    found=shown(text)))
    if problems:
        raise ProblemError(*problems)
    return kind


def _get_shape(operation: Operation, definition: ObjectDefinition, row: Record) -> OperationShape:
    fields = {element.name: element for element in row.elements}
    key = tuple(replace(fields[name], least=1) for name in definition.key)
    output = Record(f"{operation.name}Response", (Element(item_name(row), row),))
    description = operation.description or f"Reads one {row.name[0].lower()}{row.name[1:]} by its key."
    return OperationShape(operation.name, Record(operation.name, key), output, (not_found(key),), description)


def _finder_shape(operation: Operation, definition: ObjectDefinition, finder: Finder, row: Record) -> OperationShape:
    fields = {element.name: element for element in row.elements}
    limit = SimpleType("int", min="1", max=str(finder.limit.most))
    order = ", ".join(ordering(definition, finder))
    inputs = [_filter_element(one, fields[one.field]) for one in finder.filters]
    inputs += [
        Element("limit", limit, 0, default=finder.limit.default,
                description=f"How many rows at most; {finder.limit.default} when left out"),
        Element("after", _POSITION, 0, description="Where to go on: the value of after in the answer before"),
    ]
    output = Record(f"{operation.name}Response", (
        Element(item_name(row), row, 0, None, description=f"In the order of {order}"),
        Element("more", SimpleType("boolean"), description="Whether rows follow after these"),
        Element("after", _POSITION, 0, description="Give it as after in the next call; absent when nothing follows"),
    ))
    description = operation.description or finder.description
    return OperationShape(operation.name, Record(operation.name, tuple(inputs)), output, (), description)


def ordering(definition: ObjectDefinition, finder: Finder) -> list[str]:
    """The fields that order a finder's rows: what it says, then the key, so that no two rows are equal."""
    return list(dict.fromkeys((*finder.order, *definition.key)))


def _filter_element(one: Filter, field: Element) -> Element:
    words = {"equal": "", "contains": "part of ", "starts": "the beginning of ", "from": "lowest ", "to": "highest "}
    kind, sample = field.type, field.sample
    if one.compare in ("contains", "starts") and isinstance(kind, SimpleType):
        kind = SimpleType("string", min_length=1, max_length=kind.max_length or kind.length or 200)
        sample = None
    described = one.description or f"{words[one.compare]}{field.description or field.name}"
    return Element(one.name, kind, int(one.required), 1, described[0].upper() + described[1:], None, sample,
                   field.label, field.unit)


def _apply_parameters(
    operation: Operation, elements: tuple[Element, ...], place: str
) -> tuple[dict[str, Value], dict[str, tuple[str, SimpleType]], tuple[Element, ...]]:
    """What the operation itself says of its inputs: fixed and context ones leave the contract, defaults make them optional."""
    known = {element.name: element for element in elements}
    fixed: dict[str, Value] = {}
    context: dict[str, tuple[str, SimpleType]] = {}
    for parameter in operation.input:
        element = known.get(parameter.name)
        where = f"{place}, input, {parameter.name}"
        if element is None or not isinstance(element.type, SimpleType):
            raise ProblemError(Problem("parameter.unknown", "The operation has no such input.", place=where,
                                       expected=f"one of {', '.join(known)}"))
        if parameter.given != "caller" and parameter.value is None:
            raise ProblemError(Problem("parameter.value", f"A {parameter.given} input needs a value.", place=where,
                                       mend="Add 'value:'."))
        if parameter.given == "context":
            context[parameter.name] = str(parameter.value), element.type
            del known[parameter.name]
            continue
        value = _value(element.type, parameter.value, where) if parameter.value is not None else None
        if parameter.given == "fixed":
            fixed[parameter.name] = value
            del known[parameter.name]
            continue
        if parameter.given == "default":
            element = replace(element, least=0, default=value)
        if parameter.sample is not None and isinstance(element.type, SimpleType):
            element = replace(element, sample=_value(element.type, parameter.sample, f"{where}, sample"))
        known[parameter.name] = replace(element, description=parameter.description or element.description)
    return fixed, context, tuple(known.values())


def _value(kind: SimpleType, text: str, place: str) -> Value:
    value, problem = kind.read(text)
    if problem is not None:
        raise ProblemError(problem.at(place))
    return value
