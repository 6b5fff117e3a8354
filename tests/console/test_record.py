"""A walk recorded in the console, from the first key to a published operation; films and their checks."""

import re

from playwright.sync_api import Locator, Page, expect

from bricola.client import Client, ServiceClient
from tests.conftest import Demo


class Host:
    """The host screen of a page: cells by row and column, from 1."""

    def __init__(self, page: Page) -> None:
        self._page = page

    @property
    def pane(self) -> Locator:
        return self._page.locator("[data-host-screen]").first

    def _at(self, row: int, column: int) -> tuple[float, float]:
        box = self.pane.bounding_box()
        assert box is not None
        return box["x"] + (column - 0.5) * box["width"] / 80, box["y"] + (row - 0.5) * box["height"] / 24

    def click(self, row: int, column: int) -> None:
        self._page.mouse.click(*self._at(row, column))

    def drag(self, row: int, column: int, last_row: int, last_column: int) -> None:
        self._page.mouse.move(*self._at(row, column))
        self._page.mouse.down()
        self._page.mouse.move(*self._at(last_row, last_column), steps=4)
        self._page.mouse.up()

    def shows(self, name: str) -> None:
        expect(self._page.locator(".term").get_by_text(name, exact=True).first).to_be_visible()

    def type(self, text: str, key: str) -> None:
        self.pane.focus()
        self._page.keyboard.type(text)
        self._page.keyboard.press(key)


def test_a_walk_is_recorded_and_published_from_first_key_to_call(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/screens/record?place=rehearsal+ledger")
    desk.get_by_role("button", name="Open the terminal").click()
    host = Host(desk)
    host.shows("menu")
    host.type("1", "Enter")
    host.shows("lkm200")
    desk.keyboard.type("LK-0412")
    host.click(5, 31)
    desk.get_by_role("button", name="Make it an input").click()
    expect(desk.get_by_role("region", name="The selected place")).to_contain_text("registration")
    host.type("", "Enter")
    host.shows("lkm210")
    desk.get_by_label("Name of the screen lkm210").fill("ledger")
    host.click(4, 47)
    desk.get_by_role("button", name="Make it an output").click()
    host.click(5, 54)
    desk.get_by_role("button", name="Make it an output").click()
    expect(desk.get_by_role("region", name="The selected place")).to_contain_text("24.88")
    host.drag(8, 8, 22, 54)
    desk.get_by_role("button", name="Make it a list").click()
    form = desk.get_by_role("region", name="The selected list")
    expect(form.get_by_label("Name of column 4")).to_have_value("tonnes")
    form.get_by_label("Name", exact=True).fill("line")
    expect(desk.get_by_role("complementary", name="Recorded moves")).to_contain_text("Go back to menu")
    host.type("", "F12")
    host.shows("menu")
    moves = desk.get_by_role("complementary", name="Recorded moves")
    expect(moves).to_contain_text("Back at the start")
    desk.get_by_role("button", name="Replay from move 1").click()
    expect(moves.get_by_text("came again")).to_have_count(3)
    desk.get_by_role("button", name="Finish").click()
    desk.get_by_label("Name of the flow").fill("vessel-enquiry")
    desk.get_by_label("What it does").fill("Reads what a vessel owes")
    desk.get_by_label("Service").fill("VesselEnquiry")
    desk.get_by_label("Operation").fill("GetEnquiry")
    desk.get_by_label("It only reads").check()
    desk.get_by_label("lock-desk").check()
    desk.get_by_role("button", name="Check it first").click()
    expect(desk.get_by_text("The recording is sound")).to_be_visible()
    desk.get_by_role("button", name="Save as drafts").click()
    expect(desk.get_by_text("Saved as drafts, and filmed")).to_be_visible()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        assert next(one for one in client.screen_flows() if one["flow"] == "vessel-enquiry")["film"]["moves"] == 3
        client.release("VesselEnquiry", "Recorded")
        client.deploy("VesselEnquiry", "rehearsal")
    with ServiceClient(f"{own.url}/rest/rehearsal/VesselEnquiry", own.token("tideway-portal")) as service:
        answer = service.call("GetEnquiry", registration="LK-0412")
    assert (answer["name"], answer["due"], len(answer["line"]), answer["complete"]) == ("Brave Teal", "24.88", 300, True)
    assert answer["line"][0].keys() == {"passedOn", "lock", "dir", "tonnes", "toll"}


def test_secrets_are_dots_and_an_unfinished_recording_is_not_saved(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/screens/record?place=rehearsal+berths")
    desk.get_by_role("button", name="Open the terminal").click()
    host = Host(desk)
    host.shows("menu")
    host.type("7", "Enter")
    expect(desk.get_by_label("Host screen")).to_contain_text("There is no choice 7.")
    desk.get_by_role("button", name="Reset").click()
    host.type("", "Tab")  # what was refused still stands in the field
    host.type("b", "Enter")
    host.shows("bd0210")
    desk.get_by_role("button", name="Finish").click()
    desk.get_by_label("Name of the flow").fill("berth-walk")
    desk.get_by_role("button", name="Check it first").click()
    alert = desk.get_by_role("dialog").get_by_role("alert")
    expect(alert).to_contain_text("does not end on the start screen")
    expect(alert).to_contain_text("Nothing is answered")
    desk.get_by_role("button", name="Save as drafts").click()
    expect(alert).to_contain_text("does not end on the start screen")
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        assert "berth-walk" not in [one["flow"] for one in client.screen_flows()]


def test_a_film_is_looked_at_and_held_against_the_host(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/screens?flow=vessel-ledger")
    film = desk.get_by_role("region", name="Film")
    expect(film).to_contain_text("LKM000")
    desk.get_by_role("button", name="Next move").click()
    expect(film).to_contain_text("M A I N   M E N U")
    side = desk.get_by_role("complementary", name="Moves and checks")
    side.get_by_role("button", name="Check now").first.click()
    expect(side.get_by_text(re.compile("^as filmed")).first).to_be_visible()
