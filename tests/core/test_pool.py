"""The pool, its breakers and its advice, on a clock that the test moves and sessions that fail when told."""

import asyncio
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.calls.call import Call
from bricola.core.calls.callers import Caller
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Breaker, PoolSettings
from bricola.core.pool import lending
from bricola.core.pool.capacity import Load, Meter, advised_size, waiting_share
from bricola.core.pool.endpoints import Circuit, Endpoints
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import Held
from bricola.core.pool.states import SESSION_MOVES, SessionState
from bricola.core.problems import Kind, Problem, ProblemError

NORTH, SOUTH = Endpoint(name="north", address="n"), Endpoint(name="south", address="s")


@pytest.fixture(autouse=True)
def wrong_moves(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[str]]:
    """Every session of every test here follows the table of states."""
    found: list[str] = []

    class Followed(Held[Any]):
        def __setattr__(self, name: str, value: Any) -> None:
            before = getattr(self, "state", None)
            if name == "state" and before is not None and value not in SESSION_MOVES[before]:
                found.append(f"{before} to {value}")
            super().__setattr__(name, value)

    monkeypatch.setattr(lending, "Held", Followed)
    yield found
    assert not found


def test_a_move_that_the_table_does_not_know_is_seen(wrong_moves: list[str]) -> None:
    held = lending.Held(1, "main", 0.0)
    held.state = SessionState.WARM
    held.state = SessionState.RESETTING
    assert wrong_moves == ["warm to resetting"]
    wrong_moves.clear()


class Session:
    def __init__(self, number: int, endpoint: str) -> None:
        self.number, self.endpoint, self.sound, self.clean, self.alive, self.cut = number, endpoint, True, True, True, False


class Sessions:
    """A session kind that counts, and refuses or hangs on demand, by endpoint."""

    def __init__(self) -> None:
        self.made: list[Session] = []
        self.open_now, self.opening, self.most_opening = 0, 0, 0
        self.refuse: set[str] = set()
        self.room = 1000  # sessions that the backend lets one user have
        self.hang: set[str] = set()

    async def open(self, endpoint: Endpoint) -> Session:
        self.opening += 1
        self.most_opening = max(self.most_opening, self.opening)
        try:
            if endpoint.name in self.hang:
                await asyncio.sleep(60)
            await asyncio.sleep(0)
            if self.open_now >= self.room:
                raise ProblemError(Problem("backend.no-room", "The host takes no further session of this user.", Kind.BUSY))
            if endpoint.name in self.refuse:
                raise ProblemError(Problem("backend.unreachable", "Down.", Kind.BACKEND, inner="refused"))
        finally:
            self.opening -= 1
        self.open_now += 1
        self.made.append(Session(len(self.made) + 1, endpoint.name))
        return self.made[-1]

    def is_sound(self, session: Session) -> bool:
        return session.sound

    def is_clean(self, session: Session) -> bool:
        return session.clean

    async def check(self, session: Session) -> bool:
        return session.alive

    async def reset(self, session: Session) -> bool:
        session.clean = True
        return session.sound

    async def close(self, session: Session) -> None:
        self.open_now -= 1

    def cut(self, session: Session) -> None:
        session.cut = True

    def identity(self, session: Session) -> str:
        return "clerk"

    async def most_sessions(self, session: Session) -> int | None:
        return 3


class Clock:
    now = 0.0

    def __call__(self) -> float:
        return self.now


def make(*endpoints: Endpoint, **settings: Any) -> tuple[Pool[Session], Sessions, Clock]:
    kind, clock = Sessions(), Clock()
    given_settings = PoolSettings(**{"min_size": 0, "max_size": 2, "timeout": 0.3, "connect_timeout": 0.1, **settings})
    return Pool("p", kind, endpoints or (NORTH,), given_settings, clock, lambda: 0.5), kind, clock


