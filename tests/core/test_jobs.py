"""Jobs: every step once, however often the process is killed; and what people decide."""

import asyncio
import random
import time
from collections.abc import AsyncIterator, Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.core.ages import Ages
from bricola.core.calls.call import Call
from bricola.core.calls.callers import Callers
from bricola.core.jobs import values
from bricola.core.jobs.journal import Entry, Mark
from bricola.core.jobs.model import OPEN, Job, JobState
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.jobs import Jobs, cancelled_by
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import Pipeline
from tests.core.databases import ENGINES, Database, Servers

MARKS = "CREATE TABLE marks (id CHAR(64) PRIMARY KEY, expires BIGINT NOT NULL, answer TEXT NOT NULL)"
OBJECT = """
object: weir
backend: river
table: weir
key: code
change_token: version
fields:
  code: {type: string, max_length: 8}
  crest: {type: decimal, digits: 6, fraction: 2}
"""
RAISE = """
workflow: raise
answers: later
input: {codes: {type: string, repeats: true}, by: {type: decimal, digits: 6, fraction: 2}, last: {type: string}}
output: {raised: {type: int}, sum: {type: decimal, digits: 8, fraction: 2}}
faults: {NotFound: {}, AlreadyExists: {}, Conflict: {}, Low: {}}
steps:
  all:
    for_each: codes
    item: code
    collect: raised.weir.crest
    steps:
      weir: {call: weir.get, input: {code: code}}
      change:
        call: weir.update
        input: {code: code, changeToken: weir.weir.changeToken, crest: weir.weir.crest + by}
        undo: {call: weir.update, input: {code: code, changeToken: change.changeToken, crest: weir.weir.crest}}
      raised: {call: weir.get, input: {code: code}}
  both:
    parallel:
      one: {steps: {first: {call: weir.create, input: {weir: {code: '"N1"', crest: 1}}, undo: {call: weir.delete, input: {code: '"N1"', changeToken: first.changeToken}}}}}
      two: {steps: {second: {call: weir.get, input: {code: '"W1"'}}}}
  unit:
    session: river
    steps:
      third: {call: weir.create, input: {weir: {code: '"N2"', crest: 2}}}
      seen: {call: weir.get, input: {code: '"N2"'}}
  rest: {wait: 0.01}
  check: {attempt: {there: {call: weir.get, input: {code: last}}}, catch: {NotFound: {steps: {low: {fail: Low}}}}}
  answer: {reply: {raised: count(codes), sum: sum(all) + seen.weir.crest}}
"""
SERVICE = "service: Weirs\naccess: {clerk: all}\noperations:\n  Raise: {runs: workflow raise}\n  GetWeir: {runs: weir.get}"
TEXTS = (OBJECT, RAISE, SERVICE)


class NoRecords:
    def add(self, record: Any, keep: bool) -> None: ...

    def keep_trace(self, record: Any, trace: Any) -> None: ...

    def keep_picture(self, record: Any, picture: Any) -> None: ...


class KilledError(BaseException):
    """The process is gone."""


class Paper:
    """A store of jobs in memory. `kill_at` is a write in the middle of which the process is killed, before or after it is there."""

    def __init__(self) -> None:
        self.jobs: dict[str, Job] = {}
        self.entries: dict[str, dict[str, Entry]] = {}
        self.writes, self.kill_at, self.dead = 0, (-1, False), False
        self.keys: list[str] = []
        self.news = asyncio.Event()
        self.full: Callable[[str], bool] = lambda entry: False  # what cannot be written, since the disk is full

    async def until(self, holds: Callable[[], bool]) -> None:
        """Wait until something holds of what was written."""
        while not holds():
            self.news.clear()
            await self.news.wait()

    async def accept(self, job: Job, since: float) -> str:
        await asyncio.sleep(0)
        self.jobs[job.id] = job
        self.entries[job.id] = {}
        return job.id

    async def claim(self, job: str, worker: str, at: float) -> tuple[Job, list[Entry]] | None:
        await asyncio.sleep(0)
        found = self.jobs[job]
        if found.state not in OPEN:
            return None
        self.jobs[job] = found._replace(state=JobState.RUNNING, worker=worker)
        return self.jobs[job], list(self.entries[job].values())

    async def write(self, job: str, worker: str, entry: Entry) -> bool:
        await asyncio.sleep(0)
        if self.jobs[job].worker != worker:
            return False
        number, after = self.kill_at
        self.writes += 1
        if self.full(f"{entry.key} {entry.mark}"):
            raise ProblemError(Problem("store.full", "The disk is full, so nothing was stored.", Kind.BUSY))
        dies = self.writes == number
        if self.dead or (dies and not after):
            self.dead = True
            raise KilledError
        self.entries[job].pop(entry.key, None)
        self.entries[job][entry.key] = entry
        self.keys.append(f"{entry.key} {entry.mark}")
        self.news.set()
        if dies:
            self.dead = True
            raise KilledError
        return True

    async def finish(self, job: str, worker: str, state: JobState, outcome: str, words: str, at: float) -> bool:
        if self.dead:
            raise KilledError
        if self.jobs[job].worker != worker:
            return False
        self.jobs[job] = self.jobs[job]._replace(state=state, outcome=outcome, words=words, worker="")
        return True

    async def find(self, job: str) -> Job | None:
        return self.jobs.get(job)

    async def open_jobs(self) -> list[str]:
        return [one.id for one in self.jobs.values() if one.state in OPEN]


