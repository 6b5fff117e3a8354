"""Hosts at their own pace: what they write late, in pieces, or over a screen. The clock is the test's."""

from typing import Any

import pytest

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.sessions import Quiet, ScreenError
from bricola.core.kinds.screens.shape import resolve_flow
from bricola.core.kinds.screens.walks import CompiledFlow, compile_walks
from bricola.core.terminals import telnet
from bricola.core.terminals.host import Part
from bricola.core.terminals.host3270 import write_screen
from tests.core.test_lists import BACKEND, COLUMNS, ENDS, FLOW, HOME, RECORD, SERVICE, UNLOCK, Script, codes, line, shown_list

Piece = tuple[float, bytes]  # seconds after the key, and the record
MORE = "press: PF8, goes_on: [{row: 12, column: 60, text: More}]"
BOTH = "press: PF8, goes_on: [{row: 12, column: 60, text: More}], ends: [{row: 12, column: 60, text: END}]"
SAME = "press: PF8, until_same: true"
NOTICE = "    notice: {marks: [{row: 8, column: 20, text: NOTICE}], dismiss: Enter}\n"


class Timed(Script):
    """A session whose host says records at moments of its own. Nothing waits: the clock is set forward."""

    def __init__(self, first: bytes, *answers: list[Piece], quiet: Quiet | None = None) -> None:
        super().__init__(first)
        self.now, self.pieces, self.timed = 1000.0, list[Piece](), [list(one) for one in answers]
        self.quiet = quiet or Quiet()
        self.keys: list[str] = []

    def clock(self) -> float:
        return self.now

    async def press(self, key: str) -> None:
        self.terminal.press(key)
        self.keys.append(key)
        self.pieces = sorted([*self.pieces, *((self.now + after, data) for after, data in (self.timed.pop(0) if self.timed else []))])

    async def heard(self, since: int, seconds: float) -> bool:
        until = self.now + seconds
        while self.records <= since:
            if not self.pieces or self.pieces[0][0] > until:
                self.now = until
                return False
            self.now, data = max(self.now, self.pieces[0][0]), self.pieces.pop(0)[1]
            self.terminal.receive(telnet.record(data))
        return True


def flow_of(region: str, backend: str = BACKEND, seconds: str = "") -> CompiledFlow:
    text = FLOW.replace("REGION", region).replace("press: Enter, expect", f"press: Enter, {seconds}expect")
    definitions = Catalogue(read_definition(one) for one in (backend, text, SERVICE, RECORD))
    definition = definitions.get(ScreenFlowDefinition, "stock")
    assert definition is not None
    source = resolve_flow(definition, definitions)
    return compile_walks(definition, source.host, source.screens, source.inputs, source.outputs)


def page(first: int, count: int, **marks: Any) -> bytes:
    return write_screen(shown_list([line(one) for one in codes(first + count - 1)[first - 1:]], **marks).parts)


def rows_only(first: int, count: int, at: int) -> bytes:
    """A further piece of a page: rows written onto what is there, without erasing it."""
    whole = write_screen(tuple(Part(row, 4, line(one)) for row, one in enumerate(codes(first + count - 1)[first - 1:], at)))
    return b"\xf1" + whole[1:]  # Write, where the first piece was Erase/Write


async def played(flow: CompiledFlow, session: Timed, most: int = 100) -> tuple[list[str], bool]:
    answer = await Runner(session, flow.ways, session.clock).play(flow, {"most": most})
    return [one["code"] for one in answer["item"]], answer["complete"]


async def test_a_page_that_comes_late_and_after_the_keyboard_is_waited_for() -> None:
    for region in (ENDS, MORE, BOTH, SAME):
        session = Timed(write_screen(HOME.parts), [(0.1, UNLOCK), (1.6, page(1, 6, more=True))],
                        [(0.1, UNLOCK), (2.0, page(7, 3, end=True))], [(0.1, UNLOCK)], [(0.1, UNLOCK)])
        assert await played(flow_of(f"{COLUMNS}, {region}"), session) == (codes(9), True), region


async def test_a_blank_screen_is_no_answer_yet() -> None:
    blank = write_screen(())
    session = Timed(write_screen(HOME.parts), [(0.1, blank), (3.0, page(1, 4, end=True))])
    assert await played(flow_of(f"{COLUMNS}, {ENDS}"), session) == (codes(4), True)


async def test_what_is_written_in_pieces_is_read_whole() -> None:
    """The first piece opens the keyboard and has three of six rows; how late the others come was learned when the walk was filmed."""
    first = [(0.1, page(1, 3)), (0.6, rows_only(4, 3, 8))]
    last = [(0.1, page(7, 1)), (0.5, rows_only(8, 1, 6)), (0.9, rows_only(9, 1, 7))]
    filmed = Timed(write_screen(HOME.parts), first, last, [(0.1, UNLOCK)], [(0.1, UNLOCK)])
    filmed.quiet.learn(0.5)
    assert filmed.quiet.known
    assert 0.5 < filmed.quiet.seconds < 1.5
    codes_read, complete = await played(flow_of(f"{COLUMNS}, {SAME}"), filmed)
    assert (codes_read, complete) == (codes(9), True)
    unheard = Timed(write_screen(HOME.parts), [(0.1, page(1, 3)), (0.5, rows_only(4, 2, 8))])  # a usual pace is waited for unlearned
    assert await played(flow_of(f"{COLUMNS}, {MORE}"), unheard) == (codes(5), True)


