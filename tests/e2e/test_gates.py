"""The gate of tests at the demo: a defect of each kind closes it, and is named by the case that knows better."""

import re
from collections.abc import Iterator

import pytest

from bricola.client import Client
from bricola.core.problems import ProblemError
from tests.conftest import Demo, copied_demo, stop_demo

DEFECTS = {  # what is changed in which file, the service, the case that names it, and where
    "wrong column": ("registry/vessel.yaml", "    description: Name of the vessel\n", "    description: Name of the vessel\n    column: kind\n",
                     "VesselRegistry", "a-known-vessel", "vessel.name"),
    "wrong type": ("types/VesselKind.yaml", "tug, ", "", "VesselRegistry", "a-known-vessel", "kind"),
    "moved screen": ("hosts/vessel-ledger.yaml", "text: LKM210", "text: LKM211", "LockLedger", "a-ledger", "task"),
    "removed role": ("registry/TonnageReport.yaml", "  auditor: all", "  registry-clerk: all", "TonnageReport", "a-quarter", ""),
    "changed contract": ("registry/tonnage.yaml", "  totalTonnes: {sum", "  allTonnes: {sum", "TonnageReport", "a-quarter", "expects"),
}


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "gates")
    yield running
    stop_demo(running)


@pytest.fixture(scope="module")
def client(own: Demo) -> Iterator[Client]:
    with Client(own.url) as made:
        made.sign_in("imke", own.password("imke"))
        yield made


@pytest.mark.parametrize("defect", DEFECTS)
def test_a_defect_closes_the_gate_and_is_named_by_its_case(client: Client, defect: str) -> None:
    path, old, new, service, case, place = DEFECTS[defect]
    files = client.export()
    assert old in files[path], files[path]
    client.apply({path: files[path].replace(old, new, 1)})
    try:
        client.release(service, defect, consent="planted")
        before = client.service(service)["deployments"]
        with pytest.raises(ProblemError) as error:
            client.deploy(service, "live", consent="planted")
        told = [one for one in error.value.problems if f" {case} " in one.message or f" {case}:" in one.message]
        assert told, [one.sentence() for one in error.value.problems]
        assert place in told[0].place
        # A screen that moved is told by the film first: what is broken, and then what that means.
        assert next(one.code for one in error.value.problems if one.code != "flow.moved") == "gate.tests"
        assert [one.get("release") for one in client.service(service)["deployments"]] == [one.get("release") for one in before]
    finally:
        client.apply({path: files[path]})


def test_a_dead_endpoint_closes_it_too_whatever_a_young_run_says(own: Demo, client: Client) -> None:
    path = "environments/live.yaml"
    text = client.export()[path]
    client.apply({path: re.sub(r"http://127.0.0.1:\d+/gauges", "http://127.0.0.1:9/gauges", text)})
    try:
        with pytest.raises(ProblemError) as error:
            client.deploy("GaugeReadings", "live")
        assert [(one.code, one.place) for one in error.value.problems] == [
            ("backend.unseen", "environment live, backends, river-board")], error.value.problems
    finally:
        client.apply({path: text})


def test_it_is_overruled_with_a_reason_that_is_kept(own: Demo, client: Client) -> None:
    path = "suites/movement-summary.yaml"
    text = client.export()[path]
    client.apply({path: text.replace("movements: 3", "movements: 4")})
    client.release("MovementSummary", "a case that is wrong")
    plan = client.plan("MovementSummary", "live")
    assert [(one["name"], one["outcome"]) for one in plan["gates"]][-1] == ("tests", "due")
    closed = own.run("deploy", "MovementSummary", "live")
    assert closed.returncode == 1
    assert "movement-summary three-movements" in closed.stderr
    shown = own.run("gates", "MovementSummary", "live")
    assert shown.returncode == 1
    assert "closed" in shown.stdout
    assert own.run("deploy", "MovementSummary", "live", "--overrule", "the case is wrong, not the service").returncode == 0
    entry = next(one for one in client.audit() if one["action"] == "deploy")
    assert re.search(r"tests overruled \(run \d+\): the case is wrong, not the service", str(entry["after"]))
    back = own.run("rollback", "MovementSummary", "live")  # the way back is never barred
    assert back.returncode == 0
    client.apply({path: text})


def test_suites_may_have_to_pass_elsewhere_first(own: Demo, client: Client) -> None:
    path = "environments/live.yaml"
    text = client.export()[path]
    client.apply({path: text.replace("tests:\n  minutes: 30", "tests: {suites: [berth-desk], run_in: rehearsal, minutes: 0}")})
    try:
        client.apply({"suites/berth-desk.yaml": client.export()["suites/berth-desk.yaml"].replace("Berths and", "The berths and")})
        client.release("BerthDesk", "another suite")
        with pytest.raises(ProblemError, match="run in rehearsal, where release 2 is not live"):
            client.deploy("BerthDesk", "live")
        client.deploy("BerthDesk", "rehearsal")
        assert client.promote("BerthDesk", "live")["release"] == 2
        run = client.test_runs()[0]
        assert (run["environment"], run["purpose"]) == ("rehearsal", "gate of BerthDesk 2 in live")
        client.deploy("MovementSummary", "live", 1)  # none of its suites is asked for
    finally:
        client.apply({path: text})