class House:
    """A process with the service live in it; `killed` begins another one on the same paper."""

    def __init__(self, live: LiveService, paper: Paper) -> None:
        self.live, self.paper, self.processes = live, paper, 0
        self.jobs = self._begin()

    def _begin(self) -> Jobs:
        self.processes += 1
        pipeline = Pipeline(Callers(time.time), NoRecords(), time.time, time.monotonic, lambda: "c")

        async def find(job: Job) -> LiveService:
            return self.live

        return Jobs(self.paper, find, pipeline.job, time.time, Ages(time.time, time.monotonic), lambda: f"job{len(self.paper.jobs)}",
                    f"process {self.processes}")

    async def accept(self, **given: Any) -> str:
        operation = self.live.by_name["Raise"]
        call = Call()
        call.desk = self.jobs.desk(self.live, operation)
        answer = await operation.handle(call, given)
        operation.encode(answer)
        return str(answer["job"])

    async def rest(self, job: str) -> Job:
        """Wait until it rests, beginning a process again whenever the one before was killed."""
        for _ in range(200):
            tasks = [task for name, task in self.jobs._tasks.items() if name == job]
            if tasks:
                await asyncio.wait(tasks)
                for task in tasks:
                    if not task.cancelled():
                        task.exception()
            found = self.paper.jobs[job]
            if found.state not in OPEN:
                return found
            if self.paper.dead:
                self.paper.dead, self.paper.kill_at = False, (-1, False)
                self.jobs = self._begin()
                await self.jobs.take_up()
        raise AssertionError(found)