async def test_a_page_without_either_mark_is_waited_for_and_never_called_the_last() -> None:
    slow = [(0.1, page(1, 3)), (1.8, page(1, 5, end=True))]
    assert await played(flow_of(f"{COLUMNS}, {BOTH}"), Timed(write_screen(HOME.parts), slow)) == (codes(5), True)
    cut = Timed(write_screen(HOME.parts), [(0.1, page(1, 3))], [(0.1, page(7, 2, end=True))])
    rows, complete = await played(flow_of(f"{COLUMNS}, {BOTH}"), cut)
    assert (rows, complete, cut.keys) == (codes(3), False, ["Enter"])  # the next page would leave rows out without a word


async def test_complete_is_said_by_evidence_only() -> None:
    full = flow_of(COLUMNS)  # one page, no paging
    assert await played(full, Timed(write_screen(HOME.parts), [(0.1, page(1, 6))])) == (codes(6), False)
    assert await played(full, Timed(write_screen(HOME.parts), [(0.1, page(1, 5))])) == (codes(5), True)
    # The same page once is a slow host; twice with an open keyboard is the end.
    slow = Timed(write_screen(HOME.parts), [(0.1, page(1, 6))], [(0.1, UNLOCK)], [(0.5, page(7, 2))], [(0.1, UNLOCK)], [(0.1, UNLOCK)])
    assert await played(flow_of(f"{COLUMNS}, {SAME}"), slow) == (codes(8), True)
    assert slow.keys == ["Enter", "PF8", "PF8", "PF8", "PF8"]
    limit = Timed(write_screen(HOME.parts), [(0.1, page(1, 6, more=True))])
    assert await played(flow_of(f"{COLUMNS}, {MORE}"), limit, most=6) == (codes(6), False)


async def test_what_covers_a_screen_is_taken_away_before_it_is_read() -> None:
    """A window in the middle leaves the marks of the list to be seen, and hides rows of it."""
    backend = BACKEND.replace("  leave:", NOTICE + "  leave:")
    flow = flow_of(f"{COLUMNS}, {ENDS}", backend)
    assert [one.name for one in flow.over] == ["notice"]

    def covered(data: bytes) -> bytes:
        window = write_screen(tuple(Part(row, 4, text) for row, text in ((7, "+----------------------------+"), (8, "|               NOTICE       |"),
                                                                        (9, "+----------------------------+"))))
        return b"\xf1" + window[1:]

    first, second = page(1, 6, more=True), page(7, 3, end=True)
    session = Timed(write_screen(HOME.parts), [(0.1, first), (0.1, covered(first))], [(0.1, first)], [(0.1, second), (0.1, covered(second))],
                    [(0.1, second)], quiet=Quiet(0.2, True))
    assert await played(flow, session) == (codes(9), True)
    assert session.keys == ["Enter", "Enter", "PF8", "Enter"]


async def test_another_known_screen_is_told_soon_and_a_strange_one_after_a_while() -> None:
    flow = flow_of(f"{COLUMNS}, {ENDS}")
    for screen, after in ((write_screen((Part(1, 2, "DETAIL"),)), 0.7), (write_screen((Part(1, 2, "NEWS"),)), 2.2)):
        session = Timed(write_screen(HOME.parts), [(0.1, screen)])
        with pytest.raises(ScreenError) as caught:
            await played(flow, session)
        assert caught.value.problem.code == "screen.unexpected"
        assert session.now - 1000 == pytest.approx(after, abs=0.2)


async def test_an_input_that_is_left_out_leaves_what_the_host_put_there_and_an_empty_one_empties() -> None:
    home = write_screen((Part(1, 2, "HOME"), Part(5, 2, "Option"), Part(5, 20, "7", protected=False, length=1, cursor=True, modified=True)))
    text = FLOW.replace("REGION", f"{COLUMNS}, {ENDS}").replace('{option: {value: "1"}}', "{option: {input: option}}").replace(
        "input: {", "input: {option: {type: string, required: false}, ")
    definitions = Catalogue(read_definition(one) for one in (BACKEND, text, SERVICE, RECORD))
    definition = definitions.get(ScreenFlowDefinition, "stock")
    assert definition is not None
    source = resolve_flow(definition, definitions)
    flow = compile_walks(definition, source.host, source.screens, source.inputs, source.outputs)
    for given, stands in (({}, "7"), ({"option": ""}, ""), ({"option": "2"}, "2")):
        session = Timed(home, [(0.1, page(1, 2, end=True))])
        typed: list[str] = []
        plain = session.press

        async def press(key: str, session: Timed = session, typed: list[str] = typed, plain: Any = plain) -> None:
            typed.append(session.screen.text(session.screen.position(5, 20), 1).strip("\x00 "))
            await plain(key)

        session.press = press  # type: ignore[method-assign]
        await Runner(session, flow.ways, session.clock).play(flow, {"most": 5, **given})
        assert typed[0] == stands, given
