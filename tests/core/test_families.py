"""Objects with parents and children, tokens without a column, context, trials and bounds: the same on every engine."""

import asyncio
import time
from collections.abc import AsyncIterator
from datetime import UTC, date, datetime, timedelta, timezone
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.core.calls.call import Call
from bricola.core.calls.callers import Caller
from bricola.core.calls.trials import Trial
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService
from tests.core.databases import ENGINES, Database, Servers, call

PARTS = (
    "object: keeper\nbackend: river\ntable: keeper\nkey: name\nfields:\n  name: {type: string}\n  town: {type: string}",
    """
object: reading
backend: river
table: gauge reading
key: [gauge, at]
fields:
  gauge: {type: string}
  at: {type: dateTime, zone: utc}
  level: {type: decimal, digits: 8, fraction: 3}
  remark: {type: string, required: false, max_length: 40}
""",
    """
object: gauge
backend: river
table: 'gauge "main"'
key: code
change_token: {hash: row}
parents:
  watch: {table: keeper, on: {keeper: name}}
fields:
  code: {type: string, max_length: 8}
  place: {type: string, required: false, max_length: 40, column: place of post}
  keeper: {type: string, required: false, refers_to: keeper}
  town: {type: string, required: false, parent: watch}
  datum: {type: decimal, digits: 7, fraction: 2, default: 10.50}
  changedBy: {type: string, required: false}
  changedAt: {type: dateTime, required: false, zone: utc}
children:
  readings: {object: reading, match: {gauge: code}, at_most: 20000}
finders:
  byPlace:
    order: [place descending]
    filters:
      placeIs: {field: place, compare: one-of}
      nowhere: {field: place, compare: empty}
      datumAbove: {field: datum, compare: above}
      notKeeper: {field: keeper, compare: differs}
  kept:
    filters:
      keeper: {field: keeper, required: true, must_exist: true}
""",
    "object: note\nbackend: river\ntable: note\nkey: id\nfields:\n  id: {type: int, read_only: true}\n  text: {type: string}",
    """
service: GaugeBook
operations:
  GetGauge: {runs: gauge.get}
  NameGauge: {runs: gauge.get, gives: [code, changeToken]}
  CheckGauge: {runs: gauge.check}
  FindGauges: {runs: gauge.byPlace}
  FindKept: {runs: gauge.kept, gives: [code]}
  CreateGauge:
    runs: gauge.create
    input: &by
      changedBy: {given: context, value: caller.name}
      changedAt: {given: context, value: now}
  UpdateGauge: {runs: gauge.update}
  SaveGauge: {runs: gauge.save}
  DeleteGauge: {runs: gauge.delete}
  AddNote: {runs: note.create}
""".replace(" &by", ""),
)
MOMENT = datetime(2026, 3, 1, 6, 30, tzinfo=UTC)


def tables(engine: str) -> tuple[str, ...]:
    moment = {"sqlite": "DATETIME", "postgresql": "TIMESTAMP", "mariadb": "DATETIME"}[engine]
    serial = {"sqlite": "INTEGER PRIMARY KEY", "postgresql": "SERIAL PRIMARY KEY", "mariadb": "INTEGER PRIMARY KEY AUTO_INCREMENT"}[engine]
    return (
        "CREATE TABLE keeper (name VARCHAR(20) PRIMARY KEY, town VARCHAR(20) NOT NULL)", "INSERT INTO keeper VALUES ('Imke', 'Hollin')",
        f'CREATE TABLE "gauge ""main""" (code VARCHAR(8) PRIMARY KEY, "place of post" VARCHAR(40), keeper VARCHAR(20) REFERENCES keeper (name),'
        f" datum DECIMAL(7,2) NOT NULL, changed_by VARCHAR(20), changed_at {moment})",
        f'CREATE TABLE "gauge reading" (gauge VARCHAR(8) NOT NULL REFERENCES "gauge ""main""" (code), at {moment} NOT NULL,'
        " level DECIMAL(8,3) NOT NULL, remark VARCHAR(40) DEFAULT 'none', PRIMARY KEY (gauge, at))",
        f"CREATE TABLE note (id {serial}, text VARCHAR(400) NOT NULL)",
    )


