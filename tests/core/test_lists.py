"""Scrolling lists in all their ways of paging, waiting on what a host says bit by bit, and hosts behind TLS."""

import asyncio
import datetime
import ssl
from pathlib import Path
from typing import Any

import pytest

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.terminals import Place, TextForm
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.recognise import text_at
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.sessions import Course, Quiet, ScreenError
from bricola.core.kinds.screens.shape import resolve_flow
from bricola.core.kinds.screens.texts import compile_reader, compile_writer
from bricola.core.kinds.screens.walks import CompiledFlow, compile_walks
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType
from bricola.core.terminals import telnet
from bricola.core.terminals.host import Part, Pressed
from bricola.core.terminals.host3270 import write_screen
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.terminal import TerminalSettings
from bricola.core.terminals.tn3270 import Tn3270
from bricola.demo.hosts.application import Accounts, Application, View, typed
from bricola.demo.hosts.ledger import Ledger
from bricola.demo.hosts.records import LedgerFile
from bricola.demo.hosts.server import Behaviour, HostServer
from tests.certificates import certificate
from tests.core.terminals import CATALOGUE, accounts, backend_of, demo_host, handler_of, pool_to, problem_of, scripted_host

HOME = View((Part(1, 2, "HOME"), Part(5, 2, "Option"), Part(5, 20, "", protected=False, length=1, cursor=True)))
BACKEND = """
backend: desk
engine: tn3270
terminal:
  start: home
  screens:
    home: {marks: [{row: 1, column: 2, text: HOME}], places: {option: {row: 5, column: 20, length: 1}}}
  leave: {press: PF12, most: 3}
"""
FLOW = """
screen-flow: stock
backend: desk
writes: false
input: {most: {type: int, default: 100}}
output: {item: {type: Item, repeats: true}, complete: {type: boolean}}
screens:
  list:
    marks: [{row: 1, column: 2, text: LIST}]
    places: {from: {row: 2, column: 20, length: 6}}
    lists: {items: {rows: [5, 10], REGION}}
  detail:
    marks: [{row: 1, column: 2, text: DETAIL}]
    places: {weight: {row: 4, column: 20, length: 10}}
moves:
- {on: home, fill: {option: {value: "1"}}, press: Enter, expect: [{screen: list}]}
- {on: list, collect: {list: items, into: item, most: most, most_pages: 30, complete: complete}, seconds: 2}
"""
SERVICE = "service: Stock\nnamespace: urn:larkmere:stock\noperations: {ListStock: {runs: screen-flow stock}}\n"
COLUMNS = "columns: {code: {column: 4, length: 6}, name: {column: 12, length: 12}}"
RECORD = "record: Item\nfields: {code: {type: string}, name: {type: string}}\n"


def catalogue(region: str, record: str = RECORD) -> Catalogue:
    return Catalogue(read_definition(text) for text in (BACKEND, FLOW.replace("REGION", region), SERVICE, record))


PATTERN = r"""
screen-flow: due
backend: desk
output: {due: {type: decimal, fraction: 2}, remarks: {type: string}}
screens:
  home:
    marks: [{row: 1, column: 2, text: HOME}]
    places:
      due: {row: 3, column: 1, pattern: 'EUR ([\d.,]+)'}
      remarks: {row: 1, column: 10, length: 40, rows: 2}
moves:
- {on: home, read: [due, remarks]}
"""


def codes(count: int) -> list[str]:
    return [f"C{number:04}" for number in range(1, count + 1)]


def shown_list(lines: list[str], more: bool = False, end: bool = False, extra: tuple[Part, ...] = ()) -> View:
    rows = [Part(row, 4, line) for row, line in enumerate(lines, 5) if line.strip()]
    return View((Part(1, 2, "LIST"), Part(2, 2, "From"), Part(2, 20, "", protected=False, length=6), *rows, *extra,
                 Part(12, 60, "More" if more else "END" if end else "")))


def line(code: str) -> str:
    return f"{code:<8}Item {code[1:]}"


def paging(count: int, size: int = 6, sticky: bool = False, endless: bool = False, subtotals: bool = False) -> Any:
    """An application with a list of so many items; `sticky` shows the last page again, `endless` begins anew."""
    def session(device: str) -> Application:
        pressed = yield HOME
        while True:
            page = 0
            while pressed.key != "PF12":
                items = codes(count)[page * size:(page + 1) * size]
                lines = [line(one) for one in items]
                if subtotals and lines:
                    lines = [*lines[:3], "        SUBTOTAL 3", *lines[3:]]
                last = (page + 1) * size >= count
                pressed = yield shown_list(lines, more=not last, end=last)
                if pressed.key == "PF8":
                    page = (0 if endless else page if sticky else page + 1) if last else page + 1
            pressed = yield HOME

    return session


