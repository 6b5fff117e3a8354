"""Terminal hosts: their screens, and the ways on, off and out, as the definition of such a backend says them.

Rows and columns count from 1, as on a terminal. A screen is known by marks, never by all that it shows. What is named on a screen (a
field to fill, a text to read, a list) is a place of that screen; moves and captures say the name. Signing on and off belongs to the
backend, so that no flow holds a secret.
"""

from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import Field as Described
from pydantic import StringConstraints

from bricola.core.definitions.base import ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Refers, Scalar
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.problems import shown

Row = Annotated[int, Described(ge=1, le=255)]
Column = Annotated[int, Described(ge=1, le=255)]
Key = Annotated[str, StringConstraints(pattern=r"^[A-Z][A-Za-z]*[0-9]{0,2}$")]


class Mark(Frozen):
    """One sign that a screen is known by: a text at a place, or a field that begins there.

    Without `column` the text may stand anywhere in the row, without `row` anywhere on the screen. `absent` turns it round.
    """

    row: Row | None = None
    column: Column | None = None
    text: str = ""
    field: Literal["", "input", "hidden", "protected"] = ""
    length: int | None = Described(None, ge=1)  # of the field
    absent: bool = False


class TextForm(Frozen):
    """How a text on the screen becomes a value, and a value a text.

    `dates` is the look of a date or moment in the letters D, M, Y, H, N (minutes) and S. `decimal` is the sign before the
    fraction; the other one may stand between thousands. `codes` give what stands on the screen a meaning: `{U: up, D: down}`.
    """

    dates: str = ""
    decimal: Literal["point", "comma"] = "point"
    codes: dict[str, str] = {}


class Spot(Frozen):
    """Where a text stands. Without `length` it is the field that begins there, or what is left of the row. `rows` below one another
    are read as one text. `pattern` is a regular expression (of RE2, so without look-around); its first group is what is read."""

    row: Row
    column: Column
    length: int | None = Described(None, ge=1)
    rows: int = Described(1, ge=1, le=60)
    pattern: str = ""


class Place(TextForm, Spot, NamedPart):
    """A named place: a field to fill, or a text to read."""


class _Columns(Frozen):
    column: Column
    length: int = Described(ge=1)
    line: int = Described(1, ge=1, le=10)


class ListColumn(TextForm, _Columns, NamedPart):
    """A column of a list: where it begins and how long it is, and on which of the lines of a row it stands."""


class LineMark(Frozen):
    """A text in a line of a list; without `column` anywhere in it."""

    column: Column | None = None
    text: str = Described(min_length=1)


class Opening(Frozen):
    """How a row is opened for its details: `value` typed at `column` of its line, a key, and what is read on the screen that comes.
    `back` leads to the list again."""

    column: Column
    value: str = ""
    press: Key = "Enter"
    screen: Name
    read: Names = Described(min_length=1)
    back: Key


class ListRegion(NamedPart):
    """A scrolling list between two rows.

    Pages: `press` asks for the next one. The last one is known by a mark in `ends`, by `goes_on` standing there no more, or, with
    `until_same`, by the page that comes again. With `position` the next page is asked for by typing the last row's column into a
    place; a first row that is the last one again is left out. Blank rows are none; lines with a mark in `skip` are passed over.
    """

    rows: tuple[Row, Row]
    lines: int = Described(1, ge=1, le=10)  # of one row
    columns: NamedParts[ListColumn] = Described(min_length=1)
    skip: tuple[LineMark, ...] = ()
    press: Key | Literal[""] = ""
    ends: tuple[Mark, ...] = ()
    goes_on: tuple[Mark, ...] = ()
    until_same: bool = False
    position: dict[Name, ElementName] = Described({}, max_length=1)  # place: column
    opens: Opening | None = None


class KnownScreen(NamedPart):
    """A screen with what it is known by and what stands where on it.

    `message` is where the host tells what it thinks of the input. A screen with `dismiss` may come over any other at any time; that
    key takes it away.
    """

    name: Name
    description: Line = ""
    marks: tuple[Mark, ...] = Described(min_length=1)
    places: NamedParts[Place] = ()
    message: Spot | None = None
    lists: NamedParts[ListRegion] = ()
    dismiss: Key | Literal[""] = ""

    def place(self, name: str) -> Place | None:
        return next((one for one in self.places if one.name == name), None)

    def list_of(self, name: str) -> ListRegion | None:
        return next((one for one in self.lists if one.name == name), None)


class Fill(NamedPart):
    """What is typed into a place: an input of the flow, always the same text, or, where the backend signs on, its credential."""

    input: ElementName | Literal[""] = ""
    value: str = ""
    credential: Literal["", "user", "password"] = ""


