"""Writing objects on every engine: the same definitions, the same answers."""

import asyncio
from collections.abc import AsyncIterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService
from tests.core.databases import ENGINES, Database, Servers, call

PARTS = (
    """
object: weir
backend: river
table: weir
key: code
change_token: version
fields:
  code: {type: string, max_length: 8}
  place: {type: string, max_length: 40}
  crest: {type: decimal, digits: 6, fraction: 2}
  manned: {type: boolean}
  built: {type: date, required: false}
  notes: {type: string, max_length: 200, required: false}
  river: {type: string, refers_to: river}
  made: {type: string, required: false, read_only: true}
""",
    "object: river\nbackend: river\ntable: river\nkey: code\nfields:\n  code: {type: string}",
    """
service: WeirBook
operations:
  GetWeir: {runs: weir.get}
  CreateWeir: {runs: weir.create, input: {river: {given: fixed, value: LARK}}}
  UpdateWeir: {runs: weir.update}
  SaveWeir: {runs: weir.save}
  DeleteWeir: {runs: weir.delete}
  SaveCrest: {runs: weir.save, takes: [code, place, crest, manned], input: {river: {given: fixed, value: LARK}}}
""",
)
TABLES = ("CREATE TABLE river (code VARCHAR(8) PRIMARY KEY)", "INSERT INTO river VALUES ('LARK')",
          "CREATE TABLE weir (code VARCHAR(8) PRIMARY KEY, place VARCHAR(40) NOT NULL UNIQUE, crest DECIMAL(6,2) NOT NULL CHECK (crest > 0),"
          " manned BOOLEAN NOT NULL, built DATE, notes VARCHAR(200), river VARCHAR(8) NOT NULL REFERENCES river (code),"
          " made VARCHAR(20) DEFAULT 'here', version INTEGER NOT NULL)")
WEIR = {"code": "W1", "place": "Hollinweir", "crest": Decimal("4.20"), "manned": True}


