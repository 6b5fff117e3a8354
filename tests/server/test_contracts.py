"""Contracts of others at a running service: taken in, served as they came, answered by stubs, implemented, and sent on."""

import sqlite3
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from importlib import resources
from pathlib import Path
from types import SimpleNamespace
from typing import Any, ClassVar

import httpx
import pytest
import zeep
from lxml import etree

from bricola.adapters.parts import read_files, zip_files
from bricola.client import Client, ProblemError
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.server.usecases import drift
from tests.core.outside import CONTRACTS, folder, wsdl
from tests.serving import Served, serving

SOAP11 = '<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/">{}<e:Body>{}</e:Body></e:Envelope>'
ENVIRONMENT = """environment: live
backends:
  store: {{file: live/store.db}}
  other: {{endpoints: {{one: {{address: '{}'}}}}, {}}}
"""


class Outside(BaseHTTPRequestHandler):
    """Somebody else's service: answers what it is told to, and keeps what it was sent."""

    protocol_version = "HTTP/1.1"
    answers: ClassVar[list[tuple[int, str, bytes]]] = []
    seen: ClassVar[list[tuple[dict[str, str], bytes]]] = []

    def do_OPTIONS(self) -> None:
        self._send(204, "text/plain", b"")

    contract: ClassVar[list[tuple[int, str, bytes]]] = []

    def do_GET(self) -> None:
        self.seen.append((dict(self.headers), b""))
        self._send(*self.contract[0])

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.seen.append((dict(self.headers), body))
        self._send(*self.answers[0])

    def _send(self, status: int, media: str, body: bytes) -> None:
        self.send_response(status)
        self.send_header("Content-Type", media)
        self.send_header("Content-Length", str(len(body) if media != "cut" else len(body) + 100))
        self.end_headers()
        self.wfile.write(body)
        if media == "cut":
            self.close_connection = True

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 — the name is the base class's
        pass


GREETING = ('<xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence></xs:complexType></xs:element>'
            '<xs:element name="AskResponse"><xs:complexType><xs:sequence><xs:element name="words" type="xs:string"/></xs:sequence>'
            '<xs:attribute name="tone" type="xs:string"/></xs:complexType></xs:element>')
Outside.contract[:] = [(200, "text/xml", wsdl(GREETING).encode())]
SOUND = SOAP11.format("<e:Header><h:Mark xmlns:h='urn:h'>7</h:Mark></e:Header>",
                      '<t:AskResponse xmlns:t="urn:t" tone="warm"><t:words>Hello &amp; welcome</t:words></t:AskResponse>').encode()


@pytest.fixture(scope="module")
def outside() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Outside)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}/greetings"
    server.shutdown()


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory, outside: str) -> Iterator[Served]:
    data = tmp_path_factory.mktemp("contracts")
    (data / "live").mkdir()
    with sqlite3.connect(data / "live" / "store.db") as db:
        db.execute("CREATE TABLE loan (signature TEXT PRIMARY KEY, reader INTEGER NOT NULL, due DATE NOT NULL)")
        db.execute("INSERT INTO loan VALUES ('AB-1', 7, '2026-12-01')")
    with serving(data) as one, one.client() as client:
        client.apply({"e.yaml": ENVIRONMENT.format(outside, "answer_seconds: 1, answer_bytes: 20000"), "s.yaml": "backend: store\nengine: sqlite\n",
                      "o.yaml": "backend: other\nengine: soap\n"})
        client.save_caller("desk", ["clerk"], "")
        yield one


@pytest.fixture(scope="module")
def client(served: Served) -> Iterator[Client]:
    with served.client() as one:
        yield one


@pytest.fixture(scope="module")
def token(client: Client) -> str:
    return client.new_token("desk")


def deploy(client: Client, service: str) -> None:
    client.release(service)
    client.deploy(service, "live")


def take(client: Client, service: str, files: dict[str, str | bytes], **more: Any) -> Any:
    return client.import_contract(service, files={name: one.encode() if isinstance(one, str) else one for name, one in files.items()},
                                  role="clerk", **more)


