"""Test suites at the demo, as people and build servers run them."""

import json
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from lxml import etree

from bricola.client import Client
from bricola.core.problems import ProblemError
from tests.conftest import COMMAND, Demo, copied_demo, stop_demo
from tests.length import AT_LENGTH


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "suites")
    yield running
    stop_demo(running)


def test_the_suites_of_the_demo_pass_in_both_environments(own: Demo, tmp_path: Path) -> None:
    file = tmp_path / "junit.xml"
    rehearsal = own.run("test", "rehearsal", "--junit", str(file))
    assert rehearsal.returncode == 0, rehearsal.stdout
    root = etree.parse(str(file)).getroot()
    assert (root.get("failures"), root.get("skipped")) == ("0", "0")
    assert int(root.get("tests", "0")) >= 60
    live = own.run("test", "live")
    assert live.returncode == 0, live.stdout
    assert "such cases run only where nobody relies on what is stored" in live.stdout


def test_the_generated_tests_of_all_services_are_green(own: Demo) -> None:
    told = own.run("test", "rehearsal", "--generated", "--random", "10", "--seed", "4", "--json")
    found = json.loads(told.stdout)
    wrong = [(one["operation"], one["element"], one["rule"], one["problems"][0]["found"]) for one in found["results"]
             if one["outcome"] != "passed"]
    assert not wrong
    assert found["passed"] > 1000
    assert told.returncode == 0


def test_some_cases_are_chosen_and_a_failure_names_its_first_difference(own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        text = ("test-suite: wrong\nservice: VesselRegistry\ncases:\n  bad:\n    operation: GetVessel\n    values: {registration: LK-0412}\n"
                "    expects:\n      values: {vessel.name: Nobody's Boat}\n  good: {operation: GetVessel, values: {registration: LK-0412}}\n")
        client.apply({"suites/wrong.yaml": text})
        told = own.run("test", "rehearsal", "--suite", "wrong")
        assert told.returncode == 1
        assert "where     vessel.name" in told.stdout
        assert "expected  \"Nobody's Boat\"" in told.stdout
        assert "found     \"" in told.stdout
        assert own.run("test", "rehearsal", "-s", "wrong", "--only", "good").returncode == 0
        client.apply({"suites/wrong.yaml": text.replace("      values: {vessel.name: Nobody's Boat}", "      status: 200")})
        assert "bad: failed → ● passed" in own.run("test", "rehearsal", "-s", "wrong").stdout
        assert "wrong" in own.run("suites", "list").stdout
        assert "bad" in own.run("suites", "show", "wrong").stdout
        run = client.test_runs(suite="wrong")[0]
        assert "passed" in own.run("suites", "run", str(run["number"]), "--every").stdout
        with pytest.raises(ProblemError, match="no part nmae"):
            client.apply({"suites/wrong.yaml": text.replace("vessel.name", "vessel.nmae")})


@pytest.mark.parametrize(("words", "told"), [
    (("test", "nowhere"), "no environment"), (("test", "rehearsal", "NoService"), "no service"), (("test", "rehearsal", "-s", "none"), "no test-suite"),
    (("test", "rehearsal", "--seed", "3"), "Only generated tests are drawn"), (("test", "rehearsal", "--junit", "/no/such/folder/x.xml"), "cannot be written"),
])
def test_what_cannot_be_run_is_told(own: Demo, words: tuple[str, ...], told: str) -> None:
    found = own.run(*words)
    assert found.returncode == 1
    assert told in found.stderr


def test_ctrl_c_ends_a_run_cleanly(own: Demo) -> None:
    process = subprocess.Popen([COMMAND, "test", "rehearsal", "--generated", "--random", "200", "--json"], env=own.environ, stdout=subprocess.PIPE,
                               stderr=subprocess.PIPE)
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        while not any(one["state"] == "running" and one["passed"] for one in client.test_runs()):
            time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=60)
    found = json.loads(out)
    assert process.returncode == 130
    assert found["state"] == "stopped"
    assert 0 < len(found["results"]) < found["total"]


def kept(own: Demo, *words: str) -> str:
    """The case that a command kept, as text."""
    told = own.run(*words)
    assert "Kept as" in told.stdout, told.stderr
    return told.stdout


