"""What a database refuses, on every engine: told as what it is, with its field, and without values that nobody may see."""

from collections.abc import AsyncIterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.adapters.engines.mariadb import refusals as mariadb_refusals
from bricola.adapters.secrets import Secret
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, ProblemError
from bricola.core.serving.live import LiveService
from bricola.core.sql.refusals import Why
from tests.core.databases import ENGINES, Database, Servers, call

OBJECT = """
object: berth
backend: river
table: berth
key: number
{more}
fields:
  number: {{type: int}}
  metres: {{type: decimal, required: false}}
  keeper: {{type: string, required: false, sensitive: true}}
  basin: {{type: string, required: false}}
  kind: {{type: string, required: false}}
  words: {{type: string, required: false}}
  born: {{type: string, required: false}}
children:
  lines: {{object: berth-line, match: {{berth: number}}}}
"""
LINE = """
object: berth-line
backend: river
table: berth_line
key: [berth, place]
fields:
  berth: {type: int}
  place: {type: int}
  hook: {type: string, required: false}
"""
SERVICE = """
service: BerthBook
operations:
  GetBerth: {runs: berth.get}
  CreateBerth: {runs: berth.create}
  UpdateBerth: {runs: berth.update}
  SaveBerth: {runs: berth.save}
  DeleteBerth: {runs: berth.delete}
"""
TABLES = (
    "CREATE TABLE basin (code VARCHAR(8) PRIMARY KEY)", "INSERT INTO basin VALUES ('NORTH')", "CREATE TABLE hook (code VARCHAR(8) PRIMARY KEY)",
    "INSERT INTO hook VALUES ('H1')",
    "CREATE TABLE berth (number INTEGER PRIMARY KEY, metres DECIMAL(5,2), keeper VARCHAR(60), basin VARCHAR(8), kind VARCHAR(6) NOT NULL DEFAULT 'quay',"
    " words VARCHAR(12), born VARCHAR(10), CONSTRAINT long_enough CHECK (metres > 2), CONSTRAINT word_once UNIQUE (words),"
    " FOREIGN KEY (basin) REFERENCES basin (code))",
    "CREATE TABLE berth_line (berth INTEGER NOT NULL, place INTEGER NOT NULL, hook VARCHAR(8), PRIMARY KEY (berth, place),"
    " FOREIGN KEY (berth) REFERENCES berth (number), FOREIGN KEY (hook) REFERENCES hook (code))",
    "CREATE TABLE visit (berth INTEGER NOT NULL REFERENCES berth (number))",
)
TRIGGERS = {
    "sqlite": ("CREATE TRIGGER closed BEFORE INSERT ON berth WHEN NEW.number = 13 BEGIN SELECT RAISE(ABORT, 'Berth 13 is kept free for the fireboat.'); END",
               "CREATE TRIGGER told BEFORE INSERT ON berth WHEN NEW.number = 14 BEGIN SELECT RAISE(ABORT, 'No berth for ada@larkmere.example here.'); END"),
    "postgresql": ("CREATE FUNCTION closed() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.number = 13 THEN RAISE EXCEPTION"
                   " 'Berth 13 is kept free for the fireboat.' USING ERRCODE = 'check_violation'; END IF; IF NEW.number = 14 THEN"
                   " RAISE EXCEPTION 'No berth for % here.', NEW.keeper; END IF; RETURN NEW; END $$",
                   "CREATE TRIGGER closed BEFORE INSERT ON berth FOR EACH ROW EXECUTE FUNCTION closed()"),
    "mariadb": ("CREATE TRIGGER closed BEFORE INSERT ON berth FOR EACH ROW BEGIN IF NEW.number = 13 THEN SIGNAL SQLSTATE '45000' SET MYSQL_ERRNO = 30013,"
                " MESSAGE_TEXT = 'Berth 13 is kept free for the fireboat.'; END IF; IF NEW.number = 14 THEN SIGNAL SQLSTATE '45000'"
                " SET MESSAGE_TEXT = 'No berth for ada@larkmere.example here.'; END IF; END",),
}
ADA = "ada@larkmere.example"
BERTH = {"number": 1, "metres": Decimal("9.5"), "keeper": ADA, "basin": "NORTH", "kind": "quay", "words": "one"}