async def tend(pool: Pool[Session], clock: Clock, seconds: float = 0) -> None:
    """Let time pass for the pool, and let it look around once."""
    clock.now += seconds
    await pool._tend_once(clock.now)
    await asyncio.sleep(0.01)


async def test_it_grows_one_by_one_to_its_bound_and_reuses_the_warmest() -> None:
    pool, kind, _ = make(max_size=5)
    borrowed = await asyncio.gather(*(pool.borrow() for _ in range(5)))
    assert (len(kind.made), kind.most_opening) == (5, 1)
    for one in borrowed:
        pool.give_back(one)
    assert pool.take() is borrowed[-1]
    assert (pool.statistics()["pool_available"], pool.statistics()["pool_size"]) == (4, 5)
    assert pool.view()["backend_limit"] == 3


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
    assert pool.statistics()["requests_errors"] == 1
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
    pool, kind, clock = make(max_lifetime=100, check_after=1000)
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
    clock.now = 96  # the lifetime of 100, less half of its jitter of 10
    assert await pool.borrow() is not two
    await asyncio.sleep(0.01)
    assert kind.open_now == 1
    assert pool.statistics()["returns_bad"] == 1


async def test_a_session_that_died_while_idle_is_replaced_before_the_call_begins() -> None:
    pool, kind, clock = make(check_after=30)
    one, two = await pool.borrow(), await pool.borrow()
    pool.give_back(one)
    pool.give_back(two)
    clock.now = 31
    one.alive = two.alive = False
    assert pool.take() is None  # too long idle to be lent unseen
    three = await pool.borrow()
    assert three not in (one, two)
    assert pool.statistics()["connections_lost"] == 2
    three.sound = False
    pool.give_back(three)
    await asyncio.sleep(0.01)
    assert kind.open_now == 0


async def test_a_backend_that_is_down_is_told_and_comes_back_by_itself() -> None:
    pool, kind, clock = make(max_size=1, breaker=Breaker(failures=3, retry_after=5))
    kind.refuse = {"north"}
    results = await asyncio.gather(*(pool.borrow() for _ in range(3)), return_exceptions=True)
    assert all(isinstance(one, ProblemError) for one in results)  # all at once, by one attempt
    kind.refuse, kind.hang = set(), {"north"}
    with pytest.raises(ProblemError, match="did not accept a session in time"):
        await pool.borrow()
    with pytest.raises(ProblemError, match="did not accept"):
        await pool.borrow()
    assert pool.state == "faulting"
    kind.hang = set()
    with pytest.raises(ProblemError, match="does not answer") as caught:
        await pool.borrow()  # the circuit is open: refused without trying
    assert "north" in caught.value.problem.inner
    clock.now = 5.1
    assert await pool.borrow() is kind.made[0]
    assert pool.state == "serving"


async def test_the_twin_takes_over_and_the_sessions_spread_again() -> None:
    pool, kind, clock = make(NORTH, SOUTH, max_size=4, min_size=4, breaker=Breaker(failures=1, retry_after=5))
    await tend(pool, clock)
    assert sorted(one.endpoint for one in kind.made) == ["north", "north", "south", "south"]
    kind.refuse = {"north"}
    for one in kind.made:
        one.alive = one.sound = one.endpoint != "north"
    for _ in range(5):
        session = await pool.borrow()
        assert session.endpoint == "south"
        pool.give_back(session)
    await tend(pool, clock, 11)
    assert pool.state == "at risk"
    await tend(pool, clock, 1)
    view = {one["endpoint"]: one for one in pool.view()["endpoints"]}
    assert (view["north"]["circuit"], view["north"]["sessions"]) == ("open", 0)
    kind.refuse = set()
    for _ in range(6):
        await tend(pool, clock, 5)
    view = {one["endpoint"]: one for one in pool.view()["endpoints"]}
    assert (view["north"]["circuit"], view["north"]["sessions"], view["south"]["sessions"]) == ("closed", 2, 2)
    assert pool.state == "serving"


