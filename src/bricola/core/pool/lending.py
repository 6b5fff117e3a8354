"""Lending sessions: borrow, wait in turn, give back, grow, and what becomes of a session that is lost.

A `SessionKind` says how to open, check, reset and close; the rest is here and in `pool`, which adds what people see
and do and what happens by itself. Strategy: idle sessions are lent most recently used first, so that a quiet pool
ages at its far end and shrinks; those who wait are served first come, first served. One task opens sessions, one at a
time, while somebody waits, so that a burst does not become a storm of sign-ons. All state changes happen between
awaits on one event loop, so no lock is needed; a place is counted before its open is awaited, so the bound cannot be
passed.
"""

import asyncio
import contextlib
import random
from collections import deque
from collections.abc import AsyncIterator, Callable, Coroutine
from typing import Any, Generic

import structlog

from bricola.core.calls.call import Call, caller_left
from bricola.core.calls.trace import Lent
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import PoolSettings
from bricola.core.pool.capacity import Meter
from bricola.core.pool.endpoints import Circuit, Endpoints, EndpointState
from bricola.core.pool.sessions import Held, PoolStatistics, S, SessionKind, stopped
from bricola.core.pool.states import KEEPING, NOT_LENDING, PoolState, SessionState
from bricola.core.problems import Kind, Problem, ProblemError

log = structlog.stdlib.get_logger("bricola.pools")

_JITTER = 0.1  # a session lives up to this share shorter, so that those opened together do not all end together
_LIMIT_SECONDS = 1.0  # for asking a backend how many sessions it allows, which is good to know and no more
NO_ROOM = "backend.no-room"  # the code with which a kind of session says that the backend takes no further one
_BELIEVED_SECONDS = 60.0  # after which it is asked whether there is room again
_FIRST_PAUSE, _LONGEST_PAUSE = 0.1, 2.0  # seconds between attempts to grow while others are still in use


# Names of their own: looking a member up in its class costs as much as the rest of a line, and these stand on the way of every call.
_WARM, _IN_USE, _DRAINING = SessionState.WARM, SessionState.IN_USE, SessionState.DRAINING