def test_what_was_called_is_kept_and_passes_again(own: Demo) -> None:
    call = ("call", "rehearsal", "VesselRegistry", "GetVessel")
    good = kept(own, *call, "registration=LK-0412", "--keep", "kept.good")
    assert "vessel.changeToken: {present: true}" in good
    assert "changes with every write" in good
    assert "fault: NotFound" in kept(own, *call, "registration=LK-9998", "--keep", "kept.none")
    assert "problem: value.pattern" in kept(own, *call, "registration=X", "--keep", "kept.wrong")
    assert "identity: none" in kept(own, *call, "registration=LK-0412", "--as", "anonymous", "--keep", "kept.nobody")
    again = own.run(*call, "registration=X", "--keep", "kept.wrong")
    assert "has a case wrong already" in again.stderr
    booked = kept(own, "call", "rehearsal", "PassageBooking", "BookPassage", "--sample", "--trial", "--keep", "kept-booking.trial")
    assert r"passageNumber: {matches: 'PS-\d{6}'}" in booked
    wrote = own.run("call", "rehearsal", "VesselRegistry", "SaveVessel", "--sample", "--keep", "kept.save")
    assert "must say how that is taken away" in wrote.stderr
    told = own.run("test", "rehearsal", "-s", "kept", "-s", "kept-booking")
    assert told.returncode == 0, told.stdout
    assert own.run("call", "rehearsal", "BerthDesk", "GetBerth", "code=ALDE-1", "--keep", "kept.berth").stderr.count("is about VesselRegistry")


def test_a_workflow_runs_without_its_backends_and_a_flow_without_its_host(own: Demo) -> None:
    numbers = {}
    for name, words in {"booked": (), "refused": ("registration=LK-9999",)}.items():
        told = own.run("call", "rehearsal", "PassageBooking", "BookPassage", "--sample", *words, "--json")
        numbers[name] = json.loads(told.stdout)["call"]
    for name, number in numbers.items():
        deadline = time.monotonic() + 60
        while "Kept as" not in (made := own.run("suites", "keep", f"alone.{name}", "--call", number, "--stand-ins")).stdout:
            assert time.monotonic() < deadline, made.stderr  # traces are written a moment later
    kept(own, "suites", "keep", "film.ledger", "--film", "LockLedger.GetVesselLedger", "-e", "rehearsal")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        path = "environments/rehearsal.yaml"
        text = client.export()[path]
        gone = text.replace("rehearsal/registry.db", "rehearsal/gone.db").replace("ledger-clerk-rehearsal", "ledger-clerk-rehearsal")
        client.apply({path: re.sub(r"north: \{address: '127.0.0.1:\d+'\}", "north: {address: '127.0.0.1:9'}", gone)})
        try:
            told = own.run("test", "rehearsal", "-s", "alone", "-s", "film")
            assert told.returncode == 0, told.stdout
            assert own.run("test", "rehearsal", "-s", "passage-booking").returncode == 1
            suite = client.export()["test-suites/alone.yaml"]
            assert "step: book.enter.entered" in suite
            client.apply({"test-suites/alone.yaml": re.sub(r"  - step: priced\n(?:    .*\n|    - .*\n)+?(?=  - step)", "", suite)})
            less = own.run("test", "rehearsal", "-s", "alone")  # what reaches nothing outside runs as it is
            assert less.returncode == 0, less.stdout
        finally:
            client.apply({path: text})


def test_an_empty_answer_says_why(own: Demo) -> None:
    call = ("call", "rehearsal", "VesselRegistry", "FindVessels")
    assert "No row of the table vessel has what nameContains asks of name" in own.run(*call, "kind=barge", "nameContains=zzzz").stdout
    assert "fit each of kind, nameContains" in own.run(*call, "kind=tanker", "nameContains=Brave Teal").stdout
    assert "empty" not in own.run(*call, "kind=barge").stdout
    report = own.run("call", "rehearsal", "TonnageReport", "GetTonnage", "fromDate=2035-01-01", "toDate=2035-02-01").stdout
    assert "no rows at all in the query tonnage for these fromDate, toDate" in report
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.apply({"suites/thin.yaml": "test-suite: thin\nservice: VesselRegistry\ncases:\n"
                      "  found: {operation: FindVessels, values: {nameContains: zzzz}}\n"
                      "  none: {operation: FindVessels, values: {nameContains: zzzz}, expects: {values: {vessel: {count: 0}}}}\n"})
    told = own.run("test", "rehearsal", "-s", "thin")
    assert told.returncode == 0
    assert "1 thin" in told.stdout


