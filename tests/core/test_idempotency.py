"""A write with a request id, at most once: against a log in memory, without a backend."""

import asyncio
import time

import pytest

from bricola.core.ages import MOST_STEP, Ages
from bricola.core.calls.call import Call
from bricola.core.calls.idempotency import OUTCOME_UNKNOWN, Idempotency, Remembered, RequestKey
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record, Values
from bricola.core.shapes.simple import SimpleType

TEXT = SimpleType("string")
REFUSED = FaultShape("Refused", Record("Refused", (Element("why", TEXT),)))
SHAPE = OperationShape("Moor", Record("", (Element("vessel", TEXT),)), Record("", (Element("berth", SimpleType("int")),)), (REFUSED,),
                       writes=True)
KEY = RequestKey("live", "BerthDesk", "Moor", "pilots", "r-1")
AGES = Ages(time.time, time.monotonic)
GIVEN: Values = {"vessel": "LK-0412"}


class Log:
    """Requests in memory; `broken` refuses to remember answers."""

    def __init__(self) -> None:
        self.known: dict[RequestKey, Remembered] = {}
        self.broken = False

    async def begin(self, key: RequestKey, digest: str, call: str, at: float, expires: float) -> Remembered | None:
        await asyncio.sleep(0)
        assert expires >= at + 24 * 3600
        known = self.known.get(key)
        if known is None:
            self.known[key] = Remembered(digest, call, "")
        return known

    async def finish(self, key: RequestKey, answer: str) -> None:
        if self.broken:
            raise ProblemError(Problem("store.full", "The disk is full.", Kind.INTERNAL))
        self.known[key] = self.known[key]._replace(answer=answer)

    async def forget(self, key: RequestKey) -> None:
        del self.known[key]


class Backend:
    """Counts what is written, and fails on demand."""

    def __init__(self) -> None:
        self.written = 0
        self.failure: Exception | None = None
        self.go_on = asyncio.Event()
        self.go_on.set()

    async def write(self) -> Values:
        await self.go_on.wait()
        if self.failure is not None:
            raise self.failure
        self.written += 1
        return {"berth": self.written}


@pytest.fixture
def log() -> Log:
    return Log()


@pytest.fixture
def backend() -> Backend:
    return Backend()


async def once(log: Log, backend: Backend, call: Call, of: Idempotency | None = None, values: Values = GIVEN, marked: bool = False,
               key: RequestKey = KEY) -> Values:
    return await (of or Idempotency(log, AGES)).once(key, SHAPE, values, call, 24, marked, backend.write)


async def test_the_same_request_again_is_answered_as_the_first_and_done_once(log: Log, backend: Backend) -> None:
    first, second = Call("c1", at=100.0), Call("c2", at=200.0)
    assert await once(log, backend, first) == await once(log, backend, second) == {"berth": 1}
    assert (backend.written, first.repeats, second.repeats) == (1, "", "c1")
    assert first.request is not None
    assert second.request is None


async def test_another_input_another_caller_and_another_operation(log: Log, backend: Backend) -> None:
    await once(log, backend, Call("c1"))
    with pytest.raises(ProblemError, match="another input"):
        await once(log, backend, Call("c2"), values={"vessel": "LK-0413"})
    await once(log, backend, Call("c3"), key=KEY._replace(caller="harbour-desk"))
    await once(log, backend, Call("c4"), key=KEY._replace(operation="Leave"))
    assert backend.written == 3


async def test_those_that_come_while_it_runs_wait_for_its_answer(log: Log, backend: Backend) -> None:
    requests = Idempotency(log, AGES)
    backend.go_on.clear()
    calls = [Call(f"c{number}") for number in range(5)]
    waiting = [asyncio.create_task(once(log, backend, call, requests)) for call in calls]
    await asyncio.sleep(0.01)
    assert not any(one.done() for one in waiting)
    backend.go_on.set()
    assert await asyncio.gather(*waiting) == [{"berth": 1}] * 5
    assert [one.repeats for one in calls] == ["", "c0", "c0", "c0", "c0"]


async def test_those_that_waited_try_themselves_when_it_failed(log: Log, backend: Backend) -> None:
    requests = Idempotency(log, AGES)
    backend.go_on.clear()
    backend.failure = ProblemError(Problem("backend.lost", "The backend is gone.", Kind.BACKEND))
    first = asyncio.create_task(once(log, backend, Call("c1"), requests))
    second = asyncio.create_task(once(log, backend, Call("c2"), requests))
    await asyncio.sleep(0.01)
    backend.go_on.set()
    with pytest.raises(ProblemError, match="gone"):
        await first
    backend.failure = None
    assert await second == {"berth": 1}


@pytest.mark.parametrize("failure", [
    DeclaredFaultError("Refused", "No berth is free", {"why": "full"}), ProblemError(Problem("backend.lost", "Gone.", Kind.BACKEND)),
])
async def test_what_stored_nothing_may_be_sent_again(log: Log, backend: Backend, failure: Exception) -> None:
    backend.failure = failure
    with pytest.raises(type(failure)):
        await once(log, backend, Call("c1"))
    assert log.known == {}
    backend.failure = None
    assert await once(log, backend, Call("c2")) == {"berth": 1}


async def test_what_may_have_been_stored_is_not_done_again_without_a_mark(log: Log, backend: Backend) -> None:
    backend.failure = ProblemError(Problem(OUTCOME_UNKNOWN, "The connection broke at the commit.", Kind.BACKEND))
    with pytest.raises(ProblemError, match="broke"):
        await once(log, backend, Call("c1"))
    backend.failure = None
    with pytest.raises(ProblemError, match="outcome is not known"):
        await once(log, backend, Call("c2"))
    assert backend.written == 0


async def test_with_a_mark_the_backend_is_asked_what_came_of_it(log: Log, backend: Backend) -> None:
    backend.failure = ProblemError(Problem(OUTCOME_UNKNOWN, "The connection broke at the commit.", Kind.BACKEND))
    lost, again = Call("c1"), Call("c2")
    with pytest.raises(ProblemError):
        await once(log, backend, lost, marked=True)
    backend.failure = None
    await once(log, backend, again, marked=True)
    assert lost.request is not None
    assert again.request is not None
    assert lost.request.id == again.request.id
    assert lost.request.id == again.request.id


async def test_an_answer_that_cannot_be_remembered_is_given_all_the_same(log: Log, backend: Backend) -> None:
    log.broken = True
    assert await once(log, backend, Call("c1")) == {"berth": 1}
    with pytest.raises(ProblemError, match="outcome is not known"):
        await once(log, backend, Call("c2"))


def test_a_clock_that_jumps_only_makes_things_be_kept_longer() -> None:
    wall, passing = [1000.0], [5.0]
    ages = Ages(lambda: wall[0], lambda: passing[0])
    wall[0], passing[0] = 1010.0, 15.0
    assert (ages.earliest(), ages.latest()) == (1010.0, 1010.0)
    wall[0] += 26 * 3600
    assert (ages.earliest(), ages.latest()) == (1010.0, wall[0])
    wall[0] -= 30 * 3600
    assert (ages.earliest(), ages.latest()) == (wall[0], 1010.0)
    wall[0], passing[0] = 1020.0 + 26 * 3600, 25.0 + 26 * 3600  # every clock of the machine jumped
    assert ages.earliest() == 1010.0 + MOST_STEP
    again = Ages(lambda: wall[0], lambda: 0.0, ages.own)  # begun anew, while the clock on the wall is wrong
    assert again.earliest() == ages.own