async def test_a_standby_serves_only_while_the_first_is_away() -> None:
    standby = Endpoint(name="standby", address="x", priority=2)
    pool, kind, clock = make(NORTH, standby, max_size=2, breaker=Breaker(failures=1, retry_after=5))
    kind.refuse = {"north"}
    session = await pool.borrow()
    assert session.endpoint == "standby"
    kind.refuse = set()
    await tend(pool, clock, 6)  # north answers again
    await tend(pool, clock, 1)  # so the standby's session goes when its call ends
    pool.give_back(session)
    assert (await pool.borrow()).endpoint == "north"


async def test_a_backend_that_has_room_for_no_more_is_no_failure_and_the_pool_keeps_to_it() -> None:
    pool, kind, clock = make(max_size=5)
    kind.room = 2
    served: list[Session] = []

    async def call() -> None:
        async with pool.session() as session:
            served.append(session)
            await asyncio.sleep(0.01)

    await asyncio.gather(*(call() for _ in range(8)))  # nobody is refused: they wait for the two
    assert (len(served), len(kind.made), pool.state, pool.view()["backend_limit"]) == (8, 2, "serving", 2)
    assert [one.connect_errors for one in pool.endpoints] == [1]
    await asyncio.sleep(0.15)
    kind.room, clock.now = 3, 61.0  # after a while it is asked again
    await asyncio.gather(*(call() for _ in range(8)))
    assert len(kind.made) == 3


async def test_who_is_gone_leaves_the_queue() -> None:
    pool, _, _ = make(max_size=1, timeout=5)
    held = await pool.borrow()
    gone = asyncio.Event()
    waiting = asyncio.create_task(pool.borrow(Call(left=gone.wait)))  # type: ignore[arg-type]
    staying = asyncio.create_task(pool.borrow(Call(left=asyncio.Event().wait)))  # type: ignore[arg-type]
    await asyncio.sleep(0.01)
    gone.set()
    with pytest.raises(ProblemError, match="was gone before"):
        await waiting
    pool.give_back(held)
    assert await staying is held
    assert pool.statistics()["requests_waiting"] == 0


async def test_a_changed_secret_is_tried_at_once() -> None:
    pool, kind, clock = make(breaker=Breaker(failures=1, retry_after=300))
    kind.refuse.add("north")
    with pytest.raises(ProblemError):
        await pool.borrow()
    assert pool.endpoints.state("north").circuit is Circuit.OPEN
    kind.refuse.clear()
    clock.now += 1
    with pytest.raises(ProblemError):
        await pool.borrow()  # it is left alone for a while
    pool.start()
    pool.try_again()
    await asyncio.sleep(0.05)
    assert pool.endpoints.state("north").circuit is Circuit.CLOSED
    assert await pool.borrow()
    await pool.close()


async def test_people_stop_start_recycle_and_evict() -> None:
    pool, kind, _ = make(max_size=2)
    one, two = await pool.borrow(), await pool.borrow()
    pool.give_back(two)
    pool.recycle()
    assert [one["state"] for one in pool.view()["sessions"]] == ["draining"]
    pool.give_back(one)
    three = await pool.borrow()
    assert three not in (one, two)
    assert pool.evict(three.number, cut=True)
    assert three.cut
    assert not pool.evict(99)
    pool.give_back(three)
    four = await pool.borrow(Call("c1", "GaugeBook.GetGauge", Caller("tide-reader", frozenset())))
    view = pool.view()["sessions"][0]
    assert (view["identity"], view["state"], view["caller"], view["operation"]) == ("clerk", "in use", "tide-reader", "GaugeBook.GetGauge")
    pool.stop()
    with pytest.raises(ProblemError, match="is stopped"):
        await pool.borrow()
    assert not four.cut
    pool.give_back(four)
    await asyncio.sleep(0.01)
    assert (kind.open_now, pool.state) == (0, "stopped")
    pool.start()
    assert await pool.borrow()
    await pool.close()