class Turn(Frozen):
    """What a screen that came means. Without anything more the next move follows.

    `message` is a text that its message has to contain, in capitals or not. `fault` ends the call with a declared fault, `go` goes on
    at the move of that name, `end` answers with what was read. `refused` ends a sign-on, and says why in a few words; with `no_room` it is
    no fault of the credential: the user is signed on as often as the host allows, and the pool keeps to that.
    """

    screen: Name
    message: str = ""
    fault: ElementName | Literal[""] = ""
    go: Name | Literal[""] = ""
    end: bool = False
    refused: Line = ""
    no_room: bool = False


class Collect(Frozen):
    """Read a list over all its pages into an output.

    `most` rows: a whole number, or the name of an input. `complete` names the output that says whether the end was reached.
    """

    list: ElementName
    into: ElementName
    most: Scalar = "1000"
    most_pages: int = Described(200, ge=1, le=10_000)
    complete: ElementName | Literal[""] = ""


class Move(Frozen):
    """One move on a screen: read places, collect a list, fill, press, and wait until one of the expected screens is there."""

    name: Name | Literal[""] = ""
    on: Name
    read: Names = ()
    collect: Collect | None = None
    fill: NamedParts[Fill] = ()
    cursor: ElementName | Literal[""] = ""
    press: Key | Literal[""] = ""
    expect: tuple[Turn, ...] = ()
    seconds: float = Described(10.0, gt=0, le=600)


class Leave(Frozen):
    """The known way out: these keys in turn, again and again, until the start screen is there."""

    press: Names = Described(min_length=1)
    most: int = Described(8, ge=1, le=100)


class TerminalHost(Frozen):
    """What is the same in every environment: how the host talks, the screens that all flows meet, and the ways on, off and out."""

    model: Literal[2, 3, 4, 5] = 2  # of a 3270
    size: tuple[Row, Column] | None = None  # rows and columns of a dynamic 3270, beside 24 x 80
    wide: bool = False  # a 5250 of 27x132
    colour: bool = True
    extended: bool = True  # TN3270E where the host offers it
    code_page: str = "cp037"
    signs_on_by_itself: bool = False  # a 5250 that takes user and password with its variables
    start: Name
    screens: NamedParts[KnownScreen] = Described(min_length=1)
    sign_on: tuple[Move, ...] = ()
    sign_off: tuple[Move, ...] = ()
    leave: Leave
    keep_alive: Key | Literal[""] = ""  # pressed on the start screen, which must come again

    def screen(self, name: str) -> KnownScreen | None:
        return next((one for one in self.screens if one.name == name), None)


class TerminalBackend(Frozen):
    """What the definition of a backend says when it is a terminal host."""

    terminal: TerminalHost | None = None
    """The terminal, its screens and its sign-on; the recorder writes them."""


class TerminalPlaces(Frozen):
    """What a binding says of a terminal host: `devices` are the LU or device names, one for each session. With `film` the backend is
    no host but the recorded film of that screen flow."""

    devices: tuple[str, ...] = ()
    """LU or device names, one for each session."""
    film: Annotated[str, Refers("screen-flow")] = ""
    """A screen flow whose film stands in for the host."""


def is_film(binding: TerminalPlaces) -> bool:
    """Whether a film stands in for the host."""
    return bool(binding.film)


def signs_on(backend: TerminalBackend, binding: TerminalPlaces) -> bool:
    """Whether somebody signs on: not to a film, nor to a host whose sign-on types no credential."""
    host = backend.terminal
    asks = host is not None and (host.signs_on_by_itself or any(fill.credential for move in host.sign_on for fill in move.fill))
    return asks and not binding.film


RULES = Rules(
    Rule("binding.devices", Area.ENVIRONMENT, Severity.WARNING,
         "A session without an LU or device name of its own cannot be opened.", True),
    Rule("binding.film", Area.ENVIRONMENT, Severity.WARNING,
         "A film answers what was recorded once; callers of a protected environment expect the host."),
)


def findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    """What the review says of a terminal host in an environment."""
    room = len(binding.devices) * max(1, len(binding.ends))
    if binding.devices and room < binding.pool.max_size:
        pool = binding.pool.model_copy(update={"max_size": room, "min_size": min(binding.pool.min_size, room)})
        bindings = tuple(one.model_copy(update={"pool": pool}) if one.name == binding.name else one for one in environment.backends)
        yield RULES.finding(
            "binding.devices",
            "The pool may hold more sessions than it has device names.",
            f"{where}, devices",
            expected=f"max_size up to {room}",
            found=str(binding.pool.max_size),
            mend=f"Set max_size to {room}, or name more devices.",
            mended=environment.model_copy(update={"backends": bindings}),
        )
    if binding.film and environment.protected:
        yield RULES.finding("binding.film", f"{backend.name} is a recorded film here.", f"{where}, film", found=shown(binding.film),
                      mend="Give it the address of the host.")
