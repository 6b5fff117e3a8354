"""Walks compiled: every move with its recognisers, readers and writers, made once when a flow is deployed."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from bricola.core.definitions.engines.terminals import Collect, KnownScreen, ListRegion, Move, Place, TerminalHost, Turn
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.recognise import Recogniser, Test, any_mark, compile_recogniser, text_at
from bricola.core.kinds.screens.texts import compile_reader, compile_writer
from bricola.core.patterns.matcher import compile_search
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Element, Record, Values
from bricola.core.shapes.simple import SimpleType
from bricola.core.terminals.codepages import encode
from bricola.core.terminals.screen import Screen

USER, PASSWORD = "\x00user", "\x00password"
_OF_A_NUMBER = frozenset("0123456789.,")


@dataclass(frozen=True)
class Uncut:
    """A number in the columns from `start` to before `end` of a line. One that goes on beyond them was moved by the host's people, and what
    stands between the edges is another number."""

    place: str
    start: int
    end: int

    def demand(self, line: str) -> None:
        """Raises ProblemError for a number that an edge cuts."""
        for edge in (self.start, self.end):
            if 0 < edge < len(line) and line[edge - 1] in _OF_A_NUMBER and line[edge] in _OF_A_NUMBER:
                raise ProblemError(Problem(
                    "screen.cut", "A number on the host's screen goes over the edge of its place.", Kind.BACKEND, place=self.place,
                    expected=f"a number within columns {self.start + 1} to {self.end}",
                    mend="The people who run the service hold the film against the host: something moved."))


@dataclass(frozen=True)
class Read:
    """An output and how its value is read off a screen."""

    name: str
    place: Place
    convert: Callable[[str], Any]
    uncut: Uncut | None = None

    def of(self, screen: Screen) -> Any:
        if self.uncut is not None and self.place.row <= screen.rows:
            self.uncut.demand(screen.lines[self.place.row - 1])
        return self.convert(text_at(screen, self.place))


@dataclass(frozen=True)
class FillIn:
    """A place and what is typed there: None, and nothing is, for an input that the caller left out; '' empties it. A secret one is never
    filmed."""

    place: Place
    make: Callable[[Values], str | None]
    secret: bool = False


@dataclass(frozen=True)
class Rows:
    """A list region compiled: one screen in, its rows out."""

    region: ListRegion
    columns: tuple[tuple[str, int, int, int, Callable[[str], Any]], ...]  # name, line, column from 0, length, reader
    skips: tuple[tuple[int | None, str], ...]
    ends: Test
    goes_on: Test
    uncut: tuple[tuple[int, Uncut], ...] = ()  # with the line of a row that it is for

    def lines(self, screen: Screen) -> list[tuple[int, list[str]]]:
        """The rows as their lines of text with the first line's number, without the blank ones and those to be skipped."""
        first, last = self.region.rows
        kept = [(number, screen.lines[number - 1]) for number in range(first, min(last, screen.rows) + 1)]
        if self.skips:
            kept = [(number, line) for number, line in kept if not self._skipped(line)]
        rows = []
        step = self.region.lines
        for at in range(0, len(kept) - step + 1, step):
            group = kept[at:at + step]
            if any(line[column:column + length].strip() for _, own, column, length, _ in self.columns for line in (group[own - 1][1],)):
                rows.append((group[0][0], [line for _, line in group]))
        return rows

    @property
    def room(self) -> int:
        """How many rows a page holds."""
        first, last = self.region.rows
        return (last - first + 1) // self.region.lines

    def _skipped(self, line: str) -> bool:
        return any(text in line if column is None else line.startswith(text, column - 1) for column, text in self.skips)

    def values(self, lines: list[str]) -> Values:
        found = {}
        for own, edges in self.uncut:
            edges.demand(lines[own - 1])
        for name, own, column, length, convert in self.columns:
            value = convert(lines[own - 1][column:column + length])
            if value is not None:
                found[name] = value
        return found

    def is_last(self, screen: Screen) -> bool:
        """Whether a mark says that no page follows."""
        return self.ends(screen) or (bool(self.region.goes_on) and not self.goes_on(screen))


