"""Reading a list over all its pages, and knowing whether it was read to its end.

Strategy: that a list is complete is said by evidence only: a mark of its end; the mark that it goes on gone from a page that is whole; a
page without paging that is not full; or the same page after the key was pressed twice with the keyboard open. A limit that was reached, and
a page that shows neither of its marks, leave it open.
"""

from collections.abc import Callable
from dataclasses import dataclass

from bricola.core.definitions.engines.terminals import Turn
from bricola.core.kinds.screens.hands import Hands, Stage, Turns
from bricola.core.kinds.screens.sessions import ScreenError, picture_of
from bricola.core.kinds.screens.walks import Collector, Step
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Values
from bricola.core.terminals.screen import Screen

_AGAIN = 2.0  # seconds that the host is given when it is asked for the same page a second time


@dataclass
class ListWalk:
    """One reading of the list of a step."""

    hands: Hands
    step: Step
    collector: Collector
    stage: Stage

    async def rows(self, values: Values) -> tuple[list[Values], bool]:
        """Rows of all pages, up to the most; and whether the end was reached."""
        rows, most = self.collector.rows, self.collector.most(values)
        region = rows.region
        found: list[Values] = []
        last_line, seen, asked_twice = None, None, False
        for page in range(self.collector.collect.most_pages):
            await self._whole_page()
            screen = self.hands.session.screen
            lines = rows.lines(screen)
            texts = [text for _, text in lines]
            if page and texts == seen:  # the same page again
                if not region.until_same or asked_twice:
                    return found, region.until_same and asked_twice and not screen.locked
                asked_twice = True
                await self._next_page(last_line, _AGAIN)
                continue
            seen, asked_twice = texts, False
            if region.position and texts and texts[0] == last_line:
                lines = lines[1:]
            ended = self._ended(screen, len(texts))
            cut = bool(region.ends and region.goes_on) and not ended and not rows.goes_on(screen)
            left = most - len(found)
            found += [await self._row(number, text) for number, text in lines[:left]]
            if len(lines) > left or (len(lines) == left and not ended):
                return found, False
            if ended or cut or not (region.press or region.position):
                return found, ended  # of a page that is cut off, the next one would not be the one that follows
            last_line = texts[-1] if texts else None
            if region.position and last_line is None:
                return found, region.until_same
            await self._next_page(last_line, self.step.move.seconds)
        return found, False

    def _ended(self, screen: Screen, count: int) -> bool:
        rows, region = self.collector.rows, self.collector.rows.region
        if rows.ends(screen):
            return True
        if region.press or region.position:  # where a page may show either of two marks and shows none, nothing is known
            return bool(region.goes_on) and not region.ends and not rows.goes_on(screen)
        return not region.ends and count < rows.room

    async def _whole_page(self) -> None:
        """Wait until a page shows that all of it is written: by a mark, by being full, or by the host's silence."""
        hands, rows = self.hands, self.collector.rows
        region, session = rows.region, hands.session
        either = bool(region.ends and region.goes_on)  # then one of them has to come
        deadline = hands.clock() + self.step.move.seconds
        while True:
            screen = session.screen
            full = not region.goes_on and len(rows.lines(screen)) >= rows.room
            if rows.ends(screen) or rows.goes_on(screen) or (full and not either):
                return
            left = deadline - hands.clock()
            patience = left if either else min(left, hands.quiet)
            if patience <= 0 or not await session.heard(session.records, patience):
                return
            await hands.settle(max(0.0, deadline - hands.clock()))

    async def _row(self, number: int, text: list[str]) -> Values:
        row = self.read(lambda: self.collector.rows.values(text))
        if self.collector.detail is not None:
            row |= await self._details(number)
        return row

    def read(self, make: Callable[[], Values]) -> Values:
        try:
            return make()
        except ProblemError as error:
            raise ScreenError(error.problem, picture_of(self.hands.session.screen, "where a value could not be read")) from None

    async def _next_page(self, last: list[str] | None, seconds: float) -> None:
        session, rows, step = self.hands.session, self.collector.rows, self.step
        region = rows.region
        if session.screen.refused:
            session.reset()
        screen = session.screen
        typed: dict[int, str | None] = {}
        for target, column in region.position.items():
            spot = step.on.known.place(target)
            own = next(one for one in rows.columns if one[0] == column)
            assert spot is not None
            assert last is not None
            start = screen.position(spot.row, spot.column)
            text = last[own[1] - 1][own[2]:own[2] + own[3]].strip()
            typed[start] = text
            session.fill({start: text}, {start: f"{step.on.name}, {target}"})
        key = region.press or "Enter"
        await self._turn(key, step.again, typed, screen, (step.on.name, step.on.name), seconds, "next page")

    async def _details(self, number: int) -> Values:
        """A row's details: mark it, read the screen that comes, and return."""
        session, opens, detail, step = self.hands.session, self.collector.rows.region.opens, self.collector.detail, self.step
        assert opens is not None
        assert detail is not None
        screen, seconds = session.screen, step.move.seconds
        start = screen.position(number, opens.column)
        if opens.value:
            session.fill({start: opens.value}, {start: f"{step.on.name}, row {number}"})
        else:
            session.place_cursor(start)
        typed: dict[int, str | None] = {start: opens.value} if opens.value else {}
        await self._turn(opens.press, [(Turn(screen=detail.name), detail, None)], typed, screen, (step.on.name, detail.name), seconds,
                         "details")
        read = self.read(lambda: {one.name: one.of(session.screen) for one in self.collector.detail_reads})
        await self._turn(opens.back, step.again, {}, session.screen, (detail.name, step.on.name), seconds, "details")
        return {name: value for name, value in read.items() if value is not None}

    async def _turn(self, key: str, turns: Turns, typed: dict[int, str | None], before: Screen,
                    names: tuple[str, str], seconds: float, words: str) -> None:
        hands, stage = self.hands, self.stage
        since = hands.session.records
        await hands.press(key)
        await hands.until(turns, since, before, seconds, Stage(f"{stage.place}, {words}", stage.screens, stage.over, stage.name))
        hands.note(stage.name, before, names[0], typed, key, names[1])
