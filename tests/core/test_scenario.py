"""The demo's own definitions, unchanged, on every engine: the same calls give the same answers."""

import sqlite3
from collections.abc import AsyncIterator, Iterator
from datetime import date
from decimal import Decimal
from importlib import resources
from pathlib import Path
from typing import Any

import pytest

from bricola import demo
from bricola.adapters.engines import DOORS
from bricola.core.calls.call import Call
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.routines.drafting import Wish, draft_routine
from bricola.core.kinds.routines.trying import results_of
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import to_plain
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService
from bricola.demo import registry
from bricola.demo.start import catalogue_files
from tests.core.databases import ENGINES, Database, Servers, call

_ORDER = ("operator", "vessel", "permit", "lock", "berth", "passage", "gauge")


@pytest.fixture(scope="module")
def original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("registry") / "registry.db"
    registry.make_registry(path)
    return path


@pytest.fixture(scope="module")
def rows(original: Path) -> Iterator[dict[str, list[tuple[Any, ...]]]]:
    with sqlite3.connect(original) as db:
        yield {table: db.execute(f'SELECT * FROM "{table}"').fetchall() for table in _ORDER}
    db.close()


def fill(database: Database, original: Path, rows: dict[str, list[tuple[Any, ...]]], folder: Path) -> None:
    """The registry as the demo makes it, or the same rows in tables of the server's own types."""
    if database.server is None:
        (folder / "t.db").write_bytes(original.read_bytes())
        return
    schema = registry.SCHEMA.replace("DATETIME", "TIMESTAMP") if database.engine == "postgresql" else registry.SCHEMA
    for old in (" lock (", " lock INTEGER", "(lock,"):
        schema = schema.replace(old, old.replace("lock", '"lock"'))
    if database.engine == "mariadb":
        schema = schema.replace(" TEXT NOT NULL", " VARCHAR(200) NOT NULL").replace(" TEXT PRIMARY", " VARCHAR(40) PRIMARY")
    database.run(*(one for one in schema.split(";") if one.strip()))
    connection = database.server.connect()
    with connection.cursor() as cursor:
        for table in _ORDER:
            marks = ", ".join(["%s"] * len(rows[table][0]))
            values = [tuple(one.removesuffix("Z") if isinstance(one, str) and one.endswith("Z") else one for one in row) for row in rows[table]]
            cursor.executemany(f'INSERT INTO "{table}" VALUES ({marks})', values)
    connection.close()


def definitions() -> list[str]:
    return [text for path, text in catalogue_files().items() if path.partition("/")[0] in ("types", "registry")]


def definitions_here() -> list[str]:
    return [text.replace("backend: registry", "backend: river") for text in definitions()]


@pytest.fixture(params=ENGINES)
async def services(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers, original: Path,
                   rows: dict[str, list[tuple[Any, ...]]]) -> AsyncIterator[dict[str, LiveService]]:
    database = Database(request.param, tmp_path, servers)
    fill(database, original, rows, tmp_path)
    texts = definitions_here()
    yield {name: database.publish(texts, name) for name in ("VesselRegistry", "TonnageReport")}
    await database.pool.close()


VESSEL = {"registration": "LK-9001", "name": "Grey Wagtail", "kind": "barge", "lengthM": Decimal("17.40"), "beamM": Decimal("4.08"),
          "draughtM": Decimal("0.76"), "operatorNumber": "OP-0042", "registeredOn": date(2026, 11, 2)}
