"""The console in headless Chromium."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from bricola.client import Client
from tests.conftest import Demo
from tests.console.conftest import MOST, sign_in, to_overview

STYLES = Path(__file__).parents[2] / "console" / "src" / "styles.css"


@pytest.fixture
def page(browser: Browser, demo: Demo) -> Iterator[Page]:
    """A page signed in as imke; mistakes in the browser's log fail the test."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(MOST)
    context.grant_permissions(["clipboard-read", "clipboard-write"], origin=demo.url)
    made = context.new_page()
    mistakes: list[str] = []
    made.on("pageerror", lambda error: mistakes.append(str(error)))
    # A refused request is logged by the browser itself; the pages must show it, and the tests look there.
    made.on("console", lambda message: mistakes.append(message.text)
            if message.type == "error" and "Failed to load resource" not in message.text else None)
    sign_in(context, demo)
    yield made
    assert not mistakes
    context.close()


def test_overview_tells_state_and_copies_addresses(page: Page, demo: Demo) -> None:
    to_overview(page, demo)
    row = page.get_by_role("row", name=re.compile("VesselRegistry"))
    expect(row).to_contain_text("serving")
    row.get_by_role("cell").last.click()
    page.get_by_role("button", name="Copy contract address in live").click()
    assert page.evaluate("navigator.clipboard.readText()") == demo.address(face="wsdl")
    page.get_by_label("Narrow by name, group or backend").fill("nothing like it")
    expect(page.get_by_text("No service matches.")).to_be_visible()
    page.get_by_role("button", name="Clear the search").click()
    page.get_by_role("radio", name="live").click()
    expect(page).to_have_url(re.compile("view=live"))
    expect(page.get_by_role("columnheader", name="rehearsal")).to_have_count(0)


def test_the_bench_draws_the_form_sends_and_shows_everything(page: Page, demo: Demo) -> None:
    page.goto(f"{demo.url}/tests?service=VesselRegistry&operation=GetVessel&against=live")
    field = page.get_by_role("textbox", name="registration")
    expect(field).to_have_value("LK-0412")
    page.keyboard.press("Control+Enter")
    result = page.get_by_role("region", name="Result")
    expect(result).to_contain_text("Answered")
    for words in ("Brave Teal", "status 200", "as harbour-desk", "ms"):
        expect(result).to_contain_text(words)
    expect(page.get_by_role("region", name="Request")).to_contain_text("GetVessel")
    expect(page.get_by_role("region", name="Response")).to_contain_text("GetVesselResponse")
    field.fill("LK-9999")
    page.get_by_role("combobox", name="As caller").click()
    page.get_by_role("option", name="toll-audit").click()
    page.get_by_role("radio", name="1.2").click()
    page.get_by_role("button", name=re.compile("Send to live")).click()
    expect(result).to_contain_text("Fault NotFound")
    expect(result).to_contain_text("as toll-audit")
    page.get_by_role("combobox", name="As caller").click()
    page.get_by_role("option", name="nobody").click()
    page.get_by_role("button", name=re.compile("Send to live")).click()
    expect(result).to_contain_text("status 401")
    page.get_by_role("combobox", name="As caller").click()
    page.get_by_role("option", name="first who may").click()
    page.get_by_role("combobox", name="Operation").click()
    page.get_by_role("option", name="FindVessels", exact=True).click()
    page.get_by_role("combobox", name="kind").click()
    page.get_by_role("option", name="tug").click()
    page.get_by_label("limit").fill("3")
    page.keyboard.press("Control+Enter")
    expect(result.get_by_role("row")).to_have_count(4)
    page.get_by_role("radio", name="Text").click()
    page.get_by_label("Request envelope").fill("<broken")
    page.keyboard.press("Control+Enter")
    expect(result).to_contain_text("not well-formed XML")


def test_the_service_page_shows_parameters_contract_and_readiness(page: Page, demo: Demo) -> None:
    page.goto(f"{demo.url}/services/VesselRegistry?view=live")
    expect(page.get_by_role("group", name="Where each version is")).to_contain_text("serving")
    page.get_by_role("button", name=re.compile("^FindVessels 5 in")).click()
    expect(page.get_by_role("rowheader", name="nameContains")).to_be_visible()
    expect(page.get_by_role("region", name="Contract")).to_contain_text("wsdl:definitions")
    page.get_by_role("tab", name=re.compile("Readiness")).click()
    expect(page.get_by_text("Nothing stops the release")).to_be_visible()
    page.goto(f"{demo.url}/services/Nowhere")
    expect(page.get_by_role("alert")).to_contain_text("There is no service")


