"""From types and typed parts to elements.

Raises ProblemError with every reference that leads nowhere and every facet that its type cannot have.
"""

from collections.abc import Iterable
from dataclasses import replace

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.parts import Facets, TypedPart, label_texts
from bricola.core.patterns.matcher import compile_pattern
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.primitives import BINARY_TYPES, NUMBER_TYPES, OFFERED, ORDERED_TYPES, TEXT_TYPES, Value
from bricola.core.shapes.simple import SimpleType

_FACETS = tuple(Facets.model_fields)
_FACET_OWNERS = {
    "length": TEXT_TYPES | BINARY_TYPES, "min_length": TEXT_TYPES | BINARY_TYPES,
    "max_length": TEXT_TYPES | BINARY_TYPES, "pattern": TEXT_TYPES, "codes": TEXT_TYPES | NUMBER_TYPES,
    "digits": NUMBER_TYPES - {"float", "double"}, "fraction": frozenset({"decimal"}),
    "min": ORDERED_TYPES, "max": ORDERED_TYPES,
}


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
        sample = typed_value(kind, part.sample, f"{place}, sample")
    if part.at_least and not part.repeats:
        raise ProblemError(Problem("type.bounds", "Only what repeats has a least number of items.", place=place,
                                   mend="Add 'repeats: true'."))
    if part.at_most is not None and part.at_least > part.at_most:
        raise ProblemError(Problem("type.bounds", "at_least is above at_most.", place=place, expected=f"at_least up to {part.at_most}",
                                   found=str(part.at_least)))
    least, most = (part.at_least, part.at_most) if part.repeats else (int(part.required), 1)
    return Element(part.name, kind, least, most, part.description, None, sample,
                   label_texts(part.label), part.unit, sensitive=getattr(part, "sensitive", False))


def _type_of(part: TypedPart, catalogue: Catalogue, place: str, inside: tuple[str, ...]) -> SimpleType | Record:
    facets = {name: value for name in _FACETS if (value := getattr(part, name)) not in (None, ())}
    if part.type in OFFERED:
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
                               mend=f"Built-in types: {', '.join(OFFERED)}."))


def simple_type(base: str, facets: dict[str, Value], place: str) -> SimpleType:
    """A checked simple type: every facet belongs to the base, and every bound and code can be read."""
    if base not in OFFERED:
        raise ProblemError(Problem("type.base", "This is not a built-in type.", place=place, found=shown(base),
                                   choices=tuple(OFFERED)))
    problems = [
        Problem("type.facet", f"The type {base} cannot have {name}.", place=place, mend=f"Remove {name}.")
        for name in facets if base not in _FACET_OWNERS[name]
    ]
    kind = SimpleType(base, **facets)
    if kind.pattern is not None:
        try:
            compile_pattern(kind.pattern)
        except PatternError as error:
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


def typed_value(kind: SimpleType, text: str, place: str) -> Value:
    value, problem = kind.read(text)
    if problem is not None:
        raise ProblemError(problem.at(place))
    return value
