"""Integration requests: what they say is filled in, locked and linked back; what they lack is listed; and the service does what was asked."""

import json
import threading
from collections.abc import Iterator
from http.server import ThreadingHTTPServer
from pathlib import Path

import pytest

from bricola.client import Client, FaultError, ProblemError, ServiceClient
from tests.commands import run_command
from tests.server.test_processes import SOAP, TEL, Partners
from tests.serving import Served, serving

FOLDER = Path(__file__).parents[2] / "src" / "bricola" / "demo" / "samples" / "levels-request"
TEXT = (FOLDER / "request.yaml").read_text()


class Board(Partners):
    """The river board, with a gauge that it does not know."""

    def _answer(self, name: str, first: str, asked: object) -> tuple[int, str]:
        if first == "G99":
            return 500, ("<e:Fault><faultcode>e:Client</faultcode><faultstring>no such gauge</faultstring><detail>"
                         f'<UnknownGauge xmlns="{TEL}"><gaugeCode>G99</gaugeCode></UnknownGauge></detail></e:Fault>')
        return super()._answer(name, first, asked)  # type: ignore[arg-type]


def files() -> dict[str, bytes]:
    return {one.name: one.read_bytes() for one in FOLDER.glob("*.wsdl")}


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("requests")) as made:
        yield made


@pytest.fixture(scope="module")
def client(served: Served) -> Iterator[Client]:
    with served.client() as made:
        yield made


def test_everything_that_it_says_is_filled_in(served: Served, client: Client) -> None:
    plan = client.take_request(TEXT, files(), plan_only=True)
    assert (plan["applied"], plan["service"], client.export()) == (False, "WaterOfficeEnquire", {})
    taken = client.take_request(TEXT, files())
    assert {one["setting"]: (one["here"], one["locked"]) for one in taken["taken"]} == {
        "owner": ("Water office", True), "description": ("The desk sees the level before it lets a vessel in.", True), "contract": ("standard", True),
        "operation": ("Enquire", True), "calls": ("relay water-office-enquire.GetLevel", False), "role": ("lock-desk", False)}
    assert {(one["map"], one["part"], one["from"]) for one in taken["proposed"]} == {
        ("map_in", "gaugeCode", "gauge"), ("map_out", "stationPlace", "station.place"), ("map_faults", "UnknownGauge", "NotKnown"),
        ("map_faults", "UnknownGauge.gauge", "gaugeCode")}
    assert {one["what"] for one in taken["lacks"]} == {"calls, address", "calls, reads or writes"}
    assert {(one["kind"], one["name"]) for one in taken["changes"]} == {
        ("contract", "standard"), ("contract", "river-board"), ("backend", "water-office-enquire"), ("relay", "water-office-enquire"),
        ("service", "WaterOfficeEnquire"), ("request", "levels-4711")}
    again = client.take_request(TEXT, files())
    assert {one["action"] for one in again["changes"]} == {"unchanged"}


def test_the_service_does_what_was_asked(served: Served, client: Client) -> None:
    board = ThreadingHTTPServer(("127.0.0.1", 0), Board)
    threading.Thread(target=board.serve_forever, daemon=True).start()
    client.apply({"trial.yaml": "environment: trial\nanonymous: [WaterOfficeEnquire]\nbackends:\n"
                                f"  water-office-enquire: {{address: 'http://127.0.0.1:{board.server_address[1]}/'}}\n"})
    client.release("WaterOfficeEnquire", "as asked")
    client.deploy("WaterOfficeEnquire", "trial", 1)
    service = ServiceClient(f"{served.url}/rest/trial/WaterOfficeEnquire")
    assert service.call("Enquire", gauge="G01")["stationPlace"] == "Weir"
    body = '<Enquire xmlns="urn:larkmere:standard:1"><gauge>{}</gauge></Enquire>'
    with served.http() as http:  # a message is not sent on as it came: the other side has another contract
        for gauge, status, words in (("G02", 200, "<stationPlace>Weir</stationPlace>"), ("G99", 500, "NotKnown")):
            answer = http.post("/soap/trial/WaterOfficeEnquire", headers={"Content-Type": "text/xml"}, content=(
                f'<e:Envelope xmlns:e="{SOAP}"><e:Body>{body.format(gauge)}</e:Body></e:Envelope>'))
            assert answer.status_code == status, answer.text
            assert words in answer.text, answer.text
    relay = client.export()["relays/water-office-enquire.yaml"]
    client.apply({"relays/water-office-enquire.yaml": f"{relay}check: answer\n"})  # maps read the request all the same
    client.release("WaterOfficeEnquire", "checked less")
    client.deploy("WaterOfficeEnquire", "trial", 2)
    with served.http() as http:
        answer = http.post("/soap/trial/WaterOfficeEnquire", headers={"Content-Type": "text/xml"}, content=(
            f'<e:Envelope xmlns:e="{SOAP}"><e:Body>{body.format("G02")}</e:Body></e:Envelope>'))
    assert "<stationPlace>Weir</stationPlace>" in answer.text, answer.text
    client.apply({"relays/water-office-enquire.yaml": relay})
    with pytest.raises(FaultError) as error:
        service.call("Enquire", gauge="G99")
    assert (error.value.name, error.value.detail["gauge"]) == ("NotKnown", "G99")
    board.shutdown()


