"""From a recording to a flow: guesses, marks, checks; films as offline hosts; and the alarm that names what moved."""

import asyncio
import contextlib
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import PoolSettings
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.screens.alarm import compare_shots, filled_places, inserted, nearest, sound
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.film import Film, Shot, plain_film, plain_screen, read_film, read_screen
from bricola.core.kinds.screens.guessing import columns_of, guess, guess_column, guess_pages, propose_name, widened
from bricola.core.kinds.screens.offline import FilmKind
from bricola.core.kinds.screens.recognise import compile_recogniser, differences
from bricola.core.kinds.screens.recording import (
    MarkedColumn,
    MarkedFault,
    MarkedList,
    MarkedPlace,
    Recording,
    check,
    draft,
    sample_inputs,
)
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.shape import resolve_flow
from bricola.core.kinds.screens.walks import CompiledFlow, compile_walks
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.problems import ProblemError
from bricola.core.terminals.host import Part
from bricola.core.terminals.screen import Screen
from bricola.demo.hosts import ledger as ledger_host
from bricola.demo.hosts.application import typed
from tests.core.terminals import CATALOGUE, backend_of, demo_host, handler_of, pool_to

VALUES = {"registration": "LK-0412", "maxRows": 45}


def compiled(definitions: Catalogue = CATALOGUE, name: str = "vessel-ledger") -> tuple[ScreenFlowDefinition, CompiledFlow]:
    definition = definitions.get(ScreenFlowDefinition, name)
    assert definition is not None
    source = resolve_flow(definition, definitions)
    return definition, compile_walks(definition, source.host, source.screens, source.inputs, source.outputs)


@pytest.fixture(scope="module")
def shots(registry: Path) -> list[Shot]:
    """A walk through the demo's ledger: three pages and back."""
    return asyncio.run(walk(registry))


async def walk(registry: Path) -> list[Shot]:
    _, flow = compiled()
    made: list[Shot] = []
    async with (
        demo_host("ledger", registry) as (_, port),
        pool_to(backend_of("ledger"), port, max_size=1) as pool,
        pool.session() as session,
    ):
        session.course.made = made
        player = Runner(session, flow.ways, time.monotonic)
        await player.play(flow, dict(VALUES))
        assert await player.go_back()
        session.course.made = None
    return made


def named(shots: list[Shot], name: str) -> Screen:
    return next(one.before for one in shots if one.known == name)


async def test_what_stands_at_a_place_is_guessed_from_label_and_content(shots: list[Shot]) -> None:
    enquiry, ledger = named(shots, "enquiry"), named(shots, "ledger")
    assert guess(enquiry, 5, 30, 7).name == "registration"
    due = guess(ledger, 5, 46, 12)
    assert (due.name, due.type, due.fraction) == ("due", "decimal", 2)
    last = guess(ledger, 6, 19, 8)
    assert (last.name, last.type, last.dates) == ("lastPassage", "date", "DD/MM/YY")
    assert guess(ledger, 12, 8, 8).name == "passedOn"  # by the heading, over the rows between
    assert propose_name(ledger) == "lkm210"


async def test_a_region_falls_into_columns_with_room_for_other_rows(shots: list[Shot]) -> None:
    ledger = named(shots, "ledger")
    spans = columns_of(ledger, 8, 22, 8, 54)
    guesses = [guess_column(ledger, range(8, 23), *one) for one in spans]
    assert [(one.name, one.type) for one in guesses] == [
        ("passedOn", "date"), ("lock", "string"), ("dir", "string"), ("tonnes", "decimal"), ("toll", "decimal")]
    wide = widened(spans, [one.type == "decimal" for one in guesses], 8, 54)
    assert wide[3][0] <= 31  # 1,109.31 stands on another page
    assert wide[3][0] + wide[3][1] - 1 == 41
    key, goes_on, ends = guess_pages(ledger, 22, "tn3270")
    assert (key, goes_on.text if goes_on else "", ends) == ("PF8", "More", None)


def recording(shots: list[Shot], **changes: Any) -> Recording:
    """What a person would have made of that walk, with other names for the screens."""
    names = {"enquiry": "lkm200", "ledger": "lkm210"}
    mine = tuple(replace(one, stage="", known=names.get(one.known, one.known), came=names.get(one.came, one.came)) for one in shots)
    made = Recording(
        "vessel-walk",
        "ledger",
        mine,
        (
            MarkedPlace("lkm200", "registration", "input", 5, 30, 7),
            MarkedPlace("lkm210", "name", "output", 4, 46, 30),
            MarkedPlace("lkm210", "due", "output", 5, 46, 12, "decimal", fraction=2),
        ),
        (
            MarkedList(
                "lkm210",
                "passage",
                8,
                22,
                (MarkedColumn("passedOn", 8, 8, "date", "DD/MM/YY"), MarkedColumn("toll", 43, 12, "decimal", fraction=2)),
                "PF8",
                guess_pages(named(shots, "ledger"), 22, "tn3270")[1],
                most=45,
            ),
        ),
        (MarkedFault("lkm200", "not on file", "VesselNotFound"),),
        writes=False,
    )
    return replace(made, **changes)


