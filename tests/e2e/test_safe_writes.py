"""Trials of writes, requests that come again, real keys and comparison with the source, through the running service."""

import os
import signal
import sqlite3
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
import zeep
from lxml import etree
from requests import Session
from requests.auth import HTTPBasicAuth
from zeep.transports import Transport
from zeep.wsa import WsAddressingPlugin

from bricola.client import Client
from tests.conftest import Demo, copied_demo, start_demo, stop_demo

VESSEL = {"name": "Grey Wagtail", "kind": "barge", "lengthM": "17.40", "beamM": "4.08", "draughtM": "0.76", "operatorNumber": "OP-0042",
          "registeredOn": "2026-11-02"}


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "writes")
    yield running
    stop_demo(running)


@pytest.fixture
def client(own: Demo) -> Iterator[Client]:
    with Client(own.url) as found:
        found.sign_in("imke", own.password("imke"))
        yield found


def rest(demo: Demo, operation: str, body: Any, **headers: str) -> httpx.Response:
    return httpx.post(f"{demo.address(face='rest')}/{operation}", json=body, headers={
        "Authorization": f"Bearer {demo.token('harbour-desk')}", **{name.replace("_", "-"): value for name, value in headers.items()}})


def soap(demo: Demo, envelope: str) -> httpx.Response:
    return httpx.post(demo.address(), content=envelope, headers={"Content-Type": "text/xml", "Authorization": f"Bearer {demo.token('harbour-desk')}"})


def create(demo: Demo, registration: str, **headers: str) -> httpx.Response:
    return rest(demo, "CreateVessel", {"vessel": {"registration": registration, **VESSEL}}, **headers)


def stored(demo: Demo, registration: str) -> list[Any]:
    db = sqlite3.connect(demo.data / "live" / "registry.db")
    try:
        return db.execute("SELECT name, row_version FROM vessel WHERE registration = ?", [registration]).fetchall()
    finally:
        db.close()


def test_a_trial_on_both_faces_stores_nothing(own: Demo, client: Client) -> None:
    answer = create(own, "LK-3001", Bricola_Trial="true")
    assert (answer.status_code, answer.headers["bricola-trial"], stored(own, "LK-3001")) == (200, "rolled back", [])
    assert answer.json()["registration"] == "LK-3001"
    [change] = answer.json()["trial"]
    assert (change["action"], change["key"], change["fields"]["status"]) == ("created", {"registration": "LK-3001"}, {"before": None, "after": "active"})
    reply = client.call("live", "VesselRegistry", "UpdateVessel", {"registration": "LK-0412", "changeToken": "1", "notes": "<&>"}, trial=True, soap="1.2")
    assert reply["answer"]["changedField"] == ["notes"]
    assert reply["changes"] == [{"object": "vessel", "action": "changed", "key": {"registration": "LK-0412"},
                                 "fields": {"notes": {"before": None, "after": "<&>"}}}]
    assert stored(own, "LK-0412")[0][1] == 1
    assert rest(own, "GetVessel", {"registration": "LK-0412"}, Bricola_Trial="true").headers["bricola-trial"] == "nothing was written"
    assert create(own, "LK-0412", Bricola_Trial="true").status_code == 422  # faults come as they would


@pytest.mark.parametrize(("field", "text", "code"), [
    ("name", r'"a\u0001b"', "value.character"), ("notes", r'"\ud800"', "value.character"), ("notes", r'"\uffff"', "value.character"),
    ("lengthM", "1e400", "value.digits"), ("lengthM", "1e999999999", "json.number"), ("lengthM", "NaN", "json.number"),
    ("lengthM", '"NaN"', "value.type"), ("lengthM", "17.40000000000000001", "value.fraction"), ("lengthM", "1" * 5000, "json.number"),
    ("notes", "[" * 100_000, "json.depth"),
])
def test_what_xml_cannot_hold_or_a_number_cannot_be_is_refused_in_json_too(own: Demo, field: str, text: str, code: str) -> None:
    vessel = ", ".join(f'"{name}": "{value}"' for name, value in {"registration": "LK-3009", **VESSEL}.items() if name != field)
    answer = httpx.post(f"{own.address(face='rest')}/CreateVessel", content=f'{{"vessel": {{{vessel}, "{field}": {text}}}}}'.encode(), headers={
        "Authorization": f"Bearer {own.token('harbour-desk')}", "Content-Type": "application/json"})
    assert (answer.status_code, answer.json()["problems"][0]["code"]) == (400, code), answer.text
    assert stored(own, "LK-3009") == []


