"""Procedures and functions in the console: found beneath the tables, their rows seen by calling one once, made an operation."""

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo
from tests.core.databases import Servers
from tests.core.routines import MARIADB, ROWS
from tests.postgres import PASSWORD


@pytest.fixture(scope="module")
def client(own: Demo) -> Iterator[Client]:
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


def test_a_procedure_is_found_tried_and_made_an_operation(desk: Page, client: Client) -> None:
    desk.goto(desk.url.split("/?")[0].rstrip("/") + "/definitions/database?place=rehearsal%20toll-desk")
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
    client.release("LockSheets")
    client.deploy("LockSheets", "rehearsal")
    answer = client.call("rehearsal", "LockSheets", "LockSheet", {"lock": "LM01"})["answer"]
    assert [one["number"] for one in answer["row2"]] == [1, 2]