def post(served: Served, service: str, token: str, body: str, **headers: str) -> httpx.Response:
    with served.http() as http:
        return http.post(f"/soap/live/{service}", content=body.encode(), headers={
            "Authorization": f"Bearer {token}", "Content-Type": "text/xml", **headers})


def peer(served: Served, service: str, token: str) -> zeep.Client:
    transport = zeep.Transport()
    transport.session.headers["Authorization"] = f"Bearer {token}"
    return zeep.Client(f"{served.url}/soap/live/{service}?wsdl", transport=transport)


def test_a_contract_in_six_parts_is_served_as_it_came_and_answers_at_once(served: Served, client: Client, token: str) -> None:
    taken = take(client, "LoanDesk", folder("01-split"))
    assert [one["name"] for one in taken["operations"]] == ["BorrowItem", "FindReader"]
    deploy(client, "LoanDesk")
    ours = f"{served.url}/soap/live/LoanDesk"
    with served.http() as http:
        documents = [http.get(f"/soap/live/LoanDesk?WSDL&document={number}") for number in range(6)]
        assert http.get("/soap/live/LoanDesk?wsdl&document=6").status_code == 404
    originals = [one if isinstance(one, bytes) else one.encode() for one in folder("01-split").values()]
    for document in documents:
        text = document.text.replace(ours, "HERE")
        same = [one for one in originals if etree.fromstring(one).get("targetNamespace") == etree.fromstring(document.content).get("targetNamespace")]
        stripped = [_without_places(one.decode()) for one in same]
        assert _without_places(text) in stripped
    found = peer(served, "LoanDesk", token)
    loan = found.service.BorrowItem(signature=["AB-1"], reader=5)
    assert loan[0]["signature"] == "AA-1"
    answer = post(served, "LoanDesk", token, SOAP11.format("", '<FindReader xmlns="urn:library:people"><name>x</name></FindReader>'))
    assert answer.headers["bricola-stub"]
    assert "stub" in client.calls(service="LoanDesk")[0]["message"]


def test_the_contract_is_handed_over_as_one_file(served: Served, client: Client) -> None:
    name, content = client.contract_zip("LoanDesk", "live")
    assert name == "LoanDesk-r1-live.zip"
    files = zip_files(content)
    again = read_files(files)
    assert (again.problems, len(again.parts)) == ((), len(files))
    there = read_files({path: one if isinstance(one, bytes) else one.encode() for path, one in folder("01-split").items()})
    assert _operations(again.as_dict()) == _operations(there.as_dict())
    assert f"{served.url}/soap/live/LoanDesk".encode() in files["LoanDesk.wsdl"]
    with served.http() as http:
        got = http.get("/soap/live/LoanDesk/contract.zip")
    assert (got.content, got.headers["content-disposition"]) == (content, f'attachment; filename="{name}"')


def _operations(read: dict[str, Any]) -> list[Any]:
    return [port["operations"] for service in read["services"].values() for port in service.values()]


def _without_places(text: str) -> str:
    import re

    return re.sub(r'(location|schemaLocation)="[^"]*"', "", text)


@pytest.mark.parametrize("name", ["03-bare", "05-headers-soap11", "07-two-namespaces"])
def test_contracts_of_every_style_answer_an_independent_client(served: Served, client: Client, token: str, name: str) -> None:
    service = f"Style{name[:2]}"
    take(client, service, folder(name))
    deploy(client, service)
    with served.http() as http:
        contract = http.get(f"/soap/live/{service}?wsdl").text
        page = http.get(f"/soap/live/{service}", headers={"Accept": "text/html"})
        assert page.status_code == 200
        assert http.get(f"/rest/live/{service}/openapi.json").status_code == 200
    original = (CONTRACTS / name / "main.wsdl").read_text()
    assert contract == _readdressed(original, f"{served.url}/soap/live/{service}")
    found = peer(served, service, token)
    called = 0
    for one in found.wsdl.services.values():
        for port in one.ports.values():
            for operation in port.binding._operations.values():
                sample = client.sample(service, operation.name, "live")
                reply = post(served, service, token, sample["envelope"], SOAPAction=f'"{operation.soapaction}"')
                assert reply.status_code in (200, 202), (operation.name, reply.text)
                if reply.status_code == 200:
                    found.wsdl.types  # noqa: B018 — the schema is the judge below
                    operation.process_reply(etree.fromstring(reply.content))
                called += 1
    assert called >= 2