def test_a_request_that_comes_again_gets_the_first_answer(own: Demo) -> None:
    first = create(own, "LK-3002", Idempotency_Key='"k-1"')
    again = create(own, "LK-3002", Idempotency_Key="k-1")
    assert (first.status_code, again.status_code, first.json()) == (200, 200, again.json())
    assert again.headers["repeats-call"] == first.headers["call-id"]
    other = create(own, "LK-3003", Idempotency_Key="k-1")
    assert (other.status_code, other.json()["type"]) == (409, "urn:bricola:problem:1:request.reused")
    assert stored(own, "LK-3003") == []
    assert create(own, "LK-3002", Idempotency_Key="k-2").status_code == 422  # a request of its own: AlreadyExists
    assert create(own, "LK-3002", Idempotency_Key="x" * 300).status_code == 400
    # What stored nothing may be tried again with the same id.
    missing = rest(own, "UpdateVessel", {"registration": "LK-3004", "changeToken": "1", "name": "A"}, Idempotency_Key="k-3")
    assert missing.status_code == 422
    create(own, "LK-3004")
    assert rest(own, "UpdateVessel", {"registration": "LK-3004", "changeToken": "1", "name": "A"}, Idempotency_Key="k-3").status_code == 200


def test_addressing_gives_every_message_an_id(own: Demo) -> None:
    session = Session()
    session.auth = HTTPBasicAuth("harbour-desk", own.token("harbour-desk"))
    registry = zeep.Client(own.address(face="wsdl"), transport=Transport(session=session), plugins=[WsAddressingPlugin()])
    made = registry.service.CreateVessel(vessel={"registration": "LK-3005", **VESSEL})
    assert made.changeToken == "1"
    envelope = zeep.Client(own.address(face="wsdl"), transport=Transport(session=session)).create_message
    header = '<MessageID xmlns="http://www.w3.org/2005/08/addressing">urn:uuid:8f1d</MessageID>'
    node = envelope(registry.service, "UpdateVessel", registration="LK-3005", changeToken="1", name="Blue Heron")
    text = etree.tostring(node).decode()
    start = text.index("<soap-env:Body>")
    body = f"{text[:start]}<soap-env:Header>{header}</soap-env:Header>{text[start:]}"
    answers = [session.post(own.address(), data=body.encode(), headers={"Content-Type": "text/xml"}) for _ in range(2)]
    assert [one.status_code for one in answers] == [200, 200]
    assert answers[0].content == answers[1].content
    assert stored(own, "LK-3005") == [("Blue Heron", 2)]


def test_the_first_answer_comes_after_a_crash_too(own: Demo) -> None:
    first = create(own, "LK-3006", Idempotency_Key="crash-1")
    interrupted = create(own, "LK-3007", Idempotency_Key="crash-2")
    os.kill(own.process.pid, signal.SIGKILL)
    own.process.wait()
    db = sqlite3.connect(own.data / "bricola.db")  # as if killed between the backend's commit and the note of the answer
    db.execute("UPDATE request SET answer = '' WHERE id = 'crash-2'")
    db.commit()
    db.close()
    again = start_demo(own.data.parent)
    own.process, own.facts = again.process, again.facts
    assert create(own, "LK-3006", Idempotency_Key="crash-1").json() == first.json()
    assert create(own, "LK-3007", Idempotency_Key="crash-2").json() == interrupted.json()
    assert stored(own, "LK-3007") == [("Grey Wagtail", 1)]
    # Without a mark in the backend nobody can know, and that is what is told.
    with sqlite3.connect(own.data / "bricola.db") as db:
        db.execute("INSERT INTO request SELECT environment, service, operation, caller, 'crash-3', digest, call, '', at, expires FROM request"
                   " WHERE id = 'crash-2'")
    db.close()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        files = client.export()
        path = "environments/live.yaml"
        client.apply({path: files[path].replace("    requests: bricola_request\n", "")})
        unknown = create(own, "LK-3007", Idempotency_Key="crash-3")
        assert unknown.json()["type"] == "urn:bricola:problem:1:request.outcome-unknown"
        client.apply({path: files[path]})


