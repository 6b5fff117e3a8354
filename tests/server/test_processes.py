"""A process is brought in, its ends confirmed, its partners bound; then it is released, and does what the process did."""

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import pytest
from lxml import etree

from bricola.client import Client, FaultError, ProblemError, ServiceClient
from tests.commands import run_command
from tests.core.test_processes import files_of
from tests.serving import Served, serving

P, TEL = "urn:larkmere:partners", "http://riverboard.example/telemetry/3"
SOAP = "http://schemas.xmlsoap.org/soap/envelope/"


class Partners(BaseHTTPRequestHandler):
    """Whoever the processes ask: answers by the element, and keeps what it was asked."""

    asked: ClassVar[list[str]] = []
    kind = "tug"
    fails: ClassVar[set[str]] = set()

    def do_POST(self) -> None:
        body = etree.fromstring(self.rfile.read(int(self.headers["Content-Length"]))).find(f"{{{SOAP}}}Body")
        assert body is not None
        asked = body[0]
        name, first = etree.QName(asked).localname, (asked[0].text or "") if len(asked) else ""
        self.asked.append(f"{name} {first}")
        status, inner = self._answer(name, first, asked)
        content = f'<e:Envelope xmlns:e="{SOAP}"><e:Body>{inner}</e:Body></e:Envelope>'.encode()
        self.send_response(status)
        self.send_header("Content-Type", "text/xml")
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    def _answer(self, name: str, first: str, asked: etree._Element) -> tuple[int, str]:
        fault = "<e:Fault><faultcode>e:Server</faultcode><faultstring>no</faultstring><detail>{}</detail></e:Fault>"
        if name in self.fails:
            return 500, fault.format("")
        if name == "find" and first == "LK-0000":
            return 500, fault.format(f'<unknown xmlns="{P}"><registration>{first}</registration></unknown>')
        answers = {
            "find": f'<findResponse xmlns="{P}"><vessel><name>Grey Wagtail</name><kind>{self.kind}</kind><lengthM>32.5</lengthM></vessel></findResponse>',
            "Rate": f'<r:RateResponse xmlns:r="{P}"><toll>{float(asked.findtext("tonnes", "0")) * 2}</toll></r:RateResponse>',
            "reserve": f'<reserveResponse xmlns="{P}"><number>T-7</number></reserveResponse>',
            "release": f'<releaseResponse xmlns="{P}"/>',
            "GetLevel": f'<GetLevelResponse xmlns="{TEL}"><station code="{first}"><place>Weir</place><reading><at xmlns="">2026-11-24T06:00:00Z</at>'
                        f'<level xmlns="" unit="m">{2 if first == "G02" else 1}.75</level></reading></station></GetLevelResponse>',
        }
        return 200, answers.get(name, "")

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002
        pass


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    partners = ThreadingHTTPServer(("127.0.0.1", 0), Partners)
    threading.Thread(target=partners.serve_forever, daemon=True).start()
    with serving(tmp_path_factory.mktemp("processes")) as made:
        made.partners = f"http://127.0.0.1:{partners.server_address[1]}/"  # type: ignore[attr-defined]
        yield made
    partners.shutdown()


@pytest.fixture(autouse=True)
def _clean() -> None:
    Partners.asked.clear()
    Partners.fails.clear()
    Partners.kind = "tug"


def bound(served: Served, *backends: str) -> None:
    """An environment where the partners are."""
    places = "".join(f"  {one}: {{address: '{served.partners}{one}'}}\n" for one in backends)  # type: ignore[attr-defined]
    served.client().apply({"trial.yaml": f"environment: trial\nanonymous: [Towing, LevelWatch]\nbackends:\n{places}"})


def towing(served: Served) -> ServiceClient:
    client = served.client()
    if "service Towing" not in client.export_with_revisions()[1]:
        client.take_process(files_of("towing"), "Towing", accept=True)
        bound(served, "register", "tugs")
        client.release("Towing", "From the process")
        client.deploy("Towing", "trial", 1)
    return ServiceClient(f"{served.url}/rest/trial/Towing")


def test_a_plan_changes_nothing_and_an_open_end_waits_for_somebody(served: Served) -> None:
    client = served.client()
    plan = client.take_process(files_of("towing"), "Planned", plan_only=True)
    assert not plan["applied"]
    assert [one["calls"] for one in plan["partners"]] == ["relay register", "relay tugs"]
    assert "service Planned" not in client.export_with_revisions()[1]
    with pytest.raises(ProblemError) as error:
        client.take_process(files_of("towing"), "Planned")
    assert error.value.problem.code == "process.open-end"
    assert "fail Refused" in error.value.problem.mend
    chosen = client.take_process(files_of("towing"), "Planned", choices={plan["endings"][0]["id"]: "fail problem"}, plan_only=True)
    assert chosen["endings"][0]["chosen"] == "fail problem"


