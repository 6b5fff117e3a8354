"""Procedures and functions on both servers: found, drafted, published and called, and each way in which one can go wrong."""

import asyncio
import time
from collections.abc import AsyncIterator
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.adapters.engines import DOORS
from bricola.core.calls.call import Call
from bricola.core.calls.trials import Trial
from bricola.core.definitions.engines.places import StatementLimits
from bricola.core.definitions.names import pascal_case
from bricola.core.definitions.text import write_definition
from bricola.core.jobs.marks import RequestMark
from bricola.core.kinds.routines.comparing import differences
from bricola.core.kinds.routines.drafting import Wish, draft_routine
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
    found = Database(request.param, tmp_path, servers, requests="marks", limits=StatementLimits(seconds=2.0))
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
  TooDear: {parameter: p_state, values: [dear], description: It would be too dear., fields: [lock, rate]}
""")
    live = publish(river, text)
    fault = await refused(live, "RaiseRate", lock="LM01", by=Decimal("-1.00"), steps=1)
    assert (fault.name, fault.message, fault.detail["lock"]) == ("KeeperSaysNo", "The keeper does not allow it.", "LM01")
    fault = await refused(live, "RaiseRate", lock="LM02", by=Decimal("2.00"), steps=1)
    assert fault.name == "TooDear"
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
    assert (await refused(own, "CloseMonth", lock="LM01")).code == "write.unique"


async def test_one_that_loops_is_stopped_and_the_session_goes_on(river: Database) -> None:
    live = publish(river, await draft(river, "wait_for"))
    for within in (None, Call(deadline=river.pool.now() + 0.5)):
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


async def tried(river: Database, name: str) -> list[Results] | None:
    """What a routine gave when it was called, where no catalogue tells what it gives."""
    routine = (await found(river))[name]
    if not routine.shows_rows:
        return None
    session = await river.pool.borrow(Call())
    try:
        return await results_of(session, FORMS[river.engine], routine, {"p_lock": "LM01"})
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


async def test_calls_at_once_keep_their_values_apart(river: Database) -> None:
    live = publish(river, await draft(river, "raise_rate"))
    answers = await asyncio.gather(*(call(live, "RaiseRate", lock="XX99", by=Decimal("0.01"), steps=n) for n in range(40)))
    assert [one["steps"] for one in answers] == list(range(1, 41))