def _readdressed(text: str, address: str) -> str:
    import re

    return re.sub(r'(<soap:address location=")[^"]*"', lambda found: f'{found[1]}{address}"', text)


def test_headers_that_the_contract_declares_are_understood_and_others_are_not(served: Served, token: str) -> None:
    body = '<GetReading xmlns="http://station.example/elements"><sensor>a</sensor><from>2026-01-01T00:00:00Z</from></GetReading>'
    known = '<e:Header><Session xmlns="http://station.example/elements" e:mustUnderstand="1"><key>AB</key></Session></e:Header>'
    assert post(served, "Style05", token, SOAP11.format(known, body)).status_code == 200
    strange = '<e:Header><x:Y xmlns:x="urn:x" e:mustUnderstand="1"/></e:Header>'
    assert "MustUnderstand" in post(served, "Style05", token, SOAP11.format(strange, body)).text
    one_way = SOAP11.format("", '<Calibrate xmlns="http://station.example/elements"><sensor>a</sensor><offset>1</offset></Calibrate>')
    answer = post(served, "Style05", token, one_way)
    assert (answer.status_code, answer.content) == (202, b"")
    version = post(served, "Style05", token, one_way.replace("http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope"))
    assert "VersionMismatch" in version.text


def test_an_operation_that_is_not_built_says_so(served: Served, client: Client, token: str) -> None:
    take(client, "Later", {"main.wsdl": wsdl(GREETING)})
    text = client.export()["services/Later.yaml"]
    client.apply({"services/Later.yaml": text.replace("contract later.Ask}", "contract later.Ask, stub: fault}")})
    deploy(client, "Later")
    answer = post(served, "Later", token, SOAP11.format("", '<Ask xmlns="urn:t"><name>x</name></Ask>'))
    assert answer.status_code == 500
    assert "not built yet" in answer.text
    assert answer.headers["bricola-stub"]


