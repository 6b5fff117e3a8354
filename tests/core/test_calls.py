"""The explicit call: nothing of one shows in another, its deadline reaches the backend, and calls from inside are calls like others."""

import asyncio
import itertools
import json
import time
from collections.abc import AsyncIterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from bricola.core.ages import Ages
from bricola.core.calls.call import Call
from bricola.core.calls.callers import Caller, Callers, Token, token_digest
from bricola.core.calls.idempotency import Idempotency, Remembered, RequestKey
from bricola.core.calls.limits import Limits
from bricola.core.calls.trials import Trial
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.faces import Request
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import CallRecord, Pipeline
from tests.core.databases import ENGINES, Database, Servers, call
from tests.core.terminals import backend_of, demo_host, handler_of, pool_to

NOTE = "object: note\nbackend: river\ntable: note\nkey: id\nfields:\n  id: {type: string}\n  text: {type: string, required: false}\n"
SLOW = {
    "sqlite": "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40000000) SELECT MAX(i) AS i FROM n",
    "postgresql": "SELECT 1 AS i FROM pg_sleep(20)",
    "mariadb": "SELECT SLEEP(20) AS i",
}
SERVICE = """
service: NoteBook
access: {writer: all, reader: [GetNote]}
operations:
  GetNote: {runs: note.get}
  CreateNote: {runs: note.create}
  DeleteNote: {runs: note.delete}
  Wait: {runs: query wait}
"""


class Records(list[CallRecord]):
    def add(self, record: CallRecord, keep: bool) -> None:
        self.append(record)

    def keep_picture(self, record: CallRecord, picture: Any) -> None: ...
    def keep_trace(self, record: CallRecord, trace: Any) -> None: ...


class Remembering:
    """A request log in memory. `fails` lets the note of an answer fail."""

    def __init__(self) -> None:
        self.known: dict[RequestKey, Remembered] = {}
        self.fails = False

    async def begin(self, key: RequestKey, digest: str, call: str, at: float, expires: float) -> Remembered | None:
        found = self.known.get(key)
        if found is None:
            self.known[key] = Remembered(digest, call, "")
        return found

    async def finish(self, key: RequestKey, answer: str) -> None:
        if self.fails:
            raise ProblemError(Problem("store.full", "The disk is full.", Kind.BUSY))
        self.known[key] = self.known[key]._replace(answer=answer)

    async def forget(self, key: RequestKey) -> None:
        self.known.pop(key, None)


WRITER = Caller("night-batch", frozenset({"writer"}))
READER = Caller("toll-audit", frozenset({"reader"}))


def pipeline(records: Records, log: Remembering | None = None) -> Pipeline:
    callers = Callers(time.time)
    callers.replace([Token(token_digest("w"), WRITER), Token(token_digest("r"), READER)])
    numbers = iter(range(1000))
    return Pipeline(callers, records, time.time, time.monotonic, lambda: f"c{next(numbers)}",
                    Idempotency(log, Ages(time.time, time.monotonic)) if log is not None else None)


