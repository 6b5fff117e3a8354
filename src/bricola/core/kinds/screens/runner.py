"""Playing walks on a session: recognise, read, fill, press, wait for what the host says.

Strategy: nothing is typed before the keyboard is open and the screen is the one that the move is made on. A wait ends with the host's
record that brings an expected screen; only a screen that is none of them is given a moment of silence, since a host may write a screen in
several records. A screen that is the same as before counts after that silence too: a list's last page may come again.
"""

from collections.abc import Callable, Iterable, Sequence

from bricola.core.calls.call import out_of_time
from bricola.core.definitions.engines.terminals import Turn
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.recognise import Recogniser, recognise
from bricola.core.kinds.screens.sessions import ScreenError, TerminalSession, picture_of, silent, unexpected
from bricola.core.kinds.screens.walks import PASSWORD, USER, Collector, CompiledFlow, HostWays, Rows, Step, Walk
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Values
from bricola.core.terminals.screen import Screen

PATIENCE = 0.6  # seconds of silence after which a screen is taken for all that the host has to say
_MOST_OVER = 10  # broadcasts taken away in one wait
_MOST_STEPS = 1000  # of one walk: moves may go round in a circle


class Runner:
    """One session's hands. `clock` gives monotonic seconds; after `deadline` on it no key is pressed and nothing is waited for."""

    def __init__(self, session: TerminalSession, ways: HostWays, clock: Callable[[], float], deadline: float | None = None) -> None:
        self._session, self._ways, self._clock, self._deadline = session, ways, clock, deadline

    # the stages

    async def sign_on(self, user: str, password: str, seconds: float) -> None:
        """From the first screen to the start screen. Raises ProblemError when the host refuses."""
        ways = self._ways
        first = [ways.start, *((ways.sign_on.steps[0].on,) if ways.sign_on else ())]
        await self._arrive(first, seconds, "sign-on")
        if not ways.start.matches(self._session.screen):
            await self._walk(ways.sign_on, {USER: user, PASSWORD: password}, {}, ways.screens, ways.over)
            if not ways.start.matches(self._session.screen):
                raise self._unexpected([ways.start], ways.screens, "sign-on")
        self._session.way_back = None

    async def sign_off(self) -> None:
        if self._ways.sign_off and self._ways.start.matches(self._session.screen):
            await self._walk(self._ways.sign_off, {}, {}, self._ways.screens, self._ways.over)

    async def play(self, flow: CompiledFlow, values: Values) -> Values:
        """The task of a flow, from the start screen on. Raises DeclaredFaultError, ProblemError. The session is left where the task
        ended, and knows its way back."""
        outputs: Values = {}
        await self._arrive([flow.ways.start], 0.0, "start")
        self._session.way_back = flow.back
        turn = await self._walk(flow.task, values, outputs, flow.screens, flow.over)
        if turn is not None and turn.fault:
            screen = self._session.screen
            known = recognise((one for one in flow.screens if one.name == turn.screen), screen)
            message = known.message(screen) if known is not None else ""
            detail = {"message": message or turn.fault, **{name: values[name] for name in flow.details[turn.fault]
                                                           if values.get(name) is not None}}
            raise DeclaredFaultError(turn.fault, message or f"The host answers {turn.fault}.", detail)
        return outputs

    async def go_back(self, screens: Sequence[Recogniser] = ()) -> bool:
        """To the start screen: by the flow's own way where it fits, else by the known way out. Whether it stands there."""
        session, ways = self._session, self._ways
        way, session.way_back = session.way_back, None
        try:
            await self._settle(PATIENCE if not session.screen.locked else 10.0)
            if way and way.steps[0].on.matches(session.screen):
                await self._walk(way, {}, {}, screens or ways.screens, ways.over)
            for attempt in range(ways.host.leave.most):
                if ways.start.matches(session.screen):
                    return True
                if session.screen.refused:
                    session.reset()
                over = recognise(ways.over, session.screen)
                keys = ways.host.leave.press
                if session.screen.locked:
                    return False
                since, before = session.records, session.screen
                key = over.known.dismiss if over else keys[attempt % len(keys)]
                await self._press(key)
                if not await session.heard(since, 10.0):
                    return False
                await self._settle(PATIENCE)
                names = [recognise(screens or ways.screens, one) for one in (before, session.screen)]
                if over is None:
                    self._note("back", before, names[0].name if names[0] else "", {}, key, names[1].name if names[1] else "")
        except ProblemError:
            return False
        return ways.start.matches(session.screen)

    async def keep_alive(self, seconds: float) -> bool:
        """Make the host see somebody: the key for that on the start screen, else a question of the protocol."""
        session, key = self._session, self._ways.host.keep_alive
        if not key:
            return await session.alive(seconds)
        try:
            since = session.records
            await self._press(key)
            await self._await([(Turn(screen=self._ways.start.name), self._ways.start, None)], since, None, seconds, "keep-alive",
                              self._ways.screens, self._ways.over)
        except ProblemError:
            return False
        return True

    # walking

    async def _walk(
        self, walk: Walk, values: Values, outputs: Values, screens: Sequence[Recogniser], over: Sequence[Recogniser]
    ) -> Turn | None:
        """Make the moves of a stage. The turn that ended it, where one did."""
        at: int | None = 0 if walk.steps else None
        for _ in range(_MOST_STEPS):
            if at is None:
                return None
            if self._deadline is not None and self._clock() >= self._deadline:
                raise out_of_time()
            step = walk.steps[at]
            place = f"{walk.stage}, move {step.move.name or step.number}"
            await self._arrive([step.on], 0.0, place, screens, over)
            turn, at = await self._make(step, values, outputs, screens, over, walk.stage, place)
            if turn is None:  # it only read
                at = step.number if step.number < len(walk.steps) else None
                continue
            if turn.refused:
                raise self._refused(turn, screens)
            if turn.fault or turn.end:
                return turn
        raise ProblemError(Problem("screen.circle", "The walk goes round without end.", Kind.BACKEND, place=walk.stage,
                                   expected=f"at most {_MOST_STEPS} moves"))

    async def _make(self, step: Step, values: Values, outputs: Values, screens: Sequence[Recogniser], over: Sequence[Recogniser],
                    stage: str, place: str) -> tuple[Turn | None, int | None]:
        session = self._session
        screen = session.screen
        for read in step.reads:
            outputs[read.name] = self._value(read.of, screen)
            if outputs[read.name] is None:
                del outputs[read.name]
        if step.collector is not None:
            await self._collect(step, step.collector, values, outputs, screens, over, place)
            screen = session.screen
        if not step.turns:
            return None, None
        if screen.refused:
            session.reset()
        texts = {screen.position(one.place.row, one.place.column): one.make(values) for one in step.fills}
        if texts:
            session.fill(
                texts, {screen.position(one.place.row, one.place.column): f"{step.on.name}, {one.place.name}" for one in step.fills}
            )
        if step.cursor is not None:
            session.place_cursor(screen.position(step.cursor.row, step.cursor.column))
        secret = {screen.position(one.place.row, one.place.column) for one in step.fills if one.secret}
        since = session.records
        await self._press(step.move.press)
        turn, following = await self._await(step.turns, since, screen, step.move.seconds, place, screens, over)
        self._note(stage, screen, step.on.name, {at: None if at in secret else text for at, text in texts.items()}, step.move.press,
                   turn.screen)
        return turn, following

    def _note(self, stage: str, before: Screen, known: str, typed: dict[int, str | None], key: str, came: str) -> None:
        """Film a move, where somebody films."""
        made = self._session.course.made
        if made is not None:
            made.append(Shot(stage, before, known, typed, key, self._session.screen, came))

    async def _press(self, key: str) -> None:
        self._session.course.keys += 1
        await self._session.press(key)

    def _value(self, read: Callable[[Screen], object], screen: Screen) -> object:
        try:
            return read(screen)
        except ProblemError as error:
            raise ScreenError(error.problem, picture_of(screen, "where a value could not be read")) from None

    def _row(self, rows: Rows, text: list[str], screen: Screen) -> Values:
        row = self._value(lambda _: rows.values(text), screen)
        assert isinstance(row, dict)
        return row

    def _refused(self, turn: Turn, screens: Sequence[Recogniser]) -> ScreenError:
        screen = self._session.screen
        known = next((one for one in screens if one.name == turn.screen), None)
        said = known.message(screen) if known is not None else ""
        if turn.no_room:
            return ScreenError(Problem(
                "backend.no-room", "The host takes no further session of this user.", Kind.BUSY, mend="Try again in a moment.",
                inner=f"{turn.refused}{f'; the host says: {said}' if said else ''}"), picture_of(screen, "no room"))
        return ScreenError(
            Problem("backend.sign-on", f"The host refused Bricola's sign-on: {turn.refused}.", Kind.BACKEND,
                    mend="The people who run the service replace or free the credential.", inner=f"the host says: {said}" if said else ""),
            picture_of(screen, "sign-on refused"))

    def _unexpected(self, expected: Sequence[Recogniser], screens: Iterable[Recogniser], place: str) -> ScreenError:
        screen = self._session.screen
        seen = recognise(screens, screen)
        return unexpected(expected, seen.name if seen is not None else "", screen, place)

    # waiting

    async def _settle(self, seconds: float) -> None:
        """Until the keyboard is open."""
        session = self._session
        deadline = self._clock() + seconds
        while not session.screen.settled and (left := deadline - self._clock()) > 0:
            await session.heard(session.records, left)

    async def _arrive(self, wanted: Sequence[Recogniser], seconds: float, place: str, screens: Sequence[Recogniser] = (),
                      over: Sequence[Recogniser] | None = None) -> None:
        """Be on one of these screens with the keyboard open. What may be taken away is taken away."""
        session = self._session
        screen = session.screen
        if screen.settled and any(one.matches(screen) for one in wanted):
            return
        turns = [(Turn(screen=one.name), one, None) for one in wanted]
        await self._await(turns, -1 if seconds == 0 else 0, None, seconds or PATIENCE, place, screens or self._ways.screens,
                          self._ways.over if over is None else over)

    async def _await(self, turns: Sequence[tuple[Turn, Recogniser, int | None]], since: int, before: Screen | None, seconds: float,
                     place: str, screens: Sequence[Recogniser], over: Sequence[Recogniser]) -> tuple[Turn, int | None]:
        """Until one of the expected screens is there. `before` is the screen that the key was pressed on."""
        session = self._session
        deadline = self._clock() + seconds
        if self._deadline is not None:
            deadline = min(deadline, self._deadline)
        taken_away = 0
        while True:
            found = None
            told = session.records > since and session.screen.settled
            if told:  # the screen is looked at when there is news, not before
                screen = session.screen
                found = _turn(turns, screen)
                if found is not None and (before is None or screen.characters != before.characters or screen.fields != before.fields):
                    return found
                covering = recognise(over, screen) if found is None else None
                if covering is not None and taken_away < _MOST_OVER:
                    taken_away += 1
                    since = session.records
                    await self._press(covering.known.dismiss)
                    continue
            left = deadline - self._clock()
            if left > 0 and await session.heard(session.records, min(left, PATIENCE) if told else left):
                continue
            if found is not None:
                return found
            if self._deadline is not None and self._clock() >= self._deadline:
                raise out_of_time()  # the host may still answer; the way back begins by waiting for it
            if told:
                raise self._unexpected([one for _, one, _ in turns], screens, place)
            session.give_up("it does not answer")
            raise silent(session.screen, seconds, place)

    # lists

    async def _collect(self, step: Step, collector: Collector, values: Values, outputs: Values, screens: Sequence[Recogniser],
                       over: Sequence[Recogniser], place: str) -> None:
        """Rows of all pages, up to the most; and whether the end was reached."""
        session, collect, rows = self._session, collector.collect, collector.rows
        region, most = rows.region, collector.most(values)
        found: list[Values] = []
        complete, last_lines, seen = False, None, None
        for page in range(collect.most_pages):
            screen = session.screen
            lines = rows.lines(screen)
            texts = [text for _, text in lines]
            if page and texts == seen:  # the same page again
                complete = region.until_same
                break
            seen = texts
            if region.position and texts and texts[0] == last_lines:
                lines = lines[1:]
            is_last = rows.is_last(screen) or not (region.press or region.position)
            left = most - len(found)
            for number, text in lines[:left]:
                row = self._row(rows, text, screen)
                if collector.detail is not None:
                    row |= await self._open(collector, number, screens, over, step, place)
                found.append(row)
            if len(lines) > left or (len(lines) == left and not is_last):
                break
            if is_last:
                complete = True
                break
            last_lines = texts[-1] if texts else None
            if region.position and last_lines is None:
                complete = region.until_same
                break
            await self._next_page(step, collector, last_lines, screens, over, place)
        outputs[collect.into] = found
        if collect.complete:
            outputs[collect.complete] = complete

    async def _next_page(self, step: Step, collector: Collector, last: list[str] | None, screens: Sequence[Recogniser],
                         over: Sequence[Recogniser], place: str) -> None:
        session, region = self._session, collector.rows.region
        screen = session.screen
        typed: dict[int, str | None] = {}
        for target, column in region.position.items():
            spot = step.on.known.place(target)
            own = next(one for one in collector.rows.columns if one[0] == column)
            assert spot is not None
            assert last is not None
            start = screen.position(spot.row, spot.column)
            text = last[own[1] - 1][own[2]:own[2] + own[3]].strip()
            typed[start] = text
            session.fill({start: text}, {start: f"{step.on.name}, {target}"})
        since = session.records
        key = region.press or "Enter"
        await self._press(key)
        await self._await(
            step.again, since, screen, step.move.seconds, f"{place}, next page", screens, over
        )
        self._note("task", screen, step.on.name, typed, key, step.on.name)

    async def _open(self, collector: Collector, number: int, screens: Sequence[Recogniser], over: Sequence[Recogniser], step: Step,
                    place: str) -> Values:
        """A row's details: mark it, read the screen that comes, and return."""
        session, opens, detail = self._session, collector.rows.region.opens, collector.detail
        assert opens is not None
        assert detail is not None
        screen = session.screen
        start = screen.position(number, opens.column)
        if opens.value:
            session.fill({start: opens.value}, {start: f"{step.on.name}, row {number}"})
        else:
            session.place_cursor(start)
        since = session.records
        await self._press(opens.press)
        await self._await([(Turn(screen=detail.name), detail, None)], since, screen, step.move.seconds, f"{place}, details", screens, over)
        self._note("task", screen, step.on.name, {start: opens.value} if opens.value else {}, opens.press, detail.name)
        read = {one.name: self._value(one.of, session.screen) for one in collector.detail_reads}
        since, before = session.records, session.screen
        await self._press(opens.back)
        await self._await(
            step.again, since, before, step.move.seconds, f"{place}, details", screens, over
        )
        self._note("task", before, detail.name, {}, opens.back, step.on.name)
        return {name: value for name, value in read.items() if value is not None}


def _turn(turns: Sequence[tuple[Turn, Recogniser, int | None]], screen: Screen) -> tuple[Turn, int | None] | None:
    """The first of the expected that the screen is, with its message where it asks for one."""
    for turn, recogniser, following in turns:
        if recogniser.matches(screen) and (not turn.message or turn.message.lower() in recogniser.message(screen).lower()):
            return turn, following
    return None