def test_a_stub_is_replaced_by_what_implements_it_and_a_newer_contract_keeps_the_map(served: Served, client: Client, token: str) -> None:
    schema = ('<xs:complexType name="Loan"><xs:sequence><xs:element name="item" type="xs:string"/><xs:element name="until" type="xs:date"/></xs:sequence>'
              '<xs:attribute name="reader" type="xs:int"/></xs:complexType>'
              '<xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="who" type="xs:int"/></xs:sequence></xs:complexType></xs:element>'
              '<xs:element name="AskResponse"><xs:complexType><xs:sequence><xs:element name="loan" type="t:Loan" minOccurs="0" maxOccurs="9"/></xs:sequence>'
              "</xs:complexType></xs:element>")
    take(client, "Loans", {"main.wsdl": wsdl(schema)})
    client.apply({
        "loan.yaml": "object: loan\nbackend: store\ntable: loan\nkey: [signature]\nfields:\n  signature: {type: string}\n  reader: {type: int}\n"
                     "  due: {type: date}\nfinders:\n  of:\n    description: Loans of one.\n    filters:\n      reader: {field: reader}\n",
        "services/Loans.yaml": "service: Loans\ncontract: loans\naccess:\n  clerk: all\noperations:\n  Ask: {runs: loan.of}\n"})
    with pytest.raises(ProblemError) as caught:
        client.release("Loans")
    assert {one.code for one in caught.value.problems} >= {"map.required"}
    implemented = ("service: Loans\ncontract: loans\naccess:\n  clerk: all\noperations:\n  Ask:\n    runs: loan.of\n    map_in: {reader: who}\n"
                   "    map_out: {loan.item: loan.signature, loan.until: loan.due}\n")
    client.apply({"services/Loans.yaml": implemented})
    deploy(client, "Loans")
    text = client.export()["services/Loans.yaml"]
    answer = post(served, "Loans", token, SOAP11.format("", '<Ask xmlns="urn:t"><who>7</who></Ask>'))
    assert "bricola-stub" not in answer.headers
    row = etree.fromstring(answer.content).find(".//{urn:t}loan")
    assert row is not None
    assert (row.get("reader"), row.findtext("{urn:t}item"), row.findtext("{urn:t}until")) == ("7", "AB-1", "2026-12-01")
    found = client.implement("Loans", "Ask")
    assert {one["path"]: (one["source"], one["by"]) for one in found["map_in"]["parts"]}["reader"] == ("who", "line")
    bare = client.implement("Loans", "Ask", map_in={}, map_out={})
    reader = next(one for one in bare["map_in"]["parts"] if one["path"] == "reader")
    assert (reader["source"], reader["by"], reader["fits"][0]) == ("", "", "who")
    assert bare["map_out"]["missing"]
    until = next(one for one in bare["map_out"]["parts"] if one["path"] == "loan.until")
    assert (until["source"], until["by"], until["fits"][0]) == ("", "", "loan.due")
    assert client.implement("Loans", "Ask", map_in={"reader": "nobody"})["problems"][0]["code"] == "map.source"
    with pytest.raises(ProblemError, match="no such part"):
        client.implement("Loans", "Ask", map_in={"reader": "nobody"}, save=True)
    assert client.export()["services/Loans.yaml"] == text
    assert client.implement("Loans", "Ask", map_out={"loan.item": "loan.signature", "loan.until": "loan.due"}, save=True)["changes"][0]["action"] == "unchanged"
    other = client.implement("Loans", "Ask", runs="contract loans.Ask", save=True)
    assert (other["same_contract"], other["changes"][0]["action"]) == (True, "changed")
    client.apply({"services/Loans.yaml": implemented})
    newer = wsdl(schema.replace('<xs:element name="who" type="xs:int"/>', '<xs:element name="who" type="xs:int"/><xs:element name="since" type="xs:date"/>'))
    plan = take(client, "Loans", {"main.wsdl": newer}, plan_only=True)
    assert [(one["rule"], one["verdict"]) for one in plan["for_callers"]] == [("input.added-required", "breaking")]
    assert plan["operations"] == [{"name": "Ask", "runs": "loan.of"}]
    assert "map_out" in client.export()["services/Loans.yaml"]


@pytest.fixture(scope="module")
def relay(served: Served, client: Client) -> str:
    take(client, "Greetings", {"main.wsdl": wsdl(GREETING)})
    client.apply({"relay.yaml": "relay: hello\ncontract: greetings\nbackend: other\n",
                  "services/Greetings.yaml": "service: Greetings\ncontract: greetings\naccess:\n  clerk: all\noperations:\n  Ask: {runs: relay hello.Ask}\n"})
    Outside.answers[:] = [(200, "text/xml", SOUND)]
    deploy(client, "Greetings")
    return "Greetings"