@dataclass(frozen=True)
class Collector:
    """What `collect` does: the rows, where they go, and how many at most."""

    collect: Collect
    rows: Rows
    most: Callable[[Values], int]
    detail: Recogniser | None
    detail_reads: tuple[Read, ...]


@dataclass(frozen=True)
class Step:
    """One move, ready to be made."""

    number: int  # from 1
    move: Move
    on: Recogniser
    reads: tuple[Read, ...]
    collector: Collector | None
    fills: tuple[FillIn, ...]
    cursor: Place | None
    turns: tuple[tuple[Turn, Recogniser, int | None], ...]  # with the step that follows; None ends the walk
    again: tuple[tuple[Turn, Recogniser, int | None], ...]  # the screen that it is made on, for the pages of a list


@dataclass(frozen=True)
class Walk:
    """Steps of one stage."""

    stage: str
    steps: tuple[Step, ...]

    def __bool__(self) -> bool:
        return bool(self.steps)


@dataclass(frozen=True)
class HostWays:
    """What is the same for all flows of a backend: the start, the ways on, off and out, and what may come over any screen."""

    host: TerminalHost
    start: Recogniser
    screens: tuple[Recogniser, ...]
    over: tuple[Recogniser, ...]  # that a key takes away
    sign_on: Walk
    sign_off: Walk


@dataclass(frozen=True)
class CompiledFlow:
    """A flow, ready to be played on any session of its backend that is signed on."""

    definition: ScreenFlowDefinition
    ways: HostWays
    screens: tuple[Recogniser, ...]
    over: tuple[Recogniser, ...]
    task: Walk
    back: Walk
    outputs: tuple[Element, ...]
    checks: tuple[tuple[str, Callable[[Any], str], int | None], ...] = ()  # inputs that are typed: writer, longest
    code_page: str = "cp037"
    details: Mapping[str, tuple[str, ...]] = field(default_factory=dict)  # fields of each fault

    def check(self, values: Values, operation: str) -> None:
        """Refuse before a session is borrowed what can never be typed. Raises ProblemError naming the operation's input."""
        problems: list[Problem] = []
        for name, write, longest in self.checks:
            if values.get(name) is None:
                continue
            text = write(values[name])
            place = f"{operation}/{name}"
            if longest is not None and len(text) > longest:
                problems.append(Problem("terminal.too-long", "The text does not fit into the field.", place=place,
                                        expected=f"at most {longest} characters", found=f"{len(text)} characters", mend="Shorten it."))
            try:
                encode(text, self.code_page, place)
            except ProblemError as error:
                problems += error.problems
        if problems:
            raise ProblemError(*problems)


def compile_ways(host: TerminalHost) -> HostWays:
    screens = {one.name: compile_recogniser(one) for one in host.screens}
    compiler = _Compiler(screens, {}, {})
    return HostWays(host, screens[host.start], tuple(screens.values()), tuple(one for one in screens.values() if one.known.dismiss),
                    compiler.walk("sign-on", host.sign_on), compiler.walk("sign-off", host.sign_off))


def compile_walks(definition: ScreenFlowDefinition, host: TerminalHost, screens: Mapping[str, KnownScreen], inputs: Iterable[Element],
                  outputs: tuple[Element, ...]) -> CompiledFlow:
    """The flow of a definition that was found to fit together."""
    recognisers = {name: compile_recogniser(one) for name, one in screens.items()}
    elements = {one.name: one for one in inputs}
    compiler = _Compiler(recognisers, elements, {one.name: one for one in outputs})
    task, back = compiler.walk("task", definition.moves), compiler.walk("back", definition.back)
    return CompiledFlow(
        definition, compile_ways(host), tuple(recognisers.values()), tuple(one for one in recognisers.values() if one.known.dismiss), task,
        back, outputs, tuple(compiler.checks), host.code_page, {one.name: one.fields for one in definition.faults})


