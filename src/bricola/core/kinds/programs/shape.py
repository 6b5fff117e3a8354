"""What a program takes and gives, and whether all that its definition names is there."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal

from bricola.core.cobol.clauses import Literal
from bricola.core.cobol.fields import Ways
from bricola.core.cobol.items import Item, Record
from bricola.core.cobol.making import chosen_views
from bricola.core.cobol.record import Options, chosen_record, ways_of
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.copybooks import CopybookDefinition
from bricola.core.definitions.model import Operation
from bricola.core.kinds.programs.definition import Area, FieldMap, ProgramDefinition, ProgramFault, ProgramInput, ProgramOutput, ViewRule
from bricola.core.kinds.programs.places import RETURN_CODE, Areas
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.date_looks import look_mistake
from bricola.core.shapes.model import Element, FaultShape, OperationShape
from bricola.core.shapes.model import Record as ShapeRecord
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_elements, typed_value

_TEXT = SimpleType("string")


@dataclass(frozen=True)
class Mapped:
    """An element with its item: `way` are the keys that lead there from the values of the area, or of the group around it."""

    element: Element
    item: Item
    area: str
    way: tuple[str, ...]
    dates: str = ""
    means: Mapping[str, str] | None = None
    fields: tuple["Mapped", ...] = ()


@dataclass(frozen=True)
class FaultRule:
    """When a fault is told: a test of what the item holds, or of the return code where there is no item."""

    fault: ProgramFault
    area: str
    way: tuple[str, ...]
    holds: Callable[[object], bool]
    message: tuple[str, tuple[str, ...]] | None


@dataclass(frozen=True)
class ResolvedProgram:
    """A program with the records of its areas and the elements of its inputs and outputs."""

    definition: ProgramDefinition
    ways: Ways
    areas: Areas
    inputs: tuple[Mapped, ...]
    outputs: tuple[Mapped, ...]
    fixed: tuple[tuple[str, tuple[str, ...], str], ...]
    faults: tuple[FaultRule, ...]


def resolve_program(definition: ProgramDefinition, catalogue: Catalogue) -> ResolvedProgram:
    """Raises ProblemError with everything that does not fit together."""
    place = f"program {definition.name}"
    held = definition.held
    try:
        options = Options(binary_truncate=held.binary_truncate, order=held.order, floats=held.floats, signs=held.signs)
        ways = ways_of(held.code_page, options)
    except ProblemError as error:
        raise ProblemError(error.problem.at(f"{place}, held, code_page")) from None
    areas = Areas.of({one.name: _record(one, definition, catalogue, place) for one in definition.areas})
    into = [one.name for one in definition.areas if one.use != "out"]
    back = [one.name for one in definition.areas if one.use != "in"]
    problems: list[Problem] = []
    inputs = _mapped(definition.input, areas, into, catalogue, f"{place}, input", problems)
    outputs = _mapped(definition.output, areas, back, catalogue, f"{place}, output", problems)
    for name, rule in definition.views.items():
        problems += _views(name, rule, areas, f"{place}, views, {name}")
    fixed = []
    for name, value in definition.fixed.items():
        try:
            area, item = areas.find(name, f"{place}, fixed, {name}", into)
            if item.children:
                raise ProblemError(Problem("program.item", "A group has no value of its own.", place=f"{place}, fixed, {name}"))
            fixed.append((area, areas.way(item, None, f"{place}, fixed, {name}"), value))
        except ProblemError as error:
            problems += error.problems
    names = {one.name for one in (*definition.input, *definition.output)}
    faults = []
    for fault in definition.faults:
        try:
            faults.append(_fault(fault, areas, back, names, f"{place}, faults, {fault.name}"))
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*problems)
    return ResolvedProgram(definition, ways, areas, inputs, outputs, tuple(fixed), tuple(faults))


def _record(area: Area, definition: ProgramDefinition, catalogue: Catalogue, place: str) -> Record:
    copybook = catalogue.get(CopybookDefinition, area.copybook)
    if copybook is None:
        raise ProblemError(Problem("program.copybook", "There is no such copybook.", place=f"{place}, areas, {area.name}, copybook",
                                   found=shown(area.copybook), choices=tuple(one.name for one in catalogue.all_of(CopybookDefinition))))
    options = Options(source_format=copybook.source_format or None, members=copybook.members, replacing=copybook.replacing,
                      record=area.record, native_bytes=definition.held.native_bytes)
    try:
        return chosen_record(copybook.text, options)
    except ProblemError as error:
        raise ProblemError(*(replace(one, place=f"copybook {copybook.name}, {one.place}") for one in error.problems)) from None


def _views(name: str, rule: ViewRule, areas: Areas, where: str) -> Iterator[Problem]:
    """What is wrong with it in the areas that have its item: where several are laid out alike, it holds in each."""
    having = [area for area, record in areas.records.items() if any(one.name == name.upper() for one in record.items())]
    try:
        for area in having or areas.records:
            _, item = areas.find(name, where, [area] if having else list(areas.records))
            chosen_views(areas.records[area], {item.name: (*rule.views.values(), *((rule.otherwise,) if rule.otherwise else ()))})
            _, by = areas.find(rule.by, f"{where}, by", [area])
            areas.way(by, None, f"{where}, by")
    except ProblemError as error:
        yield from (replace(one, place=where) for one in error.problems)


def _mapped(parts: Sequence[ProgramInput | ProgramOutput], areas: Areas, among: Sequence[str], catalogue: Catalogue, place: str,
            problems: list[Problem]) -> tuple[Mapped, ...]:
    found = []
    for part, element in zip(parts, typed_elements(parts, catalogue, place), strict=True):
        where = f"{place}, {part.name}"
        try:
            if not part.item:
                raise ProblemError(Problem("program.item", "Nothing says which item this is.", place=where, mend="Add 'item:'."))
            area, item = areas.find(part.item, where, among)
            made = _one(part, element, item, area, areas, None, where)
            default = getattr(part, "default", None)
            if default is not None:
                if not isinstance(element.type, SimpleType):
                    raise ProblemError(Problem("program.default", "Only a simple input has a default.", place=where))
                made = replace(made, element=replace(element, least=0, default=typed_value(element.type, default, f"{where}, default")))
            found.append(made)
        except ProblemError as error:
            problems += error.problems
    return tuple(found)


def _one(part: ProgramInput | ProgramOutput | FieldMap, element: Element, item: Item, area: str, areas: Areas, top: Item | None,
         place: str) -> Mapped:
    """An element with its item and all below them. Raises ProblemError where they are not of one form."""
    way = areas.way(item, top, place)
    if element.is_list != (item.occurs is not None):
        raise ProblemError(Problem("program.table", "A list is a table, and a table a list.", place=place,
                                   expected="an item with OCCURS" if element.is_list else "an item without OCCURS",
                                   found=f"{item.name}, {'no table' if item.occurs is None else f'{item.occurs[1]} times'}"))
    if isinstance(element.type, SimpleType):
        if item.children:
            raise ProblemError(Problem("program.group", f"{item.name} is a group, and this is a single value.", place=place,
                                       expected="an item with a PICTURE, or a record for the group", found=item.name))
        if part.fields:
            raise ProblemError(Problem("program.fields", "A single value has no fields.", place=f"{place}, fields"))
        if part.dates and (mistake := look_mistake(part.dates)):
            raise ProblemError(Problem("program.dates", f"This is no look of a date: {mistake}.", place=f"{place}, dates",
                                       expected="like YYYYMMDD or DD.MM.YY", found=shown(part.dates)))
        return Mapped(element, item, area, way, part.dates, part.means)
    if not item.children:
        raise ProblemError(Problem("program.group", f"{item.name} is a single item, and this is a record.", place=place,
                                   expected="a group", found=item.picture or item.kind))
    maps = {one.name: one for one in part.fields}
    problems = [Problem("program.fields", "The record has no such field.", place=f"{place}, fields", found=name,
                        choices=tuple(one.name for one in element.type.elements))
                for name in maps if all(one.name != name for one in element.type.elements)]
    fields = []
    for inner in element.type.elements:
        own = maps.get(inner.name, FieldMap(name=inner.name))
        where = f"{place}, fields, {inner.name}"
        try:
            wanted = own.item or cobol_name(inner.name)
            fields.append(_one(own, inner, areas.inside(item, wanted, where), area, areas, item, where))
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*problems)
    return Mapped(element, item, area, way, fields=tuple(fields))


def cobol_name(name: str) -> str:
    """The item that an element is called after: TOTAL-WEIGHT of totalWeight."""
    return "".join(f"-{letter}" if letter.isupper() and index else letter for index, letter in enumerate(name)).upper().replace("_", "-")


def _fault(fault: ProgramFault, areas: Areas, among: Sequence[str], names: set[str], place: str) -> FaultRule:
    if bool(fault.condition) == bool(fault.item):
        raise ProblemError(Problem("program.fault", "A fault is told by a condition-name, or by an item and its values.", place=place,
                                   mend="Give it 'condition:', or 'item:' with 'values:'."))
    unknown = [one for one in fault.fields if one not in names]
    if unknown:
        raise ProblemError(Problem("program.fault-field", "There is no such input or output.", place=f"{place}, fields", found=unknown[0],
                                   choices=tuple(sorted(names))))
    message = None
    if fault.message:
        area, item = areas.find(fault.message, f"{place}, message", among)
        message = (area, areas.way(item, None, f"{place}, message"))
    if fault.condition:
        found = [one for one in areas.condition(fault.condition) if one[0] in among]
        if len(found) != 1:
            raise ProblemError(Problem("program.condition", "Several items have this condition-name." if found
                                       else "There is no such condition-name (level 88).",
                                       place=f"{place}, condition", found=fault.condition,
                                       choices=() if found else tuple(one.name for area in among for item in areas.records[area].items()
                                                                      for one in item.conditions)))
        area, item = found[0]
        wanted = next(one for one in item.conditions if one.name == fault.condition.upper().rpartition(".")[2])
        return FaultRule(fault, area, areas.way(item, None, place), _within([(_plain(low), _plain(high)) for low, high in wanted.values]),
                         message)
    ranges = [_range(one) for one in fault.values]
    if not ranges:
        raise ProblemError(Problem("program.fault", "Nothing says at which values the fault comes.", place=f"{place}, values",
                                   mend="Add values, such as [8, 12..99]."))
    if fault.item.upper() == RETURN_CODE:
        return FaultRule(fault, "", (), _within(ranges), message)
    area, item = areas.find(fault.item, f"{place}, item", among)
    return FaultRule(fault, area, areas.way(item, None, f"{place}, item"), _within(ranges), message)


def _range(text: str) -> tuple[str, str | None]:
    low, dots, high = text.partition("..")
    return low.strip(), high.strip() if dots else None


_FIGURES = {"ZERO": "0", "SPACE": "", "LOW-VALUE": "", "HIGH-VALUE": "\xff", "QUOTE": '"'}


def _plain(literal: Literal | None) -> str | None:
    if literal is None:
        return None
    return _FIGURES[literal.text] if literal.kind == "figurative" else literal.text


def _within(ranges: Sequence[tuple[str | None, str | None]]) -> Callable[[object], bool]:
    """Whether contents are one of some values or in one of some ranges: numbers as numbers, texts without the blanks at their end."""

    def number(text: str | None) -> Decimal | None:
        try:
            return Decimal(text or "")
        except ArithmeticError:
            return None

    bounds = [(low, high, number(low), number(high) if high is not None else None) for low, high in ranges]

    def holds(contents: object) -> bool:
        if contents is None:
            return False
        if isinstance(contents, Decimal | int):
            return any(low_number is not None and (contents == low_number if high is None else
                                                   high_number is not None and low_number <= contents <= high_number)
                       for _, high, low_number, high_number in bounds)
        text = str(contents).rstrip(" \x00")
        return any(text == (low or "").rstrip() if high is None else (low or "") <= text <= high for low, high, _, _ in bounds)

    return holds


def program_shape(operation: Operation, source: ResolvedProgram, inputs: tuple[Element, ...],
                  outputs: tuple[Element, ...]) -> OperationShape:
    definition = source.definition
    known = {one.element.name: one.element for one in (*source.inputs, *source.outputs)}
    message = Element("message", _TEXT, description="What the program says")
    faults = tuple(
        FaultShape(
            one.name,
            ShapeRecord(one.name, (message, *(replace(known[name], least=0, default=None) for name in one.fields if name != "message"))),
            one.description, one.cause,
        )
        for one in definition.faults
    )
    return OperationShape(operation.name, ShapeRecord(operation.name, inputs), ShapeRecord(f"{operation.name}Response", outputs), faults,
                          operation.description or definition.description, definition.writes)


