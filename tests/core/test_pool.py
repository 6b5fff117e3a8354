"""The pool, on a clock that the test moves and sessions that fail when told."""

import asyncio

import pytest

from bricola.core.definitions.model import PoolSettings
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.pool import Pool


class Session:
    def __init__(self, number: int) -> None:
        self.number, self.sound, self.clean = number, True, True


class Sessions:
    """A session kind that counts, and refuses or hangs on demand."""

    def __init__(self) -> None:
        self.made, self.open_now, self.refuse, self.hang = 0, 0, False, False

    async def open(self) -> Session:
        if self.hang:
            await asyncio.sleep(60)
        await asyncio.sleep(0)
        if self.refuse:
            raise ProblemError(Problem("backend.unreachable", "Down.", Kind.BACKEND))
        self.made += 1
        self.open_now += 1
        return Session(self.made)

    def is_sound(self, session: Session) -> bool:
        return session.sound

    def is_clean(self, session: Session) -> bool:
        return session.clean

    async def reset(self, session: Session) -> bool:
        session.clean = True
        return session.sound

    async def close(self, session: Session) -> None:
        self.open_now -= 1


class Clock:
    now = 0.0

    def __call__(self) -> float:
        return self.now


def make(**settings: float) -> tuple[Pool[Session], Sessions, Clock]:
    kind, clock = Sessions(), Clock()
    return Pool("p", kind, PoolSettings(**{"min_size": 0, "max_size": 2, "timeout": 0.2, **settings}), clock), kind, clock


async def test_it_grows_one_by_one_to_its_bound_and_reuses_the_warmest() -> None:
    pool, kind, _ = make()
    first, second = await pool.borrow(), await pool.borrow()
    assert kind.made == 2
    pool.give_back(first)
    pool.give_back(second)
    assert pool.take() is second
    assert pool.statistics()["idle"] == 1


async def test_waiters_are_served_in_order_and_time_out() -> None:
    pool, _, _ = make(max_size=1)
    held = await pool.borrow()
    served: list[str] = []

    async def wait(name: str) -> None:
        session = await pool.borrow()
        served.append(name)
        pool.give_back(session)

    waiting = [asyncio.create_task(wait(name)) for name in "abc"]
    await asyncio.sleep(0.01)
    pool.give_back(held)
    await asyncio.gather(*waiting)
    assert served == ["a", "b", "c"]
    held = await pool.borrow()
    with pytest.raises(ProblemError, match="came free in time"):
        await pool.borrow()
    assert pool.statistics()["requests_timed_out"] == 1
    pool.give_back(held)
    assert await pool.borrow() is held


async def test_too_many_waiters_are_refused_at_once() -> None:
    pool, _, _ = make(max_size=1, max_waiting=1, timeout=5)
    held = await pool.borrow()
    task = asyncio.create_task(pool.borrow())
    await asyncio.sleep(0.01)
    with pytest.raises(ProblemError, match="Too many calls"):
        await pool.borrow()
    pool.give_back(held)
    assert await task is held


async def test_a_cancelled_waiter_loses_no_session() -> None:
    pool, _, _ = make(max_size=1, timeout=5)
    held = await pool.borrow()
    task = asyncio.create_task(pool.borrow())
    await asyncio.sleep(0.01)
    pool.give_back(held)  # the session is on its way to the waiter when the waiter gives up
    task.cancel()
    with pytest.raises(asyncio.CancelledError):
        await task
    assert await asyncio.wait_for(pool.borrow(), 1) is held


async def test_broken_and_old_sessions_are_replaced_and_dirty_ones_reset() -> None:
    pool, kind, clock = make(max_lifetime=100)
    one = await pool.borrow()
    pool.give_back(one, broken=True)
    two = await pool.borrow()
    assert two is not one
    two.clean = False
    pool.give_back(two)
    await asyncio.sleep(0.01)
    assert two.clean
    assert await pool.borrow() is two
    pool.give_back(two)
    clock.now = 101
    assert pool.take() is None
    await asyncio.sleep(0.01)
    assert kind.open_now == 0


async def test_a_backend_that_is_down_is_told_and_comes_back_by_itself() -> None:
    pool, kind, _ = make(max_size=1)
    kind.refuse = True
    results = await asyncio.gather(*(pool.borrow() for _ in range(3)), return_exceptions=True)
    assert all(isinstance(one, ProblemError) for one in results)
    kind.refuse, kind.hang = False, True
    with pytest.raises(ProblemError, match="did not accept a session in time"):
        await pool.borrow()
    kind.hang = False
    session = await pool.borrow()
    assert pool.statistics()["size"] == 1
    pool.give_back(session)


async def test_a_retired_pool_keeps_nothing_and_still_serves() -> None:
    pool, kind, _ = make(min_size=1)
    pool.start()
    await asyncio.sleep(0.02)
    pool.retire()
    session = await pool.borrow()
    pool.give_back(session)
    await asyncio.sleep(0.01)
    assert kind.open_now == 0


async def test_it_warms_up_and_closes_without_losing_those_who_borrowed() -> None:
    pool, kind, _ = make(min_size=2)
    pool.start()
    await asyncio.sleep(0.02)
    assert (kind.made, pool.statistics()["idle"]) == (2, 2)
    held = await pool.borrow()
    await pool.close()
    assert kind.open_now == 1
    pool.give_back(held)
    await asyncio.sleep(0.01)
    assert kind.open_now == 0
    with pytest.raises(ProblemError, match="closed"):
        await pool.borrow()