CALLS: list[tuple[str, dict[str, Any]]] = [
    ("GetVessel", {"registration": "LK-0412"}), ("GetVessel", {"registration": "LK-9001"}),
    ("FindVessels", {"kind": "tug", "nameContains": "heron", "limit": 20}), ("FindVessels", {"status": "laid-up", "limit": 3}),
    ("FindVesselsByOperator", {"operatorNumber": "OP-0018", "limit": 20}), ("ListPassages", {"registration": "LK-0412", "limit": 5}),
    ("ListPassages", {"registration": "LK-9001", "limit": 5}), ("CreateVessel", {"vessel": VESSEL}), ("CreateVessel", {"vessel": VESSEL}),
    ("CreateVessel", {"vessel": VESSEL | {"registration": "LK-9002", "operatorNumber": "OP-9999"}}),
    ("UpdateVessel", {"registration": "LK-9001", "changeToken": "1", "name": "Blue Heron", "notes": "Tow astern only"}),
    ("UpdateVessel", {"registration": "LK-9001", "changeToken": "1", "name": "Late"}),
    ("UpdateVessel", {"registration": "LK-9001", "changeToken": "2", "notes": None}), ("GetVessel", {"registration": "LK-9001"}),
    ("SaveVessel", {"vessel": VESSEL | {"status": "laid-up"}}), ("SaveVessel", {"vessel": VESSEL | {"status": "laid-up"}}),
    ("DeleteVessel", {"registration": "LK-9001", "changeToken": "1"}), ("DeleteVessel", {"registration": "LK-9001", "changeToken": "4"}),
    ("DeleteVessel", {"registration": "LK-0412", "changeToken": "1"}), ("DeleteVessel", {"registration": "LK-9001", "changeToken": "4"}),
    ("GetTonnage", {"fromDate": date(2026, 9, 1), "toDate": date(2026, 10, 31), "lockNumber": 7}),
    ("GetTonnage", {"fromDate": date(2026, 10, 31), "toDate": date(2026, 10, 31), "cargoKind": "fuel"}),
    ("GetTonnage", {"fromDate": date(2030, 1, 1), "toDate": date(2030, 1, 1)}),
    ("ListTonnagePassages", {"fromDate": date(2026, 10, 1), "toDate": date(2026, 10, 31), "lockNumber": 7, "month": "2026-10", "limit": 4}),
]
_first: list[Any] = []


async def test_every_row_of_the_scenario_answers_alike(services: dict[str, LiveService]) -> None:
    answers = []
    for operation, values in CALLS:
        live = services["TonnageReport" if "Tonnage" in operation else "VesselRegistry"]
        try:
            answers.append(to_plain(live.shape.operation(operation).output, await call(live, operation, **values)))  # type: ignore[union-attr]
        except DeclaredFaultError as fault:
            live.by_name[operation].encode_fault[fault.name](fault.detail)
            answers.append({fault.name: fault.detail.get("reason", ""), "field": fault.detail.get("field", "")})
    if not _first:
        _first.extend(answers)
        outcomes = [next(iter(one)) for one in answers]
        assert outcomes == ["vessel", "NotFound", "vessel", "vessel", "vessel", "passage", "NotFound", "registration", "AlreadyExists", "Conflict",
                            *["registration", "Conflict"], "registration", "vessel", "registration", "registration", "Conflict", "registration",
                            "Conflict", "NotFound", "row", "row", "row", "row"]
        assert answers[9] == {"Conflict": "missing-parent", "field": "operatorNumber"}
        assert answers[18] == {"Conflict": "still-referenced", "field": ""}
        assert answers[20]["totalTonnes"] == "3753.95"
        assert answers[22] == {"row": [], "totalTonnes": "0.00"}
    assert answers == _first


