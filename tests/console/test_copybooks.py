"""Copybooks in the console: pasted, laid out, tried on bytes, made into a program; and a kept one that is replaced."""

import json
from importlib.resources import files
from pathlib import Path

from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo

VECTORS = Path(__file__).parents[1] / "core" / "vectors" / "copybooks"
TOLL_AREA = Path(str(files("bricola.demo.programs"))) / "TOLLAREA.cpy"


def test_a_copybook_is_pasted_tried_ticked_and_published(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/copybooks?copybook=")
    text = TOLL_AREA.read_text()
    desk.get_by_label("Source of the copybook").fill(text.replace("PIC X(8).", "PIC X(8)"))
    expect(desk.get_by_role("alert").or_(desk.get_by_text("does not end before the next begins")).first).to_be_visible()
    expect(desk.get_by_text("line 9, column")).to_be_visible()
    desk.get_by_label("Source of the copybook").fill(text)
    layout = desk.get_by_role("table", name="Layout")
    expect(layout.get_by_role("row").filter(has_text="TRP-TOTAL")).to_contain_text("69")
    desk.get_by_label("Name", exact=True).fill("tariff-area")

    layout.get_by_role("button", name="TRL-AMOUNT").click()  # the line of an item, and the item of a line
    expect(layout.get_by_role("row").filter(has_text="TRL-AMOUNT")).to_have_attribute("aria-selected", "true")

    desk.get_by_text("Try bytes on it").click()
    reply = json.loads((VECTORS / "demo" / "examples.json").read_text())["calls"][0]["ascii"]["reply_hex"]
    desk.get_by_label("Bytes in hexadecimal").fill(reply)
    values = desk.get_by_role("table", name="Values")
    expect(values.get_by_role("row").filter(has_text="TRP-TOTAL")).to_contain_text("60.78")
    values.get_by_role("row").filter(has_text="TRP-TOTAL").click()
    expect(layout.get_by_role("row").filter(has_text="TRP-TOTAL")).to_have_attribute("aria-selected", "true")

    desk.get_by_text("What callers see").click()
    layout.get_by_label("TRP-MESSAGE comes out").uncheck()
    output = desk.get_by_role("table", name="Output")
    expect(output).to_contain_text("returnCode")
    expect(output).not_to_contain_text("TRP-MESSAGE")
    desk.get_by_label("Name of the program").fill("tariff")
    desk.get_by_label("Its name at the host").fill("TOLLCALC")
    desk.get_by_label("New service").fill("Tariff")
    desk.get_by_role("combobox", name="Who may call it").click()
    desk.get_by_role("option", name="lock-desk").click()
    desk.get_by_role("button", name="Save as drafts").click()
    expect(desk.get_by_role("combobox", name="Copybook")).to_contain_text("tariff-area")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.release("Tariff", "By the console")
        client.deploy("Tariff", "rehearsal")
        answer = client.call("rehearsal", "Tariff", "Tariff", {
            "vesselReg": "LM1234", "lockNo": 7, "lengthM": "24.80", "beamM": "4.55", "draughtM": "1.63", "cargoTonnes": "120.0"})
        assert answer["answer"]["total"] == "60.78"
        assert "message" not in answer["answer"]


def test_a_kept_copybook_is_replaced_with_who_is_affected_in_view(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/copybooks?copybook=toll-area")
    source = desk.get_by_label("Source of the copybook")
    expect(source).to_have_value(TOLL_AREA.read_text())
    source.fill(TOLL_AREA.read_text().replace("TRP-TOTAL ", "TRP-SUM   "))
    desk.get_by_role("button", name="Save the copybook").click()
    panel = desk.get_by_role("dialog")
    expect(panel.get_by_role("row").filter(has_text="TRP-SUM")).to_contain_text("added")
    expect(panel).to_contain_text("There is no such item in the areas.")
    expect(panel).to_contain_text("TollCalculator.CalculateToll")
    expect(panel).to_contain_text("toll-calculator.a-laden-barge")
    panel.get_by_label("Close").click()


ASKED = """\
       01  LOCK-REQUEST.
           COPY LOCKBODY REPLACING ==:TAG:== BY ==LR==.
           05  LR-ACTION           PIC X.
               88  LR-OPEN         VALUE 'O'.
               88  LR-SHUT         VALUE 'S'.
"""
ANSWERED = """\
       01  :P:-REPLY.
           05  :P:-CODE            PIC 99.
               88  :P:-REFUSED     VALUE 8 THRU 99.
           05  :P:-MESSAGE         PIC X(40).
"""


def test_two_areas_with_a_copied_member_and_replaced_names_become_one_program(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/copybooks?copybook=")
    source, named = desk.get_by_label("Source of the copybook"), desk.get_by_label("Name", exact=True)
    source.fill(ASKED)
    named.fill("lock-request")
    expect(desk.get_by_text("or drop those here that this one copies")).to_be_visible()
    desk.get_by_label("Copybooks", exact=True).set_input_files(
        files=[{"name": "LOCKBODY.cpy", "mimeType": "text/plain", "buffer": b"           05  :TAG:-LOCK-NO     PIC 9(3).\n"}])
    layout = desk.get_by_role("table", name="Layout")
    expect(layout.get_by_role("row").filter(has_text="LR-LOCK-NO")).to_be_visible()
    desk.get_by_role("button", name="Another area").click()
    source.fill(ANSWERED)
    named.fill("lock-reply")
    desk.get_by_label("Replacing").fill("==:P:===LP")
    expect(layout.get_by_role("row").filter(has_text="LP-MESSAGE")).to_contain_text("X(40)")
    expect(layout.get_by_role("columnheader", name="In", exact=True)).to_have_count(0)
    expect(desk.get_by_role("table", name="Input")).to_contain_text("lockNo")
    expect(desk.get_by_role("table", name="Output")).to_contain_text("message")
    desk.get_by_label("Name of the program").fill("lock-orders")
    desk.get_by_label("New service").fill("LockOrders")
    desk.get_by_role("button", name="Save as drafts").click()
    expect(desk.get_by_role("link", name="Look at LockOrders")).to_be_visible()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        files = client.export()
    program = files["programs/lock-orders.yaml"]
    assert "  request: {copybook: lock-request, record: LOCK-REQUEST, use: in}\n" in program
    assert "  reply: {copybook: lock-reply, record: LP-REPLY, use: out}\n" in program
    assert "codes: [open, shut]" in program
    assert "Refused:" in program
    assert "LOCKBODY" in files["copybooks/lock-request.yaml"]
