"""Procedures and functions on both servers: found, drafted, published and called, and each way in which one can go wrong."""

import asyncio
import time
from collections.abc import AsyncIterator
from dataclasses import replace
from datetime import UTC, date, datetime
from datetime import time as clock
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.adapters.engines import DOORS
from bricola.core.calls.call import Call
from bricola.core.calls.trials import Trial
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import StatementLimits
from bricola.core.definitions.model import BackendDefinition
from bricola.core.definitions.names import pascal_case
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.jobs.marks import RequestMark
from bricola.core.kinds.routines.comparing import differences, newly_optional
from bricola.core.kinds.routines.definition import RoutineDefinition
from bricola.core.kinds.routines.drafting import Wish, draft_routine
from bricola.core.kinds.routines.renewing import renewed
from bricola.core.kinds.routines.shape import resolve_routine
from bricola.core.kinds.routines.trying import results_of
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, ProblemError
from bricola.core.serving.live import LiveService
from bricola.core.sql.routines import Results, Routine
from tests.core.databases import Database, Servers, call
from tests.core.routines import MARKS, ROUTINES, ROWS

FORMS = {"postgresql": "named", "mariadb": "variables"}
ADA = "ada@larkmere.example"
FAULTS = """
faults:
  UnknownLock: {description: There is no such lock., states: ["45404"], fields: [lock]}
"""