def positioned(count: int, size: int = 6) -> Any:
    """A list that shows what comes from a code on, that code included."""
    def session(device: str) -> Application:
        pressed = yield HOME
        while True:
            start = ""
            while pressed.key != "PF12":
                rest = [one for one in codes(count) if one >= start]
                pressed = yield shown_list([line(one) for one in rest[:size]], end=len(rest) <= size)
                start = typed(pressed, 2, 20) or start
            pressed = yield HOME

    return session


def two_lined(count: int) -> Any:
    def session(device: str) -> Application:
        pressed = yield HOME
        while True:
            page = 0
            while pressed.key != "PF12":
                items = codes(count)[page * 3:page * 3 + 3]
                lines = [text for one in items for text in (f"{one}", f"        Item {one[1:]}")]
                pressed = yield shown_list(lines, end=page * 3 + 3 >= count)
                page += pressed.key == "PF8"
            pressed = yield HOME

    return session


def opening(count: int) -> Any:
    def session(device: str) -> Application:
        pressed = yield HOME
        while True:
            while pressed.key != "PF12":
                marks = tuple(Part(row, 2, "", protected=False, length=1) for row in range(5, 5 + count))
                pressed = yield View((*shown_list([line(one) for one in codes(count)], end=True).parts, *marks))
                chosen = next((row for row in range(5, 5 + count) if typed(pressed, row, 2) == "X"), None)
                if chosen is not None:
                    left = yield View((Part(1, 2, "DETAIL"), Part(4, 2, "Weight"), Part(4, 20, f"{chosen * 1000 / 3:,.2f}")))
                    assert left.key == "PF3"
            pressed = yield HOME

    return session


ENDS = "press: PF8, ends: [{row: 12, column: 60, text: END}]"


@pytest.mark.parametrize(("session", "region", "count", "complete"), [
    (paging(20), f"{COLUMNS}, {ENDS}", 20, True),
    (paging(20), f"{COLUMNS}, press: PF8, goes_on: [{{row: 12, column: 60, text: More}}]", 20, True),
    (paging(18, sticky=True), f"{COLUMNS}, press: PF8, until_same: true", 18, True),
    (paging(17, sticky=True), f"{COLUMNS}, press: PF8, ends: [{{row: 12, column: 60, text: NEVER}}]", 17, False),  # the mark never came
    (paging(9, size=5, subtotals=True), f"{COLUMNS}, skip: [{{text: SUBTOTAL}}], {ENDS}", 9, True),
    (positioned(20), f"{COLUMNS}, position: {{from: code}}, ends: [{{row: 12, column: 60, text: END}}]", 20, True),
    (two_lined(8), f"lines: 2, columns: {{code: {{column: 4, length: 6}}, name: {{column: 12, length: 12, line: 2}}}}, {ENDS}", 8, True),
    (paging(0), f"{COLUMNS}, {ENDS}", 0, True),
    (paging(4), COLUMNS, 4, True),  # a list of one page
], ids=["end mark", "goes on", "same page", "no mark", "subtotals", "position", "two lines", "empty", "one page"])
async def test_a_list_is_read_to_its_end(session: Any, region: str, count: int, complete: bool) -> None:
    definitions = catalogue(region)
    backend = definitions.find_backend("desk")
    assert backend is not None
    async with scripted_host(session) as port, pool_to(backend, port) as pool:
        answer = await handler_of("Stock", pool, definitions)({"most": 100})
    assert answer["item"] == [{"code": one, "name": f"Item {one[1:]}"} for one in codes(count)]
    assert answer["complete"] is complete


async def test_a_list_that_never_ends_is_stopped() -> None:
    definitions = catalogue(f"{COLUMNS}, {ENDS}".replace("END", "STOP"))
    backend = definitions.find_backend("desk")
    assert backend is not None
    async with scripted_host(paging(60, endless=True)) as port, pool_to(backend, port) as pool:
        call = handler_of("Stock", pool, definitions)
        by_rows = await call({"most": 100})
        by_pages = await call({"most": 100_000})
    assert (len(by_rows["item"]), by_rows["complete"]) == (100, False)
    assert (len(by_pages["item"]), by_pages["complete"]) == (30 * 6, False)


async def test_a_marked_row_is_opened_for_its_details() -> None:
    definitions = catalogue(COLUMNS + ", opens: {column: 2, value: X, screen: detail, read: weight, back: PF3}",
                            RECORD.replace("{type: string}}", "{type: string}, weight: {type: decimal, fraction: 2}}"))
    backend = definitions.find_backend("desk")
    assert backend is not None
    async with scripted_host(opening(4)) as port, pool_to(backend, port) as pool:
        answer = await handler_of("Stock", pool, definitions)({"most": 100})
    assert [(one["code"], str(one["weight"])) for one in answer["item"]] == [
        ("C0001", "1666.67"), ("C0002", "2000.00"), ("C0003", "2333.33"), ("C0004", "2666.67")]


