"""What is there already, brought in by the console alone: a process, a template, a request; and a workflow that is published."""

from pathlib import Path

from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo

SAMPLES = Path(__file__).parents[2] / "src" / "bricola" / "demo" / "samples"


def exported(own: Demo) -> dict[str, str]:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        return client.export()


def test_a_process_with_its_open_end_confirmed(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/processes")
    desk.get_by_label("Files of the process").set_input_files([str(one) for one in sorted((SAMPLES / "towing").iterdir())])
    process = desk.get_by_role("region", name="The process")
    expect(process).to_contain_text("A style sheet (doXslTransform) has no counterpart")
    desk.get_by_label("What callers get at line 38").click()
    desk.get_by_role("option", name="fail problem").click()
    expect(process).to_contain_text("fail: problem")
    desk.get_by_label("Role that may call all of it").fill("lock-desk")
    desk.get_by_role("button", name="Make the drafts").click()
    expect(desk.get_by_role("status").filter(has_text="Towing is a draft.")).to_be_visible()
    assert "fail: problem" in exported(own)["workflows/towing-order.yaml"]
    desk.get_by_role("link", name="Look at the workflow towing-order").click()
    expect(desk.get_by_role("heading", level=1)).to_have_text("towing-order")
    expect(desk.get_by_text("no mistakes")).to_be_visible()


def test_a_template_that_is_filled_in_and_aligned(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/packages?package=summarise-a-list")
    desk.get_by_label("service", exact=True).fill("MovementSummary")
    package = desk.get_by_role("region", name="The package")
    expect(package).to_contain_text("There is another service of this name here.")
    desk.get_by_label("What is done about service MovementSummary").click()
    desk.get_by_role("option", name="keep").click()
    expect(package).to_contain_text("ours stays")
    desk.get_by_label("service", exact=True).fill("TollsOfADay")
    expect(desk.get_by_role("button", name="Make the drafts")).to_be_visible()
    desk.get_by_role("button", name="Make the drafts").click()
    expect(package).to_contain_text("as it came")
    assert "service: TollsOfADay" in exported(own)["services/TollsOfADay.yaml"]


def test_a_package_made_of_drafts(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/packages?make=yes")
    desk.get_by_label("Narrow by name").fill("PassageStatus")
    desk.get_by_label("service PassageStatus").check()
    desk.get_by_label("Name", exact=True).fill("where-they-are")
    desk.get_by_role("button", name="A further word").click()
    desk.get_by_label("Word", exact=True).fill("PassageStatus")
    desk.get_by_label("Parameter").fill("service")
    desk.get_by_role("button", name="Make the package").click()
    expect(desk.get_by_role("status").filter(has_text="where-they-are 1.0 is kept here")).to_be_visible()
    with desk.expect_download() as saved:
        desk.get_by_role("button", name="Save the zip").click()
    assert saved.value.suggested_filename == "where-they-are-1.0.zip"


def test_a_request_becomes_a_service_that_says_so(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/requests")
    desk.get_by_label("Files of the request").set_input_files([str(one) for one in sorted((SAMPLES / "levels-request").iterdir())])
    expect(desk.get_by_role("region", name="The request")).to_contain_text("in the request, locked here")
    desk.get_by_role("button", name="Make the drafts").click()
    desk.get_by_role("link", name="WaterOfficeEnquire").click()
    expect(desk.get_by_role("link", name="levels-4711")).to_be_visible()
    desk.get_by_role("button", name="Change it").click()
    desk.get_by_label("Before each operation").fill("workflow nobody")
    desk.get_by_role("button", name="Make the draft").click()
    expect(desk.get_by_role("dialog").get_by_role("alert")).to_be_visible()
    desk.get_by_label("Before each operation").fill("")
    desk.get_by_label("Who is told of failures that nobody foresaw").fill("error-desk")
    desk.get_by_role("button", name="Make the draft").click()
    expect(desk.get_by_text("live: not bound")).to_be_visible()


def test_a_workflow_is_published(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/workflows?workflow=price-toll")
    desk.get_by_role("button", name="Publish").click()
    desk.get_by_label("Service", exact=True).fill("PriceDesk")
    desk.get_by_label("Role that may call it").fill("lock-desk")
    desk.get_by_role("button", name="Make the draft").click()
    expect(desk.get_by_role("status").filter(has_text="PriceDesk.PriceToll is a draft.")).to_be_visible()
    assert "urn:larkmere:price-desk" in exported(own)["services/PriceDesk.yaml"]