async def test_settings_change_while_it_runs() -> None:
    pool, kind, _ = make(max_size=4)
    held = [await pool.borrow() for _ in range(4)]
    pool.adjust(pool.settings.model_copy(update={"max_size": 2}))
    for one in held:
        pool.give_back(one)
    await asyncio.sleep(0.01)
    assert kind.open_now == 2
    waiting = [asyncio.create_task(pool.borrow()) for _ in range(3)]
    await asyncio.sleep(0.01)
    assert [one.done() for one in waiting] == [True, True, False]
    pool.adjust(pool.settings.model_copy(update={"max_size": 3}))
    assert await waiting[2]


async def test_it_sleeps_after_a_quiet_time_and_wakes_with_a_call() -> None:
    pool, kind, clock = make(min_size=1, sleep_after=60, start="first-call")
    assert (pool.state, len(kind.made)) == ("asleep", 0)
    pool.give_back(await pool.borrow())
    await tend(pool, clock, 59)
    assert pool.state == "serving"
    await tend(pool, clock, 2)
    assert (pool.state, kind.open_now) == ("asleep", 0)
    assert await pool.borrow()


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
    assert (len(kind.made), pool.statistics()["pool_available"]) == (2, 2)
    held = await pool.borrow()
    await pool.close()
    assert kind.open_now == 1
    pool.give_back(held)
    await asyncio.sleep(0.01)
    assert kind.open_now == 0
    with pytest.raises(ProblemError, match="closed"):
        await pool.borrow()


async def test_one_that_dies_every_tenth_call_costs_no_call() -> None:
    pool, kind, _ = make(max_size=3, breaker=Breaker(failures=3, retry_after=0.01))
    for number in range(200):
        session = await pool.borrow()
        session.sound = number % 10 != 9
        pool.give_back(session)
    assert pool.statistics()["connections_lost"] == 20
    assert pool.statistics()["requests_errors"] == 0
    assert kind.open_now <= 3


def test_a_breaker_waits_longer_each_time_and_lets_one_through() -> None:
    ends = Endpoints([NORTH], Breaker(failures=2, retry_after=5))
    state = ends.state("north")
    ends.failed(state, 0, "x")
    assert ends.choose(0) is state
    ends.failed(state, 1, "x")
    assert (state.circuit, ends.choose(5)) == (Circuit.OPEN, None)
    assert ends.choose(6) is state
    assert ends.choose(6) is None  # one attempt is under way
    ends.failed(state, 6, "x")
    assert ends.choose(15) is None
    assert ends.choose(16) is state
    ends.succeeded(state, 16)
    assert state.circuit is Circuit.CLOSED


def test_sessions_are_shared_by_weight() -> None:
    ends = Endpoints([NORTH.model_copy(update={"weight": 3}), SOUTH], Breaker())
    for _ in range(8):
        chosen = ends.choose(0)
        assert chosen is not None
        chosen.sessions += 1
    assert (ends.state("north").sessions, ends.state("south").sessions) == (6, 2)


def test_advice_follows_erlang() -> None:
    # Erlang C with 2 erlangs on 4 servers, from the published tables: 0.1739.
    assert round(waiting_share(4, 2.0), 4) == 0.1739
    assert round(waiting_share(1, 0.5), 4) == 0.5
    assert advised_size(Load(20.0, 0.1, 1000)) == 6
    assert advised_size(Load(20.0, 0.1, 10)) is None
    meter = Meter(0.0)
    for second in range(60):
        for _ in range(20):
            meter.arrived(second)
            meter.served(second, 0.1)
    assert advised_size(meter.load(60.0)) == 6


@given(st.integers(1, 200), st.floats(0.01, 150))
def test_more_sessions_never_make_more_wait(sessions: int, offered: float) -> None:
    assert 0 <= waiting_share(sessions + 1, offered) <= waiting_share(sessions, offered) <= 1
