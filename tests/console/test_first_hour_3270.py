"""The first hour with a 3270 host in the console: a raw terminal before anything is defined, a backend of one sign-on, a recorded task
that answers; and what the recorder sets by hand."""

import re
from pathlib import Path

from playwright.sync_api import Browser, expect

from tests.console.test_record import Host
from tests.core.terminals import PASSWORD, USER
from tests.hosts import host_on_a_thread


def test_from_an_empty_folder_to_an_answered_call_on_a_3270_host(browser: Browser, empty: tuple[str, dict[str, str]], tmp_path: Path) -> None:
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    with host_on_a_thread("ledger", tmp_path) as address:
        page.goto(empty[0])
        page.get_by_label("Name").fill("imke")
        page.get_by_label("Password").fill("a-long-password-1")
        page.get_by_role("button", name="Make user and sign in").click()
        page.get_by_role("listitem", name="Environments").get_by_role("button", name="Make them").click()
        page.get_by_role("link", name=re.compile("see it at a terminal")).click()
        page.get_by_label("Its address").fill(address)
        page.get_by_role("button", name="Open a terminal there").click()
        host = Host(page)
        host.pane.focus()
        for text, key in ((USER, "Tab"), (PASSWORD, "Enter")):
            page.keyboard.type(text)
            page.keyboard.press(key)
        host.shows("lkm100")
        assert PASSWORD not in page.content()
        page.get_by_role("button", name="Connect it").click()
        page.get_by_label("What it is called here").fill("old-ledger")
        page.get_by_role("dialog").get_by_role("button", name="Connect it").click()
        expect(page.get_by_role("status").filter(has_text="old-ledger is connected in trial")).to_be_visible()

        page.get_by_role("button", name="Open the terminal").click()
        host.shows("lkm100")
        host.type("1", "Enter")
        host.shows("lkm200")
        page.keyboard.type("LK-9999")
        page.keyboard.press("Enter")
        expect(page.get_by_text("VESSEL LK-9999 IS NOT ON FILE").first).to_be_visible()
        host.click(23, 12)
        page.get_by_role("button", name="It is a refusal of the host").click()
        page.get_by_label("Text of the fault VesselLkIsNot").fill("IS NOT ON FILE")
        page.get_by_label("Name of the fault IS NOT ON FILE").fill("VesselNotFound")
        page.get_by_role("button", name="Remove move 2").click()
        host.pane.focus()
        page.keyboard.press("Tab")  # to the only field, from whose start it is typed over
        page.keyboard.type("LK-0412")
        host.click(5, 31)
        page.get_by_role("button", name="Make it an input").click()
        host.type("", "Enter")
        host.shows("lkm210")
        host.click(4, 47)
        page.get_by_role("button", name="Make it an output").click()
        host.drag(8, 8, 22, 54)
        page.get_by_role("button", name="Make it a list").click()
        form = page.get_by_role("region", name="The selected list")
        form.get_by_role("button", name="Add a column").click()
        form.get_by_label("Name of column 6").fill("passageNumber")
        form.get_by_label("Begin of column 6").fill("58")
        form.get_by_label("Length of column 6").fill("9")
        form.get_by_role("button", name="Move the column passageNumber up").click()
        expect(form.get_by_label("Name of column 5")).to_have_value("passageNumber")
        host.type("", "F3")
        page.wait_for_timeout(300)
        host.type("", "F3")
        host.shows("lkm100")
        page.get_by_role("button", name="Change move 1").click()
        page.get_by_label("Text of move 1 at row 12, column 38").fill("1")
        page.get_by_role("button", name="Finish").click()
        page.get_by_label("Name of the flow").fill("vessel-ledger")
        page.get_by_label("Service").fill("OldLedger")
        page.get_by_label("Operation").fill("GetLedger")
        page.get_by_label("The role that may call it").fill("reader")
        page.get_by_label("It only reads").check()
        page.get_by_role("button", name="Save and publish in trial").click()
        expect(page.get_by_text("OldLedger answers in trial")).to_be_visible()
        page.get_by_role("link", name="Let a caller in").click()
        call = page.get_by_role("listitem", name="A caller, and a call")
        call.get_by_role("button", name="Let it in and call OldLedger").click()
        told = call.get_by_role("status")
        expect(told).to_contain_text("It answered.")
        expect(told).to_contain_text("PS-0")
    page.close()