def test_a_case_is_sent_from_elsewhere(own: Demo, tmp_path: Path) -> None:
    environ = {**own.environ, "BRICOLA_TOKEN": own.token("harbour-desk")}
    for case in ("a-known-vessel", "a-new-vessel-on-trial", "over-rest"):
        forms = json.loads(own.run("suites", "request", f"vessel-registry.{case}", "rehearsal", "--json").stdout)["forms"]
        assert ("zeep" in forms) == (case != "over-rest")
        for form, program in (("python", [sys.executable]), ("zeep", [sys.executable]), ("curl", ["bash"])):
            if form in forms:
                file = tmp_path / form
                file.write_text(forms[form])
                told = subprocess.run([*program, str(file)], env=environ, capture_output=True, text=True, check=True)
                assert "LK-" in told.stdout, (form, told.stdout, told.stderr)
    send = ("suites", "send", "vessel-registry.a-known-vessel", "rehearsal")
    assert "its token is not known here" in own.run(*send).stderr
    told = own.run(*send, "--token", own.token("harbour-desk"))
    assert told.returncode == 0
    number = re.search(r"call ([0-9a-f-]+)", told.stdout)
    assert number is not None
    assert "VesselRegistry.GetVessel, release 1, as harbour-desk, answered" in told.stdout
    assert own.run("suites", "send", "vessel-registry.a-known-vessel", "rehearsal", "--token", "wrong").returncode == 1
    assert "takes {a-known-vessel.vessel.changeToken}" in own.run("suites", "request", "vessel-registry.renamed-on-trial", "rehearsal").stderr


def test_a_changed_contract_names_its_cases_and_they_are_mended(own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        path = "registry/vessel.yaml"
        files = client.export()
        client.apply({path: files[path].replace("  lengthM:\n", "  lengthOverAllM:\n    column: length_m\n")})
        try:
            told = own.run("compare", "VesselRegistry", "live", "draft").stdout
            assert re.search(r"vessel-registry a-known-vessel +GetVessel +✕ does not fit: vessel has no part lengthM", told)
            assert "bricola suites mend vessel-registry" in told
            assert "lengthOverAllM" in own.run("suites", "mend", "vessel-registry", "--yes").stdout
            assert client.mend_suite("vessel-registry", plan_only=True)["left"] == []
            left = [one for one in client.compare("VesselRegistry", "live", "draft")["cases"] if one["suite"] == "vessel-registry"]
            assert left
            assert not [one for one in left if one["problems"]]
        finally:
            client.apply({path: files[path], "suites/vessel-registry.yaml": files["suites/vessel-registry.yaml"]})


PLANTED = {  # what the contract promises wrongly: the file, what is changed in it, the service, and what names it
    "a code that it does not know": ("types/VesselKind.yaml", "tug, ", "", "VesselRegistry", "GetVessel"),
    "a value that may be missing": ("registry/vessel.yaml", "    max_length: 400\n    label: {en: Notes, de: Bemerkungen}\n"
                                    "    description: Remarks for lock keepers\n    required: false\n", "    max_length: 400\n",
                                    "VesselRegistry", "GetVessel"),
    "more than can be worked out": ("workflows/book-passage.yaml", "    max: 99999.99\n", "", "PassageBooking", "BookPassage cargoTonnes"),
    "a text that the host cannot show": ("hosts/berth.yaml", "pattern: '[!-~][ -~]*', ", "", "BerthDesk", "GetBerth code"),
    "a text that the table does not take": ("outside/notice.yaml", "max_length: 80", "max_length: 40", "NoticeBoard", "PostNotice notice.title"),
}


SLOW = {"a value that may be missing"}  # as long as all the others together


@pytest.mark.parametrize("bug", [one for one in PLANTED if AT_LENGTH or one not in SLOW])
def test_generated_tests_name_what_a_contract_promises_wrongly(own: Demo, bug: str) -> None:
    path, old, new, service, named = PLANTED[bug]
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        text = client.export()[path]
        assert old in text, text
        client.apply({path: text.replace(old, new)})
        try:
            number = client.release(service, bug, consent="planted")["release"]
            client.deploy(service, "rehearsal", number, consent="planted")
            found = json.loads(own.run("test", "rehearsal", service, "--generated", "--json").stdout)
            wrong = {f"{one['operation']} {one['element']}".strip() for one in found["results"] if one["outcome"] == "failed"}
            assert named in wrong, wrong
            assert found["passed"] > len(wrong)
        finally:
            client.apply({path: text})
            client.deploy(service, "rehearsal", 1, consent="mended")


def test_two_runs_of_a_suite_that_writes_wait_for_each_other(own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        runs = [client.begin_tests("rehearsal", suites=["vessel-registry"]) for _ in range(3)]
        ended = []
        for run in runs:
            while (found := client.test_run(run["number"]))["state"] == "running":
                time.sleep(0.05)
            ended.append(found)
        assert [one["failed"] for one in ended] == [0, 0, 0], [two for one in ended for two in one["results"] if two["outcome"] != "passed"]