def test_real_keys_are_offered_and_answers_compared(own: Demo, client: Client) -> None:
    found = client.keys("live", "VesselRegistry", "CreateVessel", "vessel.operatorNumber", "amber")
    assert found["key"] == "number"
    assert all("Amber" in one["name"] for one in found["rows"])
    assert "email" not in found["columns"]  # sensitive
    reply = client.call("live", "VesselRegistry", "FindVessels", {"kind": "tug", "limit": 9})
    same = client.compare_with_source("live", "VesselRegistry", "FindVessels", {}, reply["answer"])
    assert (same["equal"], same["ordered"], len(same["rows"])) == (True, True, 9)
    told = reply["answer"]["vessel"]
    told[0], told[1] = told[1], told[0] | {"name": "Another name"}
    wrong = client.compare_with_source("live", "VesselRegistry", "FindVessels", {}, {"vessel": told})
    assert (wrong["equal"], wrong["ordered"]) == (False, False)
    assert [one["field"] for one in wrong["rows"][1]["fields"] if not one["equal"]] == ["name"]
    values = {"registration": "LK-0005", "changeToken": "1", "clear": ["notes"], "name": "Quiet Tern"}
    reply = client.call("live", "VesselRegistry", "UpdateVessel", values)
    assert client.compare_with_source("live", "VesselRegistry", "UpdateVessel", values, reply["answer"])["equal"]


def test_the_command_line_tells_of_trial_repeat_keys_and_comparison(own: Demo) -> None:
    words = ("call", "live", "VesselRegistry")
    trial = own.run(*words, "UpdateVessel", "registration=LK-0007", "changeToken=1", "name=Blue Teal", "--trial").stdout
    assert "Trial: rolled back" in trial
    assert "Blue Teal" in trial
    assert "1 of 1 row is equal" in own.run(*words, "GetVessel", "registration=LK-0007", "--compare").stdout
    once = (*words, "CreateVessel", "--sample", "vessel.registration=LK-3010", "--request-id", "cli-1")
    assert own.run(*once).returncode == 0
    assert "was done before" in own.run(*once).stdout
    assert "LK-0412" in own.run("keys", "live", "VesselRegistry", "GetVessel", "registration", "LK-0412").stdout
    assert "holds" not in own.run("keys", "live", "VesselRegistry", "GetVessel", "nothing").stdout
    assert "expected  registration" in own.run("keys", "live", "VesselRegistry", "GetVessel", "nothing").stderr


def test_callers_are_told_how_to_write_safely(own: Demo) -> None:
    page = httpx.get(f"{own.url}/soap/live/VesselRegistry", headers={"Accept": "text/html"}).text
    assert "<code>Idempotency-Key</code>" in page
    assert "within 24 hours" in page
    assert "Idempotency-Key" not in httpx.get(f"{own.url}/soap/live/TonnageReport", headers={"Accept": "text/html"}).text


def test_fields_are_emptied_by_their_names_on_every_face_and_nil_empties_none(own: Demo, client: Client) -> None:
    def notes() -> object:
        return client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0009"})["answer"]["vessel"].get("notes")

    def by_command(token: int) -> bool:
        words = ("call", "live", "VesselRegistry", "UpdateVessel", "registration=LK-0009", f"changeToken={token}", "clear=notes")
        return own.run(*words).returncode == 0

    def by_rest(token: int) -> bool:
        return rest(own, "UpdateVessel", {"registration": "LK-0009", "changeToken": str(token), "clear": ["notes"]}).status_code == 200

    nil = ('<UpdateVessel xmlns="urn:larkmere:vessel-registry" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><registration>LK-0009'
           '</registration><changeToken>{}</changeToken>{}<notes xsi:nil="true"/></UpdateVessel>')

    def by_soap(token: int) -> bool:
        """A stack that sends nil for what was not set, and names what is to be emptied."""
        body = (f'<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>{nil.format(token, "")}</e:Body></e:Envelope>')
        sent = body.replace("</UpdateVessel>", "<clear>notes</clear></UpdateVessel>")
        kept = soap(own, body)
        assert "changedField" not in kept.text, "nil alone must change nothing"
        return soap(own, sent).status_code == 200

    token = 1
    for empty in (by_command, by_rest, by_soap):
        told = rest(own, "UpdateVessel", {"registration": "LK-0009", "changeToken": str(token), "notes": "Tow astern only"}).json()
        assert notes() == "Tow astern only"
        assert empty(int(told["changeToken"]))
        assert notes() is None
        token = int(told["changeToken"]) + 1
    both = {"registration": "LK-0009", "changeToken": str(token), "notes": "x", "clear": ["notes"]}
    assert rest(own, "UpdateVessel", both).json()["problems"][0]["code"] == "update.clear"
    required = {"registration": "LK-0009", "changeToken": str(token), "clear": ["name"]}
    assert rest(own, "UpdateVessel", required).json()["problems"][0]["code"] == "value.code"  # what is required cannot be emptied
    assert own.run("call", "live", "VesselRegistry", "UpdateVessel", "registration=LK-0009", f"changeToken={token}", "--nil", "notes").returncode