def test_what_the_contract_says_is_locked_and_differs_on_purpose_only(served: Served, client: Client, relay: str, token: str) -> None:
    def said() -> dict[str, Any]:
        return {one["setting"]: one for one in client.service(relay)["operations"][0]["contract"]}

    assert said()["request"] == {"setting": "request", "contract": "{urn:t}Ask", "used": "{urn:t}Ask", "may_differ": False, "differs": False}
    before = said()["soap_action"]["contract"]
    for setting in ("namespace", "style", "nothing"):
        with pytest.raises(ProblemError, match="contract decides"):
            client.differ(relay, "Ask", setting, "rpc")
    with pytest.raises(ProblemError) as caught:
        client.differ(relay, "Ask", "soap_action", "two words\r\nX-Other: 1")
    assert "soap_action" in caught.value.problem.message
    assert "no spaces" in caught.value.problem.expected
    assert client.differ(relay, "Ask", "soap_action", "urn:other")["changes"][0]["action"] == "changed"
    assert (said()["soap_action"]["used"], said()["soap_action"]["differs"]) == ("urn:other", True)
    assert "contract.differs" in {one["code"] for one in client.review(relay)}
    Outside.seen.clear()
    Outside.answers[:] = [(200, "text/xml; charset=utf-8", SOUND)]
    deploy(client, relay)
    assert post(served, relay, token, ASK).status_code == 200
    assert Outside.seen[-1][0]["SOAPAction"] == '"urn:other"'
    assert "urn:other" not in httpx.get(f"{served.url}/soap/live/{relay}?wsdl").text  # what callers read is the contract as it came
    client.follow(relay, "Ask", "soap_action")
    assert said()["soap_action"] == {"setting": "soap_action", "contract": before, "used": before, "may_differ": True, "differs": False}
    assert "soap_action" not in client.export()[f"services/{relay}.yaml"]
    text = client.export()[f"services/{relay}.yaml"]
    for line in ("namespace: urn:other", "style: rpc", "soap: ['1.2']"):
        client.apply({f"services/{relay}.yaml": f"{text}{line}\n"})
        assert client.service(relay)["problems"][0]["code"] == "service.contract-says"
    client.apply({f"services/{relay}.yaml": text})
    deploy(client, relay)


ASK = SOAP11.format("", '<q:Ask xmlns:q="urn:t"><q:name>Imke</q:name></q:Ask>')


def test_a_relay_passes_on_what_came_and_what_was_answered(served: Served, relay: str, token: str) -> None:
    Outside.answers[:] = [(200, "text/xml; charset=utf-8", SOUND)]
    Outside.seen.clear()
    answer = post(served, relay, token, ASK)
    assert answer.status_code == 200
    inner = etree.fromstring(answer.content).find(".//{urn:t}AskResponse")
    sent = etree.fromstring(SOUND).find(".//{urn:t}AskResponse")
    assert inner is not None
    assert sent is not None
    assert etree.tostring(inner, method="c14n", exclusive=True) == etree.tostring(sent, method="c14n", exclusive=True)
    assert "urn:h" in answer.text
    headers, body = Outside.seen[-1]
    assert headers["SOAPAction"] == '"ask"'
    assert b"<q:name>Imke</q:name>" in body
    with served.http() as http:
        plain = http.post(f"/rest/live/{relay}/Ask", json={"name": "Imke"}, headers={"Authorization": f"Bearer {token}"})
    assert plain.json() == {"tone": "warm", "words": "Hello & welcome"}


def test_a_fault_of_the_other_side_is_passed_on_in_its_words(served: Served, relay: str, token: str) -> None:
    fault = SOAP11.format("", "<e:Fault><faultcode>e:Client</faultcode><faultstring>No such name.</faultstring></e:Fault>").encode()
    Outside.answers[:] = [(500, "text/xml", fault)]
    answer = post(served, relay, token, ASK)
    assert "No such name." in answer.text
    assert "<faultcode>soap:Client</faultcode>" in answer.text


def test_their_own_answer_is_laid_beside_ours(served: Served, client: Client, relay: str, token: str) -> None:
    Outside.answers[:] = [(200, "text/xml; charset=utf-8", SOUND)]
    ours = client.call("live", relay, "Ask", {"name": "Imke"})
    theirs = client.ask_outside("live", relay, "Ask", {"name": "Imke"}, ours=ours["response"])
    assert (theirs["same"], theirs["status"], theirs["backend"]) == (True, 200, "other")
    Outside.answers[:] = [(200, "text/xml; charset=utf-8", SOUND.replace(b"warm", b"cool"))]
    assert client.ask_outside("live", relay, "Ask", {"name": "Imke"}, ours=ours["response"])["same"] is False
    client.apply({"relay.yaml": "relay: hello\ncontract: greetings\nbackend: other\nwrites: [Ask]\n"})
    deploy(client, "Greetings")
    with pytest.raises(ProblemError) as caught:
        client.ask_outside("live", relay, "Ask", {"name": "Imke"})
    assert caught.value.problem.code == "outside.writes"
    assert client.ask_outside("live", relay, "Ask", {"name": "Imke"}, writes=True)["status"] == 200
    client.apply({"relay.yaml": "relay: hello\ncontract: greetings\nbackend: other\n"})
    deploy(client, "Greetings")


