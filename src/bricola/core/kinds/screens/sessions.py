"""What a player asks of a session to a terminal host, and what it tells when a walk cannot go on."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from bricola.core.calls.call import Picture, PictureError
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.recognise import Recogniser
from bricola.core.kinds.screens.walks import Walk
from bricola.core.pool.pool import Pool
from bricola.core.problems import Kind, Problem, shown
from bricola.core.terminals.screen import Screen

_MOST_LATE = 3.0  # seconds


@dataclass
class Course:
    """What becomes known of a walk: the moves as they are made, where somebody wants them, and the way back."""

    made: list[Shot] | None = None
    keys: int = 0
    listen: float = 0.0  # seconds that are listened for further pieces the first time on each screen, to learn the host's quiet


@dataclass
class Quiet:
    """The silence after which a host has written all of a screen, in seconds. Not `known`, nobody has listened to it yet."""

    seconds: float = 0.0
    known: bool = False

    def learn(self, late: float) -> None:
        """A piece came so many seconds after the keyboard was open and the screen a new one."""
        self.known = True
        if late <= _MOST_LATE:  # what comes later is news of its own
            self.seconds = max(self.seconds, round(late * 1.5 + 0.1, 2))


class TerminalSession(Protocol):
    """A session to a terminal host. Everything that waits raises SessionLostError when the connection broke, and ProblemError when
    the host breaks its protocol."""

    course: Course
    quiet: Quiet
    way_back: Walk | None  # what leads to the start from where it was left; None where it stands there
    user: str

    @property
    def screen(self) -> Screen: ...

    @property
    def records(self) -> int:
        """How many records the host wrote."""
        ...

    def fill(self, texts: dict[int, str], places: dict[int, str]) -> None:
        """Type into fields, position -> text; all are checked before any is typed. Raises ProblemError."""
        ...

    def place_cursor(self, position: int) -> None: ...

    def reset(self) -> None:
        """The Reset key."""
        ...

    async def press(self, key: str) -> None:
        """Raises ProblemError while the keyboard is locked."""
        ...

    async def heard(self, since: int, seconds: float) -> bool:
        """Wait until the host wrote more than `since` records, for so many seconds. Whether it did."""
        ...

    async def alive(self, seconds: float) -> bool:
        """Whether the host answers a question of the protocol itself, which changes nothing on the screen."""
        ...

    async def ready(self) -> None:
        """Stand on the start screen, repaired where it has to be. Raises SessionLostError where that does not work; nothing of a
        caller's was typed."""
        ...

    def give_up(self, why: str) -> None:
        """Count it as lost: the host does not answer."""
        ...


TerminalPool = Pool[TerminalSession]


class ScreenError(PictureError):
    """A walk stopped. `picture` is the screen that it stopped at, for owners; `screen` the same as a value, `expected` what it
    should have been."""

    def __init__(self, problem: Problem, picture: Picture, screen: Screen | None = None, expected: Sequence[Recogniser] = ()) -> None:
        super().__init__(problem, picture)
        self.screen = screen
        self.expected = tuple(expected)


def picture_of(screen: Screen, title: str) -> Picture:
    return Picture(title, tuple(line.rstrip() for line in screen.lines))


def unexpected(wanted: Sequence[Recogniser], seen: str, screen: Screen, place: str) -> ScreenError:
    """A screen came that none of the expected ones is; nothing was typed into it."""
    expected = [one.name for one in wanted]
    first = next((line.strip() for line in screen.lines if line.strip()), "")
    words = f"the screen {seen}" if seen else "a screen that is not known"
    return ScreenError(
        Problem("screen.unexpected", "The host showed another screen than expected.", Kind.BACKEND, place=place,
                expected=" or ".join(dict.fromkeys(expected)), found=words,
                mend="The people who run the service find the picture of the screen in the record of this call.",
                inner=f"its first line: {shown(first)}"),
        picture_of(screen, f"expected {' or '.join(dict.fromkeys(expected))}"), screen, wanted)


def silent(screen: Screen, seconds: float, place: str) -> ScreenError:
    """The host did not answer a key in time."""
    return ScreenError(
        Problem(
            "terminal.silent",
            "The host did not answer in time.",
            Kind.BACKEND,
            place=place,
            expected=f"an answer within {seconds:g} s",
            found="the keyboard still locked" if screen.locked else "no new screen",
            mend="Try again in a moment.",
        ),
        picture_of(screen, "when the wait ended"),
    )