@pytest.fixture
async def database(tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    found = Database("sqlite", tmp_path, servers)
    found.run("CREATE TABLE note (id VARCHAR(40) PRIMARY KEY, text VARCHAR(200))")
    yield found
    await found.pool.close()


def publish(database: Database, **environment: Any) -> LiveService:
    slow = SLOW[database.engine]
    query = f"query: wait\nbackend: river\nselect: {slow}\ncolumns:\n  i: {{type: long}}\nkey: i\n"
    return database.publish((NOTE, query, SERVICE), "NoteBook", **environment)


def ask(values: dict[str, Any], token: bytes = b"Bearer w", **more: Any) -> Request:
    return Request(json.dumps(values).encode(), "application/json", token, **more)


async def test_a_trial_ends_with_its_call(database: Database) -> None:
    """Two calls in one task: the first a trial, the second real. The second was rolled back without a word."""
    live, pipe = publish(database), pipeline(Records())
    tried = await pipe.rest(live, "CreateNote", ask({"note": {"id": "A"}}, trial=True))
    real = await pipe.rest(live, "CreateNote", ask({"note": {"id": "B"}}))
    assert (tried.trial, real.status, real.trial) == ("rolled back", 200, "")
    assert (await pipe.rest(live, "GetNote", ask({"id": "A"}))).status == 422
    assert (await pipe.rest(live, "GetNote", ask({"id": "B"}))).status == 200


async def test_what_one_call_is_given_no_other_sees(database: Database) -> None:
    texts = (NOTE, SERVICE.replace("  Wait: {runs: query wait}\n", "").replace(
        "  CreateNote: {runs: note.create}", "  CreateNote: {runs: note.create, input: {text: {given: context, value: caller.name}}}"))
    live, records = database.publish(texts, "NoteBook"), Records()
    pipe = pipeline(records)
    await asyncio.gather(*(pipe.rest(live, "CreateNote", ask({"note": {"id": f"N{number}"}})) for number in range(20)))
    answers = [json.loads((await pipe.rest(live, "GetNote", ask({"id": f"N{number}"}, b"Bearer r"))).body) for number in range(20)]
    assert {one["note"]["text"] for one in answers} == {"night-batch"}
    assert len({one.id for one in records}) == len(records) == 40


@pytest.mark.parametrize("engine", ENGINES)
async def test_the_deadline_of_a_call_ends_its_statement(engine: str, tmp_path: Path, servers: Servers) -> None:
    database = Database(engine, tmp_path, servers)
    database.run("CREATE TABLE note (id VARCHAR(40) PRIMARY KEY, text VARCHAR(200))")
    live = publish(database)
    began = time.monotonic()
    with pytest.raises(ProblemError) as late:
        await call(live, "Wait", Call(deadline=began + 0.4))
    assert late.value.problem.code == "call.deadline"
    assert time.monotonic() - began < 5
    await call(live, "CreateNote", Call(deadline=time.monotonic() + 30), note={"id": "A"})  # the session is free and sound again
    with pytest.raises(ProblemError, match="longer than calls may take"):
        await call(live, "GetNote", Call(deadline=time.monotonic() - 1), id="A")
    await database.pool.close()


async def test_the_deadline_ends_the_wait_for_a_session(database: Database) -> None:
    live = publish(database, call_seconds=0.3)
    held = [await database.pool.borrow() for _ in range(4)]
    records = Records()
    began = time.monotonic()
    answer = await pipeline(records).rest(live, "GetNote", ask({"id": "A"}))
    assert (answer.status, records[0].result) == (503, "failed")
    assert 0.2 < time.monotonic() - began < 3  # and not the pool's own ten seconds
    for one in held:
        database.pool.give_back(one)


async def test_the_deadline_ends_the_wait_for_a_host(registry: Path) -> None:
    async with demo_host("ledger", registry, delay=0.4) as (_, port), pool_to(backend_of("ledger"), port, connect_timeout=8) as pool:
        session = await pool.borrow()
        pool.give_back(session)
        handle = handler_of("LockLedger", pool)
        began = time.monotonic()
        with pytest.raises(ProblemError) as late:
            await handle({"registration": "LK-0412", "maxRows": 300}, Call(deadline=began + 1.0))
        assert late.value.problem.code == "call.deadline"
        assert time.monotonic() - began < 3


async def test_a_call_from_inside_is_authorised_limited_and_recorded(database: Database) -> None:
    live, records = publish(database), Records()
    pipe = pipeline(records, Remembering())
    answer = await pipe.inside(live, "CreateNote", WRITER, {"note": {"id": "A", "text": "one"}})
    assert answer == {"id": "A"}
    with pytest.raises(ProblemError, match="may not call"):
        await pipe.inside(live, "CreateNote", READER, {"note": {"id": "B"}})
    with pytest.raises(ProblemError, match="no such operation"):
        await pipe.inside(live, "MoveNote", WRITER, {})
    with pytest.raises(ProblemError):
        await pipe.inside(live, "CreateNote", WRITER, {"note": {"id": 7}})
    with pytest.raises(DeclaredFaultError):
        await pipe.inside(live, "GetNote", READER, {"id": "Z"})
    limits = Limits("few", (), 1, None, time.monotonic)
    few = replace(READER, limits=limits)
    assert (await pipe.inside(live, "GetNote", few, {"id": "A"}))["note"]["text"] == "one"
    with pytest.raises(ProblemError, match="calls too often"):
        await pipe.inside(live, "GetNote", few, {"id": "A"})
    assert [(one.face, one.operation, one.caller, one.result, one.status) for one in records] == [
        ("inside", "CreateNote", "night-batch", "answered", 200), ("inside", "CreateNote", "toll-audit", "failed", 403),
        ("inside", "", "night-batch", "failed", 404), ("inside", "CreateNote", "night-batch", "failed", 400),
        ("inside", "GetNote", "toll-audit", "fault", 422), ("inside", "GetNote", "toll-audit", "answered", 200),
        ("inside", "", "toll-audit", "failed", 429)]


async def test_an_inner_call_ends_with_the_outer_one_and_shares_its_trial(database: Database) -> None:
    live, records = publish(database), Records()
    pipe = pipeline(records)
    outer = Call(trial=Trial(), deadline=time.monotonic() + 30)
    await pipe.inside(live, "CreateNote", WRITER, {"note": {"id": "A"}}, outer)
    assert outer.trial is not None
    assert [(one.action, one.key) for one in outer.trial.changes] == [("created", {"id": "A"})]
    with pytest.raises(DeclaredFaultError):
        await pipe.inside(live, "GetNote", WRITER, {"id": "A"}, outer)
    with pytest.raises(ProblemError, match="longer than calls may take"):
        await pipe.inside(live, "GetNote", WRITER, {"id": "A"}, Call(deadline=time.monotonic() - 1))


async def test_requests_that_come_again(database: Database) -> None:
    live, log, records = publish(database), Remembering(), Records()
    pipe = pipeline(records, log)
    first = await pipe.rest(live, "CreateNote", ask({"note": {"id": "A"}}, request_id="k"))
    again = await pipe.rest(live, "CreateNote", ask({"note": {"id": "A"}}, request_id="k"))
    assert (again.body, again.repeats) == (first.body, first.call)
    reused = await pipe.rest(live, "CreateNote", ask({"note": {"id": "B"}}, request_id="k"))
    assert (reused.status, json.loads(reused.body)["problems"][0]["code"]) == (409, "request.reused")
    bad = await pipe.rest(live, "CreateNote", ask({"note": {"id": "C"}}, request_id="k\x07"))
    assert json.loads(bad.body)["problems"][0]["code"] == "request.id"
    both = await asyncio.gather(*(pipe.rest(live, "CreateNote", ask({"note": {"id": "D"}}, request_id="twin")) for _ in range(5)))
    assert ([one.status for one in both], {one.body for one in both}) == ([200] * 5, {both[0].body})
    assert sorted(bool(one.repeats) for one in both) == [False, True, True, True, True]
    refused = await pipe.rest(live, "CreateNote", ask({"note": {"id": "A"}}, request_id="other"))
    assert refused.status == 422
    assert not any(key.id == "other" for key in log.known)  # nothing was stored, so it may be sent again
    log.fails = True
    unnoted = await pipe.rest(live, "CreateNote", ask({"note": {"id": "E"}}, request_id="e"))
    assert unnoted.status == 200  # it is stored, whatever becomes of the note
    unknown = await pipe.rest(live, "CreateNote", ask({"note": {"id": "E"}}, request_id="e"))
    assert json.loads(unknown.body)["problems"][0]["code"] == "request.outcome-unknown"


async def test_a_repeat_finds_its_mark_whatever_the_clock_and_the_log_say(database: Database) -> None:
    database.run("CREATE TABLE mark (id VARCHAR(80) PRIMARY KEY, expires BIGINT, answer VARCHAR(2000))")
    database.binding = database.binding.model_copy(update={"requests": "mark"})
    live, log, wall = publish(database), Remembering(), [time.time()]
    callers = Callers(time.time)
    callers.replace([Token(token_digest("w"), WRITER)])
    ids = map(str, itertools.count())
    pipe = Pipeline(callers, Records(), lambda: wall[0], time.monotonic, lambda: next(ids),
                    Idempotency(log, Ages(lambda: wall[0], time.monotonic)))
    first = await pipe.rest(live, "CreateNote", ask({"note": {"id": "A"}}, request_id="k"))
    assert first.status == 200
    for jump in (26 * 3600, -52 * 3600, 365 * 24 * 3600):
        wall[0] += jump
        log.known.clear()
        other = await pipe.rest(live, "CreateNote", ask({"note": {"id": f"B{jump}"}}, request_id=f"b{jump}"))
        again = await pipe.rest(live, "CreateNote", ask({"note": {"id": "A"}}, request_id="k"))
        assert (other.status, again.status, again.body) == (200, 200, first.body)
    notes = await database.pool.borrow(Call())
    assert await notes.rows("SELECT count(*) FROM note WHERE id = 'A'", []) == [(1,)]
    database.pool.give_back(notes, broken=False)


def test_limits_of_a_caller() -> None:
    now = [0.0]
    limits = Limits("harbour-desk", ("10.0.0.0/8", "fd00::/8", "192.0.2.7"), 60, 2, lambda: now[0])
    for peer in ("192.0.2.8", "not an address", ""):
        with pytest.raises(ProblemError) as elsewhere:
            limits.enter(peer)
        assert elsewhere.value.problem.kind is Kind.PERMISSION
    for peer in ("10.1.2.3", "::ffff:10.1.2.3"):
        limits.enter(peer)
    with pytest.raises(ProblemError, match="too many calls at once"):
        limits.enter("fd00::1")
    limits.leave()
    limits.leave()
    for _ in range(58):
        limits.enter("192.0.2.7")
        limits.leave()
    with pytest.raises(ProblemError, match="calls too often"):
        limits.enter("192.0.2.7")
    now[0] = 1.0  # one call a second comes back
    limits.enter("192.0.2.7")
    with pytest.raises(ProblemError, match="Try again in"):
        limits.enter("192.0.2.7")