@pytest.fixture(params=ENGINES)
async def database(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    found = Database(request.param, tmp_path, servers)
    found.run(*tables(request.param))
    yield found
    await found.pool.close()


@pytest.fixture
def live(database: Database) -> LiveService:
    return database.publish(PARTS, "GaugeBook")


def reading(minutes: int, level: str, **more: Any) -> dict[str, Any]:
    return {"at": MOMENT + timedelta(minutes=minutes), "level": Decimal(level), **more}


async def make(live: LiveService, code: str = "G1", *readings: dict[str, Any], **more: Any) -> str:
    within = Call("c-1", "GaugeBook.CreateGauge", Caller("harbour-desk", frozenset()), MOMENT.timestamp())
    gauge = {"code": code, "datum": Decimal("10.50"), **more, "readings": {"reading": list(readings)}}
    return str((await call(live, "CreateGauge", within, gauge=gauge))["changeToken"])


async def read(live: LiveService, code: str = "G1") -> dict[str, Any]:
    return dict((await call(live, "GetGauge", code=code))["gauge"])


async def test_a_parent_is_joined_and_children_come_with_their_parent(live: LiveService) -> None:
    token = await make(live, "G1", reading(15, "1.250"), reading(0, "1.100", remark="high"), place="Weir", keeper="Imke")
    assert await read(live) == {
        "code": "G1", "place": "Weir", "keeper": "Imke", "town": "Hollin", "datum": Decimal("10.50"), "changedBy": "harbour-desk",
        "changedAt": MOMENT, "readings": {"reading": [reading(0, "1.100", remark="high"), reading(15, "1.250", remark="none")]},
        "changeToken": token}
    assert (await call(live, "NameGauge", code="G1"))["gauge"]["changeToken"] == token
    assert live.by_name["NameGauge"].encode(await call(live, "NameGauge", code="G1")).count("<") == 8  # code and token only


async def test_children_are_compared_and_the_token_covers_them(live: LiveService) -> None:
    token = await make(live, "G1", reading(0, "1.1"), reading(15, "1.2"))
    with pytest.raises(DeclaredFaultError) as stale:
        await call(live, "UpdateGauge", code="G1", changeToken="x" * 24, datum=Decimal(1))
    assert (stale.value.name, stale.value.detail["reason"], stale.value.detail["changeToken"]) == ("Conflict", "stale", token)
    wanted = [reading(15, "9.9"), reading(30, "1.3", remark="new")]
    answer = await call(live, "UpdateGauge", code="G1", changeToken=token, readings={"reading": wanted})
    assert answer["changedField"] == ["readings"]
    assert answer["changeToken"] != token
    row = await read(live)
    assert [(one["at"], one["level"], one["remark"]) for one in row["readings"]["reading"]] == [
        (wanted[0]["at"], Decimal("9.900"), None), (wanted[1]["at"], Decimal("1.300"), "new")]
    assert row["changeToken"] == answer["changeToken"]
    again = await call(live, "UpdateGauge", code="G1", changeToken=row["changeToken"], readings={"reading": row["readings"]["reading"]})
    assert again["changedField"] == []
    emptied = await call(live, "UpdateGauge", code="G1", changeToken=row["changeToken"], readings={})
    assert emptied["changedField"] == ["readings"]
    assert (await read(live))["readings"] == {"reading": []}
    assert await call(live, "DeleteGauge", code="G1", changeToken=emptied["changeToken"]) == {"code": "G1"}


async def test_absent_stays_nil_empties_and_empty_text_is_a_value(live: LiveService) -> None:
    token = await make(live, "G1", place="Weir", keeper="Imke")
    answer = await call(live, "UpdateGauge", code="G1", changeToken=token, place="", keeper=None)
    assert answer["changedField"] == ["place", "keeper"]
    row = await read(live)
    assert (row["place"], row["keeper"], row["town"], row["datum"]) == ("", None, None, Decimal("10.50"))
    assert (await call(live, "SaveGauge", gauge={"code": "G1", "datum": Decimal("10.50"), "changedAt": None}))["outcome"] == "updated"
    row = await read(live)
    assert (row["place"], row["changedBy"]) == (None, None)


async def test_moments_are_equal_in_every_zone_and_one_key_stands_once(live: LiveService) -> None:
    token = await make(live, "G1", reading(0, "1.1"))
    elsewhere = MOMENT.astimezone(timezone(timedelta(hours=5)))
    answer = await call(live, "UpdateGauge", code="G1", changeToken=token, readings={"reading": [{"at": elsewhere, "level": Decimal("1.1"), "remark": "none"}]})
    assert answer["changedField"] == []
    with pytest.raises(ProblemError) as caught:
        await call(live, "UpdateGauge", code="G1", changeToken=token, readings={"reading": [reading(0, "1"), reading(0, "2")]})
    assert caught.value.problem.code == "value.repeated-key"


async def test_checking_tells_of_existence_and_change(live: LiveService) -> None:
    token = await make(live, "G1", reading(0, "1.1"))
    assert await call(live, "CheckGauge", code="G9", changeToken=token) == {"exists": False}
    assert await call(live, "CheckGauge", code="G1") == {"exists": True, "changeToken": token}
    assert (await call(live, "CheckGauge", code="G1", changeToken=token))["changed"] is False
    changed = (await call(live, "UpdateGauge", code="G1", changeToken=token, place="Weir"))["changeToken"]
    assert await call(live, "CheckGauge", code="G1", changeToken=token) == {"exists": True, "changed": True, "changeToken": changed}


async def test_pages_hold_every_row_once_where_values_are_missing(live: LiveService) -> None:
    places = ["Weir", None, "Weir", "Alder", None, "Weir", "Bridge", None]
    for number, place in enumerate(places):
        await make(live, f"G{number}", **({"place": place} if place else {}))
    seen: list[tuple[Any, str]] = []
    after: dict[str, str] = {}
    while True:
        answer = await call(live, "FindGauges", limit=3, **after)
        seen += [(one["place"], one["code"]) for one in answer["gauge"]]
        if not answer["more"]:
            break
        after = {"after": answer["after"]}
    assert seen == [("Weir", "G0"), ("Weir", "G2"), ("Weir", "G5"), ("Bridge", "G6"), ("Alder", "G3"), (None, "G1"), (None, "G4"), (None, "G7")]


@pytest.mark.parametrize(("filters", "codes"), [
    ({"placeIs": ["Weir", "Alder", "'; DROP TABLE keeper; --"]}, ["G0", "G1"]), ({"nowhere": True}, ["G2"]), ({"nowhere": False}, ["G0", "G1"]),
    ({"datumAbove": Decimal("10.50")}, ["G1"]), ({"notKeeper": "Imke"}, ["G1", "G2"]), ({"placeIs": []}, ["G0", "G1", "G2"]),
])
async def test_every_comparison_finds_what_it_says(live: LiveService, filters: dict[str, Any], codes: list[str]) -> None:
    await make(live, "G0", place="Weir", keeper="Imke")
    await make(live, "G1", place="Alder", datum=Decimal("99.25"))
    await make(live, "G2")
    assert sorted(one["code"] for one in (await call(live, "FindGauges", limit=9, **filters))["gauge"]) == codes


async def test_an_empty_list_says_whether_there_was_something_to_find(live: LiveService) -> None:
    assert await call(live, "FindKept", keeper="Imke", limit=5) == {"gauge": [], "more": False}
    with pytest.raises(DeclaredFaultError) as caught:
        await call(live, "FindKept", keeper="Nobody", limit=5)
    assert (caught.value.name, caught.value.detail["keeper"]) == ("NotFound", "Nobody")


async def test_the_database_makes_a_key_and_the_answer_tells_it(live: LiveService) -> None:
    first = await call(live, "AddNote", note={"text": "one"})
    assert (await call(live, "AddNote", note={"text": "emoji 🚢 and ' and \" and %s and ?"}))["id"] == first["id"] + 1


async def test_a_trial_says_what_would_be_stored_and_stores_nothing(live: LiveService) -> None:
    token = await make(live, "G1", reading(0, "1.1"))
    trial = Trial()
    answer = await call(live, "UpdateGauge", Call(trial=trial), code="G1", changeToken=token, place="Weir", readings={"reading": [reading(5, "2")]})
    assert answer["changedField"] == ["place", "readings"]
    assert [(one.object, one.action) for one in trial.changes] == [
        ("readings/reading", "deleted"), ("readings/reading", "created"), ("gauge", "changed")]
    assert trial.changes[2].fields == {"place": (None, "Weir")}
    assert (await read(live))["changeToken"] == token


async def test_ten_thousand_children_go_in_together(live: LiveService) -> None:
    many = [reading(number, "1.5") for number in range(10_000)]
    await make(live, "G1", *many)
    assert len((await read(live))["readings"]["reading"]) == 10_000
    with pytest.raises((ProblemError, DeclaredFaultError)):  # the last one breaks a rule: none is stored
        await make(live, "G2", *many, {"at": MOMENT, "level": None})
    assert await call(live, "CheckGauge", code="G2") == {"exists": False}


async def test_what_a_column_cannot_hold_is_refused_by_name_or_word(live: LiveService) -> None:
    for wrong in ({"place": "a\0b"}, {"changedAt": date(9999, 12, 31)}, {"keeper": "Nobody"}):
        token = await make(live, "G1") if (await call(live, "CheckGauge", code="G1"))["exists"] is False else (await read(live))["changeToken"]
        try:
            await call(live, "UpdateGauge", code="G1", changeToken=token, **wrong)
        except (ProblemError, DeclaredFaultError) as error:
            assert "Traceback" not in str(error)
    with pytest.raises(DeclaredFaultError) as caught:
        await call(live, "UpdateGauge", code="G1", changeToken=(await read(live))["changeToken"], keeper="Nobody")
    assert (caught.value.detail["reason"], caught.value.detail["field"]) == ("missing-parent", "keeper")


async def test_a_row_that_others_refer_to_is_not_deleted(database: Database) -> None:
    parts = ["object: keeper\nbackend: river\ntable: keeper\nkey: name\nfields:\n  name: {type: string}",
             "service: Keepers\noperations:\n  DeleteKeeper: {runs: keeper.delete}"]
    await make(database.publish(PARTS, "GaugeBook"), "G1", keeper="Imke")
    with pytest.raises(DeclaredFaultError) as caught:
        await call(database.publish(parts, "Keepers"), "DeleteKeeper", name="Imke")
    assert (caught.value.name, caught.value.detail["reason"]) == ("Conflict", "still-referenced")


@pytest.mark.parametrize("engine", ENGINES)
async def test_statements_have_bounds_and_read_only_is_kept(engine: str, tmp_path: Path, servers: Servers) -> None:
    database = Database(engine, tmp_path, servers, limits={"seconds": 1.0, "rows": 50, "bytes": 5000})
    database.run(*tables(engine), *(f"INSERT INTO keeper VALUES ('K{number}', 'Hollin')" for number in range(60)))
    numbers = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {}) SELECT {} FROM n"
    endless = {"postgresql": "SELECT pg_sleep(30)", "mariadb": "SELECT SLEEP(30)"}.get(engine, numbers.format(2_000_000_000, "COUNT(*)"))
    try:
        async with database.pool.session() as session:
            for sql, code in (("SELECT * FROM keeper", "backend.too-much"), ("SELECT name, LPAD('x', 4000, 'x') FROM keeper LIMIT 9", "backend.too-much"),
                              (endless, "backend.slow")):
                if "LPAD" in sql and engine == "sqlite":
                    sql = sql.replace("LPAD('x', 4000, 'x')", "hex(zeroblob(2000))")
                began = time.monotonic()
                try:
                    await session.rows(sql, [])
                    assert engine == "mariadb"  # which ends a SLEEP without an error
                except ProblemError as error:
                    assert error.problem.code == code
                assert time.monotonic() - began < 5
            assert await session.rows("SELECT COUNT(*) FROM keeper", []) == [(61,)]  # it is free again
    finally:
        await database.pool.close()
    reading_only = Database(engine, tmp_path, servers, read_only=True)
    reading_only.run(*(f"DROP TABLE IF EXISTS {name}" for name in ('"gauge reading"', '"gauge ""main"""', "note", "keeper")), *tables(engine))
    with pytest.raises(ProblemError, match="read only"):
        reading_only.publish(PARTS, "GaugeBook")
    try:
        async with reading_only.pool.session() as session:
            with pytest.raises(ProblemError):
                await session.in_transaction(lambda inside: inside.write("INSERT INTO keeper VALUES ('Teo', 'Hollin')", []))
    finally:
        await reading_only.pool.close()


@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
async def test_a_database_that_dies_in_the_middle_leaves_nothing_half_written(engine: str, tmp_path: Path, servers: Servers) -> None:
    database = Database(engine, tmp_path, servers)
    database.run(*tables(engine))
    live = database.publish(PARTS, "GaugeBook")
    try:
        await make(live, "G1")
        many = [reading(number, "1.5") for number in range(20_000)]
        task = asyncio.create_task(make(live, "G2", *many))
        await asyncio.sleep(0.15)
        await asyncio.to_thread(database.server.kill)
        with pytest.raises(ProblemError) as caught:
            await task
        assert caught.value.problem.code in ("backend.failed", "backend.unreachable")
        await asyncio.to_thread(database.server.start)
        for _ in range(100):  # the breaker lets a probe through when its time has come
            try:
                found = await call(live, "CheckGauge", code="G2")
                break
            except ProblemError:
                await asyncio.sleep(0.1)
        assert found == {"exists": False}
        database.run('SELECT * FROM "gauge reading"')
        await make(live, "G2", *many[:3])
        assert len((await read(live, "G2"))["readings"]["reading"]) == 3
    finally:
        await database.pool.close()