def published(made: list[Any]) -> Catalogue:
    service = "service: Walk\nnamespace: urn:larkmere:walk\noperations: {GetWalk: {runs: screen-flow vessel-walk}}\n"
    return CATALOGUE | Catalogue([*made, read_definition(service)])


async def test_a_recording_becomes_a_flow_that_runs(shots: list[Shot], registry: Path) -> None:
    host = backend_of("ledger").terminal
    assert host is not None
    made = draft(recording(shots), host)
    texts = [write_definition(one) for one in made]
    assert [read_definition(text) for text in texts] == made
    flow = next(one for one in made if isinstance(one, ScreenFlowDefinition))
    assert [(one.on, one.press) for one in flow.moves] == [("menu", "Enter"), ("lkm200", "Enter"), ("lkm210", "")]
    assert [(one.on, one.press) for one in flow.back] == [("lkm210", "PF12")]
    assert flow.screen("lkm210").marks[0].text == "LKM210"  # type: ignore[union-attr]
    assert sample_inputs(recording(shots)) == {"registration": "LK-0412"}
    async with demo_host("ledger", registry) as (_, port), pool_to(backend_of("ledger"), port) as pool:
        call = handler_of("Walk", pool, published(made))
        answer = await call({"registration": "LK-0412"})
        assert (len(answer["passage"]), answer["complete"]) == (45, False)
        assert (await call({"registration": "LK-0007"}))["complete"] is True
        with pytest.raises(DeclaredFaultError):
            await call({"registration": "LK-9999"})


async def test_an_unfinished_recording_is_told_what_it_lacks(shots: list[Shot]) -> None:
    host = backend_of("ledger").terminal
    assert host is not None
    whole = recording(shots)
    first = whole.shots[0].before
    secret = replace(first, fields=tuple(one._replace(hidden=True) if not one.protected else one for one in first.fields))
    cases = {
        "recording.empty": replace(whole, shots=()), "recording.start": replace(whole, shots=whole.shots[1:]),
        "recording.back": replace(whole, shots=whole.shots[:-1]), "recording.output": replace(whole, places=(), lists=()),
        "recording.screen": replace(whole, shots=(replace(whole.shots[0], came=""), *whole.shots[1:])),
        "recording.secret": replace(whole, shots=(replace(whole.shots[0], before=secret), *whole.shots[1:])),
    }
    assert check(whole, host) == []
    for code, one in cases.items():
        assert code in [problem.code for problem in check(one, host)], code
        with pytest.raises(ProblemError):
            draft(one, host)
    split = tuple(replace(one, known="other") if number == 3 else one for number, one in enumerate(whole.shots))
    same = replace(whole, shots=split)  # one screen under two names
    with pytest.raises(ProblemError, match=r"tells this screen|cannot be told"):
        draft(same, host)


async def test_a_film_survives_its_json_and_stands_in_for_the_host(shots: list[Shot]) -> None:
    film = Film("vessel-ledger", "rehearsal", {"registration": "LK-0412"}, tuple(shots))
    assert sound(film) == []
    assert read_film(plain_film(film)) == film
    assert read_screen(plain_screen(shots[0].before)) == shots[0].before
    _, flow = compiled()
    pool: Pool[Any] = Pool("film", FilmKind(film, flow.ways), (Endpoint(name="film"),), PoolSettings(), time.monotonic)
    call = handler_of("LockLedger", pool)
    for _ in range(2):
        answer = await call(dict(VALUES))
        assert (len(answer["passage"]), answer["complete"], answer["name"]) == (45, False, "Brave Teal")
    with pytest.raises(ProblemError) as caught:
        await call({**VALUES, "registration": "LK-0001"})
    problem = caught.value.problem
    assert (problem.code, problem.expected, problem.found) == ("film.no-such-move", '"LK-0412", Enter', '"LK-0001", Enter')
    await pool.close()


@pytest.mark.parametrize("broken", [{}, {"flow": "x", "environment": "y", "inputs": {}, "shots": [{"before": 3}], "screens": []}])
def test_what_is_no_film_is_refused(broken: dict[str, Any]) -> None:
    with pytest.raises((KeyError, IndexError, TypeError, ValueError)):
        read_film(broken)