class Lender(Generic[S]):
    """Bounded, self-renewing sessions to one backend. `clock` gives monotonic seconds, `chance` 0..1."""

    def __init__(self, name: str, kind: SessionKind[S], endpoints: tuple[Endpoint, ...], settings: PoolSettings,
                 clock: Callable[[], float], chance: Callable[[], float] = random.random) -> None:
        self.name = name
        self.endpoints = Endpoints(endpoints, settings.breaker)
        self.backend_limit: int | None = None
        self._kind = kind
        self._settings = settings
        self._clock = clock
        self._chance = chance
        self._all: dict[int, Held[S]] = {}
        self._idle: list[Held[S]] = []
        self._lent: dict[int, Held[S]] = {}
        self._waiting: deque[asyncio.Future[Held[S]]] = deque()
        self._count = PoolStatistics()
        self._meter = Meter(clock())
        self._number = 0
        self._generation = 0
        self._asked = clock()  # the newest request
        self._state = PoolState.ASLEEP if settings.start == "first-call" else PoolState.SERVING
        self._tasks: set[asyncio.Task[None]] = set()
        self._growing: asyncio.Task[None] | None = None
        self._room: tuple[int, float] | None = None  # how many sessions the backend has room for, and until when that is believed

    @property
    def kind(self) -> SessionKind[S]:
        return self._kind

    # Borrowing and giving back

    def now(self) -> float:
        """Monotonic seconds of the pool's clock, by which the deadlines of calls are told."""
        return self._clock()

    def take(self, call: Call | None = None) -> S | None:
        """A warm session at once, or None when one must be waited for, checked or opened. Never blocks."""
        if not self._idle:
            return None
        now = self._clock()
        held = self._idle[-1]
        if now < held.expires and now < held.check_at and self._kind.is_sound(held.session):
            self._idle.pop()
            self._count.requests_num += 1
            return self._lend(held, now, call)
        return None

    async def borrow(self, call: Call | None = None) -> S:
        """A session: warm, opened, or waited for in turn, for a call or for somebody who looks around.

        Raises ProblemError: busy when too many wait or none comes free in `timeout`, backend when none can be opened.
        """
        session = self.take(call)
        if session is not None:
            return session
        self._count.requests_num += 1
        now = since = self._clock()
        deadline = now + (self._settings.timeout if call is None else call.seconds_left(now, self._settings.timeout))
        while True:
            if self._state in NOT_LENDING:
                self._count.requests_errors += 1
                raise stopped(self.name, self._state)
            held = self._idle.pop() if self._idle else await self._wait(deadline, call)
            now = self._clock()
            if not self._kind.is_sound(held.session):
                self._lose(held)
            elif now >= held.expires:
                self._discard(held)
            elif now < held.check_at:
                return self._lend(held, now, call, since)
            elif self.endpoints.state(held.endpoint).circuit is Circuit.OPEN:
                self._discard(held)  # its endpoint does not answer: asking would only take time
            elif await self._checked(held, deadline - now):
                return self._lend(held, self._clock(), call, since)

    def give_back(self, session: S, broken: bool = False) -> None:
        """Return a session; a broken one is closed, an unclean one reset in the background."""
        held = self._lent.pop(id(session))
        now = self._clock()
        held.used, held.call = now, None
        self._count.usage_ms += (now - held.lent_at) * 1000
        self._meter.served(now, now - held.lent_at)
        if not self._kind.is_sound(session):
            self._lose(held)
        elif broken:
            self._count.returns_bad += 1
            self._discard(held)
        elif self._must_go(held, now):
            self._discard(held)
        elif self._kind.is_clean(session):
            held.check_at = now + self._settings.check_after
            self._offer(held)
        else:
            held.state = SessionState.RESETTING
            self._spawn(self._reset(held))

    @contextlib.asynccontextmanager
    async def session(self, call: Call | None = None) -> AsyncIterator[S]:
        """Borrow for a block; an exception other than a ProblemError makes the session count as broken."""
        session = await self.borrow(call)
        try:
            yield session
        except ProblemError:
            self.give_back(session)
            raise
        except BaseException:
            self.give_back(session, broken=True)
            raise
        self.give_back(session)

    # Inside

    def _lend(self, held: Held[S], now: float, call: Call | None, since: float | None = None) -> S:
        if call is not None and call.span is not None:
            call.span.lent.append(Lent(self.name, held.endpoint, held.number, now - since if since is not None else 0.0))
        held.lent_at = self._asked = now
        held.state = _IN_USE
        held.uses += 1
        held.call = call
        self._meter.arrived(now)
        self._lent[id(held.session)] = held
        return held.session

    def _must_go(self, held: Held[S], now: float) -> bool:
        return (held.state is _DRAINING or held.generation != self._generation or now >= held.expires
                or self._state not in KEEPING or len(self._all) > self._settings.max_size)

    async def _wait(self, deadline: float, call: Call | None) -> Held[S]:
        if len(self._waiting) >= self._settings.max_waiting:
            self._count.requests_errors += 1
            raise ProblemError(Problem("pool.full", "Too many calls wait for this backend.", Kind.BUSY,
                                       expected=f"at most {self._settings.max_waiting} waiting",
                                       mend="Try again in a moment."))
        loop = asyncio.get_running_loop()
        future: asyncio.Future[Held[S]] = loop.create_future()
        since = self._clock()
        self._waiting.append(future)
        self._count.requests_queued += 1
        if self._state is PoolState.ASLEEP:
            self._state = PoolState.SERVING
        self._grow()
        # A timer that ends the wait from the future's side: a session is either given or not, with no race between.
        timer = loop.call_later(max(0.0, deadline - since), self._time_out, future)
        watch = asyncio.ensure_future(call.left()) if call is not None and call.left is not None else None
        if watch is not None:  # who is gone leaves the queue, whatever it asked for: nothing has begun yet
            watch.add_done_callback(lambda done: None if done.cancelled() or done.exception() else self._end_wait(future, caller_left()))
        try:
            return await future
        except ProblemError:
            self._count.requests_errors += 1
            raise
        except asyncio.CancelledError:
            with contextlib.suppress(ValueError):
                self._waiting.remove(future)
            if future.done() and not future.cancelled() and future.exception() is None:
                self._offer(future.result())  # given in the very moment of giving up: pass it on
            raise
        finally:
            timer.cancel()
            if watch is not None:
                watch.cancel()
            self._count.requests_wait_ms += (self._clock() - since) * 1000

    def _time_out(self, future: "asyncio.Future[Held[S]]") -> None:
        self._end_wait(future, ProblemError(Problem(
            "pool.timeout", "No session to the backend came free in time.", Kind.BUSY,
            expected=f"within {self._settings.timeout:g} s", mend="Try again in a moment.")))

    def _end_wait(self, future: "asyncio.Future[Held[S]]", error: ProblemError) -> None:
        if not future.done():
            with contextlib.suppress(ValueError):
                self._waiting.remove(future)
            future.set_exception(error)

    def _fail_waiting(self, error: ProblemError) -> None:
        while self._waiting:
            future = self._waiting.popleft()
            if not future.done():
                future.set_exception(ProblemError(*error.problems))

    def _offer(self, held: Held[S]) -> None:
        """Give a session to the one who waits longest, else keep it warm."""
        while self._waiting:
            future = self._waiting.popleft()
            if not future.done():
                future.set_result(held)
                return
        if self._must_go(held, held.opened):
            self._discard(held)
        else:
            held.state = _WARM
            self._idle.append(held)

    def _most(self) -> int:
        """How many sessions there may be: as the settings say, or as the backend itself has said a while ago."""
        if self._room is not None and self._clock() >= self._room[1]:
            self._room = None
        return self._settings.max_size if self._room is None else min(self._settings.max_size, self._room[0])

    def _grow(self) -> None:
        if (self._growing is None and self._waiting and len(self._all) < self._most()
                and self._state not in NOT_LENDING):
            self._growing = asyncio.get_running_loop().create_task(self._grow_while_waited())

    async def _grow_while_waited(self) -> None:
        pause = _FIRST_PAUSE
        try:
            while self._waiting and len(self._all) < self._most():
                try:
                    held = await self._open()
                except ProblemError as error:
                    if not self._all:  # no session can come back either
                        self._fail_waiting(error)
                        return
                    await asyncio.sleep(pause)
                    pause = min(_LONGEST_PAUSE, pause * 2)
                    continue
                self._offer(held)
        finally:
            self._growing = None
        self._grow()

    async def _open(self, only: EndpointState | None = None) -> Held[S]:
        """Open one session, on another endpoint when the first does not answer. Raises ProblemError."""
        self._number += 1
        now = self._clock()
        held: Held[S] = Held(self._number, "", now, generation=self._generation)
        self._all[held.number] = held
        try:
            tried: set[str] = set()
            error: ProblemError | None = None
            while True:
                now = self._clock()
                state = only or self.endpoints.choose(now, frozenset(tried))
                if state is None or state.name in tried:
                    if error is not None and error.problem.code == NO_ROOM:  # nor has any other endpoint
                        self._learn_room(len(self._all) - 1)
                    raise error or self.endpoints.refusal(self.name, now)
                tried.add(state.name)
                try:
                    held.session = await self._connect(state, held)
                except ProblemError as failure:
                    error = failure
                    continue
                return held
        except BaseException:
            del self._all[held.number]
            raise

    def _learn_room(self, sessions: int) -> None:
        self.backend_limit = sessions
        self._room = sessions, self._clock() + _BELIEVED_SECONDS
        log.info("the backend has room for no more", pool=self.name, sessions=sessions)

    async def _connect(self, state: EndpointState, held: Held[S]) -> S:
        began = self._clock()
        held.endpoint = state.name
        state.sessions += 1
        state.connects += 1
        self._count.connections_num += 1
        try:
            async with asyncio.timeout(self._settings.connect_timeout):
                session = await self._kind.open(state.endpoint)
        except asyncio.CancelledError:
            state.sessions -= 1
            self.endpoints.given_up(state)
            raise
        except Exception as failure:
            state.sessions -= 1
            state.connect_errors += 1
            self._count.connections_errors += 1
            error = self._as_problem(failure)
            if error.problem.code == NO_ROOM:  # it answers, and is sound: no failure of the endpoint
                self.endpoints.given_up(state)
                raise error from None
            self._failed(state, error.problem.inner or error.problem.message)
            raise error from None
        now = self._clock()
        state.connect_seconds = now - began
        self._count.connections_ms += (now - began) * 1000
        self._succeeded(state, now)
        log.debug("session is open", pool=self.name, session=held.number, endpoint=state.name, ms=round((now - began) * 1000, 1))
        held.opened = held.used = now
        held.expires = now + self._settings.max_lifetime * (1 - _JITTER * self._chance())
        held.check_at = now + self._settings.check_after
        held.identity = self._kind.identity(session)
        if self.backend_limit is None:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(_LIMIT_SECONDS):
                    self.backend_limit = await self._kind.most_sessions(session)
        return session

    def _failed(self, state: EndpointState, reason: str) -> None:
        before = state.circuit
        self.endpoints.failed(state, self._clock(), reason)
        if state.circuit is Circuit.OPEN and before is not Circuit.OPEN:
            log.warning("breaker opens", pool=self.name, endpoint=state.name, failures=state.failures, pause=state.pause, reason=reason)

    def _succeeded(self, state: EndpointState, now: float) -> None:
        if state.circuit is not Circuit.CLOSED:
            log.info("breaker closes", pool=self.name, endpoint=state.name)
        self.endpoints.succeeded(state, now)

    def _as_problem(self, failure: Exception) -> ProblemError:
        if isinstance(failure, ProblemError):
            return failure
        if isinstance(failure, TimeoutError):
            return ProblemError(Problem(
                "backend.slow", "The backend of this service did not accept a session in time.", Kind.UNREACHABLE,
                expected=f"within {self._settings.connect_timeout:g} s", inner=f"{self.name}: it accepted and did not answer in time"))
        log.exception("a session cannot be opened", pool=self.name, exc_info=failure)
        return ProblemError(Problem("backend.failed", "No session to the backend of this service can be opened.", Kind.UNREACHABLE,
                                    inner=f"{self.name}: {failure!r}"))

    async def _checked(self, held: Held[S], most: float = 60.0) -> bool:
        """Ask for a sign of life, for `most` seconds. One that gives none is closed, and nobody has lost anything by it."""
        held.state = SessionState.CHECKING
        alive = False
        try:
            async with asyncio.timeout(min(self._settings.connect_timeout, max(0.0, most))):
                alive = await self._kind.check(held.session)
        except TimeoutError:
            pass
        finally:
            if not alive:
                self._lose(held)
        if alive:
            held.alive = now = self._clock()
            held.check_at = now + self._settings.check_after
            self._succeeded(self.endpoints.state(held.endpoint), now)
        return alive

    def _lose(self, held: Held[S]) -> None:
        """The connection is gone: count it against its endpoint, and check that endpoint's others before lending them."""
        self._count.connections_lost += 1
        state = self.endpoints.state(held.endpoint)
        state.lost += 1
        log.warning("session is lost", pool=self.name, session=held.number, endpoint=state.name, call=held.call.id if held.call else "")
        self._failed(state, "a session was lost")
        for other in self._idle:
            if other.endpoint == held.endpoint:
                other.check_at = 0.0
        self._discard(held)

    def _discard(self, held: Held[S]) -> None:
        del self._all[held.number]
        self.endpoints.state(held.endpoint).sessions -= 1
        self._spawn(self._kind.close(held.session))
        self._grow()

    def _close_idle(self) -> None:
        while self._idle:
            self._discard(self._idle.pop())

    async def _reset(self, held: Held[S]) -> None:
        if await self._kind.reset(held.session):
            held.check_at = self._clock() + self._settings.check_after
            self._offer(held)
        else:
            self._count.returns_bad += 1
            self._discard(held)

    def _spawn(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