@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
async def test_a_vessel_is_laid_up_by_a_routine_of_the_registry(engine: str, tmp_path: Path, servers: Servers, original: Path,
                                                                rows: dict[str, list[tuple[Any, ...]]]) -> None:
    database = Database(engine, tmp_path, servers)
    fill(database, original, rows, tmp_path)
    database.run(*(one for one in (resources.files(demo) / f"routines/lay-up-vessel.{engine}.sql").read_text().split(";\nCOMMENT")[:1]))
    vessel = next(row[0] for row in rows["vessel"] if row[8] == "active" and sum(one[1] == row[0] for one in rows["permit"]))
    session = await database.pool.borrow(Call())
    reader = DOORS[engine].routines
    assert reader is not None
    [routine] = [one for one in await reader(session) if one.name == "lay_up_vessel"]
    seen = await results_of(session, "named" if engine == "postgresql" else "variables", routine, {"p_registration": vessel})
    database.pool.give_back(session, False)
    text = write_definition(draft_routine(routine, Wish("river", seen=seen))) + (
        "faults:\n  NotFound: {states: 45V01, fields: registration}\n  NotActive: {states: 45V02, fields: registration}\n")
    service = "service: Fleet\noperations:\n  LayUpVessel: {runs: routine lay-up-vessel}\n"
    live = database.publish([*definitions_here(), text, service], "Fleet")
    answer = await call(live, "LayUpVessel", registration=vessel, note="For the winter")
    permits = sorted((one for one in rows["permit"] if one[1] == vessel), key=lambda one: one[0])
    assert sorted(one["number"] for one in answer["row"]) == [one[0] for one in permits]
    assert answer["statusBefore"] == "active"
    assert {one["validTo"] for one in answer["row"]} == {date.fromisoformat(one[4]) for one in permits}
    registry_live = database.publish(definitions_here(), "VesselRegistry")
    after = (await call(registry_live, "GetVessel", registration=vessel))["vessel"]
    assert (after["status"], after["notes"]) == ("laid-up", "For the winter")
    for registration, name, words in ((vessel, "NotActive", "is laid-up already"), ("LK-9999", "NotFound", "There is no vessel LK-9999.")):
        with pytest.raises(DeclaredFaultError, match=words) as fault:
            await call(live, "LayUpVessel", registration=registration)
        assert (fault.value.name, fault.value.detail["registration"]) == (name, registration)
    await database.pool.close()


async def test_totals_and_details_agree_with_the_rows_themselves(services: dict[str, LiveService], original: Path) -> None:
    days = {"fromDate": date(2026, 1, 1), "toDate": date(2026, 6, 30)}
    grouped = await call(services["TonnageReport"], "GetTonnage", **days)
    with sqlite3.connect(original) as db:
        count, hundredths = db.execute("SELECT COUNT(*), SUM(CAST(ROUND(cargo_tonnes * 100) AS INTEGER)) FROM passage"
                                       " WHERE substr(passed_at, 1, 10) BETWEEN '2026-01-01' AND '2026-06-30'").fetchone()
    db.close()
    assert grouped["totalTonnes"] == Decimal(hundredths) / 100
    assert sum(one["passages"] for one in grouped["row"]) == count
    order = [(one["lockNumber"], one["lockName"], one["month"]) for one in grouped["row"]]
    assert order == sorted(order)
    some, seen, after = grouped["row"][17], [], {}
    while True:
        page = await call(services["TonnageReport"], "ListTonnagePassages", **days, lockNumber=some["lockNumber"], month=some["month"], limit=9, **after)
        seen += page["row"]
        if not page["more"]:
            break
        after = {"after": page["after"]}
    assert (len(seen), sum(one["cargoTonnes"] for one in seen)) == (some["passages"], some["tonnes"])


@pytest.mark.parametrize(("change", "code"), [
    (("SELECT p.number", "DELETE FROM p; SELECT p.number"), "query.sql"), ((":toDate", ":untilDate"), "query.prompt"),
    (("AND p.passed_at < :toDate", ""), "query.unused-prompt"), (("< :toDate", "< ?"), "query.sql"), (("< :toDate", "< :toDate LIMIT 5"), "query.sql"),
    (("< :toDate", "< :toDate ORDER BY 1"), "query.sql"), (("sum: tonnes", "sum: lockName"), "query.total"),
    (("column: cargoTonnes", "column: cargo"), "query.column"), (("key: [passageNumber]", "key: [number]"), "query.column"),
    (("binds: next-day", "binds: next-day, repeats: true"), "query.prompt"), (("{field: cargoKind}", "{field: cargo}"), "finder.field"),
])
def test_a_query_that_does_not_fit_says_where(tmp_path: Path, servers: Servers, change: tuple[str, str], code: str) -> None:
    texts = [text.replace("backend: registry", "backend: river").replace(*change) if text.startswith("query") else text for text in definitions()]
    with pytest.raises(ProblemError) as caught:
        Database("sqlite", tmp_path, servers).publish(texts, "TonnageReport")
    assert caught.value.problem.code == code
    assert "query tonnage" in caught.value.problem.place
