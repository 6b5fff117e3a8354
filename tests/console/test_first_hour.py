"""The first hour in the console: from an empty folder to an answered call, on one page, with nothing typed twice."""

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, expect

from tests.core.databases import Servers
from tests.postgres import PASSWORD


@pytest.fixture(scope="module")
def servers() -> Iterator[Servers]:
    found = Servers()
    yield found
    found.close()


def test_from_an_empty_folder_to_an_answered_call(browser: Browser, empty: tuple[str, dict[str, str]], servers: Servers) -> None:
    server = servers.get("postgresql")
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    with server.connect() as db:
        db.execute("CREATE TABLE weir_log (number varchar(8) PRIMARY KEY, opened_on date NOT NULL, metres numeric(6,2))")
        db.execute("INSERT INTO weir_log VALUES ('W-1', '2026-02-03', 2.50)")
    page.goto(empty[0])
    page.get_by_label("Name").fill("imke")
    page.get_by_label("Password").fill("a-long-password-1")
    page.get_by_role("button", name="Make user and sign in").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("The first hour")
    environments = page.get_by_role("listitem", name="Environments")
    environments.get_by_role("button", name="Make them").click()
    expect(environments).to_contain_text("trial, live")
    backend = page.get_by_role("listitem", name="A backend")
    backend.get_by_label("Its address").fill(server.address)
    backend.get_by_label("The database").fill("registry")
    backend.get_by_label("The user").fill("bricola")
    backend.get_by_label("The password").fill("wrong")
    backend.get_by_role("button", name="Connect").click()
    expect(backend.get_by_role("alert").first).to_contain_text("It stops at: signed on")
    backend.get_by_label("The password").fill(PASSWORD)
    backend.get_by_role("button", name="Connect").click()
    table = page.get_by_role("listitem", name="A table as a service")
    expect(table.get_by_label("The name of the service")).to_have_value("WeirLog")
    table.get_by_role("button", name="Publish it in trial").click()
    call = page.get_by_role("listitem", name="A caller, and a call")
    call.get_by_role("button", name="Let it in and call WeirLog").click()
    told = call.get_by_role("status")
    expect(told).to_contain_text("It answered.")
    expect(told).to_contain_text('"metres": "2.50"')
    expect(told).to_contain_text("brc_")
    expect(told).to_contain_text("/soap/trial/WeirLog?wsdl")
    page.goto(page.url.replace("/start", "/"))
    expect(page.get_by_role("link", name="WeirLog")).to_be_visible()