@pytest.fixture(params=ENGINES)
async def database(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    found = Database(request.param, tmp_path, servers, requests="marks")
    found.run("CREATE TABLE weir (code VARCHAR(8) PRIMARY KEY, crest DECIMAL(6,2) NOT NULL, version INTEGER NOT NULL)", MARKS)
    yield found
    await found.pool.close()


def fresh(database: Database) -> None:
    database.run("DELETE FROM weir", "DELETE FROM marks", "INSERT INTO weir VALUES ('W1', 4.20, 1)", "INSERT INTO weir VALUES ('W2', 5.10, 1)")


async def stored(live: LiveService) -> dict[str, Decimal]:
    found = {}
    for code in ("W1", "W2", "N1", "N2"):
        try:
            found[code] = Decimal((await live.by_name["GetWeir"].handle(Call(), {"code": code}))["weir"]["crest"])
        except Exception as error:
            assert getattr(error, "name", "") == "NotFound"
    return found


GIVEN: dict[str, Any] = {"codes": ["W1", "W2"], "by": Decimal("0.30"), "last": "W1"}
AFTER = {"W1": Decimal("4.50"), "W2": Decimal("5.40"), "N1": Decimal("1.00"), "N2": Decimal("2.00")}
UNDONE = {"W1": Decimal("4.20"), "W2": Decimal("5.10"), "N2": Decimal("2.00")}  # what a unit stored has nothing that undoes it here


async def writes_of(house: House, database: Database, **given: Any) -> tuple[int, Job]:
    """How often a job writes to its journal when nothing disturbs it."""
    fresh(database)
    before = house.paper.writes
    job = await house.rest(await house.accept(**given))
    return house.paper.writes - before, job


@pytest.mark.parametrize("last", ["W1", "W9"])
async def test_a_job_killed_at_any_write_is_done_once_or_undone_once(database: Database, last: str) -> None:
    live = database.publish(TEXTS, "Weirs")
    house = House(live, Paper())
    given = {**GIVEN, "last": last}
    count, job = await writes_of(house, database, **given)
    assert count > 12
    good = last == "W1"
    expected = (JobState.DONE, AFTER) if good else (JobState.FAULT, UNDONE)
    assert (job.state, await stored(live)) == expected, job
    for number in range(1, count + 1):
        for after in (False, True):
            fresh(database)
            house.paper.kill_at = (house.paper.writes + number, after)
            job = await house.rest(await house.accept(**given))
            assert (job.state, await stored(live)) == expected, (number, after, job, house.paper.keys[-count:])
            if good:
                assert values.read(job.outcome) == {"raised": 2, "sum": Decimal("11.90")}
    assert house.processes == 2 * count + 1


@pytest.mark.parametrize("seed", range(6))
async def test_a_job_killed_again_and_again(database: Database, seed: int) -> None:
    chance = random.Random(seed)
    live = database.publish(TEXTS, "Weirs")
    house = House(live, Paper())
    for _ in range(5):
        fresh(database)
        job = await house.accept(**{**GIVEN, "last": chance.choice(["W1", "W9"])})
        while house.paper.jobs[job].state in OPEN:
            house.paper.kill_at = (house.paper.writes + chance.randint(1, 9), chance.random() < 0.5)
            tasks = list(house.jobs._tasks.values())
            await asyncio.wait(tasks)
            if house.paper.dead:
                house.paper.dead = False
                house.jobs = house._begin()
                await house.jobs.take_up()
        good = house.paper.jobs[job].state is JobState.DONE
        assert await stored(live) == (AFTER if good else UNDONE), house.paper.jobs[job]


async def test_without_marks_a_step_that_was_cut_off_stops_for_a_person(tmp_path: Path, servers: Servers) -> None:
    database = Database("sqlite", tmp_path, servers)
    database.run("CREATE TABLE weir (code VARCHAR(8) PRIMARY KEY, crest DECIMAL(6,2) NOT NULL, version INTEGER NOT NULL)", MARKS)
    live = database.publish(TEXTS, "Weirs")
    house = House(live, Paper())
    count, _ = await writes_of(house, database, **GIVEN)
    states: dict[JobState, int] = {}
    for number in range(1, count + 1):
        fresh(database)
        start = len(house.paper.keys)
        house.paper.kill_at = (house.paper.writes + number, False)
        job = await house.rest(await house.accept(**GIVEN))
        states[job.state] = states.get(job.state, 0) + 1
        if job.state is JobState.UNKNOWN:
            began = [one for one in house.paper.keys[start:] if one.endswith(" began")][-1].removesuffix(" began")
            assert f"The step {began} was cut off" in job.words
        else:
            assert (job.state, await stored(live)) == (JobState.DONE, AFTER)
    assert states == {JobState.UNKNOWN: 4, JobState.DONE: count - 4}  # two changes, a new weir, a unit
    await database.pool.close()


async def test_a_job_that_is_cancelled_is_undone_and_one_that_is_stopped_goes_on(database: Database) -> None:
    live = database.publish((OBJECT, TEXTS[1].replace("wait: 0.01", "wait: 60"), SERVICE), "Weirs")
    house = House(live, Paper())
    for ending in ("cancel", "stop"):
        fresh(database)
        job = await house.accept(**GIVEN)
        await house.paper.until(lambda: f"rest {Mark.DONE}" in house.paper.keys)
        house.paper.keys.clear()
        if ending == "cancel":
            assert house.jobs.cancel(job, cancelled_by("ada"))
            found = await house.rest(job)
            assert (found.state, await stored(live)) == (JobState.CANCELLED, UNDONE)
            assert "cancelled by ada" in found.words
            continue
        await house.jobs.stop()
        assert house.paper.jobs[job].state is JobState.RUNNING
        assert await stored(live) == AFTER  # nothing is undone
        until = values.read(house.paper.entries[job]["rest"].text)["value"]
        assert 50 < until - time.time() < 60  # the moment is kept, and not begun anew
        house.paper.jobs[job] = house.paper.jobs[job]._replace(cancelled="bo")
        house.jobs = house._begin()
        await house.jobs.take_up()
        assert (await house.rest(job)).state is JobState.CANCELLED
        assert await stored(live) == UNDONE


@pytest.mark.parametrize("entry", ["all[0].change began", "all[0].change done", "unit done", "all[1].raised done"])
async def test_a_journal_that_cannot_be_written_is_no_failure_of_the_step(database: Database, entry: str) -> None:
    """The step may be stored already: nothing catches that, nothing is undone for it, and the job goes on when the store does."""
    live = database.publish(TEXTS, "Weirs")
    fresh(database)
    house = House(live, Paper())
    house.paper.full = lambda written: written == entry
    job = await house.accept(**GIVEN)
    await asyncio.wait(list(house.jobs._tasks.values()))
    assert house.paper.jobs[job].state is JobState.RUNNING
    assert not [one for one in house.paper.keys if "=" in one]  # neither an ending nor an undo
    house.paper.full = lambda written: False
    await house.jobs.take_up()
    assert (await house.rest(job)).state is JobState.DONE
    assert await stored(live) == AFTER


async def test_a_job_whose_time_was_over_while_nobody_had_it_is_undone(database: Database) -> None:
    live = database.publish(TEXTS, "Weirs")
    fresh(database)
    house = House(live, Paper())
    house.paper.kill_at = (house.paper.writes + 8, True)  # the second weir is changed, and nobody knows yet what it gave
    job = await house.accept(**GIVEN)
    await asyncio.wait(list(house.jobs._tasks.values()))
    house.paper.jobs[job] = house.paper.jobs[job]._replace(ends_at=time.time() - 1)
    house.paper.dead, house.paper.kill_at = False, (-1, False)
    house.jobs = house._begin()
    await house.jobs.take_up()
    found = await house.rest(job)
    assert (found.state, found.words.partition(".")[0]) == (JobState.FAILED, "The job took longer than it may")
    assert await stored(live) == {"W1": Decimal("4.20"), "W2": Decimal("5.10")}


async def test_two_who_do_one_job_do_it_once(database: Database) -> None:
    live = database.publish(TEXTS, "Weirs")
    fresh(database)
    paper = Paper()
    house, other = House(live, paper), House(live, paper)
    other.jobs.worker = "another process"
    job = await house.accept(**GIVEN)
    await paper.until(lambda: len(paper.keys) >= 4)
    await other.jobs.take_up()  # takes it away from the first, which goes no further
    for one in (house, other):
        tasks = list(one.jobs._tasks.values())
        if tasks:
            await asyncio.wait(tasks)
    assert paper.jobs[job].state is JobState.DONE, paper.jobs[job]
    assert await stored(live) == AFTER


async def test_its_status_and_result_are_for_its_caller(database: Database) -> None:
    live = database.publish(TEXTS, "Weirs")
    assert live.names == ["Raise", "RaiseStatus", "RaiseResult", "GetWeir"]
    assert live.by_name["RaiseStatus"].roles == live.by_name["Raise"].roles == {"clerk"}
    fresh(database)
    house = House(live, Paper())
    job = await house.accept(**GIVEN)

    async def ask(name: str, number: str = job) -> dict[str, Any]:
        call = Call()
        call.desk = house.jobs.desk(live, live.by_name[name])
        answer = await live.by_name[name].handle(call, {"job": number})
        live.by_name[name].encode(answer)
        return answer

    with pytest.raises(ProblemError, match="no result yet"):
        await ask("RaiseResult")
    await house.rest(job)
    told = await ask("RaiseStatus")
    assert (told["state"], told["job"]) == ("done", job)
    assert await ask("RaiseResult") == {"raised": 2, "sum": Decimal("11.90")}
    house.paper.jobs[job] = house.paper.jobs[job]._replace(caller="somebody else")
    for name in ("RaiseStatus", "RaiseResult"):
        with pytest.raises(ProblemError, match="no such job of yours"):
            await ask(name)
