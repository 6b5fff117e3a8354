"""Tests in the console: a call that is kept, its suite run and edited, a failure taken to the bench, and the gate of a deployment."""

import re

from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo

SUITE = ("test-suite: proof\nservice: VesselRegistry\ncaller: harbour-desk\ncases:\n"
         "  the-ferry: {operation: GetVessel, values: {registration: LK-0412}, expects: {values: {vessel.name: Bold Teal}}}\n"
         "  submarines: {operation: FindVessels, values: {kind: submarine}, expects: {problem: value.code}}\n")


def applied(own: Demo, files: dict[str, str]) -> dict[str, str]:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.apply(files)
        return client.export()


def test_a_call_is_kept_as_a_case_and_its_suite_runs(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/tests?service=VesselRegistry&operation=FindVessels&against=rehearsal")
    desk.get_by_label("nameContains").fill("zzzz")
    desk.get_by_role("button", name=re.compile("Send to rehearsal")).click()
    expect(desk.get_by_role("region", name="Result")).to_contain_text("No row of the table vessel has what nameContains asks of name.")
    desk.get_by_role("button", name="Keep as a case").click()
    keep = desk.get_by_role("form", name="Keep as a case")
    keep.get_by_label("Suite").fill("kept")
    keep.get_by_label("Case", exact=True).fill("nothing-found")
    keep.get_by_role("button", name="Keep it").click()
    desk.get_by_role("link", name="kept nothing-found").click()
    expect(desk.get_by_role("heading", level=1)).to_have_text("kept")
    desk.get_by_role("button", name="Run in rehearsal").click()
    row = desk.get_by_role("row", name=re.compile("^nothing-found"))
    expect(row).to_contain_text("passed")
    outside = desk.get_by_role("region", name="From outside")
    outside.get_by_role("button", name="Show it for rehearsal").click()
    expect(outside).to_contain_text("curl -sS")
    outside.get_by_role("radio", name="zeep").click()
    expect(outside).to_contain_text("zeep.Client")


def test_a_failure_goes_to_the_bench_and_a_mended_suite_says_what_changed(desk: Page, own: Demo) -> None:
    applied(own, {"suites/proof.yaml": SUITE})
    desk.goto(f"{own.url}/tests/suites?suite=proof&case=the-ferry")
    desk.get_by_role("button", name="Run in rehearsal").click()
    case = desk.get_by_role("complementary", name="The selected case")
    expect(case).to_contain_text('expected "Bold Teal"')
    expect(case).to_contain_text('found "Brave Teal"')
    desk.get_by_role("radio", name="Text").click()
    text = desk.get_by_label("Text of proof")
    text.fill(SUITE.replace("vessel.name", "vessel.nmae"))
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("alert")).to_contain_text("Did you mean vessel.name?")
    text.fill(SUITE.replace("Bold", "Brave"))
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("status").filter(has_text="Saved.")).to_be_visible()
    desk.get_by_role("radio", name="Cases").click()
    case.get_by_role("link", name="Open it on the bench").click()
    expect(desk.get_by_role("textbox", name="registration")).to_have_value("LK-0412")
    desk.get_by_role("button", name=re.compile("Send to rehearsal")).click()
    expect(desk.get_by_role("region", name="Result")).to_contain_text("as harbour-desk")
    desk.goto(f"{own.url}/tests/suites?suite=proof")
    desk.get_by_role("button", name="Run in rehearsal").click()
    expect(desk.get_by_role("status").filter(has_text="Since run")).to_contain_text("the-ferry failed")


def test_failing_tests_bar_a_deployment_until_somebody_says_why(desk: Page, own: Demo) -> None:
    files = applied(own, {})
    path = "suites/movement-summary.yaml"
    applied(own, {path: files[path].replace("movements: 3", "movements: 4")})
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        number = client.release("MovementSummary", "a case that is wrong")["release"]
    desk.goto(f"{own.url}/releases?service=MovementSummary&view=live&new={number}&old=live")
    desk.get_by_role("radio", name="Test cases").click()
    expect(desk.get_by_text("No test case is about what changes, and all of them fit.")).to_be_visible()
    panel = desk.get_by_role("complementary", name="Verdict and deployment")
    panel.get_by_label("To environment").click()
    desk.get_by_role("option", name="live").click()
    expect(panel).to_contain_text("cases of movement-summary run in live first")
    panel.get_by_label("Type the environment to confirm").fill("live")
    panel.get_by_role("button", name=re.compile(f"^Deploy r{number}")).click()
    expect(panel).to_contain_text("The test movement-summary three-movements fails")
    panel.get_by_label("Reason for deploying although tests fail").fill("the case is wrong")
    panel.get_by_role("button", name=re.compile(f"^Deploy r{number}")).click()
    expect(desk.get_by_role("cell", name=re.compile("tests overruled"))).to_be_visible()
    applied(own, {path: files[path]})


def test_a_call_of_the_log_becomes_a_case_without_backends(desk: Page, own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        made = client.call("rehearsal", "PassageBooking", "BookPassage", client.sample("PassageBooking", "BookPassage", "rehearsal")["values"],
                           trial=True)
    desk.goto(f"{own.url}/calls?call={made['call']}")
    call = desk.get_by_role("complementary", name="The selected call")
    call.get_by_role("button", name="Keep as a case").click()
    expect(call.get_by_label("What its workflow called is answered as it was then")).to_be_checked()
    call.get_by_label("Suite").fill("booked")
    call.get_by_label("Case", exact=True).fill("alone")
    call.get_by_role("button", name="Keep it").click()
    expect(call.get_by_role("region", name="The kept case")).to_contain_text("the backend made it")
    call.get_by_role("link", name="booked alone").click()
    desk.get_by_role("button", name="Run in rehearsal").click()
    expect(desk.get_by_role("row", name=re.compile("^alone"))).to_contain_text("passed")


def test_a_contract_is_tested_alone_and_every_element_is_seen(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/tests/suites")
    desk.get_by_role("link", name="From the contract").click()
    desk.goto(f"{own.url}/tests/contract?service=TonnageReport&against=rehearsal")
    desk.get_by_role("button", name="Test it in rehearsal").click()
    told = desk.get_by_role("status").filter(has_text="run")
    expect(told).to_contain_text("passed", timeout=60_000)
    expect(told).to_contain_text("in rehearsal by imke")
    expect(desk.get_by_role("rowheader").first).to_be_visible()
    assert desk.get_by_role("row").count() > 4