async def test_the_alarm_names_what_moved(shots: list[Shot], registry: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The host's people moved the registration a row down, renamed the due amount, and the list begins elsewhere."""
    definition, flow = compiled()
    screens = {one.name: one.known for one in flow.screens}
    filled = filled_places((*flow.ways.host.sign_on, *definition.moves))
    assert compare_shots(shots, shots, screens, filled) == []

    def moved(*parts: Any, **options: Any) -> Part:
        row, column, text, *rest = (*parts, "")[:3] if len(parts) < 3 else parts
        if text == "Due  . . :":
            text = "Tolls. . :"
        if options.get("length") == 7 or text == "Registration . . :":
            row += 1
        return Part(row, column, text, *rest, **options)

    monkeypatch.setattr(ledger_host, "Part", moved)
    monkeypatch.setattr(ledger_host, "typed", lambda pressed, row, column: typed(pressed, row + (row == 5 and column == 30), column))
    live: list[Shot] = []
    async with (
        demo_host("ledger", registry) as (_, port),
        pool_to(backend_of("ledger"), port, max_size=1) as pool,
        pool.session() as session,
    ):
        session.course.made = live
        with pytest.raises(ProblemError) as caught:
            await Runner(session, flow.ways, time.monotonic).play(flow, dict(VALUES))
        judged = nearest(caught.value.expected, caught.value.screen)  # type: ignore[attr-defined]
        assert judged is not None
        assert [(one.screen, one.what) for one in judged[1]] == [("enquiry", "the input field")]
        # With a flow that knows the new place, the film tells the rest.
        screen = definition.screen("enquiry")
        assert screen is not None
        marks = tuple(one.model_copy(update={"row": 6}) if one.field else one for one in screen.marks)
        places = tuple(one.model_copy(update={"row": 6}) for one in screen.places)
        mended = definition.model_copy(
            update={"screens": (screen.model_copy(update={"marks": marks, "places": places}), definition.screens[1])}
        )
        _, again = compiled(CATALOGUE | Catalogue([mended]))
        player = Runner(session, again.ways, time.monotonic)
        assert await player.go_back()
        live.clear()
        await player.play(again, dict(VALUES))
    told = compare_shots(shots, live, screens, filled)
    assert ("ledger", "the label 'Due' of tollsDue", "it is gone") in [(one.screen, one.what, one.found) for one in told]
    assert ("enquiry", "the input registration", "the nearest input begins at row 6, column 30") in [
        (one.screen, one.what, one.found) for one in told]


def test_a_mark_that_moved_is_found_where_it_is_now() -> None:
    definition, _ = compiled()
    known = compile_recogniser(definition.screens[1])
    screen = Screen(24, 80, " LKM210".ljust(80) + " " * 80 * 8 + "       Passed on".ljust(80) + " " * 80 * 14, (), 0, False)
    assert not known.matches(screen)
    assert [(one.what, one.found) for one in differences(known.known, screen)] == [
        ("the text 'Passed on'", "it stands at row 10, column 8")]


async def walked(registry: Path) -> list[Shot]:
    """The walk again, on the host as it is now."""
    _, flow = compiled()
    live: list[Shot] = []
    async with demo_host("ledger", registry) as (_, port), pool_to(backend_of("ledger"), port, max_size=1) as pool, pool.session() as session:
        session.course.made = live
        with contextlib.suppress(ProblemError):
            await Runner(session, flow.ways, time.monotonic).play(flow, dict(VALUES))
    return live


async def test_the_alarm_reads_lists_too(shots: list[Shot], registry: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Columns that moved under their headings, headings that moved, and rows that begin elsewhere: each cuts texts without a word."""
    _, flow = compiled()
    screens = {one.name: one.known for one in flow.screens}
    plain, part = ledger_host._line, Part

    def told(live: list[Shot]) -> dict[str, str]:
        return {one.what: one.found for one in compare_shots(shots, live, screens, {}) if one.screen == "ledger"}

    assert told(await walked(registry)) == {}
    monkeypatch.setattr(ledger_host, "_line", lambda line: plain(line).replace("    ", "      ", 1))  # all but the date two to the right
    found = told(await walked(registry))
    assert set(found) >= {"the column toll of passages"}
    assert "goes over the left edge" in found["the column toll of passages"]
    monkeypatch.setattr(ledger_host, "_line", plain)
    monkeypatch.setattr(ledger_host, "Part", lambda row, column, *rest, **more: part(
        row, column, *(rest[0].replace("Lock  Dir", "Dir  Lock"),) if rest else (), *rest[1:], **more))
    found = told(await walked(registry))
    assert found["the heading 'Lock' over lockNumber of passages"] == "it stands at row 7, column 24"
    monkeypatch.setattr(ledger_host, "Part", lambda row, column, *rest, **more: part(
        row, column + (column == 8 and row >= 8 and more.get("colour") == "green"), *rest, **more))
    found = told(await walked(registry))
    assert found["the column passedOn of passages"] == "the nearest begin at column 9"


async def test_a_screen_that_was_put_in_between_is_told_as_such(shots: list[Shot]) -> None:
    _, flow = compiled()
    news = Screen(24, 80, " LKM900 News of the day".ljust(80) + " " * 80 * 23, (), 0, False)
    told = inserted([flow.screens[-1]], flow.screens, news)
    assert told is not None
    assert told.what == "a screen that was not there"
    assert "'LKM900 News of the day' comes before it" in told.found
    assert inserted([flow.screens[-1]], flow.screens, shots[-1].after) is None
