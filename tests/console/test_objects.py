"""What lies in a database, in the console: objects made of tables, edited, published by ticks; real keys, trials and comparison at the bench;
and routines, found beneath the tables and tried."""

import re
import sqlite3
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo
from tests.core.databases import Servers
from tests.core.routines import MARIADB, ROWS
from tests.postgres import PASSWORD


def test_a_table_becomes_a_service_with_what_is_ticked(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/database?view=live")
    desk.get_by_label("Part of a name or comment").fill("perm")
    desk.get_by_role("button", name=re.compile("permit")).click()
    expect(desk.get_by_role("region", name="Table")).to_contain_text("vessel refers to vessel")
    desk.get_by_label("Service").fill("PermitBook")
    desk.get_by_label("Roles").fill("auditor")
    desk.get_by_label("Create", exact=True).check()
    desk.get_by_role("button", name="Show the text").click()
    expect(desk.get_by_label("Make an object")).to_contain_text("validFrom: {type: date")
    desk.get_by_role("button", name="Make it").click()
    expect(desk.get_by_role("status").filter(has_text="Saved as 2 drafts")).to_be_visible()
    desk.get_by_role("link", name="Look at PermitBook").click()
    expect(desk.get_by_role("heading", level=1)).to_have_text("PermitBook")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        assert [one["name"] for one in client.service("PermitBook")["operations"]] == ["GetPermit", "FindPermits", "CreatePermit"]


def test_what_the_database_does_not_say_is_asked_and_what_it_has_is_named(desk: Page, own: Demo) -> None:
    with sqlite3.connect(own.data / "sightings.db") as db:
        db.execute("CREATE TABLE mood (code TEXT PRIMARY KEY, words TEXT)")
        db.execute("INSERT INTO mood VALUES ('calm', 'Calm water')")
        db.execute("CREATE TABLE sighting (id INTEGER PRIMARY KEY AUTOINCREMENT, number VARCHAR(9) NOT NULL UNIQUE, seen DATETIME,"
                   " mood TEXT NOT NULL REFERENCES mood (code), spot GEOMETRY, told DATE DEFAULT CURRENT_DATE)")
        db.execute("INSERT INTO sighting (number, seen, mood) VALUES ('S-1', '2026-02-03 04:05:06', 'calm')")
    db.close()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.connect_backend("sightings", "rehearsal", "sqlite", {"file": "sightings.db"})
        desk.goto(f"{own.url}/definitions/database?place=rehearsal+sightings&table=sighting")
        rows = desk.get_by_role("region", name="Table").get_by_role("row")
        expect(rows.filter(has_text="number")).to_contain_text("string")
        expect(rows.filter(has_text="told")).to_contain_text("the database, if nothing is given")
        expect(rows.filter(has_text="INTEGER")).to_contain_text("the database alone")
        expect(rows.filter(has_text="GEOMETRY")).to_contain_text("none, left out")
        form = desk.get_by_role("complementary", name="Make an object")
        expect(form).to_contain_text("The database does not say which zone they are in")
        form.get_by_role("combobox", name="Moments of seen").click()
        desk.get_by_role("option", name="are in UTC").click()
        form.get_by_role("combobox", name="Key").click()
        desk.get_by_role("option", name="number (unique)").click()
        form.get_by_role("button", name="Make it").click()
        expect(form).to_contain_text("sighting.spot is left out: messages have no type for GEOMETRY")
        expect(form.get_by_role("status")).to_contain_text("Saved as 2 drafts")  # the moods are an object to pick from
        made = client.export()["objects/sighting.yaml"]
        for line in ("key: [number]", "zone: utc", "refers_to: mood", "database_default: true", "sample: S-1"):
            assert line in made, made


def test_a_field_is_edited_and_an_operation_published_by_a_tick(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/objects?object=vessel")
    desk.get_by_role("button", name="notes", exact=True).click()
    desk.get_by_label("Label, de").fill("Vermerke")
    desk.get_by_label("notes sensitive").check()
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("status").filter(has_text="Saved as a draft")).to_be_visible()
    ticks = desk.get_by_role("complementary", name="Published operations")
    check = ticks.get_by_role("checkbox", name=re.compile("^check"))
    expect(check).not_to_be_checked()
    check.click()
    expect(ticks).to_contain_text("CheckVessel")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        text = client.export()["registry/vessel.yaml"]
        assert "{en: Notes, de: Vermerke}" in text
        assert "sensitive: true" in text
        assert "CheckVessel: {runs: vessel.check}" in client.export()["registry/VesselRegistry.yaml"]
        assert client.service("VesselRegistry")["stage"] == "edited, not released"
    check.click()
    expect(ticks).not_to_contain_text("CheckVessel")


def test_what_does_not_fit_is_told_beside_the_editor(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/objects?object=passage")
    desk.get_by_role("button", name="toll", exact=True).click()
    desk.get_by_label("Default").fill("free")
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("alert")).to_contain_text("not a decimal number")
    desk.get_by_label("Default").fill("")
    desk.keyboard.press("Control+s")
    expect(desk.get_by_role("alert")).to_have_count(0)


def test_the_bench_offers_real_keys_tries_writes_and_compares(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/tests?service=VesselRegistry&operation=UpdateVessel&against=live&view=live")
    desk.get_by_role("button", name="Pick a real vessel for registration").click()
    desk.get_by_label("Part of the key or of its texts").fill("LK-0007")
    desk.get_by_role("dialog").get_by_role("button", name="LK-0007").click()
    expect(desk.get_by_role("textbox", name="registration")).to_have_value("LK-0007")
    desk.locator("#in-name").fill("Blue Teal")
    desk.get_by_label("Trial").check()
    desk.get_by_role("button", name=re.compile("Try in live")).click()
    result = desk.get_by_role("region", name="Result")
    expect(result).to_contain_text("everything ran and was rolled back")
    expect(result).to_contain_text("Blue Teal")
    desk.goto(f"{own.url}/tests?service=VesselRegistry&operation=FindVessels&against=live&view=live")
    desk.get_by_role("button", name=re.compile("Send to live")).click()
    desk.get_by_role("radio", name="Beside the source").click()
    expect(result).to_contain_text("20 of 20 rows are equal to the table vessel")
    expect(result).to_contain_text("in the stated order")


def test_several_tables_are_ticked_planned_and_saved_and_a_role_is_let_in(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions/database?place=rehearsal+registry&several=yes")
    page = desk.get_by_role("region", name="Several tables")
    page.get_by_label("All tables").uncheck()
    for name in ("berth", "gauge"):
        page.get_by_label(name, exact=True).check()
    rule = desk.get_by_role("complementary", name="The rule")
    rule.get_by_label("Service").fill("QuayBook")
    rule.get_by_label("Columns left out").fill("metres")
    rule.get_by_label("Keep as rule").fill("quays")
    rule.get_by_role("button", name="See what 2 tables become").click()
    expect(page.get_by_role("row").filter(has_text="berth")).to_contain_text("GetBerth, FindBerths")
    expect(page.get_by_role("row").filter(has_text="berth")).to_contain_text("without metres")
    rule.get_by_role("button", name=re.compile("Save .* as drafts")).click()
    expect(rule.get_by_role("status")).to_contain_text("saved as drafts")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        assert len(client.service("QuayBook")["operations"]) == 4
        client.release("QuayBook")
        client.deploy("QuayBook", "rehearsal")
        desk.goto(f"{own.url}/access?tab=grants")
        desk.get_by_role("button", name="Add a role to QuayBook").click()
        form = desk.get_by_role("dialog")
        form.get_by_label("Role").fill("auditor")
        form.get_by_label("all operations").uncheck()
        form.get_by_label("GetGauge").check()
        form.get_by_role("button", name="See what it changes").click()
        expect(form).to_contain_text("auditor may call GetGauge of QuayBook in rehearsal.")
        form.get_by_role("button", name="Do it, at once").click()
        expect(desk.get_by_role("row").filter(has_text="QuayBook")).to_contain_text("GetGauge")
        [place] = [one for one in client.access() if one["service"] == "QuayBook"]
        assert [(one["role"], one["operations"]) for one in place["roles"]] == [("auditor", ["GetGauge"])]


@pytest.fixture
def toll_desk(own: Demo) -> Iterator[Client]:
    """A real server with routines, bound in rehearsal."""
    servers = Servers()
    server = servers.get("mariadb")
    connection = server.connect()
    with connection.cursor() as cursor:
        for one in (*MARIADB, *ROWS):
            cursor.execute(one)
    connection.close()
    with Client(own.url) as made:
        made.sign_in("imke", own.password("imke"))
        made.add_credential("toll-desk", PASSWORD, user="bricola")
        made.connect_backend("toll-desk", "rehearsal", "mariadb",
                             {"address": server.address, "database": "registry", "credential": "toll-desk"})
        yield made
    servers.close()


def test_a_procedure_is_found_tried_and_made_an_operation(desk: Page, own: Demo, toll_desk: Client) -> None:
    desk.goto(f"{own.url}/definitions/database?place=rehearsal%20toll-desk")
    routines = desk.get_by_label("Routines")
    expect(routines.get_by_role("button")).to_have_count(7)
    desk.get_by_label("Part of a name or comment").fill("sheet")
    expect(desk.get_by_text("No table mentions that.")).to_be_visible()
    routines.get_by_role("button", name="lock_sheet").click()
    expect(desk.get_by_role("heading", name="lock_sheet")).to_be_visible()
    expect(desk.get_by_text("no catalogue tells")).to_be_visible()
    make = desk.get_by_label("Make an operation")
    make.get_by_role("button", name="Show the text").click()
    expect(make.get_by_text("they are not in the definition")).to_be_visible()
    make.get_by_label("Call it once in rehearsal").check()
    make.get_by_label("p_lock").fill("LM01")
    make.get_by_role("button", name="Show the text").click()
    expect(make.get_by_text("record: LockSheetRow2")).to_be_visible()
    make.get_by_label("Service").fill("LockSheets")
    make.get_by_label("Roles").fill("lock-desk")
    make.get_by_role("button", name="Make it").click()
    expect(make.get_by_role("status")).to_contain_text("routines/lock-sheet.yaml")
    expect(routines.get_by_role("button", name="lock_sheet")).to_contain_text("in LockSheets")
    toll_desk.release("LockSheets")
    toll_desk.deploy("LockSheets", "rehearsal")
    answer = toll_desk.call("rehearsal", "LockSheets", "LockSheet", {"lock": "LM01"})["answer"]
    assert [one["number"] for one in answer["row2"]] == [1, 2]

    path = "routines/lock-sheet.yaml"  # as if another parameter had been there when it was made
    toll_desk.apply({path: toll_desk.export()[path].replace("p_lock:", "p_site: {declared: int}\n  p_lock:", 1).replace(
        "fixed: {}", "").replace("\nrows:", "\nfixed: {p_site: 1}\nrows:")})
    desk.reload()
    routines.get_by_role("button", name="lock_sheet").click()
    desk.get_by_role("button", name="See what differs").click()
    panel = desk.get_by_role("dialog")
    expect(panel.get_by_role("row").filter(has_text="p_site")).to_contain_text("no such parameter")
    expect(panel).to_contain_text("LockSheets.LockSheet")
    panel.get_by_role("button", name="Save as a draft").click()
    expect(routines.get_by_role("button", name="lock_sheet")).to_contain_text("in LockSheets")
    assert "p_site" not in toll_desk.export()[path]
