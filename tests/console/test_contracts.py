"""Contracts of others in the console: dropped, looked at, and live with answers; asked on the other side."""

import re
import time
from pathlib import Path

from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo
from tests.core.outside import CONTRACTS, wsdl

# What a browser gives for a drop: a transfer whose items are files.
DROP = """([target, files]) => {
  const transfer = new DataTransfer();
  for (const [name, text] of files) transfer.items.add(new File([text], name));
  target.dispatchEvent(new DragEvent("drop", { dataTransfer: transfer, bubbles: true, cancelable: true }));
}"""


def _first(folder: Path) -> str:
    return next(folder.rglob("*.wsdl")).read_text()


def test_a_dropped_contract_is_a_service_that_answers_within_a_minute(desk: Page, own: Demo) -> None:
    contract = _first(CONTRACTS / "07-two-namespaces")
    began = time.monotonic()
    desk.goto(f"{own.url}/definitions/contracts")
    zone = desk.get_by_text(re.compile("or drop a WSDL here"))
    zone.evaluate(f"(target) => ({DROP})([target, [['main.wsdl', {contract!r}]]])")
    making = desk.get_by_role("complementary", name="What becomes of it")
    making.get_by_label("Name here").fill("Dropped")
    making.get_by_label("Role that may call all of it").fill("lock-desk")
    making.get_by_role("button", name="Make it live in rehearsal").click()
    expect(making.get_by_role("status")).to_contain_text("Dropped is live in rehearsal")
    making.get_by_role("link", name="Call it at the bench").click()
    desk.get_by_role("button", name=re.compile("Send to rehearsal")).click()
    expect(desk.get_by_role("region", name="Result").get_by_role("status").first).to_contain_text("Answered")
    assert time.monotonic() - began < 60
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        assert client.calls(environment="rehearsal", service="Dropped")[0]["result"] == "answered"


def test_what_is_wrong_is_shown_with_its_line_before_anything_is_made(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/contracts")
    desk.get_by_role("radio", name="Text").click()
    text = desk.get_by_label("Text of the contract")
    text.fill("<html><body>Not here.</body></html>")
    desk.get_by_role("button", name="Read it").click()
    problems = desk.get_by_role("region", name="Problems of the contract")
    expect(problems).to_contain_text("HTML")
    expect(desk.get_by_role("button", name=re.compile("^Make"))).to_have_attribute("aria-disabled", "true")
    text.fill(wsdl('<xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="a" type="t:Missing"/></xs:sequence>'
                   '</xs:complexType></xs:element><xs:element name="AskResponse" type="xs:string"/>'))
    desk.get_by_role("button", name="Read it").click()
    expect(problems).to_contain_text("Missing")


def test_a_newer_version_tells_what_it_changes_before_it_is_taken(desk: Page, own: Demo) -> None:
    older = wsdl('<xs:element name="Ask" type="xs:string"/><xs:element name="AskResponse" type="xs:string"/>')
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.import_contract("Asking", files={"a.wsdl": older.encode()}, role="lock-desk")
    desk.goto(f"{own.url}/definitions/contracts?contract=asking")
    desk.get_by_role("button", name="Take in a newer version").click()
    desk.get_by_role("radio", name="Text").click()
    desk.get_by_label("Text of the contract").fill(older.replace('name="AskResponse" type="xs:string"', 'name="AskResponse" type="xs:int"'))
    desk.get_by_role("button", name="Read it").click()
    desk.get_by_role("button", name="Show what changes").click()
    making = desk.get_by_role("complementary", name="What becomes of it")
    expect(making).to_contain_text("The type is another one")
    making.get_by_role("button", name="Bring it up to date").click()
    expect(making.get_by_role("status")).to_contain_text("Asking is a draft")


def test_their_answer_stands_beside_ours(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/tests?service=GaugeReadings&view=rehearsal")
    expect(desk.get_by_role("radio", name="1.2")).to_have_count(0)  # their contract speaks one version
    desk.get_by_role("button", name=re.compile("Send to rehearsal")).click()
    desk.get_by_role("button", name="Ask the other side itself").click()
    expect(desk.get_by_role("region", name="Result")).to_contain_text("The same body as ours")
    expect(desk.get_by_role("region", name="Result")).to_contain_text("Their answer")
    desk.goto(f"{own.url}/definitions/contracts?contract=river-board")
    desk.get_by_role("button", name=re.compile("Look now: rehearsal")).click()
    expect(desk.get_by_role("complementary", name="What becomes of it")).to_contain_text("as taken in")


def test_what_the_contract_says_is_locked_and_what_differs_has_a_way_back(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/services/GaugeReadings")
    said = desk.get_by_role("table", name="From the contract")
    expect(said.get_by_role("row", name=re.compile("^Element of the request"))).to_contain_text("locked")
    said.get_by_role("button", name="Unlock SOAPAction").click()
    said.get_by_label("SOAPAction").fill("urn:other")
    desk.keyboard.press("Enter")
    row = said.get_by_role("row", name=re.compile("^SOAPAction"))
    expect(row).to_contain_text("differs from the contract")
    expect(row).to_contain_text("The contract says: http://riverboard.example/telemetry/3/GetLevel")
    desk.get_by_role("tab", name=re.compile("Readiness")).click()
    expect(desk.get_by_text("soap_action differs from the contract.")).to_be_visible()
    row.get_by_role("button", name="Back to the contract").click()
    expect(said.get_by_role("button", name="Unlock SOAPAction")).to_be_visible()


def test_the_map_of_an_operation_is_looked_at_and_saved(desk: Page, own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.implement("NoticeBoard", "PostNotice", runs="notice.create", map_in={"notice.id": "id"}, save=True)
    desk.goto(f"{own.url}/services/NoticeBoard?operation=PostNotice")
    runs = desk.get_by_role("region", name="What runs it")
    runs.get_by_role("button", name="Look at the map").click()
    expect(runs.get_by_role("row", name=re.compile("^notice.id"))).to_contain_text("chosen")
    expect(runs.get_by_role("row", name=re.compile("^notice.title"))).to_contain_text("same name")
    runs.get_by_label("From where notice.text comes").fill("no.such.part")
    runs.get_by_role("button", name="Save as draft").click()
    expect(runs).to_contain_text("There is no such part to take from.")
    runs.get_by_label("From where notice.text comes").fill("notice.title")
    runs.get_by_role("button", name="Save as draft").click()
    expect(runs).to_contain_text("Saved, not released.")
    expect(desk.get_by_role("group", name="Where each version is")).to_contain_text("edited, not released")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        text = next(one for one in client.export().values() if one.startswith("service: NoticeBoard"))
        assert "notice.text: notice.title" in text
    runs.get_by_label("Run by").fill("vessel.get")
    runs.get_by_role("button", name="Look at the map").click()
    expect(runs.get_by_role("row", name=re.compile("^registration"))).to_contain_text("required")
