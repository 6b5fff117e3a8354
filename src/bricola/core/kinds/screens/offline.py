"""A film as an offline host: sessions that show what was recorded, for tests of screen flows without the real one."""

from bricola.core.definitions.engines.places import Endpoint
from bricola.core.kinds.screens.film import Film, Shot
from bricola.core.kinds.screens.sessions import Course, Quiet
from bricola.core.kinds.screens.walks import HostWays, Walk
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.terminal import check_fill


class FilmSession:
    """One showing. It begins at the start screen, and again when the film has come back to it."""

    def __init__(self, film: Film, code_page: str) -> None:
        self._shots = tuple(one for one in film.shots if one.stage != "sign-on")
        self._code_page = code_page
        self._at = 0  # the next shot, as the film has it
        self._typed: dict[int, str] = {}
        self._screen: Screen = self._shots[0].before
        self.records = 1
        self.course = Course()
        self.quiet = Quiet(known=True)
        self.way_back: Walk | None = None
        self.user = "film"

    @property
    def screen(self) -> Screen:
        return self._screen

    def fill(self, texts: dict[int, str], places: dict[int, str]) -> None:
        self._typed |= check_fill(self._screen, texts, places, self._code_page)

    def place_cursor(self, position: int) -> None:
        pass

    def reset(self) -> None:
        pass

    async def press(self, key: str) -> None:
        typed = {at: text for at, text in self._typed.items() if text}
        self._typed = {}
        ahead = [*range(self._at, len(self._shots)), *range(self._at)]
        for index in ahead:
            shot = self._shots[index]
            if shot.key == key and _same(shot.before, self._screen) and _fits(shot, typed):
                self._screen, self._at = shot.after, (index + 1) % len(self._shots)
                self.records += 1
                return
        raise ProblemError(
            Problem(
                "film.no-such-move",
                "The film has no such move.",
                Kind.BACKEND,
                place=_title(self._screen),
                expected=" or ".join(dict.fromkeys(_told(one) for one in self._shots if _same(one.before, self._screen)))
                or "no move from here",
                found=_as_typed(typed, key),
                mend="Film the walk with these inputs, or call with those of the film.",
            )
        )

    async def heard(self, since: int, seconds: float) -> bool:
        return self.records > since

    async def alive(self, seconds: float) -> bool:
        return True

    async def ready(self) -> None:
        self._screen, self._at, self._typed, self.way_back = self._shots[0].before, 0, {}, None

    def give_up(self, why: str) -> None:
        pass


def _same(one: Screen, other: Screen) -> bool:
    return one.characters == other.characters and [field.start for field in one.inputs] == [field.start for field in other.inputs]


def _fits(shot: Shot, typed: dict[int, str]) -> bool:
    """Whether the same was typed; a secret that was filmed is any text."""
    secret = {at for at, text in shot.typed.items() if text is None}
    return {at: text for at, text in shot.typed.items() if text} == {at: text for at, text in typed.items() if at not in secret}


def _told(shot: Shot) -> str:
    return _as_typed({at: text for at, text in shot.typed.items() if text}, shot.key)


def _as_typed(typed: dict[int, str], key: str) -> str:
    return ", ".join([*(shown(text) for text in typed.values()), key])


def _title(screen: Screen) -> str:
    return next((line.strip() for line in screen.lines if line.strip()), "")[:60]


class FilmKind:
    """How the pool handles showings of a film. Raises ProblemError for a film without a task."""

    def __init__(self, film: Film, ways: HostWays) -> None:
        if not film.stage("task"):
            raise ProblemError(Problem("film.empty", "The film has no move of the task.", place=film.flow, mend="Film the walk again."))
        self._film, self._ways = film, ways

    async def open(self, endpoint: Endpoint) -> FilmSession:
        return FilmSession(self._film, self._ways.host.code_page)

    def is_sound(self, session: FilmSession) -> bool:
        return True

    def is_clean(self, session: FilmSession) -> bool:
        return True

    async def check(self, session: FilmSession) -> bool:
        return True

    async def reset(self, session: FilmSession) -> bool:
        return True

    async def close(self, session: FilmSession) -> None:
        pass

    def cut(self, session: FilmSession) -> None:
        pass

    def identity(self, session: FilmSession) -> str:
        return "film"

    async def most_sessions(self, session: FilmSession) -> int | None:
        return None