async def test_a_screen_of_another_size_is_not_typed_into() -> None:
    seen: list[Pressed] = []

    def session(device: str) -> Application:
        pressed = yield HOME
        while True:
            seen.append(pressed)
            pressed = yield View((Part(1, 2, "HOME" if pressed.key == "PF12" else "WIDE"),), alternate=pressed.key != "PF12")

    definitions = catalogue(f"{COLUMNS}, {ENDS}")
    backend = definitions.find_backend("desk")
    assert backend is not None
    assert backend.terminal is not None
    wide = backend.model_copy(update={"terminal": backend.terminal.model_copy(update={"model": 5})})
    async with scripted_host(session) as port, pool_to(wide, port, max_size=1) as pool:
        problem = await problem_of(handler_of("Stock", pool, definitions)({"most": 5}))
    assert problem.code == "screen.unexpected"
    assert [one.key for one in seen][:1] == ["Enter"]
    assert not any(one.fields for one in seen[1:])


# waiting


class Script:
    """A session in memory whose host says prepared records, one each time somebody waits."""

    def __init__(self, first: bytes) -> None:
        self.terminal = Tn3270(TerminalSettings(extended=False))
        self.terminal.receive(telnet.record(first))
        self.course, self.quiet, self.way_back, self.user = Course(), Quiet(), None, ""
        self.coming: list[bytes] = []
        self.answers: list[list[bytes]] = []
        self.given_up = ""
        self.typed_while_locked = False

    @property
    def screen(self) -> Screen:
        return self.terminal.screen

    @property
    def records(self) -> int:
        return self.terminal.records

    def fill(self, texts: dict[int, str], places: dict[int, str]) -> None:
        self.typed_while_locked |= self.screen.locked
        self.terminal.fill(texts, places)

    def place_cursor(self, position: int) -> None:
        self.terminal.place_cursor(position)

    def reset(self) -> None:
        self.terminal.reset()

    async def press(self, key: str) -> None:
        self.typed_while_locked |= self.screen.locked
        self.terminal.press(key)
        self.coming = self.answers.pop(0)

    async def heard(self, since: int, seconds: float) -> bool:
        while self.records <= since:
            if not self.coming:
                return False
            self.terminal.receive(telnet.record(self.coming.pop(0)))
        return True

    async def alive(self, seconds: float) -> bool:
        return True

    async def ready(self) -> None:
        pass

    def give_up(self, why: str) -> None:
        self.given_up = why


def flow_of(region: str) -> CompiledFlow:
    definitions = catalogue(region)
    definition = definitions.get(ScreenFlowDefinition, "stock")
    assert definition is not None
    source = resolve_flow(definition, definitions)
    return compile_walks(definition, source.host, source.screens, source.inputs, source.outputs)


def without_unlock(data: bytes) -> bytes:
    """The same record with the keyboard left locked."""
    return data[:1] + b"\x40" + data[2:]


UNLOCK = b"\xf1\xc2"


async def test_nothing_is_typed_before_the_keyboard_opens_and_the_screen_is_known() -> None:
    flow = flow_of(f"{COLUMNS}, {ENDS}")
    home = write_screen(HOME.parts)
    first = write_screen(shown_list([line(one) for one in codes(6)], more=True).parts)
    second = write_screen(shown_list([line(one) for one in codes(9)[6:]], end=True).parts)
    session = Script(home)
    session.answers = [
        [without_unlock(write_screen((Part(1, 2, "PLEASE WAIT"),))), without_unlock(first), UNLOCK],  # unlocked by a record of its own
        [UNLOCK, second],  # the keyboard opens on the old page before the new one comes
    ]
    answer = await Runner(session, flow.ways, asyncio.get_running_loop().time).play(flow, {"most": 100})
    assert [one["code"] for one in answer["item"]] == codes(9)
    assert not session.typed_while_locked


async def test_a_host_that_says_nothing_is_given_up() -> None:
    flow = flow_of(f"{COLUMNS}, {ENDS}")
    session = Script(write_screen(HOME.parts))
    session.answers = [[without_unlock(write_screen((Part(1, 2, "PLEASE WAIT"),)))]]
    with pytest.raises(ScreenError) as caught:
        await Runner(session, flow.ways, asyncio.get_running_loop().time).play(flow, {"most": 100})
    assert caught.value.problem.code == "terminal.silent"
    assert caught.value.problem.found == "the keyboard still locked"
    assert session.given_up


