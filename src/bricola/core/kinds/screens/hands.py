"""Pressing keys on a session and waiting for what the host says.

Strategy: a wait ends with the host's record that brings an expected screen. What may cover a screen is looked for first, and taken away.
No time is taken for the host's own: a screen that is still the one that the key was pressed on, or is blank, is no answer yet, since hosts
open the keyboard before they write; it counts as the answer only when the move's seconds are over. A screen that is none of the expected is
given a silence, since hosts write screens in pieces. How long the silence between pieces is on this host is learned where a walk is filmed
or recorded, and kept with the film; where nothing is known of it, one that is usual is taken.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from bricola.core.calls.call import out_of_time
from bricola.core.definitions.engines.terminals import Turn
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.recognise import Recogniser, recognise
from bricola.core.kinds.screens.sessions import TerminalSession, silent, unexpected
from bricola.core.kinds.screens.walks import HostWays
from bricola.core.terminals.screen import Screen

PATIENCE = 0.6  # seconds of silence after which another known screen is all that a host has to say, where its own quiet is not known
_STRANGE = 2.0  # the same for a screen that is not known at all: it may be half of an expected one
_MOST_OVER = 10  # covers taken away in one wait

Turns = Sequence[tuple[Turn, Recogniser, int | None]]


@dataclass
class Stage:
    """Where a walk is, in words, and what it may meet there: the known screens, and those that cover others."""

    place: str
    screens: Sequence[Recogniser]
    over: Sequence[Recogniser]
    name: str = "task"


class Hands:
    """`clock` gives monotonic seconds; after `deadline` on it nothing is waited for."""

    def __init__(self, session: TerminalSession, ways: HostWays, clock: Callable[[], float], deadline: float | None = None) -> None:
        self.session, self.ways, self.clock, self.deadline = session, ways, clock, deadline
        self._pressed_on: Screen | None = None  # with what was typed
        self._listened: set[str] = set()  # screens on which it was waited for further pieces

    async def press(self, key: str) -> None:
        self._pressed_on = self.session.screen
        self.session.course.keys += 1
        await self.session.press(key)

    def note(self, stage: str, before: Screen, known: str, typed: dict[int, str | None], key: str, came: str) -> None:
        """Film a move, where somebody films."""
        made = self.session.course.made
        if made is not None:
            made.append(Shot(stage, before, known, typed, key, self.session.screen, came))

    def covering(self, wanted: Iterable[Recogniser], over: Sequence[Recogniser]) -> Recogniser | None:
        """What covers the screen; nothing that is wanted itself."""
        found = recognise(over, self.session.screen)
        return found if found is not None and found.name not in {one.name for one in wanted} else None

    def stands_on(self, wanted: Sequence[Recogniser], over: Sequence[Recogniser]) -> bool:
        """Whether it is a person's turn on one of these screens, which nothing covers."""
        screen = self.session.screen
        return screen.settled and any(one.matches(screen) for one in wanted) and self.covering(wanted, over) is None

    async def settle(self, seconds: float) -> None:
        """Until the keyboard is open."""
        session = self.session
        deadline = self.clock() + seconds
        while not session.screen.settled and (left := deadline - self.clock()) > 0:
            await session.heard(session.records, left)

    async def silence(self, seconds: float) -> None:
        """Until the host has said nothing for so long."""
        while seconds > 0 and await self.session.heard(self.session.records, seconds):
            pass

    async def changed(self, before: Screen) -> None:
        """Until the host has shown something else than before, and said all of it; some keys change nothing, so not for ever."""
        session = self.session
        deadline = self.clock() + _STRANGE
        while (not session.screen.settled or session.screen.characters == before.characters) and (left := deadline - self.clock()) > 0:
            await session.heard(session.records, left)
        await self.silence(session.quiet.seconds)

    @property
    def quiet(self) -> float:
        """The silence after which a page is whole; 0 where this host was never heard to write in pieces."""
        quiet = self.session.quiet
        return quiet.seconds if quiet.known else PATIENCE

    async def arrive(self, wanted: Sequence[Recogniser], seconds: float, stage: Stage) -> None:
        """Be on one of these screens with the keyboard open. What may be taken away is taken away."""
        if self.stands_on(wanted, stage.over):
            return
        turns = [(Turn(screen=one.name), one, None) for one in wanted]
        await self.until(turns, -1 if seconds == 0 else 0, None, seconds or PATIENCE, stage)

    async def until(self, turns: Turns, since: int, before: Screen | None, seconds: float, stage: Stage) -> tuple[Turn, int | None]:
        """Until one of the expected screens is there. `before` is the screen that the key was pressed on."""
        session = self.session
        wanted = [one for _, one, _ in turns]
        deadline = self.clock() + seconds
        if self.deadline is not None:
            deadline = min(deadline, self.deadline)
        taken_away = 0
        while True:
            found, patience = None, None
            told = session.records > since and session.screen.settled
            if told:  # the screen is looked at when there is news, not before
                screen = session.screen
                covering = self.covering(wanted, stage.over)
                if covering is not None and taken_away < _MOST_OVER:
                    taken_away += 1
                    since = session.records
                    await self.press(covering.known.dismiss)
                    continue
                found = turn_of(turns, screen)
                patience = self._patience(found is not None, before, screen, stage)
                if found is not None and patience == 0:
                    return await self._heard_out(turns, found, stage)
            left = deadline - self.clock()
            if left > 0 and await session.heard(session.records, left if patience is None else min(left, patience)):
                continue
            if found is not None:
                return await self._heard_out(turns, found, stage)
            if self.deadline is not None and self.clock() >= self.deadline:
                raise out_of_time()  # the host may still answer; the way back begins by waiting for it
            if told:
                seen = recognise(stage.screens, session.screen)
                raise unexpected(wanted, seen.name if seen is not None else "", session.screen, stage.place)
            session.give_up("it does not answer")
            raise silent(session.screen, seconds, stage.place)

    def _patience(self, found: bool, before: Screen | None, screen: Screen, stage: Stage) -> float | None:
        """How long to go on listening with this screen; None for as long as the move may last."""
        if before is not None and (_same(screen, before) or (self._pressed_on is not None and _same(screen, self._pressed_on))):
            return None
        quiet = self.session.quiet.seconds
        if found:
            return 0.0 if before is None else quiet
        if not screen.characters.strip("\x00 "):
            return None
        return max(quiet, PATIENCE if recognise(stage.screens, screen) is not None else _STRANGE)

    async def _heard_out(self, turns: Turns, found: tuple[Turn, int | None], stage: Stage) -> tuple[Turn, int | None]:
        """Where a walk is filmed, the first time on each screen: listen whether the host goes on writing. The session takes the time."""
        seconds = self.session.course.listen
        if seconds <= 0 or found[0].screen in self._listened:
            return found
        self._listened.add(found[0].screen)
        await self.silence(seconds)
        return turn_of(turns, self.session.screen) or found


def _same(one: Screen, other: Screen) -> bool:
    """Whether two screens show the same; that a host forgets what was typed where is no answer."""
    return one.characters == other.characters and [two._replace(modified=False) for two in one.fields] == [
        two._replace(modified=False) for two in other.fields]


def turn_of(turns: Turns, screen: Screen) -> tuple[Turn, int | None] | None:
    """The first of the expected that the screen is, with its message where it asks for one."""
    for turn, recogniser, following in turns:
        if recogniser.matches(screen) and (not turn.message or turn.message.lower() in recogniser.message(screen).lower()):
            return turn, following
    return None
