"""What a routine takes and gives, and whether all that its definition names is there."""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation
from bricola.core.kinds.routines.definition import ResultSet, RoutineDefinition, RoutineFault, RoutineInput, RoutineOutput
from bricola.core.patterns.matcher import compile_search
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record, Values
from bricola.core.shapes.primitives import lexical
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_elements, typed_value
from bricola.core.sql.calling import CALLINGS, Argument, Calling, Signature
from bricola.core.sql.listing import dialect_of
from bricola.core.sql.refusals import Refusal

_TEXT = SimpleType("string")


@dataclass(frozen=True)
class Raised:
    """A fault with the test of a refusal, or of the values that came out by parameter; one of both."""

    fault: RoutineFault
    refusal: Callable[[Refusal], bool]
    values: Callable[[Values], bool]


@dataclass(frozen=True)
class ResolvedRoutine:
    """A routine with the elements of what it takes and gives; of rows with the record and its columns in order."""

    definition: RoutineDefinition
    call: Calling
    inputs: tuple[Element, ...]
    outputs: tuple[Element, ...]
    sets: tuple[tuple[ResultSet, Record], ...]
    faults: tuple[Raised, ...]


def resolve_routine(definition: RoutineDefinition, catalogue: Catalogue) -> ResolvedRoutine:
    """Raises ProblemError with everything that does not fit together."""
    place = f"routine {definition.name}"
    calling = CALLINGS.get(dialect_of(definition.backend, catalogue).routines)
    if calling is None:
        raise ProblemError(Problem("routine.backend", "The routine needs a database that has routines.", place=f"{place}, backend",
                                   found=shown(definition.backend)))
    inputs = tuple(_input(one, element, f"{place}, input, {one.name}") for one, element in zip(
        definition.input, typed_elements(definition.input, catalogue, f"{place}, input"), strict=True))
    outputs = tuple(typed_elements(definition.output, catalogue, f"{place}, output"))
    sets = tuple((one, Record(one.record_name, tuple(typed_elements(one.columns, catalogue, f"{place}, rows, {one.name}, columns")),
                              one.description)) for one in definition.rows)
    columns = [element for _, record in sets for element in record.elements]
    problems = [*_mistakes(definition, place), *_not_simple((*inputs, *outputs, *columns), place)]
    faults = []
    names = {one.name for one in (*inputs, *outputs)}
    for fault in definition.faults:
        try:
            faults.append(_raised(fault, definition, names, f"{place}, faults, {fault.name}"))
        except ProblemError as error:
            problems += error.problems
    if problems:
        raise ProblemError(*problems)
    signature = Signature(
        definition.calls, definition.form, tuple(Argument(one.name, one.way, one.declared, one.optional) for one in definition.parameters),
        definition.gives_rows, max((one.most for one in definition.rows), default=0) + 1)
    return ResolvedRoutine(definition, calling(signature), inputs, outputs, sets, tuple(faults))


def _input(part: RoutineInput, element: Element, place: str) -> Element:
    if part.default is None:
        return element
    if not isinstance(element.type, SimpleType):
        raise ProblemError(Problem("routine.simple", "Only a single value has a default.", place=place))
    return replace(element, least=0, default=typed_value(element.type, part.default, f"{place}, default"))


def _not_simple(elements: Sequence[Element], place: str) -> Iterator[Problem]:
    for one in elements:
        if one.is_list or isinstance(one.type, Record):
            yield Problem("routine.simple", f"{one.name} is one value of a simple type in the database.", place=place,
                          found="a list" if one.is_list else "a record")