@pytest.fixture(params=ENGINES)
async def river(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    database = Database(request.param, tmp_path, servers)
    database.run(*TABLES, *TRIGGERS[request.param])
    yield database
    await database.pool.close()


def publish(river: Database, more: str = "") -> LiveService:
    return river.publish((OBJECT.format(more=more), LINE, SERVICE), "BerthBook")


async def refused(live: LiveService, operation: str, **values: Any) -> Any:
    with pytest.raises((DeclaredFaultError, ProblemError)) as caught:
        await call(live, operation, **values)
    error = caught.value
    told = f"{error} {[one.inner for one in error.problems] if isinstance(error, ProblemError) else error.detail}"
    assert ADA not in told, told
    if isinstance(error, DeclaredFaultError):  # what is told is what the contract has
        live.by_name[operation].encode_fault[error.name](error.detail)
    return error


async def test_rules_of_the_table_are_conflicts_with_their_field(river: Database) -> None:
    live = publish(river)
    await call(live, "CreateBerth", berth=BERTH)
    error = await refused(live, "UpdateBerth", number=1, metres=Decimal(1))
    assert (error.name, error.detail["reason"], error.detail["field"]) == ("Conflict", "not-allowed", "metres")
    assert "long_enough" in error.message
    error = await refused(live, "UpdateBerth", number=1, basin="WEST")  # whose table is not published
    assert (error.name, error.detail["reason"], error.detail["field"]) == ("Conflict", "missing-parent", "basin")
    assert error.message == "basin refers to WEST, which does not exist."
    error = await refused(live, "UpdateBerth", number=1, clear=["kind"])
    assert (error.name, error.detail["reason"], error.detail["field"]) == ("Conflict", "not-allowed", "kind")
    error = await refused(live, "CreateBerth", berth=BERTH | {"number": 2})
    assert (error.name, error.detail["field"]) == ("AlreadyExists", "words")
    error = await refused(live, "UpdateBerth", number=1, lines={"berthLine": [{"place": 1, "hook": "H1"}, {"place": 2, "hook": "H9"}]})
    assert (error.name, error.detail["reason"], error.detail["field"]) == ("Conflict", "missing-parent", "lines/berthLine/hook")
    river.run("INSERT INTO visit VALUES (1)")
    error = await refused(live, "DeleteBerth", number=1)
    assert (error.name, error.detail["reason"]) == ("Conflict", "still-referenced")


async def test_a_triggers_words_reach_the_caller_unless_the_object_keeps_them(river: Database) -> None:
    error = await refused(publish(river), "CreateBerth", berth=BERTH | {"number": 13})
    assert (error.name, error.detail["reason"], error.message) == ("Conflict", "not-allowed", "Berth 13 is kept free for the fireboat.")
    error = await refused(publish(river), "CreateBerth", berth=BERTH | {"number": 14})
    assert error.message == "No berth for ••• here."  # a sensitive field's value is in nobody's words
    error = await refused(publish(river, "messages: own"), "CreateBerth", berth=BERTH | {"number": 13})
    assert (error.name, error.message) == ("Conflict", "A rule of the database does not allow this.")


@pytest.mark.parametrize("river", ["postgresql", "mariadb"], indirect=True)  # the third has no such bounds
async def test_values_that_no_column_holds_name_theirs(river: Database) -> None:
    live = publish(river)
    error = await refused(live, "CreateBerth", berth=BERTH | {"words": "far too long for it"})
    assert (error.problem.kind, error.problem.place) == (Kind.INPUT, "CreateBerth/words")
    error = await refused(live, "CreateBerth", berth=BERTH | {"metres": Decimal("1234567.5")})
    assert (error.problem.kind, error.problem.place, "column metres" in error.problem.inner) == (Kind.INPUT, "CreateBerth/metres", True)
    lines = [{"place": 1, "hook": "H1"}, {"place": 2, "hook": "far too long for it"}]
    error = await refused(live, "CreateBerth", berth=BERTH | {"lines": {"berthLine": lines}})
    assert (error.problem.kind, error.problem.place) == (Kind.INPUT, "CreateBerth/lines/berthLine/hook")


async def test_what_the_backend_lacks_is_told_to_owners_exactly_and_to_callers_in_general(river: Database) -> None:
    live = publish(river)
    await call(live, "CreateBerth", berth=BERTH)
    river.run("ALTER TABLE berth DROP COLUMN born")
    error = await refused(live, "GetBerth", number=1)
    assert (error.problem.code, error.problem.kind, "born" in error.problem.inner, "born" in error.problem.sentence()) == (
        "backend.changed", Kind.BACKEND, True, False)
    error = await refused(live, "CreateBerth", berth=BERTH | {"number": 3, "words": None, "born": "1990"})
    assert (error.problem.code, "born" in error.problem.inner) == ("backend.changed", True)


@pytest.mark.parametrize("river", ["postgresql", "mariadb"], indirect=True)  # the third knows no users
async def test_missing_rights_are_told_as_that(river: Database) -> None:
    """A user who may read, and not write."""
    live = publish(river)
    river.run(f"CREATE USER reader {'IDENTIFIED BY' if river.engine == 'mariadb' else 'PASSWORD'} 'x'",
              *(("GRANT USAGE ON SCHEMA public TO reader",) if river.engine == "postgresql" else ()), "GRANT SELECT ON berth TO reader", "GRANT SELECT ON berth_line TO reader")
    try:
        river.pool._kind._secrets = type("Reader", (), {"used": lambda *_: None, "secrets": lambda *_: [Secret("password", "reader", "x")]})()  # type: ignore[attr-defined]
        error = await refused(live, "CreateBerth", berth=BERTH)
        assert (error.problem.code, error.problem.kind, "berth" in error.problem.inner, "berth" in error.problem.sentence()) == (
            "backend.rights", Kind.BACKEND, True, False)
    finally:
        river.run(*(("DROP OWNED BY reader",) if river.engine == "postgresql" else ()), "DROP USER reader")


@given(st.text(alphabet=st.characters(exclude_categories=("Cs",), exclude_characters="\0"), min_size=1, max_size=30))
def test_mariadbs_words_are_cut_to_what_holds_no_values(value: str) -> None:
    secret = f"«{value}»"
    for code, message, column in (
        (1062, f"Duplicate entry '{secret}' for key 'word_once'", ""),
        (1366, f"Incorrect integer value: '{secret}' for column `registry`.`berth`.`number` at row 1", "number"),
        (1292, f"Truncated incorrect DOUBLE value: '{secret}'", ""),
        (1064, f"You have an error in your SQL syntax; check the manual near '{secret}' at line 1", ""),
        (1411, f"Incorrect datetime value: '{secret}' for function str_to_date", ""),
    ):
        found = mariadb_refusals.refusal(code, message, "HY000")
        assert secret not in found.said
        assert found.columns == ((column,) if column else ())
    assert mariadb_refusals.refusal(1062, f"Duplicate entry '{secret}' for key 'word_once'", "23000").why is Why.UNIQUE
