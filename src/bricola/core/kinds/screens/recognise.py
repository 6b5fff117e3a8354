"""Knowing a screen by its marks, and telling what moved when they are not where they were."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from bricola.core.definitions.engines.terminals import KnownScreen, Mark, Spot
from bricola.core.terminals.screen import Field, Screen

Test = Callable[[Screen], bool]


@dataclass(frozen=True)
class Recogniser:
    """A known screen with its marks as one test."""

    known: KnownScreen
    tests: tuple[Test, ...]

    @property
    def name(self) -> str:
        return self.known.name

    def matches(self, screen: Screen) -> bool:
        return all(test(screen) for test in self.tests)

    def message(self, screen: Screen) -> str:
        """What the host tells on this screen; '' where it has no such place."""
        place = self.known.message
        return text_at(screen, place).strip() if place is not None else ""


def compile_recogniser(known: KnownScreen) -> Recogniser:
    return Recogniser(known, tuple(compile_mark(one) for one in known.marks))


def recognise(recognisers: Iterable[Recogniser], screen: Screen) -> Recogniser | None:
    return next((one for one in recognisers if one.matches(screen)), None)


def compile_mark(mark: Mark) -> Test:
    """A test of one mark. A place that is off the screen is no match."""
    test = _field_test(mark) if mark.field else _text_test(mark)
    return (lambda screen: not test(screen)) if mark.absent else test


def any_mark(marks: Sequence[Mark]) -> Test:
    """Whether one of the marks is there; never where there are none."""
    tests = [compile_mark(one) for one in marks]
    return lambda screen: any(test(screen) for test in tests)


def _text_test(mark: Mark) -> Test:
    text, row, column = mark.text, mark.row, mark.column
    if row is None:
        return lambda screen: text in screen.characters
    if column is None:
        return lambda screen: row <= screen.rows and text in screen.lines[row - 1]

    def stands(screen: Screen) -> bool:
        return row <= screen.rows and column <= screen.columns and screen.characters.startswith(text, screen.position(row, column))

    return stands


def _field_test(mark: Mark) -> Test:
    def begins(screen: Screen) -> bool:
        if mark.row is None or mark.column is None or mark.row > screen.rows or mark.column > screen.columns:
            return False
        start = screen.position(mark.row, mark.column)
        field = next((one for one in screen.fields if one.start == start), None)
        if field is None or (mark.length is not None and field.length != mark.length):
            return False
        return field.hidden if mark.field == "hidden" else field.protected if mark.field == "protected" else not field.protected

    return begins


def text_at(screen: Screen, place: Spot) -> str:
    """The text at a place: rows below one another are joined by a blank, each without blanks at its end."""
    if place.row > screen.rows or place.column > screen.columns:
        return ""
    lines = []
    for row in range(place.row, min(place.row + place.rows, screen.rows + 1)):
        start = screen.position(row, place.column)
        lines.append(screen.text(start, place.length or _length(screen, start)))
    return lines[0] if len(lines) == 1 else " ".join(line.strip() for line in lines).strip()


def _length(screen: Screen, start: int) -> int:
    field = next((one for one in screen.fields if one.start == start), None)
    rest = screen.columns - start % screen.columns
    return min(field.length, len(screen.characters)) if field is not None and not field.protected else \
        min(field.length, rest) if field is not None else rest


@dataclass(frozen=True)
class Moved:
    """Something that is not where it was: what, where it was expected, and where it is now ('' when it is nowhere)."""

    screen: str
    what: str
    expected: str
    found: str


def differences(known: KnownScreen, screen: Screen, filled: Iterable[str] = ()) -> list[Moved]:
    """What of a known screen is not as it was. `filled` are the places that moves type into: an input has to begin there."""
    found = []
    for mark in known.marks:
        if compile_mark(mark)(screen):
            continue
        what = f"the text {mark.text!r}" if mark.text else f"the {mark.field} field"
        where = _spot(mark.row, mark.column)
        if mark.absent:
            found.append(Moved(known.name, what, f"not at {where}", "it stands there"))
        else:
            found.append(Moved(known.name, what, f"at {where}", _now(screen, mark)))
    for name in filled:
        place = known.place(name)
        if place is None:
            continue
        start = screen.position(place.row, place.column) if place.row <= screen.rows else -1
        field = next((one for one in screen.inputs if one.start == start), None)
        if field is None:
            near = _nearest(screen, start, place.length)
            found.append(Moved(known.name, f"the input {name}", f"at {_spot(place.row, place.column)}",
                               f"the nearest input begins at {spot_of(screen, near.start)}" if near else "the screen has no input"))
        elif place.length is not None and field.length < place.length:
            found.append(Moved(known.name, f"the input {name}", f"{place.length} characters long", f"{field.length} characters"))
    return found


def _now(screen: Screen, mark: Mark) -> str:
    """Where a text is now."""
    if not mark.text:
        return "no such field begins there"
    if mark.row is not None and mark.row <= screen.rows:
        at = screen.lines[mark.row - 1].find(mark.text)
        if at >= 0:
            return f"it stands at {_spot(mark.row, at + 1)}"
    at = screen.characters.find(mark.text)
    if at >= 0:
        return f"it stands at {spot_of(screen, at)}"
    there = (
        screen.text(screen.position(mark.row, mark.column or 1), max(len(mark.text), 10)).strip()
        if mark.row and mark.row <= screen.rows
        else ""
    )
    return f"it is gone; {there!r} stands there" if there else "it is gone"


def _nearest(screen: Screen, start: int, length: int | None) -> Field | None:
    """The nearest input, of those that are as long as it was where there is one."""
    columns = screen.columns
    return min([one for one in screen.inputs if one.length == length] or screen.inputs, default=None,
               key=lambda one: (abs(one.start // columns - start // columns), abs(one.start % columns - start % columns)))


def _spot(row: int | None, column: int | None) -> str:
    if row is None:
        return "any row"
    return f"row {row}" if column is None else f"row {row}, column {column}"


def spot_of(screen: Screen, position: int) -> str:
    """A position in words."""
    row, column = divmod(position, screen.columns)
    return _spot(row + 1, column + 1)