def test_failures_are_told_by_the_fault_of_the_contract_that_was_chosen_for_them(served: Served, client: Client, token: str) -> None:
    wanted = resources.files("bricola.demo.outside").joinpath("notice-board.wsdl").read_bytes()
    take(client, "Board", {"notices.wsdl": wanted})
    service = ("service: Board\ncontract: board\naccess:\n  clerk: all\noperations:\n  PostNotice:\n    runs: relay board.PostNotice\n"
               "    map_faults:\n      problem: NoticeRefused\n      problem.reason: sentence\n"
               "      problem:outside: NoticeRefused\n      problem:outside.reason: {}\n")
    client.apply({"board.yaml": "relay: board\ncontract: board\nbackend: other\n", "services/Board.yaml": service.format("words")})
    with pytest.raises(ProblemError) as caught:
        client.release("Board")
    assert (caught.value.problem.code, caught.value.problem.found) == ("map.source", '"words"')
    client.apply({"services/Board.yaml": service.format("message")})
    Outside.answers[:] = [(200, "text/xml", SOUND)]
    deploy(client, "Board")
    sent = ('<b:NewNotice xmlns:b="urn:inland-navigations:notices"><b:id>{}</b:id><b:notice urgency="warning"><b:title>Low water</b:title>'
            "<b:text>Mind the sill.</b:text><b:validFrom>2026-12-01</b:validFrom></b:notice></b:NewNotice>")
    for identity, reason in (("N-1", "PostNotice/id"), ("N-0001", "The other side answers with an HTML page")):
        Outside.answers[:] = [(503, "text/html", b"<html>down</html>")]
        fault = etree.fromstring(post(served, "Board", token, SOAP11.format("", sent.format(identity))).content)
        detail = fault.find(".//detail/{*}NoticeRefused")
        assert detail is not None, etree.tostring(fault)
        assert detail.tag == "{urn:inland-navigations:notices}NoticeRefused"
        assert reason in (detail.findtext("{*}reason") or "")
    assert "<detail><NoticeRefused" not in post(served, "Board", "no token", SOAP11.format("", sent.format("N-0001"))).text
    calls = client.calls(service="Board")
    assert {one["fault"] for one in calls} >= {"outside.html"}  # the record keeps what really happened


def test_requests_are_held_against_the_contract_before_they_are_sent_on(served: Served, relay: str, token: str) -> None:
    Outside.seen.clear()
    assert "element.missing" in post(served, relay, token, SOAP11.format("", '<Ask xmlns="urn:t"/>')).text
    assert Outside.seen == []


def test_addresses_inside_are_not_fetched_unless_the_operator_allows_them(client: Client, outside: str) -> None:
    found = client.read_contract(f"{outside}?wsdl")
    assert [one["code"] for one in found["problems"]] == ["contract.part"]
    assert "may not be reached" in found["problems"][0]["message"]
    with pytest.raises(ProblemError):
        client.import_contract("Inner", f"{outside}?wsdl")


