"""Everything new by forms: a type, a record from a sample, an object with finder, child and parent, a query, a backend, an environment,
and a service that answers; form and text say the same all the way."""

import re

from playwright.sync_api import Page, expect

from bricola.client import Client
from tests.conftest import Demo
from tests.console.conftest import to_overview


def _open(desk: Page, own: Demo, kind: str) -> None:
    desk.goto(f"{own.url}/definitions?new={kind}")
    expect(desk.get_by_role("heading", name=re.compile("A new"))).to_be_visible()


def _fill(desk: Page, **fields: str) -> None:
    form = desk.get_by_role("region", name="Form", exact=True)
    for name, value in fields.items():
        form.get_by_role("textbox", name=re.compile(rf"^{name.replace('_', ' ')}( \*)?$")).or_(
            form.get_by_role("combobox", name=re.compile(rf"^{name.replace('_', ' ')}( \*)?$"))).first.fill(value)


def _add(desk: Page, to: str, name: str, **fields: str) -> None:
    desk.get_by_label(f"Name of a new one in {to}", exact=True).fill(name)
    desk.get_by_role("button", name=f"Add to {to}", exact=True).click()
    for field, value in fields.items():
        desk.get_by_label(f"{field} of {name}", exact=True).fill(value)


def _save(desk: Page) -> None:
    expect(desk.get_by_role("button", name=re.compile("^Save"))).to_have_attribute("aria-disabled", "false")
    desk.keyboard.press("Control+s")


def _text(desk: Page) -> str:
    return desk.get_by_label(re.compile("^Text of ")).input_value()


def test_a_type_and_a_record_are_drawn_and_a_record_comes_from_a_sample(desk: Page, own: Demo) -> None:
    to_overview(desk, own)
    desk.get_by_role("link", name="Services", exact=True).click()
    expect(desk.get_by_role("heading", name="Services", level=1)).to_be_visible()
    expect(desk.get_by_role("row", name=re.compile("VesselRegistry"))).to_contain_text("serving")
    desk.get_by_role("link", name="All definitions").click()
    desk.get_by_role("button", name="New", exact=True).click()
    desk.get_by_role("link", name=re.compile("^Type ")).click()
    _fill(desk, name="WeirCode", base="string")
    desk.get_by_role("button", name=re.compile("^More: ")).click()
    _fill(desk, pattern="W[0-9]{2}")
    expect(desk.get_by_label(re.compile("^Text of "))).to_have_value("type: WeirCode\nbase: string\npattern: W[0-9]{2}\n")
    _save(desk)
    expect(desk.get_by_text("Saved as a draft")).to_be_visible()

    _fill(desk, description="Of a weir, as it is painted there")
    desk.keyboard.press("Control+s")  # before the text has followed the form: nothing that was typed is lost
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        for _ in range(50):
            text = client.export()["types/WeirCode.yaml"]
            if "painted" in text:
                break
            desk.wait_for_timeout(100)
    assert "description: Of a weir, as it is painted there\n" in text

    _open(desk, own, "record")
    desk.get_by_role("button", name="From a sample or a schema").click()
    desk.get_by_label("The sample or schema").fill('{"weir": "W01", "gates": [{"number": 1, "open": true}], "crestM": 4.25}')
    desk.get_by_label("The name of the record").fill("WeirState")
    desk.get_by_role("button", name="Draw the record").click()
    expect(desk.get_by_role("status").filter(has_text="WeirState")).to_contain_text("Gate")
    desk.get_by_role("button", name="Take it into the form").click()
    desk.get_by_label("type of weir", exact=True).fill("WeirCode")  # the form is still a form
    desk.get_by_role("button", name="All of weir", exact=True).click()
    desk.get_by_role("textbox", name="sample").fill("W07")
    desk.get_by_role("radio", name="Sample message").click()
    expect(desk.get_by_role("region", name="Sample message")).to_contain_text("<crestM>4.25</crestM>")
    expect(desk.get_by_role("region", name="Sample message")).to_contain_text("<weir>W07</weir>")
    _save(desk)
    expect(desk.get_by_text("Saved as a draft")).to_be_visible()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        files = client.export()
    assert "weir: {type: WeirCode, sample: W07}" in files["records/WeirState.yaml"]
    assert files["records/Gate.yaml"].startswith("record: Gate\n")


