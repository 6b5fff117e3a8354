"""From a copybook to a called operation by two commands; and a change of what is below, told with who is affected."""

import json
import sqlite3
import subprocess
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

import pytest

from bricola.client import Client, ProblemError
from tests.conftest import Demo, copied_demo, stop_demo

VECTORS = Path(__file__).parents[1] / "core" / "vectors" / "copybooks"
TOLL_AREA = Path(str(files("bricola.demo.programs"))) / "TOLLAREA.cpy"
PASSAGE = ("vesselReg=LM1234", "lockNo=7", "lengthM=24.80", "beamM=4.55", "draughtM=1.63", "cargoTonnes=120.0")


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "programs")
    yield running
    stop_demo(running)


def ok(own: Demo, *words: str, status: int = 0, stdin: str = "") -> str:
    done: subprocess.CompletedProcess[str] = own.run(*words, stdin=stdin)
    assert done.returncode == status, done.stdout + done.stderr
    return done.stdout


def test_a_copybook_is_laid_out_and_its_records_are_read_and_written(own: Demo, tmp_path: Path) -> None:
    copybook = str(VECTORS / "LKPASSG.cpy")
    layout = json.loads(ok(own, "copybooks", "layout", copybook, "--json"))  # with the member that lies beside it
    assert (layout["record"], layout["length"], layout["items"][3]["path"]) == ("PASSAGE-SHEET", 87, "PASSAGE-SHEET.START-POINT.START-MILE")
    assert "INDEXED" not in ok(own, "copybooks", "layout", copybook)
    case = json.loads((VECTORS / "vectors" / "LKPASSG.json").read_text())["runs"][0]["cases"][0]
    for held in case["bytes"]:
        values = ok(own, "copybooks", "decode", copybook, f"hex:{held['hex']}", "--code-page", held["codepage"])
        assert json.loads(values) == case["values"]
        file = tmp_path / "values.json"
        file.write_text(values)
        assert ok(own, "copybooks", "encode", copybook, str(file), "--code-page", held["codepage"]).strip() == held["hex"]
    refused = own.run("copybooks", "decode", copybook, "hex:00", "--code-page", "cp037")
    assert "The record ends too early" in refused.stderr


def test_two_commands_and_a_deployment_make_an_operation_of_a_program(own: Demo) -> None:
    assert "TOLLCALC" in ok(own, "programs", "list", "live", "toll-office")
    assert "332 bytes" in ok(own, "programs", "list", "live", "toll-office", "toll")
    ok(own, "programs", "draft", "season-toll", "toll-office", str(TOLL_AREA), "--calls", "TOLLCALC", "--only-reads",
       "--out", "TRP-TOTAL", "--out", "TRP-LINE", "--service", "SeasonToll", "--operation", "Price", "--role", "lock-desk")
    ok(own, "release", "SeasonToll", "--notes", "First")
    ok(own, "deploy", "SeasonToll", "rehearsal")
    told = ok(own, "call", "rehearsal", "SeasonToll", "Price", *PASSAGE)
    assert "60.78" in told
    assert "LARKMERE GATE" in told
    assert "TOLL WORKED OUT" not in told  # what was not chosen does not come out
    checked = ok(own, "check", "rehearsal", "toll-office")
    assert "program: TOLLCALC" in checked


def test_a_changed_copybook_says_what_moves_and_who_is_affected(own: Demo, tmp_path: Path) -> None:
    newer = tmp_path / "TOLLAREA.cpy"
    newer.write_text(TOLL_AREA.read_text().replace("TRP-MESSAGE             PIC X(40)", "TRP-MESSAGE             PIC X(60)"))
    told = ok(own, "copybooks", "take", str(newer), "--as", "toll-area", "--show")
    assert "longer" in told
    assert "TollCalculator.CalculateToll" in told
    assert "toll-calculator.a-laden-barge" in told
    ok(own, "copybooks", "take", str(newer), "--as", "toll-area", status=1, stdin="n\n")
    assert "saved toll-area" in ok(own, "copybooks", "take", str(newer), "--as", "toll-area", "--yes")
    gates = own.run("review", "TollCalculator", "live").stdout  # the host still takes the shorter area
    assert "takes other areas than the copybooks lay out" in own.run("impact", "toll-calc").stdout + gates
    assert "332 bytes" in own.run("impact", "toll-calc", "--in", "live").stdout
    ok(own, "copybooks", "take", str(TOLL_AREA), "--as", "toll-area", "--yes")
    assert "All of it fits" in ok(own, "impact", "toll-calc", "--in", "live")


