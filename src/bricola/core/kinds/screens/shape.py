"""What a screen flow takes and gives, and whether all that it names is there."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from bricola.core.code_pages import EBCDIC as CODE_PAGES
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.terminals import Collect, KnownScreen, Mark, Move, Place, TerminalHost
from bricola.core.definitions.model import Operation
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.patterns.matcher import compile_search
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.date_looks import look_mistake
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_elements, typed_value

_TEXT = SimpleType("string")


@dataclass(frozen=True)
class ResolvedFlow:
    """A flow with its host, its screens (its own and the host's), and the elements of its inputs and outputs."""

    definition: ScreenFlowDefinition
    host: TerminalHost
    screens: Mapping[str, KnownScreen]
    inputs: tuple[Element, ...]
    outputs: tuple[Element, ...]


def resolve_flow(definition: ScreenFlowDefinition, catalogue: Catalogue) -> ResolvedFlow:
    """Raises ProblemError with everything that does not fit together."""
    place = f"screen-flow {definition.name}"
    backend = catalogue.find_backend(definition.backend)
    if backend is None or backend.terminal is None:
        raise ProblemError(Problem("flow.backend", "The flow needs a backend that is a terminal host.", place=f"{place}, backend",
                                   expected="a backend with the engine tn3270 or tn5250", found=shown(definition.backend)))
    host = backend.terminal
    inputs = tuple(_input(one, element, f"{place}, input, {one.name}") for one, element in
                   zip(definition.input, typed_elements(definition.input, catalogue, f"{place}, input"), strict=True))
    outputs = tuple(typed_elements(definition.output, catalogue, f"{place}, output"))
    screens = {one.name: one for one in (*host.screens, *definition.screens)}
    problems = [*host_mistakes(host, f"backend {backend.name}, terminal")]
    problems += _screen_mistakes(definition.screens, f"{place}, screens")
    check = _Moves(screens, {one.name: one for one in inputs}, {one.name: one for one in outputs}, definition)
    problems += check.mistakes(definition.moves, f"{place}, moves", host.start)
    problems += check.mistakes(definition.back, f"{place}, back", "")
    problems += check.left_open(place)
    if problems:
        raise ProblemError(*problems)
    return ResolvedFlow(definition, host, screens, inputs, outputs)


def _input(part: object, element: Element, place: str) -> Element:
    default = getattr(part, "default", None)
    if default is None:
        return element
    if not isinstance(element.type, SimpleType):
        raise ProblemError(Problem("flow.default", "Only a simple input has a default.", place=place))
    return replace(element, least=0, default=typed_value(element.type, default, f"{place}, default"))


def host_mistakes(host: TerminalHost, place: str) -> Iterator[Problem]:
    """What does not fit in the part of a backend."""
    screens = {one.name: one for one in host.screens}
    yield from _screen_mistakes(host.screens, f"{place}, screens")
    if host.code_page not in CODE_PAGES:
        yield Problem("flow.code-page", "There is no such code page here.", place=f"{place}, code_page",
                      choices=tuple(CODE_PAGES), found=shown(host.code_page))
    if host.start not in screens:
        yield _unknown_screen(host.start, screens, f"{place}, start")
    check = _Moves(screens, {}, {}, None)
    yield from check.mistakes(host.sign_on, f"{place}, sign_on", "")
    yield from check.mistakes(host.sign_off, f"{place}, sign_off", host.start)


def _unknown_screen(name: str, screens: Iterable[str], place: str) -> Problem:
    return Problem("flow.screen", "There is no such screen.", place=place, choices=tuple(screens), found=shown(name))


def _no_pattern(text: str) -> str:
    """Why a pattern cannot be looked for; '' when it can."""
    try:
        compile_search(text)
    except PatternError as error:
        return str(error)
    return ""


def _screen_mistakes(screens: Iterable[KnownScreen], place: str) -> Iterator[Problem]:
    for screen in screens:
        where = f"{place}, {screen.name}"
        if not any((one.text or one.field) and not one.absent for one in screen.marks):
            yield Problem("flow.mark", "A screen needs a mark that is there.", place=f"{where}, marks",
                          mend="Name a text or a field that no other screen has at that place.")
        for number, mark in enumerate(screen.marks, 1):
            yield from _mark_mistakes(mark, f"{where}, marks, {number}")
        for one in screen.places:
            if one.dates and (wrong := look_mistake(one.dates)):
                yield Problem("flow.dates", f"This is no look of a date: {wrong}.", place=f"{where}, places, {one.name}",
                              expected="like DD/MM/YY or YYYY-MM-DD", found=shown(one.dates))
            if one.pattern and (told := _no_pattern(one.pattern)):
                yield Problem("flow.pattern", f"The pattern cannot be read: {told}.", place=f"{where}, places, {one.name}, pattern",
                              found=shown(one.pattern))
        for region in screen.lists:
            first, last = region.rows
            if last < first or (last - first + 1) % region.lines:
                yield Problem("flow.region", "The rows of the list do not fit.", place=f"{where}, lists, {region.name}, rows",
                              expected=f"a first and a last row with a multiple of {region.lines} lines between them",
                              found=f"{first} to {last}")
            for column in region.columns:
                if column.dates and (wrong := look_mistake(column.dates)):
                    yield Problem(
                        "flow.dates",
                        f"This is no look of a date: {wrong}.",
                        place=f"{where}, lists, {region.name}, {column.name}",
                        expected="like DD/MM/YY or YYYY-MM-DD",
                        found=shown(column.dates),
                    )
                if column.line > region.lines:
                    yield Problem("flow.region", "A column stands on a line that the rows do not have.",
                                  place=f"{where}, lists, {region.name}, {column.name}", expected=f"line 1 to {region.lines}",
                                  found=str(column.line))
            if (region.press or region.position) and not (region.ends or region.goes_on or region.until_same):
                yield Problem("flow.endless", "Nothing says where the list ends.", place=f"{where}, lists, {region.name}",
                              mend="Add 'ends:', 'goes_on:' or 'until_same: true'.")
            names = {one.name for one in region.columns}
            for target, column_name in region.position.items():
                if screen.place(target) is None or column_name not in names:
                    yield Problem("flow.position", "The list is positioned by a place and a column that it has.",
                                  place=f"{where}, lists, {region.name}, position", found=f"{target}: {column_name}")


def _mark_mistakes(mark: Mark, place: str) -> Iterator[Problem]:
    if bool(mark.text) == bool(mark.field):
        yield Problem("flow.mark", "A mark is a text or a field.", place=place, mend="Give it 'text:' or 'field:', and not both.")
    if mark.field and (mark.row is None or mark.column is None):
        yield Problem("flow.mark", "A field is marked by its row and column.", place=place, mend="Add both.")
    if mark.column is not None and mark.row is None:
        yield Problem("flow.mark", "A column without its row is no place.", place=place, mend="Add 'row:'.")


class _Moves:
    """Checks moves against screens, inputs and outputs, and keeps what they fill and read."""

    def __init__(self, screens: Mapping[str, KnownScreen], inputs: Mapping[str, Element], outputs: Mapping[str, Element],
                 flow: ScreenFlowDefinition | None) -> None:
        self._screens, self._inputs, self._outputs, self._flow = screens, inputs, outputs, flow
        self._faults = {one.name: one for one in flow.faults} if flow is not None else {}
        self._used: set[str] = set()
        self._read: set[str] = set()
        self._raised: set[str] = set()

    def mistakes(self, moves: tuple[Move, ...], place: str, start: str) -> Iterator[Problem]:
        names = [one.name for one in moves if one.name]
        if start and moves and moves[0].on != start:
            yield Problem("flow.start", "The first move is not on the start screen.", place=f"{place}, 1, on", expected=start,
                          found=moves[0].on)
        for number, move in enumerate(moves, 1):
            yield from self._move(move, f"{place}, {move.name or number}", names, number == len(moves))

    def _move(self, move: Move, place: str, names: list[str], last: bool) -> Iterator[Problem]:
        screen = self._screens.get(move.on)
        if screen is None:
            yield _unknown_screen(move.on, self._screens, f"{place}, on")
            return
        for name in move.read:
            target = screen.place(name)
            yield from self._reads(target, name, screen, f"{place}, read")
        if move.collect is not None:
            yield from self._collects(move.collect, screen, f"{place}, collect")
        for fill in move.fill:
            where = f"{place}, fill, {fill.name}"
            if screen.place(fill.name) is None:
                yield self._no_place(fill.name, screen, where)
            if fill.input:
                self._used.add(fill.input)
                if fill.input not in self._inputs:
                    yield Problem("flow.input", "The flow has no such input.", place=where,
                                  expected="none", choices=tuple(self._inputs), found=shown(fill.input))
                elif not isinstance(self._inputs[fill.input].type, SimpleType) or self._inputs[fill.input].is_list:
                    yield Problem("flow.input", "Only a single simple value can be typed.", place=where, found=fill.input)
            if fill.credential and self._flow is not None:
                yield Problem("flow.secret", "A flow never types a credential.", place=where,
                              mend="Signing on belongs to the backend: put the move into its 'sign_on:'.")
            target = screen.place(fill.name)
            if fill.value and target is not None and any(one.field == "hidden" and (one.row, one.column) == (target.row, target.column)
                                                         for one in screen.marks):
                yield Problem("flow.secret", "A text stands here that is typed where nobody may see it.", place=where,
                              mend="Signing on belongs to the backend, with a credential; other secrets are an input that is sensitive.")
            if sum((bool(fill.input), bool(fill.value), bool(fill.credential))) > 1:
                yield Problem("flow.fill", "A place is filled from one thing.", place=where,
                              expected="one of input, value, credential")
        if move.cursor and screen.place(move.cursor) is None:
            yield self._no_place(move.cursor, screen, f"{place}, cursor")
        if bool(move.press) != bool(move.expect):
            yield Problem("flow.expect", "A key is pressed, and then one of some screens is expected: both or neither.", place=place,
                          mend="Add what is missing: 'press:' or 'expect:'.")
        for turn in move.expect:
            where = f"{place}, expect, {turn.screen}"
            target_screen = self._screens.get(turn.screen)
            if target_screen is None:
                yield _unknown_screen(turn.screen, self._screens, where)
            elif turn.message and target_screen.message is None:
                yield Problem("flow.message", "The screen has no place for messages.", place=where,
                              mend=f"Add 'message: {{row: …, column: …}}' to {turn.screen}.")
            if turn.go and turn.go not in names:
                yield Problem("flow.go", "There is no move of this name.", place=where, expected="none", choices=tuple(names),
                              found=shown(turn.go))
            if turn.fault:
                self._raised.add(turn.fault)
                if turn.fault not in self._faults:
                    yield Problem("flow.fault", "The flow declares no such fault.", place=where,
                                  expected="none", choices=tuple(self._faults), found=shown(turn.fault))

    def _no_place(self, name: str, screen: KnownScreen, place: str) -> Problem:
        return Problem("flow.place", f"The screen {screen.name} has no such place.", place=place,
                       expected="none", choices=tuple(one.name for one in screen.places), found=shown(name))

    def _reads(self, target: Place | None, name: str, screen: KnownScreen, place: str) -> Iterator[Problem]:
        self._read.add(name)
        if target is None:
            yield self._no_place(name, screen, place)
        element = self._outputs.get(name)
        if element is None:
            yield Problem("flow.output", "The flow has no such output.", place=place,
                          expected="none", choices=tuple(self._outputs), found=shown(name))
        elif not isinstance(element.type, SimpleType) or element.is_list:
            yield Problem("flow.output", "A place gives a single simple value.", place=place, found=name,
                          mend="Collect a list with 'collect:'.")

    def _collects(self, collect: Collect, screen: KnownScreen, place: str) -> Iterator[Problem]:
        region = screen.list_of(collect.list)
        if region is None:
            yield Problem("flow.list", f"The screen {screen.name} has no such list.", place=place,
                          expected="none", choices=tuple(one.name for one in screen.lists), found=shown(collect.list))
            return
        self._read.add(collect.into)
        element = self._outputs.get(collect.into)
        if element is None or not element.is_list or not isinstance(element.type, Record):
            yield Problem("flow.output", "A list is collected into a repeating output of a record.", place=f"{place}, into",
                          found=shown(collect.into), mend="Declare it: '{type: SomeRecord, repeats: true}'.")
            return
        names = [one.name for one in region.columns]
        if region.opens is not None:
            names += region.opens.read
            detail = self._screens.get(region.opens.screen)
            if detail is None:
                yield _unknown_screen(region.opens.screen, self._screens, f"{place}, opens, screen")
            else:
                for name in region.opens.read:
                    if detail.place(name) is None:
                        yield self._no_place(name, detail, f"{place}, opens, read")
        for one in element.type.elements:
            if one.name not in names:
                yield Problem("flow.column", f"The list gives no {one.name}, which {element.type.name} has.", place=place,
                              choices=tuple(names), found=one.name)
        for name in names:
            if name not in {one.name for one in element.type.elements}:
                yield Problem(
                    "flow.column", f"{element.type.name} has no {name}.", place=place, mend="Take the column out, or add the field."
                )
        if collect.complete:
            self._read.add(collect.complete)
            flag = self._outputs.get(collect.complete)
            if flag is None or not isinstance(flag.type, SimpleType) or flag.type.base != "boolean":
                yield Problem("flow.output", "Whether a list is complete is a boolean output.", place=f"{place}, complete",
                              found=shown(collect.complete))
        if not collect.most.isdigit():
            self._used.add(collect.most)
            most = self._inputs.get(collect.most)
            if most is None or not isinstance(most.type, SimpleType) or most.type.primitive.python is not int:
                yield Problem("flow.most", "The most rows are a whole number, or an input that is one.", place=f"{place}, most",
                              found=shown(collect.most))

    def left_open(self, place: str) -> Iterator[Problem]:
        """Outputs that nothing fills, inputs that nothing takes, faults that nothing raises and details that nothing gives."""
        for name, element in self._outputs.items():
            if name not in self._read and element.least:
                yield Problem("flow.unread", f"Nothing fills the output {name}.", place=f"{place}, output, {name}",
                              mend="Read it in a move, or take it out.")
        for name in self._inputs:
            if name not in self._used:
                yield Problem("flow.unused-input", f"Nothing takes the input {name}.", place=f"{place}, input, {name}",
                              mend="Fill a place with it, or take it out.")
        for name, fault in self._faults.items():
            if name not in self._raised:
                yield Problem("flow.unused-fault", f"Nothing ends with the fault {name}.", place=f"{place}, faults, {name}",
                              mend="Name it in an 'expect:', or take it out.")
            for one in fault.fields:
                if one not in self._inputs:
                    yield Problem("flow.fault-field", "A fault tells inputs.", place=f"{place}, faults, {name}, fields",
                                  expected="none", choices=tuple(self._inputs), found=shown(one))


def flow_shape(operation: Operation, source: ResolvedFlow, inputs: tuple[Element, ...], outputs: tuple[Element, ...]) -> OperationShape:
    definition = source.definition
    by_name = {one.name: one for one in source.inputs}
    message = Element("message", _TEXT, description="What the host says")
    faults = tuple(
        FaultShape(
            one.name, Record(one.name, (message, *(replace(by_name[name], least=0, default=None) for name in one.fields))),
            one.description, one.cause
        )
        for one in definition.faults
    )
    return OperationShape(operation.name, Record(operation.name, inputs), Record(f"{operation.name}Response", outputs), faults,
                          operation.description or definition.description, definition.writes)