@pytest.fixture(params=ROUTINES)
async def river(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    found = Database(request.param, tmp_path, servers, requests="marks", limits=StatementLimits(seconds=3.0))
    found.run(*ROUTINES[request.param], *ROWS, MARKS)
    yield found
    await found.pool.close()


async def found(river: Database) -> dict[str, Routine]:
    session = await river.pool.borrow(Call())
    try:
        reader = DOORS[river.engine].routines
        assert reader is not None
        return {one.name: one for one in await reader(session)}
    finally:
        river.pool.give_back(session, False)


async def draft(river: Database, name: str, more: str = "", seen: list[Results] | None = None) -> str:
    """The definition as it would be drafted, with what somebody writes beside it."""
    return write_definition(draft_routine((await found(river))[name], Wish("river", seen=seen))) + more


def publish(river: Database, *texts: str) -> LiveService:
    names = [text.split("\n")[0].removeprefix("routine: ") for text in texts]
    operations = "".join(f"  {pascal_case(name)}: {{runs: routine {name}}}\n" for name in names)
    return river.publish((*texts, f"service: Tolls\noperations:\n{operations}"), "Tolls")


async def refused(live: LiveService, operation: str, within: Call | None = None, **values: Any) -> Any:
    with pytest.raises((DeclaredFaultError, ProblemError)) as caught:
        await call(live, operation, within, **values)
    error = caught.value
    if isinstance(error, DeclaredFaultError):  # what is told is what the contract has
        live.by_name[operation].encode_fault[error.name](error.detail)
        return error
    return error.problem


def rate(river: Database, lock: str = "LM01") -> Any:
    return rows(river, f"SELECT rate FROM tariff WHERE lock = '{lock}'")[0][0]


def rows(river: Database, sql: str) -> Any:
    """What is stored, past Bricola."""
    connection = river.server.connect()
    try:
        with connection.cursor() as cursor:
            cursor.execute(sql if river.engine == "postgresql" else sql.replace("lock", '"lock"'))
            return cursor.fetchall()
    finally:
        connection.close()


async def test_a_function_is_found_drafted_and_called(river: Database) -> None:
    routine = (await found(river))["quote_toll"]
    assert routine.comment == "What a passage of a lock costs"
    assert not routine.writes
    assert not routine.reasons
    assert [one.name for one in routine.parameters] == ["p_lock", "p_tons", "p_reduced", "result"]
    live = publish(river, await draft(river, "quote_toll", FAULTS))
    assert await call(live, "QuoteToll", lock="LM01", tons=Decimal("100.50"), reduced=False) == {"result": Decimal("125.63")} or \
        river.engine == "mariadb"  # whose column rounds what PostgreSQL's function does
    assert (await call(live, "QuoteToll", lock="LM02", tons=Decimal("2.00"), reduced=True))["result"] == Decimal("49.50")
    fault = await refused(live, "QuoteToll", lock="XX99", tons=Decimal("1.00"), reduced=False)
    assert fault.name == "UnknownLock"
    assert fault.detail["lock"] == "XX99"
    assert "There is no" in fault.message
    if river.engine == "postgresql":  # a default of the database holds where the caller says nothing
        assert (await call(live, "QuoteToll", lock="LM02", tons=Decimal("2.00")))["result"] == Decimal("99.00")


async def test_what_goes_in_and_out_of_a_procedure(river: Database) -> None:
    live = publish(river, await draft(river, "raise_rate"))
    assert live.by_name["RaiseRate"].shape.writes
    answer = await call(live, "RaiseRate", lock="LM01", by=Decimal("0.25"), steps=4)
    assert answer == {"steps": 5, "rate": Decimal("1.50"), "state": "done"}
    assert rate(river) == Decimal("1.50")
    assert (await call(live, "RaiseRate", lock="XX99", by=Decimal("0.25"), steps=1))["rate"] is None  # NULL is absent, and nothing else


async def test_errors_are_faults_by_state_number_or_words_and_nothing_is_stored(river: Database) -> None:
    text = await draft(river, "raise_rate", r"""
faults:
  KeeperSaysNo: {says: "says no", message: The keeper does not allow it., fields: [lock]}
  TooDear: {parameter: p_state, values: [dear], description: When it is., message: It would be too dear., fields: [lock, rate]}
""")
    live = publish(river, text)
    fault = await refused(live, "RaiseRate", lock="LM01", by=Decimal("-1.00"), steps=1)
    assert (fault.name, fault.message, fault.detail["lock"]) == ("KeeperSaysNo", "The keeper does not allow it.", "LM01")
    fault = await refused(live, "RaiseRate", lock="LM02", by=Decimal("2.00"), steps=1)
    assert (fault.name, fault.message) == ("TooDear", "It would be too dear.")
    assert fault.detail["rate"] == Decimal("51.50")
    assert (rate(river), rate(river, "LM02")) == (Decimal("1.25"), Decimal("49.50"))
    problem = await refused(live, "RaiseRate", lock="LM01", by=Decimal("500.00"), steps=1)  # nothing declares the rule of the table
    assert problem.code == "write.check"
    assert "nothing was stored" in problem.mend
    assert "raise_rate" in problem.inner
    undeclared = publish(river, await draft(river, "raise_rate", "messages: own\n"))
    problem = await refused(undeclared, "RaiseRate", lock="LM01", by=Decimal("-1.00"), steps=1)
    assert problem.code == "write.raised"
    assert ADA not in problem.message
    assert "says no" in problem.inner
    if river.engine == "mariadb":
        numbered = publish(river, await draft(river, "raise_rate", "faults: {Refused: {numbers: [40123]}}\n"))
        assert (await refused(numbered, "RaiseRate", lock="LM01", by=Decimal("-1.00"), steps=1)).name == "Refused"


async def test_sensitive_values_stay_out_of_the_words(river: Database) -> None:
    text = (await draft(river, "raise_rate")).replace("lock: {type: string,", "lock: {type: string, sensitive: true,", 1)
    live = publish(river, text)
    problem = await refused(live, "RaiseRate", lock="ada", by=Decimal("-1.00"), steps=1)
    assert "ada" not in problem.message
    assert "•••" in problem.message


async def test_a_trial_is_rolled_back_and_a_repeated_request_is_done_once(river: Database) -> None:
    live = publish(river, await draft(river, "raise_rate"))
    trial = Trial()
    answer = await call(live, "RaiseRate", Call(trial=trial), lock="LM01", by=Decimal("1.00"), steps=1)
    assert answer["rate"] == Decimal("2.25")
    assert rate(river) == Decimal("1.25")
    assert trial.transactions == 1
    [change] = trial.changes
    assert (change.object, change.action, change.fields["rate"]) == ("raise-rate", "called", (None, "2.25"))

    def mark() -> RequestMark:
        now = time.time()
        return RequestMark("once", now, now + 60, now - 60, lambda values: values["state"], lambda text: {"state": text.upper()})

    assert live.by_name["RaiseRate"].marked
    first = await call(live, "RaiseRate", Call(request=mark()), lock="LM01", by=Decimal("1.00"), steps=1)
    again = await call(live, "RaiseRate", Call(request=mark()), lock="LM01", by=Decimal("1.00"), steps=1)
    assert (first["state"], again["state"], rate(river)) == ("done", "DONE", Decimal("2.25"))


async def test_what_is_said_to_change_nothing_may_change_nothing(river: Database) -> None:
    text = await draft(river, "log_toll")
    live = publish(river, text if "writes: false" in text else f"{text}writes: false\n")
    problem = await refused(live, "LogToll", lock="LM01")
    assert problem.code == "backend.rights"
    assert "writes: true" in problem.mend
    assert len(rows(river, "SELECT number FROM passage")) == 2
    live = publish(river, text.replace("writes: false\n", ""))
    assert (await call(live, "LogToll", lock="LM01"))["result"] == 1
    assert len(rows(river, "SELECT number FROM passage")) == 3


async def test_a_routine_that_commits_is_told_and_can_have_its_own_transactions(river: Database) -> None:
    live = publish(river, await draft(river, "close_month"))
    problem = await refused(live, "CloseMonth", Call(trial=Trial()), lock="LM01")
    assert problem.code == "routine.commits"
    assert "transaction: own" in problem.mend
    stored = len(rows(river, "SELECT number FROM passage"))
    assert stored == (2 if river.engine == "postgresql" else 4)  # there it is refused before, here what it committed stays, and is told
    river.run("DELETE FROM passage WHERE number > 9")
    own = publish(river, await draft(river, "close_month", "transaction: own\n"))
    assert not own.by_name["CloseMonth"].marked
    problem = await refused(own, "CloseMonth", Call(trial=Trial()), lock="LM01")
    assert problem.code == "trial.routine"
    assert len(rows(river, "SELECT number FROM passage")) == 2
    assert await call(own, "CloseMonth", lock="LM01") == {}
    assert len(rows(river, "SELECT number FROM passage")) == 4
    problem = await refused(own, "CloseMonth", lock="LM01")
    assert problem.code == "write.unique"
    assert "nothing was stored" not in problem.mend  # that nobody knows


async def test_one_that_loops_is_stopped_and_the_session_goes_on(river: Database) -> None:
    live = publish(river, await draft(river, "wait_for"))
    for within in (None, Call(deadline=river.pool.now() + 0.3)):
        began = time.monotonic()
        problem = await refused(live, "WaitFor", within, seconds=Decimal("1.00"))
        assert problem.kind in (Kind.BUSY, Kind.LIMIT)
        assert time.monotonic() - began < 10
    quick = publish(river, await draft(river, "quote_toll"))
    assert (await call(quick, "QuoteToll", lock="LM02", tons=Decimal("2.00"), reduced=True))["result"] == Decimal("49.50")


async def test_rows_are_told_by_the_names_of_their_columns(river: Database) -> None:
    seen = await tried(river, "passages")
    live = publish(river, await draft(river, "passages", seen=seen))
    answer = await call(live, "Passages", lock="LM01")
    first, second = answer["row"]
    assert (first["number"], first["tons"], first["passed"], first["paid"]) == (1, Decimal("120.50"), datetime(2026, 11, 29, 10, 11, 12), True)
    assert (second["tons"], second["passed"], second["paid"]) == (None, None, False)
    assert await call(live, "Passages", lock="XX99") == {"row": []}
    text = await draft(river, "passages", seen=seen)
    narrow = publish(river, text.replace("  row:\n", "  row:\n    most: 1\n"))
    assert (await refused(narrow, "Passages", lock="LM01")).code == "routine.too-many"
    assert len((await call(publish(river, text.replace("  row:\n", "  row:\n    most: 2\n")), "Passages", lock="LM01"))["row"]) == 2
    other = publish(river, text.replace("tons: {", "tons: {column: weight, "))
    problem = await refused(other, "Passages", lock="LM01")
    assert (problem.code, problem.expected) == ("routine.column", "weight")
    assert "tons" in problem.found


async def tried(river: Database, name: str, given: dict[str, Any] | None = None) -> list[Results] | None:
    """What a routine gave when it was called, where no catalogue tells what it gives."""
    routine = (await found(river))[name]
    if not routine.shows_rows:
        return None
    session = await river.pool.borrow(Call())
    try:
        return await results_of(session, FORMS[river.engine], routine, {"p_lock": "LM01"} if given is None else given)
    finally:
        river.pool.give_back(session, False)


async def test_several_results_in_their_order(river: Database) -> None:
    seen = await tried(river, "lock_sheet")
    assert seen is not None
    assert [one.columns for one in seen] == [("lock", "rate"), ("number", "tons")]
    text = await draft(river, "lock_sheet", seen=seen)
    answer = await call(publish(river, text), "LockSheet", lock="LM01")
    assert answer["row1"] == [{"lock": "LM01", "rate": Decimal("1.25")}]
    assert [one["number"] for one in answer["row2"]] == [1, 2]
    second = text.replace("  row2:\n", "  row2:\n    set: 2\n")
    second = second[:second.index("  row1:")] + second[second.index("  row2:"):]
    assert list(await call(publish(river, second), "LockSheet", lock="LM01")) == ["row2"]
    third = text.replace("  row2:\n", "  row2:\n    set: 3\n")
    assert (await refused(publish(river, third), "LockSheet", lock="LM01")).code == "routine.sets"
    optional = third.replace("    set: 3\n", "    set: 3\n    optional: true\n")
    assert (await call(publish(river, optional), "LockSheet", lock="LM01"))["row2"] == []


async def test_what_has_changed_below_is_told_by_its_parameter(river: Database) -> None:
    definition = draft_routine((await found(river))["quote_toll"], Wish("river"))
    assert differences(definition, (await found(river))["quote_toll"]) == []
    river.run("DROP FUNCTION quote_toll",
              "CREATE FUNCTION quote_toll(p_lock text, p_weight numeric, p_reduced boolean) RETURNS numeric LANGUAGE sql AS $$ SELECT 1.0 $$"
              if river.engine == "postgresql" else
              "CREATE FUNCTION quote_toll(p_lock varchar(8), p_weight decimal(9,2), p_reduced boolean) RETURNS decimal(9,2) RETURN 1")
    changed = {name: (said, there) for name, said, there in differences(definition, (await found(river))["quote_toll"])}
    assert set(changed) == {"p_tons", "p_weight"} | ({"p_reduced"} if river.engine == "postgresql" else set())
    assert changed["p_tons"][1] == "no such parameter"
    assert changed["p_weight"][0] == "no such parameter"
    live = publish(river, write_definition(definition))
    if river.engine == "postgresql":  # arguments go by their names there
        assert (await refused(live, "QuoteToll", lock="LM01", tons=Decimal("1.00"), reduced=True)).code == "backend.changed"


async def test_steps_on_one_session_stand_and_fall_together(river: Database) -> None:
    """What the first call stored is rolled back with the second, and neither may end the transaction that they share."""
    both = """
workflow: both
input: {second: {type: string}}
output: {rate: {type: decimal, required: false}}
faults: {SaysNo: {}}
steps:
  all:
    session: river
    steps:
      one: {call: routine raise-rate, input: {lock: '"LM01"', by: 1, steps: 1}}
      two: {call: routine raise-rate, input: {lock: second, by: '1 if second == "LM02" else -1', steps: 1}}
  answer: {reply: {rate: one.rate}}
"""
    text = await draft(river, "raise_rate", "faults: {SaysNo: {says: says no}}\n")
    service = "service: Tolls\noperations:\n  Both: {runs: workflow both}\n"
    live = river.publish((text, both, service), "Tolls")
    assert (await refused(live, "Both", second="LM01")).name == "SaysNo"
    assert rate(river) == Decimal("1.25")
    trial = Trial()
    assert (await call(live, "Both", Call(trial=trial), second="LM02"))["rate"] == Decimal("2.25")
    assert (rate(river), trial.transactions, len(trial.changes)) == (Decimal("1.25"), 1, 2)
    await call(live, "Both", second="LM02")
    assert (rate(river), rate(river, "LM02")) == (Decimal("2.25"), Decimal("50.50"))
    closing = both.replace("{call: routine raise-rate, input: {lock: second, by: '1 if second == \"LM02\" else -1', steps: 1}}",
                           "{call: routine close-month, input: {lock: second}}")
    live = river.publish((text, await draft(river, "close_month", "transaction: own\n"), closing, service), "Tolls")
    assert "transaction of its own" in str((await refused(live, "Both", second="LM02")).message)
    assert rate(river) == Decimal("2.25")


TYPES: dict[str, list[tuple[str, Any]]] = {
    "postgresql": [
        ("text", "Größe ✓ 'quoted' -- ; \\"), ("varchar", "a"), ("char(4)", "abcd"), ("integer", -7), ("bigint", 2**63 - 1), ("smallint", 7),
        ("numeric", Decimal("12345678901234567890.000100")), ("numeric(9,2)", Decimal("1.50")), ("real", 0.5), ("double precision", 0.1),
        ("boolean", True), ("date", date(2026, 11, 29)), ("time", clock(4, 5, 6, 789)), ("timestamp", datetime(2026, 2, 3, 4, 5, 6, 123456)),
        ("timestamptz", datetime(2026, 2, 3, 4, 5, 6, tzinfo=UTC)), ("bytea", b"\x00\xff"), ("uuid", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"),
        ("jsonb", '{"a": [1, null]}'), ("text[]", '{a,"b c",NULL}'), ("interval", "1 year 2 mons 03:04:05"), ("inet", "10.0.0.0/24"),
        ("mood", "calm"), ("metres", Decimal("3.50")), ("varbit", "1010"), ("money", "$12.34"),
    ],
    "mariadb": [
        ("varchar(40)", "Größe ✓ 'quoted' -- ; \\"), ("char(4)", "abcd"), ("text", "😀"), ("int", -7), ("bigint", 2**63 - 1),
        ("bigint unsigned", 2**64 - 1), ("smallint", 7), ("decimal(30,6)", Decimal("12345678901234567890.000100")), ("float", 0.1),
        ("double", 0.1), ("boolean", True), ("date", date(2026, 11, 29)), ("time(3)", clock(4, 5, 6, 789000)),
        ("datetime(6)", datetime(2026, 2, 3, 4, 5, 6, 123456)), ("varbinary(8)", b"\x00\xff"), ("blob", b"\x00\xff'\\"),
        ("uuid", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"), ("json", '{"a": [1, null]}'), ("enum('calm','rough')", "calm"),
        ("set('a','b')", "a,b"), ("year", 2026), ("bit(4)", 10),
    ],
}


async def test_values_of_every_type_go_in_and_come_out_unaltered(river: Database) -> None:
    """As the value of a function, and as a parameter of a procedure that goes in and comes out."""
    if river.engine == "postgresql":
        river.run("CREATE TYPE mood AS ENUM ('calm', 'rough')", "CREATE DOMAIN metres AS numeric(6,2)")
    wrong = []
    for number, (declared, _) in enumerate(TYPES[river.engine]):
        if river.engine == "postgresql":
            river.run(f"CREATE FUNCTION same_{number}(p_one {declared}) RETURNS {declared} STABLE LANGUAGE sql AS $$ SELECT p_one $$",
                      f"CREATE PROCEDURE back_{number}(INOUT p_one {declared}, OUT p_two {declared}) LANGUAGE plpgsql AS $$"
                      " BEGIN p_two := p_one; END $$")
        else:
            river.run(f"CREATE FUNCTION same_{number}(p_one {declared}) RETURNS {declared} NO SQL RETURN p_one",
                      f"CREATE PROCEDURE back_{number}(INOUT p_one {declared}, OUT p_two {declared}) SET p_two = p_one")
    texts = {name: write_definition(draft_routine(one, Wish("river"))) for name, one in (await found(river)).items()
             if name.startswith(("same_", "back_"))}
    live = publish(river, *texts.values())
    for number, (declared, value) in enumerate(TYPES[river.engine]):
        for name, outputs in ((f"Same{number}", ["result"]), (f"Back{number}", ["one", "two"])):
            try:
                answer = await call(live, name, one=value)
            except (ProblemError, DeclaredFaultError) as error:
                wrong.append((declared, name, str(error), getattr(error, "problem", None) and error.problem.inner))
                continue
            wrong += [(declared, name, one, answer[one], value) for one in outputs
                      if (answer[one], answer[one].__class__) != (value, value.__class__)]
            none = await call(live, name, one=None)
            wrong += [(declared, name, one, none[one]) for one in outputs if none[one] is not None]
    assert wrong == []


@pytest.mark.parametrize("engine", ROUTINES)
async def test_what_a_routine_leaves_on_its_session_nobody_else_finds(engine: str, tmp_path: Path, servers: Servers) -> None:
    """Settings, variables, temporary tables: the session, which is the only one, is as new when the next call has it."""
    river = Database(engine, tmp_path, servers, sessions=1)
    if river.engine == "postgresql":
        river.run("CREATE FUNCTION leave(p_word text) RETURNS int LANGUAGE plpgsql AS $$ BEGIN CREATE TEMPORARY TABLE left_behind (word text);"
                  " PERFORM set_config('larkmere.who', p_word, false); PERFORM set_config('TimeZone', 'Asia/Tokyo', false);"
                  " PERFORM pg_advisory_lock(7); RETURN 1; END $$",
                  "CREATE FUNCTION look() RETURNS text STABLE LANGUAGE sql AS $$ SELECT concat(current_setting('larkmere.who', true),"
                  " current_setting('TimeZone'), to_regclass('pg_temp.left_behind'), (SELECT count(*) FROM pg_locks WHERE locktype = 'advisory')) $$")
    else:
        river.run("CREATE PROCEDURE leave_it(p_word varchar(20), OUT p_done int) BEGIN CREATE TEMPORARY TABLE left_behind (word text);"
                  " SET @who = p_word, p_done = 1; SET SESSION time_zone = '+09:00', sql_mode = ''; DO GET_LOCK('seven', 0); END",
                  "CREATE FUNCTION look() RETURNS varchar(99) READS SQL DATA RETURN CONCAT(COALESCE(@who, ''), @@time_zone, @@sql_mode = '',"
                  " COALESCE(IS_USED_LOCK('seven'), ''))")
    name = "leave" if river.engine == "postgresql" else "leave_it"
    live = publish(river, await draft(river, name), await draft(river, "look"))
    for _ in range(2):  # a table that were still there could not be made again
        await call(live, pascal_case(name.replace("_", "-")), word="Ada")
        assert (await call(live, "Look"))["result"] == ("UTC0" if river.engine == "postgresql" else "+00:000")
    await river.pool.close()


async def test_other_schemas_and_names_that_need_quotes(river: Database) -> None:
    try:
        if river.engine == "postgresql":
            river.run("DROP SCHEMA IF EXISTS toll CASCADE", "CREATE SCHEMA toll",
                      'CREATE FUNCTION toll."Rate (m)"("p select" text, "P lock" text DEFAULT \'x\') RETURNS text STABLE LANGUAGE sql'
                      ' AS $$ SELECT "p select" || "P lock" $$')
        else:
            river.run("DROP DATABASE IF EXISTS toll", "CREATE DATABASE toll",
                      'CREATE FUNCTION toll."Rate (m)"("p select" varchar(9), "P lock" varchar(9)) RETURNS varchar(20) NO SQL'
                      ' RETURN CONCAT("p select", "P lock")')
        assert "toll.Rate (m)" in await found(river)
        live = publish(river, await draft(river, "toll.Rate (m)"))
        assert await call(live, "RateM", pSelect="a", pLock="b") == {"result": "ab"}
    finally:
        river.run("DROP SCHEMA toll CASCADE" if river.engine == "postgresql" else "DROP DATABASE toll")


async def test_what_comes_before_an_error_is_no_answer_and_too_much_is_refused(river: Database) -> None:
    river.run(*{"postgresql": ["CREATE FUNCTION half() RETURNS TABLE (n int) STABLE LANGUAGE plpgsql AS $$ BEGIN RETURN NEXT; n := 2; RETURN NEXT;"
                               " RAISE EXCEPTION 'Half of it.'; END $$",
                               "CREATE FUNCTION flood() RETURNS TABLE (n int) STABLE LANGUAGE sql AS $$ SELECT generate_series(1, 20000) $$"],
                "mariadb": ["CREATE PROCEDURE half() READS SQL DATA BEGIN SELECT 1 AS n; SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'Half of it.'; END",
                            "CREATE PROCEDURE flood() READS SQL DATA SELECT seq AS n FROM seq_1_to_20000"]}[river.engine])
    rows = "rows:\n  row: {columns: {n: {type: int, required: false}}}\n"
    half, flood = await draft(river, "half"), await draft(river, "flood")
    live = publish(river, *(text if "rows:" in text else text + rows for text in (half, flood)))
    assert (await refused(live, "Half")).message == "Half of it."
    assert (await refused(live, "Flood")).code in ("routine.too-many", "backend.too-much")
    assert (await refused(live, "Half")).message == "Half of it."  # the session is as good as before


async def test_a_lost_session_is_replaced_where_nothing_is_changed(river: Database) -> None:
    waits = {"postgresql": "CREATE FUNCTION slow_{0}(seconds int) RETURNS int {1} LANGUAGE plpgsql"
                           " AS $$ BEGIN PERFORM pg_sleep(seconds); RETURN 1; END $$",
             "mariadb": "CREATE FUNCTION slow_{0}(seconds int) RETURNS int {1} BEGIN DO SLEEP(seconds); RETURN 1; END"}[river.engine]
    river.run(waits.format("read", "STABLE" if river.engine == "postgresql" else "READS SQL DATA"),
              waits.format("write", "VOLATILE" if river.engine == "postgresql" else "MODIFIES SQL DATA"))
    live = publish(river, await draft(river, "slow_read"), await draft(river, "slow_write"))

    async def broken(operation: str) -> dict[str, Any]:
        running = asyncio.create_task(call(live, operation, seconds=2))
        await asyncio.to_thread(kill)
        return await running

    def kill() -> None:
        """As soon as it sleeps."""
        asleep = {"postgresql": "SELECT pid FROM pg_stat_activity WHERE wait_event = 'PgSleep'",
                  "mariadb": "SELECT id FROM information_schema.processlist WHERE state = 'User sleep'"}[river.engine]
        while not (found := rows(river, asleep)):
            time.sleep(0.02)
        [[ident]] = found
        river.run(f"SELECT pg_terminate_backend({ident})" if river.engine == "postgresql" else f"KILL {ident}")

    assert await broken("SlowRead") == {"result": 1}
    with pytest.raises(ProblemError) as caught:
        await broken("SlowWrite")
    assert caught.value.problem.code == "backend.failed"
    assert (await call(live, "SlowRead", seconds=0)) == {"result": 1}


async def test_a_row_whose_fields_are_called_like_arguments_and_a_cursor_that_is_named(servers: Servers, tmp_path: Path) -> None:
    river = Database("postgresql", tmp_path, servers)
    river.run("CREATE TABLE tariff (lock text, rate numeric(9,2))", "INSERT INTO tariff VALUES ('LM01', 1.25)",
              "CREATE FUNCTION tariff_of(lock text) RETURNS tariff STABLE LANGUAGE sql AS $$ SELECT * FROM tariff t WHERE t.lock = $1 $$",
              "CREATE FUNCTION all_rates(c refcursor) RETURNS refcursor STABLE LANGUAGE plpgsql AS $$"
              " BEGIN OPEN c FOR SELECT * FROM tariff; RETURN c; END $$")
    live = publish(river, await draft(river, "tariff_of"), await draft(river, "all_rates", seen=await tried(river, "all_rates", {})))
    assert await call(live, "TariffOf", lock="LM01") == {"lock2": "LM01", "rate": Decimal("1.25")}
    assert (await call(live, "AllRates"))["row"] == [{"lock": "LM01", "rate": Decimal("1.25")}]
    await river.pool.close()


async def test_a_changed_routine_is_followed_and_what_somebody_wrote_stays(river: Database) -> None:
    before = {"postgresql": "CREATE FUNCTION fee(p_lock text, p_tons numeric(6,2), p_gone int, INOUT p_state text, OUT p_fee numeric(9,2))"
                            " LANGUAGE plpgsql AS $$ BEGIN p_fee := p_tons; END $$",
              "mariadb": "CREATE PROCEDURE fee(p_lock varchar(8), p_tons decimal(6,2), p_gone int, INOUT p_state varchar(9), OUT p_fee decimal(9,2))"
                         " SET p_fee = p_tons"}[river.engine]
    river.run(before)
    known = read_definition((await draft(river, "fee")).replace("gone:", "oldClass:").replace("label: Tons", "label: Cargo, sample: '4.5'")
                            + "faults:\n  Closed: {states: '45001', fields: [oldClass, lock]}\n", "r")
    assert isinstance(known, RoutineDefinition)
    river.run("DROP FUNCTION fee" if river.engine == "postgresql" else "DROP PROCEDURE fee",
              before.replace("(6,2)", "(8,3)").replace("p_gone int", "p_class text"))
    routine = (await found(river))["fee"]
    made = renewed(known, routine)
    assert not differences(made, routine)
    assert {one.name: one.parameter_name for one in made.input} == {
        "lock": "p_lock", "tons": "p_tons", "state": "p_state", "class": "p_class"}
    tons = next(one for one in made.input if one.name == "tons")
    assert (tons.label, tons.sample, made.faults[0].fields) == ("Cargo", "4.5", ("lock",))
    if river.engine == "mariadb":  # the other one keeps no digits of parameters
        assert (tons.digits, tons.fraction) == (8, 3)
    assert resolve_routine(made, Catalogue([BackendDefinition(name="river", engine=river.engine), made]))
    assert renewed(made, routine) == made
    if river.engine == "postgresql":  # a default that is new changes no call, and is there for who wants it
        optional = replace(routine, parameters=(*routine.parameters, replace(routine.parameters[0], name="p_night", optional=True)))
        assert not differences(made, optional)
        assert [one[0] for one in newly_optional(made, optional)] == ["p_night"]
        assert next(one for one in renewed(made, optional).input if one.name == "night").required is False
    both = replace(routine, parameters=(replace(routine.parameters[0], way="in-out"), *routine.parameters[1:]))
    assert [(one.name, one.parameter_name) for one in renewed(made, both).output][-1] == ("lock", "p_lock")  # it comes out now, too
    narrower = made.model_copy(update={"input": tuple(one for one in made.input if one.name != "state")})
    assert renewed(narrower, routine) == narrower  # what was left out on purpose does not come back
    river.run("DROP FUNCTION fee" if river.engine == "postgresql" else "DROP PROCEDURE fee")


async def test_calls_at_once_keep_their_values_apart(river: Database) -> None:
    live = publish(river, await draft(river, "raise_rate"))
    answers = await asyncio.gather(*(call(live, "RaiseRate", lock="XX99", by=Decimal("0.01"), steps=n) for n in range(40)))
    assert [one["steps"] for one in answers] == list(range(1, 41))