def test_it_does_what_the_process_did(served: Served) -> None:
    answer = towing(served).call("Order", registration="LK-0412", leg=[{"lockNumber": 3, "tonnes": "10"}, {"lockNumber": 7, "tonnes": "2.5"}])
    assert answer == {"orderNumber": "T-7", "vesselName": "Grey Wagtail", "rate": answer["rate"], "legs": 2,
                      "priced": [{"lockNumber": 3, "toll": answer["priced"][0]["toll"]}, {"lockNumber": 7, "toll": answer["priced"][1]["toll"]}]}
    assert [float(answer["rate"]), *(float(one["toll"]) for one in answer["priced"])] == [0.25, 20, 5]
    assert sorted(Partners.asked) == ["Rate 10", "Rate 2.5", "find LK-0412", "find LK-0412", "reserve LK-0412"]  # the second one tells
    many = towing(served).call("Order", registration="LK-0412", leg=[{"lockNumber": one, "tonnes": "1"} for one in (1, 2, 3)])
    assert float(many["rate"]) == 0.5


def test_its_faults_are_those_of_the_contract(served: Served) -> None:
    leg = [{"lockNumber": 3, "tonnes": "10"}]
    with pytest.raises(FaultError) as unknown:
        towing(served).call("Order", registration="LK-0000", leg=leg)
    assert (unknown.value.name, unknown.value.detail["reason"]) == ("Refused", "Nobody knows LK-0000")
    Partners.kind = "tanker"
    with pytest.raises(FaultError) as tanker:
        towing(served).call("Order", registration="LK-0412", leg=leg)
    assert tanker.value.detail == {"registration": "LK-0412", "reason": "A tanker is not towed."}
    Partners.kind = "tug"
    Partners.fails.add("Rate")
    with pytest.raises(FaultError) as stopped:
        towing(served).call("Order", registration="LK-0412", leg=leg)
    assert (stopped.value.name, stopped.value.detail["reason"]) == ("Refused", "The process stops here without an answer.")
    assert not any(one.startswith("release") for one in Partners.asked)


def test_what_is_not_begun_by_the_process_says_that_nothing_is_behind_it(served: Served) -> None:
    towing(served)
    cancel = next(one for one in served.client().service("Towing")["operations"] if one["name"] == "Cancel")
    assert cancel["runs"].startswith("contract ")


def test_a_partner_that_is_here_already_is_used(served: Served, tmp_path: Path) -> None:
    client = served.client()
    river = files_of("levels")["river-board.wsdl"].decode()
    client.apply({
        "river-board.yaml": "contract: river-board\nmain: river-board.wsdl\nfiles:\n  river-board.wsdl: |\n" + "".join(f"    {line}\n" for line in river.splitlines()),
        "gauges.yaml": "relay: gauges\ncontract: river-board\nbackend: river-board\n", "board.yaml": "backend: river-board\nengine: soap\n"})
    served_folder = tmp_path / "levels"
    served_folder.mkdir()
    for name, content in files_of("levels").items():
        (served_folder / name).write_bytes(content)
    token = Client(served.url).sign_in("imke", served.password)
    environ = {"BRICOLA_TOKEN": token, "HOME": str(tmp_path), "NO_COLOR": "1", "COLUMNS": "150"}

    def command(*words: str, expect: int = 0) -> str:
        done = run_command((*words, "--at", served.url), environ)
        assert done.returncode == expect, done.stdout + done.stderr
        return done.stdout + done.stderr

    shown = command("processes", "import", str(served_folder / "levels.bpel"), "--service", "LevelWatch", "--plan")
    assert "relay gauges, which is here already" in " ".join(shown.split())
    assert "line 30" in shown
    refused = command("processes", "import", str(served_folder), "--service", "LevelWatch", "--yes", expect=1)
    assert "Somebody has to say what callers get there" in refused
    command("processes", "import", str(served_folder), "--service", "LevelWatch", "--yes", "--accept", "--end", "line 76=fail problem")
    bound(served, "register", "tugs", "river-board")
    client.release("LevelWatch", "From the process")
    client.deploy("LevelWatch", "trial", 1)
    watch = ServiceClient(f"{served.url}/rest/trial/LevelWatch")
    assert watch.call("State", code="G02")["state"] == "high"
    assert watch.call("State", code="G01")["state"] == "low"
    found = watch.call("Watch", gauges={"code": ["G01", "G02"]})
    assert [(one["gauge"], float(one["level"]), one["state"]) for one in found["found"]["one"]] == [
        ("G01", 1.75, "read 1 times"), ("G02", 2.75, "read 1 times")]
    assert float(found["highest"]) == 4.5


def test_a_process_that_no_message_begins_has_a_contract_of_ours(served: Served) -> None:
    client = served.client()
    files = {name: one for name, one in files_of("towing").items() if not name.endswith(".bpel")}
    files["nightly.bpel"] = files_of("towing")["towing.bpel"].split(b"<sequence>")[0].split(b"<faultHandlers>")[0] + (
        b"<sequence><wait><for>'PT0.01S'</for></wait></sequence></process>")
    for _ in range(2):
        taken = client.take_process(files, "Nightly", accept=True)
        assert [one["operation"] for one in taken["workflows"]] == ["TowingOrder"]
    assert "contract:" not in client.export()["services/Nightly.yaml"]
