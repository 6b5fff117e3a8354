"""Jobs in the console: where each is, what its steps gave, and a decision that is asked about first."""

from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo


def test_a_job_is_looked_at_and_tried_again(desk: Page, own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        good = client.call("rehearsal", "PermitRenewal", "RenewPermits", {"operatorNumber": "OP-0040", "year": 2031})["answer"]["job"]
        bad = client.call("rehearsal", "PermitRenewal", "RenewPermits", {"operatorNumber": "OP-9999", "year": 2031})["answer"]["job"]
    desk.get_by_role("link", name="Jobs").click()
    rows = desk.get_by_role("row").filter(has_text="PermitRenewal.RenewPermits")
    expect(rows).to_have_count(2)
    expect(rows.filter(has_text="done")).to_have_count(1)
    desk.goto(f"{own.url}/jobs?job={good}")
    side = desk.get_by_role("complementary", name="The selected job")
    expect(side.get_by_text("all[9].permit", exact=True)).to_be_visible()
    expect(side.get_by_text('{"permitNumber":"Y2031-', exact=False).first).to_be_visible()
    expect(side.get_by_role("button", name="…")).to_have_count(0)
    desk.keyboard.press("Escape")
    desk.get_by_role("radio", name="Failed or unknown").click()
    expect(rows).to_have_count(0)  # a declared fault is an answer
    desk.goto(f"{own.url}/jobs?job={bad}")
    expect(side.get_by_text("OP-9999 has no vessels in the register.").first).to_be_visible()
    side.get_by_role("button", name="Try again…").click()
    dialog = desk.get_by_role("dialog")
    dialog.get_by_role("button", name="Keep it as it is").click()
    expect(dialog).to_have_count(0)
    side.get_by_role("button", name="Try again…").click()
    dialog.get_by_role("button", name="Try again").click()
    expect(side.get_by_text("Attempt").locator("xpath=following-sibling::dd[1]")).to_have_text("2")
    side.get_by_role("button", name="End as it is…").click()
    dialog.get_by_role("button", name="End as it is").click()
    expect(side.get_by_text("ended by hand")).to_be_visible()