def test_a_contract_that_changed_over_there_is_noticed_with_who_is_concerned(served: Served, client: Client, relay: str, token: str) -> None:
    Outside.answers[:] = [(200, "text/xml; charset=utf-8", SOUND)]
    assert post(served, relay, token, ASK).status_code == 200
    served.bricola.storage.writer.flush()
    found = client.check_contracts("live")
    assert [(one["contract"], one["backend"], one["state"]) for one in found if one["contract"] == "greetings"] == [("greetings", "other", "same")]
    longer = GREETING.replace('<xs:element name="name" type="xs:string"/>',
                              '<xs:element name="name" type="xs:string"/><xs:element name="town" type="xs:string"/>')
    kept = list(Outside.contract)
    try:
        Outside.contract[:] = [(200, "text/xml", wsdl(longer).encode())]
        one = next(one for one in client.check_contracts("live") if one["contract"] == "greetings")
        assert (one["state"], one["verdict"], one["callers"]) == ("changed", "breaking", ["desk"])
        change = one["changes"][0]
        assert (change["rule"], change["operation"]) == ("input.added-required", "Ask")
        assert change["operations"] == [{"service": "Greetings", "operation": "Ask"}]
        assert "contract.drift" in [finding["code"] for finding in client.review("Greetings", "live")]
        for answer, code in (((200, "text/html", b"<!doctype html><html/>"), "contract."), ((404, "text/plain", b""), "contract.part-missing"),
                             ((200, "text/xml", b"<a"), "xml.")):
            Outside.contract[:] = [answer]
            one = next(one for one in client.check_contracts("live") if one["contract"] == "greetings")
            assert one["state"] == "not checked"
            assert one["problems"][0]["code"].startswith(code)
        assert [two["state"] for two in client.contract_checks() if two["contract"] == "greetings"] == ["not checked"]
    finally:
        Outside.contract[:] = kept


def test_the_check_of_the_way_knows_services(client: Client) -> None:
    Outside.answers[:] = [(500, "text/xml", SOAP11.format("", "<e:Fault><faultcode>e:Client</faultcode><faultstring>?</faultstring></e:Fault>").encode())]
    stages = {one["stage"]: one["outcome"] for one in client.check("live", "other")[0]["stages"]}
    assert stages["reachable"] == "passed"
    assert stages["version"] == "passed"
    Outside.answers[:] = [(200, "text/html", b"<html/>")]
    stages = {one["stage"]: one["outcome"] for one in client.check("live", "other")[0]["stages"]}
    assert stages["version"] == "failed"


def test_a_definition_of_a_contract_is_text_that_comes_back_as_it_was(client: Client) -> None:
    texts = client.export()
    assert {one["action"] for one in client.apply(texts)} == {"unchanged"}
    assert "<!-- A town library." in next(text for path, text in texts.items() if path.endswith("loan-desk.yaml"))


def test_the_folder_of_the_tests_is_one_that_a_person_would_name(tmp_path: Path) -> None:
    from bricola.adapters.parts import read_source

    for name in ("01-split", "03-bare"):
        assert read_source(str(CONTRACTS / name)).usable
    assert read_source(str(CONTRACTS / "01-split" / "main.wsdl")).usable


@pytest.mark.parametrize(("hours", "ages", "due"), [
    (None, [], False), (24, [], True), (24, [25], True), (24, [1], False), (24, [1, 900], False), (24, [25, 900], True),
])
async def test_contracts_are_looked_at_when_the_last_look_is_older_than_the_hours(
        monkeypatch: pytest.MonkeyPatch, hours: int | None, ages: list[int], due: bool) -> None:
    """Rows of contracts that nobody follows any more stay, and make nothing due."""
    rows = [{"environment": "live", "at": (datetime.now(UTC) - timedelta(hours=age)).isoformat()} for age in ages]
    looked: list[str] = []

    async def look(_: Any, environment: str) -> list[Any]:
        looked.append(environment)
        return []

    async def read(_: Any) -> list[Any]:
        return rows

    environments = [EnvironmentDefinition(name="live", contract_check_hours=hours), EnvironmentDefinition(name="rehearsal")]
    monkeypatch.setattr(drift, "check", look)
    ports: Any = SimpleNamespace(storage=SimpleNamespace(read=read),
                                 drafts=SimpleNamespace(catalogue=SimpleNamespace(environments=lambda: environments)))
    await drift.check_due(ports)
    assert looked == (["live"] if due else [])