def test_everything_is_reached_by_keyboard(page: Page, demo: Demo) -> None:
    to_overview(page, demo)
    page.keyboard.press("g")
    page.keyboard.press("c")
    expect(page.get_by_role("heading", level=1)).to_have_text("Calls")
    page.keyboard.press("g")
    page.keyboard.press("s")
    expect(page.get_by_role("heading", level=1)).to_have_text("Services")
    page.get_by_role("link", name="BerthDesk").press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("BerthDesk")
    page.keyboard.press("t")
    expect(page.get_by_role("heading", level=1)).to_have_text("Test bench")
    page.keyboard.press("Control+k")
    page.keyboard.type("calls of")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/calls\?service=BerthDesk"))
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("Keys of this page")
    page.keyboard.press("Escape")
    to_overview(page, demo)
    page.get_by_role("link", name="VesselRegistry").focus()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/services/VesselRegistry"))


def test_theme_is_kept_and_signing_out_ends_the_session_until_somebody_signs_in(page: Page, demo: Demo) -> None:
    to_overview(page, demo)
    page.get_by_role("button", name="Account of imke").click()
    page.get_by_role("menuitem", name="Dark theme").click()
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.get_by_role("button", name="Account of imke").click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Sign in")
    assert page.request.get(f"{demo.url}/api/v1/overview").status == 401
    page.get_by_label("Name").fill("imke")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("The name or the password is wrong.")
    page.get_by_label("Password").fill(demo.password("imke"))
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("in live")


def test_the_page_for_callers_copies_addresses_and_samples(page: Page, demo: Demo) -> None:
    page.goto(demo.address())
    page.get_by_role("button", name="Copy the SOAP address").click()
    assert page.evaluate("navigator.clipboard.readText()") == demo.address()
    face = page.locator("details.face").filter(has_text="SOAP 1.2: request and answer that work").first
    face.get_by_text("SOAP 1.2: request and answer that work").click()
    face.get_by_text("Request", exact=True).click()
    copy = face.get_by_role("button", name="Copy it: Request")
    copy.click()
    expect(copy).to_have_text("Copied")
    assert "<registration>LK-0412</registration>" in page.evaluate("navigator.clipboard.readText()")


def luminance(colour: str) -> float:
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    red, green, blue = (c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: str, other: str) -> float:
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("theme", [":root", '[data-theme="dark"]'])
def test_colour_tokens_keep_the_contrast_of_wcag(theme: str) -> None:
    block = STYLES.read_text().split(f"{theme} {{")[1].split("}")[0]
    token = dict(re.findall(r"--(\w+): (#[0-9A-Fa-f]{6})", block))
    text = [(ink, ground) for ink in ("ink", "ink2", "ink3", "accent", "accent2") for ground in ("sheet", "frame", "inset", "wash")]
    text += [(state, ground) for state in ("ok", "warn", "bad", "hold") for ground in ("sheet", "inset", "wash")]
    text += [("onaccent", "accent"), ("ok", "okwash"), ("warn", "warnwash"), ("bad", "badwash"), ("sattr", "inset")]
    for ink, ground in text:
        assert contrast(token[ink], token[ground]) >= 4.5, (ink, ground)
    for line, ground in (("edge", "sheet"), ("edge", "inset"), ("band", "sheet"), ("band", "frame"), ("band", "wash"), ("post", "inset")):
        assert contrast(token[line], token[ground]) >= 3.0, (line, ground)