@pytest.fixture(params=ENGINES)
async def live(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[LiveService]:
    database = Database(request.param, tmp_path, servers)
    database.run(*TABLES)
    yield database.publish(PARTS, "WeirBook")
    await database.pool.close()


async def read(live: LiveService, code: str = "W1") -> dict[str, Any]:
    return dict((await call(live, "GetWeir", code=code))["weir"])


async def test_a_row_is_created_changed_and_deleted_with_proof(live: LiveService) -> None:
    assert await call(live, "CreateWeir", weir=WEIR) == {"code": "W1", "changeToken": "1"}
    assert await read(live) == WEIR | {"built": None, "notes": None, "river": "LARK", "made": "here", "changeToken": "1"}
    answer = await call(live, "UpdateWeir", code="W1", changeToken="1", place="Hollinweir", crest=Decimal("4.35"), notes="O'Brien's \"half\" 🚢; DROP TABLE weir")
    assert answer == {"code": "W1", "changeToken": "2", "changedField": ["crest", "notes"]}
    row = await read(live)
    assert (row["crest"], row["manned"], row["changeToken"]) == (Decimal("4.35"), True, "2")
    assert row["notes"].endswith("🚢; DROP TABLE weir")
    assert (await call(live, "UpdateWeir", code="W1", changeToken="2", manned=True)) == {"code": "W1", "changeToken": "2", "changedField": []}
    assert await call(live, "DeleteWeir", code="W1", changeToken="2") == {"code": "W1"}
    with pytest.raises(DeclaredFaultError) as gone:
        await call(live, "GetWeir", code="W1")
    assert gone.value.name == "NotFound"


async def test_what_cannot_be_is_a_declared_fault(live: LiveService) -> None:
    await call(live, "CreateWeir", weir=WEIR)
    for operation, values, fault in (
        ("CreateWeir", {"weir": WEIR}, "AlreadyExists"), ("UpdateWeir", {"code": "W9", "changeToken": "1"}, "NotFound"),
        ("UpdateWeir", {"code": "W1", "changeToken": "7", "manned": False}, "Conflict"), ("DeleteWeir", {"code": "W9", "changeToken": "1"}, "NotFound"),
        ("DeleteWeir", {"code": "W1", "changeToken": "0"}, "Conflict"),
    ):
        with pytest.raises(DeclaredFaultError) as caught:
            await call(live, operation, **values)
        assert caught.value.name == fault
        live.by_name[operation].encode_fault[fault](caught.value.detail)
    assert (await read(live))["changeToken"] == "1"


async def test_saving_says_what_it_did(live: LiveService) -> None:
    whole = WEIR | {"river": "LARK"}
    outcomes = []
    for weir in (whole, whole, whole | {"notes": "Leaks"}, whole | {"notes": "Leaks"}, whole):
        outcomes.append((await call(live, "SaveWeir", weir=weir))["outcome"])
    assert outcomes == ["created", "unchanged", "updated", "unchanged", "updated"]
    row = await read(live)
    assert (row["notes"], row["changeToken"]) == (None, "3")  # equal to what was sent, so the note is gone


async def test_a_save_leaves_alone_what_it_does_not_take(live: LiveService) -> None:
    await call(live, "CreateWeir", weir=WEIR | {"notes": "Leaks"})
    assert (await call(live, "SaveCrest", weir=WEIR | {"crest": Decimal("5.00")}))["outcome"] == "updated"
    row = await read(live)
    assert (row["crest"], row["notes"], row["river"]) == (Decimal("5.00"), "Leaks", "LARK")


@pytest.mark.parametrize(("change", "reason"), [
    ({"place": "Hollinweir", "code": "W2"}, ("duplicate", "place")), ({"crest": Decimal(-1), "code": "W2", "place": "x"}, ("not-allowed", "crest")),
    ({"river": "NILE", "code": "W2", "place": "x"}, ("missing-parent", "river")), ({"notes": "x" * 300, "code": "W2", "place": "x"}, "write.value"),
    ({"notes": "a\0b", "code": "W2", "place": "x"}, "value.character"),
])
async def test_rules_of_the_table_refuse_and_store_nothing(live: LiveService, change: dict[str, Any], reason: Any) -> None:
    await call(live, "CreateWeir", weir=WEIR)
    if reason == "write.value" and not live.pools["river"]._kind.__class__.__name__.startswith(("Postgres", "Maria")):  # type: ignore[attr-defined]
        return  # SQLite knows no length
    with pytest.raises((ProblemError, DeclaredFaultError)) as caught:
        await call(live, "SaveWeir", weir=WEIR | {"river": "LARK"} | change)
    if isinstance(caught.value, DeclaredFaultError):
        assert (caught.value.detail["reason"], caught.value.detail.get("field")) == reason
        live.by_name["SaveWeir"].encode_fault["Conflict"](caught.value.detail)
    else:
        assert caught.value.problem.code == reason
        assert "weir" not in caught.value.problem.sentence().lower().replace("saveweir", "")  # no name of the database's goes out
    with pytest.raises(DeclaredFaultError):
        await read(live, "W2")


async def test_of_writers_at_once_one_wins_and_the_others_are_told(live: LiveService) -> None:
    async def create(number: int) -> str:
        try:
            await call(live, "CreateWeir", weir=WEIR | {"place": f"place {number}"})
        except DeclaredFaultError as fault:
            return fault.name
        return "created"

    assert sorted(await asyncio.gather(*(create(number) for number in range(6)))) == ["AlreadyExists"] * 5 + ["created"]

    async def update(number: int) -> str:
        try:
            await call(live, "UpdateWeir", code="W1", changeToken="1", notes=f"writer {number}")
        except DeclaredFaultError as fault:
            return fault.name
        return "updated"

    assert sorted(await asyncio.gather(*(update(number) for number in range(6)))) == ["Conflict"] * 5 + ["updated"]
    assert (await read(live))["changeToken"] == "2"

    async def save(number: int) -> str:
        weir = WEIR | {"code": "W5", "river": "LARK", "place": "Weir five", "notes": f"writer {number}"}
        return str((await call(live, "SaveWeir", weir=weir))["outcome"])

    assert sorted(await asyncio.gather(*(save(number) for number in range(6)))) == ["created"] + ["updated"] * 5


async def test_a_write_that_is_given_up_leaves_nothing_behind(live: LiveService) -> None:
    task = asyncio.create_task(call(live, "CreateWeir", weir=WEIR))
    await asyncio.sleep(0)
    task.cancel()
    with pytest.raises(asyncio.CancelledError):
        await task
    await asyncio.sleep(0.05)
    await call(live, "SaveWeir", weir=WEIR | {"river": "LARK"})  # neither half stored nor locked