def test_a_column_that_went_is_told_with_the_operations_that_need_it(own: Demo) -> None:
    assert "All of it fits" in ok(own, "impact", "registry", "--in", "rehearsal")
    with sqlite3.connect(own.data / "rehearsal" / "registry.db") as db:
        db.execute("ALTER TABLE vessel RENAME COLUMN notes TO remarks")
    told = json.loads(ok(own, "impact", "registry", "--in", "rehearsal", "--json", status=1))
    hurt = {f"{one['service']}.{one['operation']}" for one in told["operations"] if one["problems"]}
    assert {"VesselRegistry.GetVessel", "PassageBooking.BookPassage"} <= hurt
    assert "TonnageReport.GetTonnage" not in hurt
    with sqlite3.connect(own.data / "rehearsal" / "registry.db") as db:
        db.execute("ALTER TABLE vessel RENAME COLUMN remarks TO notes")
    ok(own, "impact", "registry", "--in", "rehearsal")


def test_a_contract_that_says_something_else_is_told_with_the_operations_that_follow_it(own: Demo, tmp_path: Path) -> None:
    folder = tmp_path / "defs"
    ok(own, "export", str(folder))
    file = next(one for one in folder.rglob("river-board.yaml") if one.read_text().startswith("contract:"))
    text = file.read_text()
    assert 'name="place"' in text
    file.write_text(text.replace('name="place"', 'name="stretch"'))
    ok(own, "apply", str(folder), "--yes")
    ok(own, "release", "GaugeReadings", "--notes", "As it was once", "--consent", "to plant a change")
    deployed = own.run("deploy", "GaugeReadings", "rehearsal", "--consent", "to plant a change", "--overrule", "to plant a change")
    assert deployed.returncode == 0, deployed.stderr
    told = own.run("impact", "river-board", "--in", "rehearsal").stdout
    assert "place" in told
    assert "GaugeReadings.GetLevel" in told


def test_areas_are_named_where_files_do_not_tell_them_apart(own: Demo, tmp_path: Path) -> None:
    for folder, item in (("a", "S-LOCK PIC 99"), ("b", "S-GATE PIC X")):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "SIDE.cpy").write_text(f"       01  SIDE.\n           05  {item}.\n")
    a, b = str(tmp_path / "a" / "SIDE.cpy"), str(tmp_path / "b" / "SIDE.cpy")
    draft = ("programs", "draft", "sides", "toll-office", "--show")
    twice = ok(own, *draft, a, a)
    assert "  side-2: {copybook: side}" in twice
    assert "side2Lock: {item: SIDE-2.SIDE.S-LOCK" in twice
    named = ok(own, *draft, f"upper={a}", f"lower={b}", "--use", "lower=out")
    assert "  upper: {copybook: side}\n  lower: {copybook: lower, use: out}" in named
    assert "Two areas have the same name." in own.run(*draft, f"upper={a}", f"upper={b}").stderr
    assert "cannot be read" in own.run(*draft, f"upper={a}x").stderr
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        with pytest.raises(ProblemError, match="Two copybooks that differ have the same name"):
            client.draft_program("sides", "toll-office", "SIDES", [{"name": "area", "copybook": "side"}], [
                {"name": "side", "text": Path(a).read_text()}, {"name": "side", "text": Path(b).read_text()}])