def test_from_an_edited_text_to_live_and_back_in_the_console(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions?file=registry/VesselRegistry.yaml")
    text = desk.get_by_label("Text of registry/VesselRegistry.yaml")
    expect(text).to_have_value(re.compile("service: VesselRegistry"))
    sound = text.input_value()
    text.fill(sound.replace("auditor: [GetVessel", "auditor: [GetVesel, GetVessel"))
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("status").first).to_contain_text("Saved as a draft")
    desk.goto(f"{own.url}/services/VesselRegistry?view=live")
    desk.get_by_role("tab", name=re.compile("Readiness")).click()
    expect(desk.get_by_text("1 finding stops the release")).to_be_visible()
    desk.get_by_role("button", name="Mend it").click()
    expect(desk.get_by_role("region", name="Changes of registry/VesselRegistry.yaml")).to_contain_text("GetVesel")  # seen before it is done
    desk.get_by_role("button", name="Make it a draft").click()
    expect(desk.get_by_text("Nothing stops the release")).to_be_visible()
    desk.goto(f"{own.url}/definitions?file=registry/VesselRegistry.yaml")
    text.fill(text.input_value().replace("description: The register", "description: The new register"))
    desk.get_by_role("button", name="Save Ctrl S").click()
    expect(desk.get_by_role("status").first).to_contain_text("Saved as a draft")
    desk.goto(f"{own.url}/releases?service=VesselRegistry")
    desk.get_by_label("What is new").fill("New words")
    desk.get_by_role("button", name="Release r2").click()
    expect(desk.get_by_role("heading", name="VesselRegistry r2")).to_be_visible()
    expect(desk.get_by_role("region", name="Difference of the contract")).to_contain_text("The new register")
    desk.get_by_role("combobox", name="To environment").click()
    desk.get_by_role("option", name="live").click()
    deploy = desk.get_by_role("button", name="Deploy r2")
    expect(deploy).to_have_attribute("aria-disabled", "true")  # live wants its name typed
    desk.get_by_label("Type the environment to confirm").fill("live")
    deploy.click()
    expect(desk.get_by_role("row", name=re.compile("r2.*in force"))).to_be_visible()
    desk.get_by_label("Type the environment to confirm").fill("live")
    desk.get_by_role("button", name="Roll back live").click()
    expect(desk.get_by_role("row", name=re.compile("r1.*roll back.*in force"))).to_be_visible()


def test_a_second_editor_is_told_what_changed(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions?file=types/VesselKind.yaml")
    text = desk.get_by_label("Text of types/VesselKind.yaml")
    text.fill(text.input_value().replace("Kind of vessel", "My words"))
    with Client(own.url) as teo:
        teo.sign_in("teo", own.password("teo"))
        teo.apply({"types/VesselKind.yaml": teo.export()["types/VesselKind.yaml"].replace("Kind of vessel", "Teo's words")})
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("alert")).to_contain_text("teo changed the type VesselKind while you were editing it")
    expect(text).to_have_value(re.compile("My words"))  # nothing of the second editor's work is lost


def test_pools_are_watched_checked_stopped_and_started(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/pools?view=live&pool=registry+live")
    pool = desk.get_by_role("region", name="registry in live")
    expect(pool).to_contain_text("serving")
    expect(pool.get_by_role("row", name=re.compile("warm.*main"))).not_to_have_count(0)
    desk.get_by_role("button", name="Check the way").click()
    check = desk.get_by_role("dialog")
    expect(check.get_by_role("row", name=re.compile("sample read passed .*vessel"))).to_be_visible()
    desk.keyboard.press("Escape")
    desk.get_by_role("button", name="Stop", exact=True).click()
    desk.get_by_role("button", name="Stop and let calls end").click()
    expect(pool).to_contain_text("stopped")
    desk.get_by_role("button", name="Start", exact=True).click()
    expect(pool).to_contain_text("serving")


def test_callers_and_credentials_are_managed_and_secrets_shown_once(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/access")
    desk.get_by_role("button", name="New caller").click()
    desk.get_by_label("Name").fill("quay-kiosk")
    desk.get_by_label("Roles").fill("auditor")
    desk.get_by_label("Allowed networks").fill("10.20.0.1/16")
    desk.get_by_role("button", name="Add the caller").click()
    expect(desk.get_by_role("alert")).to_contain_text("not a network")
    desk.get_by_label("Allowed networks").fill("10.20.0.0/16")
    desk.get_by_role("button", name="Add the caller").click()
    row = desk.get_by_role("row", name=re.compile("quay-kiosk.*from 10"))
    row.get_by_role("button", name="New token").click()
    token = desk.get_by_role("dialog").locator("code").inner_text()
    assert token.startswith("brc_")
    desk.keyboard.press("Escape")
    assert token not in desk.content()
    desk.get_by_role("tab", name="Credentials").click()
    desk.get_by_role("button", name="New credential").click()
    desk.get_by_label("Name").fill("tide-feed")
    desk.get_by_role("textbox", name="User").fill("clerk")
    desk.get_by_label("Secret").fill("weir-crest-88")
    desk.get_by_role("button", name="Add the credential").click()
    expect(desk.get_by_role("row", name=re.compile("tide-feed password clerk"))).to_be_visible()
    assert "weir-crest-88" not in desk.content()
    desk.get_by_role("tab", name="Audit trail").click()
    expect(desk.get_by_role("row", name=re.compile("imke add credential tide-feed"))).to_be_visible()
    desk.get_by_role("tab", name="Users").click()
    expect(desk.get_by_role("row", name=re.compile("teo"))).to_contain_text("also edits and releases definitions")