def _mistakes(definition: RoutineDefinition, place: str) -> Iterator[Problem]:
    """Parameters that are not there, that go the other way, that nothing fills, or that two things fill."""
    goes_in = [one.name for one in definition.parameters if one.way in ("in", "in-out")]
    comes_out = [one.name for one in definition.parameters if one.way != "in"]
    yield from _unknown(definition.input, goes_in, "input", "goes in", place)
    yield from _unknown(definition.output, comes_out, "output", "comes out", place)
    for name in definition.fixed:
        if name not in goes_in:
            yield _no_parameter(name, goes_in, "goes in", f"{place}, fixed, {name}")
    filled = [*(one.parameter_name for one in definition.input), *definition.fixed]
    for one in definition.parameters:
        where = f"{place}, parameters, {one.name}"
        if filled.count(one.name) > 1:
            yield Problem("routine.twice", f"{one.name} is filled twice.", place=where, mend="Leave one of them out.")
        if one.name in goes_in and not one.optional and one.name not in filled:
            yield Problem("routine.unfilled", f"Nothing fills {one.name}.", place=where,
                          mend=f"Add an input with 'parameter: {one.name}', or a value under 'fixed:'.")
        if one.way == "returns" and definition.form != "function":
            yield Problem("routine.form", "Only a function returns a value.", place=where, expected="form: function",
                          found="form: procedure")
    if len(definition.rows) > 1 and definition.gives_rows:
        yield Problem("routine.form", "A function without cursors gives one list of rows.", place=f"{place}, rows")
    if sum(one.way == "returns" for one in definition.parameters) > 1:
        yield Problem("routine.form", "A function returns one value.", place=f"{place}, parameters")
    names = {one.name for one in definition.output}
    for one_set in definition.rows:
        if one_set.name in names:
            yield Problem("routine.twice", "An output has this name already.", place=f"{place}, rows, {one_set.name}")


def _unknown(parts: Sequence[RoutineInput | RoutineOutput], known: list[str], key: str, words: str, place: str) -> Iterator[Problem]:
    for one in parts:
        if one.parameter_name not in known:
            yield _no_parameter(one.parameter_name, known, words, f"{place}, {key}, {one.name}")


def _no_parameter(name: str, known: list[str], words: str, place: str) -> Problem:
    return Problem("routine.parameter", f"The routine has no such parameter that {words}.", place=place, found=shown(name),
                   choices=tuple(known), mend="Say with 'parameter:' which one it is.")


def _raised(fault: RoutineFault, definition: RoutineDefinition, names: Collection[str], place: str) -> Raised:
    for one in fault.fields:
        if one not in names:
            raise ProblemError(Problem("routine.fault", "A fault tells inputs and outputs.", place=f"{place}, fields", found=shown(one),
                                       choices=tuple(sorted(names))))
    by_error = bool(fault.states or fault.numbers or fault.says)
    if by_error == bool(fault.parameter) or bool(fault.parameter) != bool(fault.values):
        raise ProblemError(Problem("routine.fault", "A fault is told by an error, or by values of a parameter.", place=place,
                                   expected="states, numbers or says; or parameter with values"))
    if fault.parameter:
        outs = [one.name for one in definition.parameters if one.way != "in"]
        if fault.parameter not in outs:
            raise ProblemError(_no_parameter(fault.parameter, outs, "comes out", f"{place}, parameter"))
        wanted = frozenset(_plain(one) for one in fault.values)
        return Raised(fault, lambda refusal: False, lambda outs: _plain(outs.get(fault.parameter)) in wanted)
    try:
        search = compile_search(fault.says).search if fault.says else None
    except PatternError as error:
        raise ProblemError(Problem("routine.says", f"The expression cannot be read: {error}.", place=f"{place}, says",
                                   found=shown(fault.says))) from None

    def meant(refusal: Refusal) -> bool:
        return ((not fault.states or refusal.state in fault.states) and (not fault.numbers or refusal.number in fault.numbers)
                and (search is None or search(refusal.words or refusal.said) is not None))

    return Raised(fault, meant, lambda outs: False)


def _plain(value: Any) -> str | Decimal | None:
    """A value as it is compared: numbers as numbers, texts without the blanks at their end."""
    if value is None:
        return None
    text = value.rstrip() if isinstance(value, str) else lexical(value)
    try:
        return Decimal(text)
    except ArithmeticError:
        return text


def routine_shape(operation: Operation, source: ResolvedRoutine, inputs: tuple[Element, ...],
                  outputs: tuple[Element, ...]) -> OperationShape:
    definition = source.definition
    known = {one.name: one for one in (*source.inputs, *source.outputs)}
    message = Element("message", _TEXT, description="What stands against it, in words")
    faults = tuple(
        FaultShape(one.name, Record(one.name, (message, *(
            replace(known[name], least=0, default=None) for name in one.fields if name != "message"))), one.description, one.cause)
        for one in definition.faults)
    return OperationShape(operation.name, Record(operation.name, inputs), Record(f"{operation.name}Response", outputs), faults,
                          operation.description or definition.description, definition.writes)


def all_outputs(source: ResolvedRoutine) -> tuple[Element, ...]:
    """The single values, and the lists of rows."""
    return (*source.outputs, *(Element(one.name, record, 0, one.most, one.description) for one, record in source.sets))