class _Compiler:
    def __init__(self, screens: Mapping[str, Recogniser], inputs: Mapping[str, Element], outputs: Mapping[str, Element]) -> None:
        self._screens, self._inputs, self._outputs = screens, inputs, outputs
        self.checks: list[tuple[str, Callable[[Any], str], int | None]] = []

    def walk(self, stage: str, moves: tuple[Move, ...]) -> Walk:
        names = {move.name: index for index, move in enumerate(moves) if move.name}
        return Walk(stage, tuple(self._step(index, move, names, len(moves)) for index, move in enumerate(moves)))

    def _step(self, index: int, move: Move, names: Mapping[str, int], count: int) -> Step:
        on = self._screens[move.on]
        following = index + 1 if index + 1 < count else None
        turns = tuple((turn, self._screens[turn.screen], None if turn.end else names[turn.go] if turn.go else following)
                      for turn in move.expect)
        return Step(index + 1, move, on, tuple(self._read(on.known, name) for name in move.read),
                    self._collector(on.known, move.collect) if move.collect is not None else None,
                    tuple(self._fill(on.known, fill.name, fill.input, fill.value, fill.credential) for fill in move.fill),
                    on.known.place(move.cursor) if move.cursor else None, turns, ((Turn(screen=on.name), on, None),))

    def _read(self, screen: KnownScreen, name: str, elements: Mapping[str, Element] | None = None) -> Read:
        place = screen.place(name)
        assert place is not None  # the definition was found to fit together
        element = (elements or self._outputs)[name]
        convert = compile_reader(place, element, f"{screen.name}, {name}")
        if place.pattern:
            convert = _searched(place, convert)
        alone = place.length is not None and place.rows == 1 and not place.pattern
        starts = [one.column for one in screen.places if one.row == place.row]
        edges = _uncut(f"{screen.name}, {name}", place.column, place.length or 0, element, starts) if alone else None
        return Read(name, place, convert, edges)

    def _fill(self, screen: KnownScreen, name: str, given: str, value: str, credential: str) -> FillIn:
        place = screen.place(name)
        assert place is not None
        if credential:
            key = USER if credential == "user" else PASSWORD
            return FillIn(place, lambda values: values[key], True)
        if not given:
            return FillIn(place, lambda values: value)
        kind = self._inputs[given].type
        assert isinstance(kind, SimpleType)
        write = compile_writer(place, kind)
        self.checks.append((given, write, place.length))
        return FillIn(place, lambda values: None if values.get(given) is None else write(values[given]), self._inputs[given].sensitive)

    def _collector(self, screen: KnownScreen, collect: Collect) -> Collector:
        region = screen.list_of(collect.list)
        assert region is not None
        record = self._outputs[collect.into].type
        assert isinstance(record, Record)
        elements = {one.name: one for one in record.elements}
        columns = tuple(
            (one.name, one.line, one.column - 1, one.length, compile_reader(one, elements[one.name], f"{screen.name}, {one.name}"))
            for one in region.columns
        )
        edges = [(one.line, _uncut(f"{screen.name}, {one.name}", one.column, one.length, elements[one.name],
                                   [two.column for two in region.columns if two.line == one.line])) for one in region.columns]
        rows = Rows(region, columns, tuple((one.column, one.text) for one in region.skip), any_mark(region.ends), any_mark(region.goes_on),
                    tuple((number, one) for number, one in edges if one is not None))
        detail = self._screens[region.opens.screen] if region.opens is not None else None
        reads = tuple(self._read(detail.known, name, elements) for name in region.opens.read) if detail and region.opens else ()
        most = collect.most
        if most.isdigit():
            number = int(most)
            return Collector(collect, rows, lambda values: number, detail, reads)
        return Collector(collect, rows, lambda values: values[most], detail, reads)


def _uncut(place: str, column: int, length: int, element: Element, starts: Sequence[int]) -> Uncut | None:
    """What looks that a number is read whole; None for what is no number with places, and where another place follows at once."""
    kind = element.type
    if not isinstance(kind, SimpleType) or kind.primitive.python is not Decimal or column + length in starts:
        return None
    return Uncut(place, column - 1, column - 1 + length)


def _searched(place: Place, convert: Callable[[str], Any]) -> Callable[[str], Any]:
    pattern = compile_search(place.pattern)

    def read(text: str) -> Any:
        found = pattern.search(text)
        return convert("" if found is None else found[1] if pattern.groups else found[0])

    return read