def test_an_object_a_query_and_a_service_are_made_by_forms_and_answer(desk: Page, own: Demo) -> None:
    _open(desk, own, "object")
    _fill(desk, name="harbour-master", backend="registry", table="operator", key="number")
    for name, kind, column in (("number", "string", ""), ("title", "string", "name")):
        _add(desk, "fields", name, type=kind)
        if column:
            row = desk.locator(f'[data-path="fields/{name}"]')
            row.get_by_role("button", name=re.compile("^More: ")).click()
            row.locator(f'[data-path="fields/{name}/column"]').get_by_role("textbox").fill(column)
    _all(desk)
    _add(desk, "finders", "byName")
    row = desk.locator('[data-path="finders/byName"]')
    row.get_by_role("button", name=re.compile("^More: ")).click()
    _add(desk, "filters", "title", field="title")
    assert "finders:\n  byName:\n    filters:\n      title: {field: title}\n" in _settled(desk)
    _save(desk)
    expect(desk.get_by_text("Saved as a draft")).to_be_visible()

    _open(desk, own, "query")
    _fill(desk, name="operators", backend="registry", key="number")
    desk.get_by_role("region", name="Form", exact=True).locator("textarea").fill(
        "SELECT number, name\nFROM operator")
    for name in ("number", "name"):
        _add(desk, "columns", name, type="string")
    _save(desk)
    expect(desk.get_by_text("Saved as a draft")).to_be_visible()

    _open(desk, own, "service")
    _fill(desk, name="Masters")
    _all(desk)
    for operation, runs in (("GetMaster", "harbour-master.get"), ("FindMasters", "harbour-master.byName"),
                            ("ListOperators", "query operators")):
        _add(desk, "operations", operation, runs=runs)
    desk.get_by_label("Name of a new one in access").fill("reader")
    desk.get_by_role("button", name="Add to access").click()
    desk.get_by_label("reader of access").fill("all")
    assert "access:\n  reader: all\noperations:\n  GetMaster: {runs: harbour-master.get}" in _settled(desk)
    _save(desk)
    expect(desk.get_by_text("Saved as a draft")).to_be_visible()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.release("Masters", "made by forms")
        client.deploy("Masters", "rehearsal")
        operations = {one["name"] for one in client.operations("Masters", "rehearsal")}
    assert operations == {"GetMaster", "FindMasters", "ListOperators"}


def _all(desk: Page) -> None:
    """Open what the form of the whole folds away."""
    desk.get_by_role("region", name="Form", exact=True).get_by_role("button", name=re.compile("^More: ")).last.click()


def _settled(desk: Page) -> str:
    desk.wait_for_timeout(600)
    return _text(desk)


def test_what_is_typed_as_text_shows_in_the_form_and_mistakes_name_their_line(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/definitions?file=types/VesselKind.yaml")
    box = desk.get_by_label("Text of types/VesselKind.yaml")
    expect(box).to_have_value(re.compile("^type: VesselKind"))
    box.fill(_text(desk).replace("base: string", "bse: string"))
    expect(desk.get_by_text("The key is not known here").or_(desk.get_by_text("bse")).first).to_be_visible()
    box.fill(_text(desk).replace("bse: string", "base: string").replace("tug", "tow"))
    expect(desk.get_by_role("region", name="Form", exact=True).get_by_role("textbox", name=re.compile("^codes"))).to_have_value(
        re.compile("tow"))


def test_an_environment_asks_before_it_is_in_effect_and_a_backend_is_connected_and_tried(desk: Page, own: Demo) -> None:
    _open(desk, own, "environment")
    _fill(desk, name="yard", description="For builders")
    _save(desk)
    dialog = desk.get_by_role("dialog", name="This is in effect at once")
    expect(dialog).to_contain_text("environments/yard.yaml")
    dialog.get_by_role("button", name="Save, in effect at once").click()
    expect(desk.get_by_text("In effect since")).to_be_visible()

    desk.goto(f"{own.url}/definitions?new=backend")
    desk.get_by_role("combobox", name="In which environment").click()
    desk.get_by_role("option", name="yard").click()
    desk.get_by_role("combobox", name="What is it").click()
    desk.get_by_role("option", name="SQLite").click()
    desk.get_by_label("Its file, below the data folder").fill("rehearsal/registry.db")
    desk.get_by_label("What it is called here").fill("registry")
    desk.get_by_role("button", name="Connect and try the way").click()
    expect(desk.get_by_role("alert").filter(has_text="registry already")).to_be_visible()  # nobody's backend is bound elsewhere
    desk.get_by_label("What it is called here").fill("yard-register")
    desk.get_by_role("button", name="Connect and try the way").click()
    expect(desk.get_by_text("The way is open")).to_be_visible()
    expect(desk.get_by_role("region", name="Text", exact=True)).to_contain_text("yard-register: {file: rehearsal/registry.db}")


PLACES = [
    ("new record", "New record", "/definitions?new=record"), ("getvessel", "Test VesselRegistry.GetVessel", "operation=GetVessel"),
    ("pool registry live", "Pool registry in live", "/pools?pool="), ("credential", "Credentials", "tab=credentials"),
    ("type vesselkind", "type VesselKind", "of=type"), ("first hour", "The first hour", "/start"),
    ("caller night", "Caller night-batch", "caller=night-batch"),
]


def test_find_a_place_finds_every_place(desk: Page, own: Demo) -> None:
    to_overview(desk, own)
    for words, place, address in PLACES:
        desk.keyboard.press("Control+k")
        desk.get_by_role("combobox", name="Find a place").fill(words)
        desk.get_by_role("option", name=place, exact=True).click()
        expect(desk).to_have_url(re.compile(re.escape(address)))