# values


@pytest.mark.parametrize(
    ("base", "reading", "text", "value"),
    [
        ("decimal", {}, " 1,234.50CR ", "-1234.50"),
        ("decimal", {"decimal": "comma"}, "1.234,5-", "-1234.5"),
        ("decimal", {}, "(12.00)", "-12.00"),
        ("date", {"dates": "DD/MM/YY"}, "09/12/99", "1999-12-09"),
        ("date", {"dates": "YYYYMMDD"}, "20261124", "2026-11-24"),
        ("dateTime", {"dates": "DD.MM.YYYY HH:NN"}, "24.11.2026 10:41", "2026-11-24 10:41:00"),
        ("time", {"dates": "HHNN"}, "0805", "08:05:00"),
        ("boolean", {"codes": {"Y": "true", "N": "false"}}, "Y", "True"),
        ("int", {}, "0012", "12"),
        ("string", {"codes": {"U": "up"}}, "U", "up"),
    ],
)
def test_texts_of_a_screen_become_values_and_back(base: str, reading: dict[str, Any], text: str, value: str) -> None:
    kind = SimpleType(base)
    found = compile_reader(TextForm(**reading), Element("x", kind), "list, x")(text)
    assert str(found) == value
    if base in ("date", "dateTime", "time", "boolean", "string"):
        assert compile_writer(TextForm(**reading), kind)(found) == text


def test_areas_and_patterns_are_read() -> None:
    lines = ["REMARKS  Heritage vessel, no".ljust(80), "         night passage".ljust(80), "TOTAL DUE: EUR 1,204.35 BY 30/11".ljust(80)]
    screen = Screen(24, 80, "".join(lines) + " " * 80 * 21, (), 0, False)
    place = Place(name="remarks", row=1, column=10, length=40, rows=2)
    assert text_at(screen, place) == "Heritage vessel, no night passage"
    definitions = CATALOGUE | Catalogue([read_definition(text) for text in (BACKEND, PATTERN)])
    definition = definitions.get(ScreenFlowDefinition, "due")
    assert definition is not None
    source = resolve_flow(definition, definitions)
    flow = compile_walks(definition, source.host, source.screens, source.inputs, source.outputs)
    assert [str(one.of(screen)) for one in flow.task.steps[0].reads] == ["1204.35", "Heritage vessel, no night passage"]


def test_what_is_no_value_is_told_with_its_place() -> None:
    read = compile_reader(TextForm(), Element("toll", SimpleType("decimal")), "ledger, toll")
    for text, shown in (("N/A", '"N/A"'), ("   ", "nothing")):
        with pytest.raises(ProblemError) as caught:
            read(text)
        assert (caught.value.problem.code, caught.value.problem.place, caught.value.problem.found) == (
            "screen.value",
            "ledger, toll",
            shown,
        )
    assert compile_reader(TextForm(), Element("toll", SimpleType("decimal"), 0), "x")("  ") is None


# TLS and devices


async def test_a_host_behind_tls(registry: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    certificate_file, key_file = certificate(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate_file, key_file)
    server = HostServer(Ledger(LedgerFile(registry), Accounts(accounts()), datetime.datetime.now).session, False, Behaviour())
    port = await server.start(tls=context)
    values = {"registration": "LK-0412", "maxRows": 20}
    try:
        async with pool_to(backend_of("ledger"), port, tls="encrypt") as pool:
            assert len((await handler_of("LockLedger", pool)(dict(values)))["passage"]) == 20
        async with pool_to(backend_of("ledger"), port, tls="verify", min_size=0) as pool:
            problem = await problem_of(handler_of("LockLedger", pool)(dict(values)))
            assert problem.code == "backend.unreachable"
            assert "certificate verify failed" in problem.inner
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate_file))
        async with pool_to(backend_of("ledger"), port, tls="verify", host="localhost") as pool:
            assert len((await handler_of("LockLedger", pool)(dict(values)))["passage"]) == 20
    finally:
        await server.close()


async def test_each_session_has_a_device_of_the_list(registry: Path) -> None:
    async with demo_host("ledger", registry) as (server, port), \
            pool_to(backend_of("ledger"), port, devices=("LKA1", "LKA2"), min_size=2, max_size=3, timeout=20.0) as pool:
        call = handler_of("LockLedger", pool)
        await asyncio.gather(*(call({"registration": "LK-0412", "maxRows": 60}) for _ in range(4)))
        assert set(server.devices) == {"LKA1", "LKA2"}
        assert pool.backend_limit == 2
        pool.recycle()
        await call({"registration": "LK-0412", "maxRows": 1})
        assert set(server.devices) <= {"LKA1", "LKA2"}  # names come back with their sessions

