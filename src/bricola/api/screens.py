"""Screen flows: films, checks, guesses, recordings. A screen is its rows as text and its fields, as the live terminal sends it."""

from typing import Any, Literal, NotRequired

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change, Finding

Plain = dict[str, Any]


@closed
class ScreenField(TypedDict):
    """A field; `start` is the position after its attribute, counted from 0. What is usual (false, empty) is left out."""

    start: int
    length: int
    protected: NotRequired[bool]
    numeric: NotRequired[bool]
    hidden: NotRequired[bool]
    intensified: NotRequired[bool]
    modified: NotRequired[bool]
    colour: NotRequired[str]
    highlight: NotRequired[str]
    accepts: NotRequired[str]
    monocase: NotRequired[bool]


@closed
class TerminalScreen(TypedDict):
    """A screen: its rows as text without trailing blanks, its fields, and where the cursor stands, counted from 0."""

    rows: int
    columns: int
    lines: list[str]
    fields: list[ScreenField]
    cursor: int
    locked: bool
    alarm: bool
    refused: bool


@closed
class ScreenMark(TypedDict):
    """A text, or a field, that a screen is known by; what is usual is left out."""

    row: NotRequired[int]
    column: NotRequired[int]
    text: NotRequired[str]
    field: NotRequired[str]
    length: NotRequired[int]
    absent: NotRequired[bool]


@closed
class FilmNote(TypedDict):
    environment: str
    at: str
    author: str
    screens: int
    moves: int


@closed
class FlowPlace(TypedDict):
    screen: str
    name: str
    kind: Literal["input", "output", "fixed"]
    row: int
    column: int
    length: int | None


@closed
class FlowColumn(TypedDict):
    name: str
    column: int
    length: int
    type: str


@closed
class FlowList(TypedDict):
    screen: str
    name: str
    first_row: int
    last_row: int
    columns: list[FlowColumn]
    goes_on: ScreenMark | None
    ends: ScreenMark | None


@closed
class MovedPlace(TypedDict):
    """What is not as it was filmed."""

    screen: str
    what: str
    expected: str
    found: str


@closed
class LastCheck(TypedDict):
    flow: str
    environment: str
    at: str
    passed: bool
    endpoint: str
    screens: list[str]
    moved: list[MovedPlace]
    stopped: Problem | None


@closed
class Flow(TypedDict):
    flow: str
    description: str
    backend: str
    engine: str
    writes: bool
    moves: int
    places: list[FlowPlace]
    lists: list[FlowList]
    services: list[str]
    environments: list[str]
    film: FilmNote | None
    checks: list[LastCheck]


@closed
class FilmShot(TypedDict):
    """A move; `before` and `after` are numbers of screens."""

    stage: str
    before: int
    known: str
    typed: dict[str, str | None]
    key: str
    after: int
    came: str


@closed
class Film(TypedDict):
    flow: str
    environment: str
    backend: NotRequired[str]
    quiet: NotRequired[float]
    inputs: Plain
    shots: list[FilmShot]
    screens: list[TerminalScreen]
    at: str
    author: str


@closed
class MadeFilm(TypedDict):
    flow: str
    environment: str
    moves: int
    screens: int
    stages: list[str]
    problems: list[str]
    quiet: float | None


@closed
class FilmCheck(TypedDict):
    """A film held against the live host; `skipped` says why it was not."""

    flow: str
    environment: str
    filmed_at: str
    filmed_in: str
    passed: bool
    skipped: str
    endpoint: str
    screens: list[str]
    moved: list[MovedPlace]
    stopped: Problem | None


@closed
class GuessedColumn(TypedDict):
    name: str
    label: str
    type: str
    dates: str
    decimal: str
    fraction: int | None
    column: int
    length: int


@closed
class Guess(TypedDict):
    """What stands at a place: a name and a type; or of a region: its columns, the key for the next page, and its end."""

    name: NotRequired[str]
    label: NotRequired[str]
    type: NotRequired[str]
    dates: NotRequired[str]
    decimal: NotRequired[str]
    fraction: NotRequired[int | None]
    columns: NotRequired[list[GuessedColumn]]
    press: NotRequired[str]
    goes_on: NotRequired[ScreenMark | None]
    ends: NotRequired[ScreenMark | None]


@closed
class Recorded(TypedDict):
    problems: list[Problem]
    files: dict[str, str]
    findings: list[Finding | Plain]
    changes: list[Change]
