"""Playing walks on a session: recognise, read, fill, press, wait for what the host says.

Strategy: nothing is typed before the keyboard is open and the screen is the one that the move is made on. How it is waited, and what of a
host's silence is taken for an answer, says `hands`; how lists are read, `collecting`.
"""

from collections.abc import Callable, Sequence

from bricola.core.calls.call import out_of_time
from bricola.core.definitions.engines.terminals import Turn
from bricola.core.kinds.screens.collecting import ListWalk
from bricola.core.kinds.screens.hands import PATIENCE, Hands, Stage
from bricola.core.kinds.screens.recognise import Recogniser, recognise
from bricola.core.kinds.screens.sessions import ScreenError, TerminalSession, picture_of, unexpected
from bricola.core.kinds.screens.walks import PASSWORD, USER, CompiledFlow, HostWays, Step, Walk
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Values
from bricola.core.terminals.screen import Screen

_MOST_STEPS = 1000  # of one walk: moves may go round in a circle


class Runner:
    """One session's walks. `clock` gives monotonic seconds; after `deadline` on it no key is pressed and nothing is waited for."""

    def __init__(self, session: TerminalSession, ways: HostWays, clock: Callable[[], float], deadline: float | None = None) -> None:
        self._session, self._ways, self._clock, self._deadline = session, ways, clock, deadline
        self._hands = Hands(session, ways, clock, deadline)

    # the stages

    async def sign_on(self, user: str, password: str, seconds: float) -> None:
        """From the first screen to the start screen. Raises ProblemError when the host refuses."""
        ways = self._ways
        first = [ways.start, *((ways.sign_on.steps[0].on,) if ways.sign_on else ())]
        stage = Stage("sign-on", ways.screens, ways.over)
        await self._hands.arrive(first, seconds, stage)
        if not ways.start.matches(self._session.screen):
            await self._walk(ways.sign_on, {USER: user, PASSWORD: password}, {}, ways.screens, ways.over)
            if not ways.start.matches(self._session.screen):
                seen = recognise(ways.screens, self._session.screen)
                raise unexpected([ways.start], seen.name if seen is not None else "", self._session.screen, "sign-on")
        self._session.way_back = None

    async def sign_off(self) -> None:
        if self._ways.sign_off and self._hands.stands_on([self._ways.start], self._ways.over):
            await self._walk(self._ways.sign_off, {}, {}, self._ways.screens, self._ways.over)

    async def play(self, flow: CompiledFlow, values: Values) -> Values:
        """The task of a flow, from the start screen on. Raises DeclaredFaultError, ProblemError. The session is left where the task
        ended, and knows its way back."""
        outputs: Values = {}
        await self._hands.arrive([flow.ways.start], 0.0, Stage("start", flow.ways.screens, flow.over))
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
        session, ways, hands = self._session, self._ways, self._hands
        way, session.way_back = session.way_back, None
        try:
            await hands.settle(PATIENCE if not session.screen.locked else 10.0)
            if way and way.steps[0].on.matches(session.screen):
                await self._walk(way, {}, {}, screens or ways.screens, ways.over)
            for attempt in range(ways.host.leave.most):
                if hands.stands_on([ways.start], ways.over):
                    return True
                if session.screen.refused:
                    session.reset()
                over = hands.covering([ways.start], ways.over)
                keys = ways.host.leave.press
                if session.screen.locked:
                    return False
                since, before = session.records, session.screen
                key = over.known.dismiss if over else keys[attempt % len(keys)]
                await hands.press(key)
                if not await session.heard(since, 10.0):
                    return False
                await hands.changed(before)
                names = [recognise(screens or ways.screens, one) for one in (before, session.screen)]
                if over is None:
                    hands.note("back", before, names[0].name if names[0] else "", {}, key, names[1].name if names[1] else "")
        except ProblemError:
            return False
        return hands.stands_on([ways.start], ways.over)

    async def keep_alive(self, seconds: float) -> bool:
        """Make the host see somebody: the key for that on the start screen, else a question of the protocol."""
        session, key = self._session, self._ways.host.keep_alive
        if not key:
            return await session.alive(seconds)
        try:
            since = session.records
            await self._hands.press(key)
            await self._hands.until([(Turn(screen=self._ways.start.name), self._ways.start, None)], since, None, seconds,
                                    Stage("keep-alive", self._ways.screens, self._ways.over))
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
            stage = Stage(f"{walk.stage}, move {step.move.name or step.number}", screens, over, walk.stage)
            await self._hands.arrive([step.on], 0.0, stage)
            turn, at = await self._make(step, values, outputs, stage)
            if turn is None:  # it only read
                at = step.number if step.number < len(walk.steps) else None
                continue
            if turn.refused:
                raise self._refused(turn, screens)
            if turn.fault or turn.end:
                return turn
        raise ProblemError(Problem("screen.circle", "The walk goes round without end.", Kind.BACKEND, place=walk.stage,
                                   expected=f"at most {_MOST_STEPS} moves"))

    async def _make(self, step: Step, values: Values, outputs: Values, stage: Stage) -> tuple[Turn | None, int | None]:
        session, hands = self._session, self._hands
        screen = session.screen
        for read in step.reads:
            outputs[read.name] = self._value(read.of, screen)
            if outputs[read.name] is None:
                del outputs[read.name]
        if step.collector is not None:
            collect = step.collector.collect
            outputs[collect.into], complete = await ListWalk(hands, step, step.collector, stage).rows(values)
            if collect.complete:
                outputs[collect.complete] = complete
            screen = session.screen
        if not step.turns:
            return None, None
        if screen.refused:
            session.reset()
        # What a caller leaves out is not typed: what the host put there stays.
        made = [(one, screen.position(one.place.row, one.place.column), one.make(values)) for one in step.fills]
        texts = {at: text for _, at, text in made if text is not None}
        if texts:
            session.fill(texts, {at: f"{step.on.name}, {one.place.name}" for one, at, _ in made})
        if step.cursor is not None:
            session.place_cursor(screen.position(step.cursor.row, step.cursor.column))
        secret = {at for one, at, _ in made if one.secret}
        since = session.records
        await hands.press(step.move.press)
        turn, following = await hands.until(step.turns, since, screen, step.move.seconds, stage)
        hands.note(stage.name, screen, step.on.name, {at: None if at in secret else text for at, text in texts.items()}, step.move.press,
                   turn.screen)
        return turn, following

    def _value(self, read: Callable[[Screen], object], screen: Screen) -> object:
        try:
            return read(screen)
        except ProblemError as error:
            raise ScreenError(error.problem, picture_of(screen, "where a value could not be read")) from None

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