def test_what_it_says_is_locked_until_it_changes(client: Client) -> None:
    path, text = next((path, text) for path, text in client.export().items() if text.startswith("service: WaterOfficeEnquire"))
    for old, new, place in (("owner: Water office", "owner: Somebody", "owner"), ("contract: standard", "contract: river-board", "contract"),
                            ("  Enquire:", "  Ask:", "operations")):
        with pytest.raises(ProblemError) as error:
            client.apply({path: text.replace(old, new)})
        assert error.value.problem.code == "request.locked"
        assert error.value.problem.place.endswith(place)
    changed = client.take_request(TEXT.replace("Water office", "Gauge office").replace("{owner} {answers}", "water office {answers}"), files())
    assert [one["here"] for one in changed["taken"] if one["setting"] == "owner"] == ["Gauge office"]
    client.apply({path: text.replace("request: levels-4711\n", "").replace("owner: Water office", "owner: Somebody")})  # not locked any more
    client.take_request(TEXT.replace("naming:", "service: WaterOfficeEnquire2\nnaming:"), files())


@pytest.mark.parametrize(("old", "new", "lack"), [
    ("owner: Water office\n", "", "owner"),
    ("calls: {contract: river-board.wsdl, operation: GetLevel}", "", "calls"),
    ("operation: GetLevel", "operation: GetFlow", "calls, operation"),
    ("contract: standard.wsdl", "contract: lost.wsdl", "answers, contract"),
    ("role: lock-desk\n", "", "role"),
    ("link: https://requests.larkmere.example/4711\n", "", "link"),
    (", operation: Enquire", "", ""),  # the contract has one only
])
def test_what_it_lacks_is_listed(client: Client, old: str, new: str, lack: str) -> None:
    assert old in TEXT
    found = client.take_request(TEXT.replace("levels-4711", "lacking").replace("{owner} {answers}", "Lacking").replace(old, new), files(), plan_only=True)
    assert not lack or lack in {one["what"] for one in found["lacks"]}
    if not lack:
        assert "operation" in {one["setting"] for one in found["taken"]}


@pytest.mark.parametrize(("text", "code"), [
    ("request: a\ncolour: red\n", "definition.unknown-key"),
    ("request: a\nnaming: '{colour}'\n", "request.naming"),
    ("request: [", "yaml.syntax"),
    ("title: nameless\n", "definition.name"),
])
def test_what_cannot_be_read_is_refused(client: Client, text: str, code: str) -> None:
    with pytest.raises(ProblemError) as error:
        client.take_request(text)
    assert error.value.problem.code == code


def test_the_same_as_json_by_the_command_line(served: Served, client: Client, tmp_path: Path) -> None:
    for one in FOLDER.glob("*.wsdl"):
        (tmp_path / one.name).write_bytes(one.read_bytes())
    (tmp_path / "desk.json").write_text(json.dumps({
        "title": "Levels", "request": "desk-levels", "purpose": "To know", "owner": "Desk", "answers": {"contract": "standard.wsdl"},
        "calls": {"contract": "river-board.wsdl", "operation": "GetLevel"}}))
    environ = {"BRICOLA_TOKEN": Client(served.url).sign_in("imke", served.password), "HOME": str(tmp_path), "NO_COLOR": "1", "COLUMNS": "150"}

    def command(*words: str) -> str:
        done = run_command(("requests", *words, "--at", served.url), environ)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    shown = command("take", str(tmp_path / "desk.json"), "--plan")
    assert "becomes the service DeskLevels" in shown
    assert "locked" in shown
    command("take", str(tmp_path / "desk.json"), "--yes")
    assert "desk-levels" in command("list")
    assert "asked_by" in command("show", "desk-levels")


def test_publishing_a_source(client: Client) -> None:
    client.apply({"twice.yaml": "workflow: twice\ninput: {number: {type: int}}\noutput: {number: {type: int}}\nsteps: {answer: {reply: {number: number * 2}}}\n",
                  "ask.yaml": "workflow: ask\ncontract: standard\noperation: Enquire\nsteps: {answer: {reply: {stationPlace: gauge}}}\n"})
    assert client.publish("workflow twice", "Doubling", plan_only=True)["operation"] == "Twice"
    assert "services/Doubling.yaml" not in client.export()
    client.publish("workflow twice", "Doubling", role="lock-desk")
    client.publish("workflow twice", "Doubling", "Again", role="auditor")
    text = client.export()["services/Doubling.yaml"]
    assert "lock-desk: all" in text
    assert "auditor: [Again]" in text
    for runs, service, operation, code in (("workflow twice", "Doubling", "Again", "publish.taken"), ("workflow none", "Doubling", "X", "publish.unknown"),
                                           ("nothing at all", "Doubling", "X", "publish.runs"), ("workflow ask", "DeskLevels", "Gone", "publish.contract")):
        with pytest.raises(ProblemError) as error:
            client.publish(runs, service, operation)
        assert error.value.problem.code == code
    with pytest.raises(ProblemError):  # it does not fit the contract, and is told before anything is stored
        client.publish("workflow twice", "DeskLevels", "Enquire")
    client.publish("workflow ask", "DeskLevels", "Enquire")
    assert "runs: workflow ask" in client.export()["services/DeskLevels.yaml"]
