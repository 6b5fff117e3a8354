"""One pool for every kind of session: database connections, terminal sessions, program hosts, HTTP clients.

A `SessionKind` says how to open, check, reset and close; the pool does the rest. Strategy: sessions are
handed out most recently used first, so that a quiet pool ages at its far end and shrinks; waiters are
served first come, first served. All state changes happen between awaits on one event loop, so no lock is
needed; a place in the pool is counted before the open is awaited, so the bound cannot be passed.
"""

import asyncio
import contextlib
from collections import deque
from collections.abc import AsyncIterator, Callable, Coroutine
from dataclasses import asdict, dataclass
from typing import Any, Generic, Protocol, TypeVar

from bricola.core.definitions.model import PoolSettings
from bricola.core.problems import Kind, Problem, ProblemError

S = TypeVar("S")
_TENDING_PERIOD = 5.0  # seconds between looks for sessions that are too old or idle too long


class SessionKind(Protocol[S]):
    """How one kind of session is handled. `open` raises ProblemError; the others must not raise."""

    async def open(self) -> S: ...
    def is_sound(self, session: S) -> bool: ...
    def is_clean(self, session: S) -> bool: ...
    async def reset(self, session: S) -> bool: ...
    async def close(self, session: S) -> None: ...


@dataclass
class PoolStatistics:
    """Counters since the pool was made, and its present state; times in seconds."""

    size: int = 0
    idle: int = 0
    waiting: int = 0
    min_size: int = 0
    max_size: int = 0
    requests: int = 0
    requests_queued: int = 0
    requests_wait: float = 0.0
    requests_timed_out: int = 0
    requests_refused: int = 0
    opened: int = 0
    open_failures: int = 0
    closed: int = 0
    broken: int = 0


@dataclass(slots=True)
class _Held(Generic[S]):
    session: S
    opened: float
    used: float
    uses: int = 0


class Pool(Generic[S]):
    """Bounded, self-renewing sessions to one backend. `clock` gives monotonic seconds."""

    def __init__(self, name: str, kind: SessionKind[S], settings: PoolSettings, clock: Callable[[], float]) -> None:
        self.name = name
        self._kind = kind
        self._settings = settings
        self._clock = clock
        self._idle: list[_Held[S]] = []
        self._lent: dict[int, _Held[S]] = {}
        self._waiting: deque[asyncio.Future[_Held[S] | None]] = deque()
        self._size = 0
        self._closed = False
        self._count = PoolStatistics(min_size=settings.min_size, max_size=settings.max_size)
        self._tasks: set[asyncio.Task[None]] = set()
        self._tending: asyncio.Task[None] | None = None
        self._retired = False

    def start(self) -> None:
        """Begin to warm the pool up and to tend it. A backend that is down does not stop the start."""
        self._tending = asyncio.get_running_loop().create_task(self._tend())

    def take(self) -> S | None:
        """A warm session at once, or None when one must be waited for. Never blocks."""
        now = self._clock()
        while self._idle:
            held = self._idle.pop()
            if now - held.opened < self._settings.max_lifetime and self._kind.is_sound(held.session):
                self._count.requests += 1
                return self._lend(held, now)
            self._discard(held)
        return None

    async def borrow(self) -> S:
        """A session, opened or waited for as the settings allow.

        Raises ProblemError: busy when too many wait or none comes free in `timeout`, backend when none can be opened.
        """
        session = self.take()
        if session is not None:
            return session
        self._count.requests += 1
        deadline = self._clock() + self._settings.timeout
        while not self._closed:
            if self._size < self._settings.max_size:
                return self._lend(await self._open(deadline), self._clock())
            held = await self._wait(deadline)
            if held is not None:
                return self._lend(held, self._clock())
        raise ProblemError(Problem("pool.closed", f"The pool {self.name} is closed.", Kind.BUSY))

    def give_back(self, session: S, broken: bool = False) -> None:
        """Return a session; a broken or unclean one is closed or reset in the background."""
        held = self._lent.pop(id(session))
        held.used = self._clock()
        if broken or self._closed:
            self._count.broken += broken
            self._discard(held)
        elif self._kind.is_clean(session):
            self._offer(held)
        else:
            self._spawn(self._reset(held))

    @contextlib.asynccontextmanager
    async def session(self) -> AsyncIterator[S]:
        """Borrow for a block; an exception other than a ProblemError makes the session count as broken."""
        session = await self.borrow()
        try:
            yield session
        except ProblemError:
            self.give_back(session)
            raise
        except BaseException:
            self.give_back(session, broken=True)
            raise
        self.give_back(session)

    async def close(self) -> None:
        """Close idle sessions now and lent ones when they come back; those who wait are told."""
        self._closed = True
        while self._waiting:
            self._wake(self._waiting.popleft(), None)
        while self._idle:
            self._discard(self._idle.pop())
        pending = list(self._tasks)
        if self._tending is not None:
            self._tending.cancel()
            pending.append(self._tending)
        await asyncio.gather(*pending, return_exceptions=True)

    def retire(self) -> None:
        """Another pool takes this one's place: keep nothing warm any more, but still serve the calls in flight."""
        self._retired = True
        if self._tending is not None:
            self._tending.cancel()
        while self._idle:
            self._discard(self._idle.pop())

    def statistics(self) -> dict[str, float]:
        self._count.size, self._count.idle, self._count.waiting = self._size, len(self._idle), len(self._waiting)
        return asdict(self._count)

    def _lend(self, held: _Held[S], now: float) -> S:
        held.used = now
        held.uses += 1
        self._lent[id(held.session)] = held
        return held.session

    async def _open(self, deadline: float) -> _Held[S]:
        self._size += 1
        try:
            async with asyncio.timeout(max(0.0, deadline - self._clock())):
                session = await self._kind.open()
        except BaseException as error:
            self._size -= 1
            self._count.open_failures += 1
            self._wake_next(None)  # whoever waits may try to open in turn
            if isinstance(error, TimeoutError):
                raise ProblemError(Problem(
                    "backend.slow", f"The backend of {self.name} did not accept a session in time.", Kind.BACKEND,
                    expected=f"within {self._settings.timeout:g} s",
                )) from None
            raise
        self._count.opened += 1
        now = self._clock()
        return _Held(session, now, now)

    async def _wait(self, deadline: float) -> _Held[S] | None:
        if len(self._waiting) >= self._settings.max_waiting:
            self._count.requests_refused += 1
            raise ProblemError(Problem("pool.full", "Too many calls wait for this backend.", Kind.BUSY,
                                       mend="Try again in a moment."))
        future: asyncio.Future[_Held[S] | None] = asyncio.get_running_loop().create_future()
        self._waiting.append(future)
        self._count.requests_queued += 1
        since = self._clock()
        try:
            async with asyncio.timeout(max(0.0, deadline - since)):
                return await future
        except TimeoutError:
            self._count.requests_timed_out += 1
            raise ProblemError(Problem("pool.timeout", "No session to the backend came free in time.", Kind.BUSY,
                                       expected=f"within {self._settings.timeout:g} s",
                                       mend="Try again in a moment.")) from None
        finally:
            self._count.requests_wait += self._clock() - since
            with contextlib.suppress(ValueError):
                self._waiting.remove(future)
            # Given a session in the very moment of giving up: pass it on, or it would be lost.
            if future.done() and not future.cancelled() and asyncio.current_task().cancelling():  # type: ignore[union-attr]
                held = future.result()
                if held is not None:
                    self._offer(held)

    def _offer(self, held: _Held[S]) -> None:
        if not self._wake_next(held):
            if self._closed or self._retired:
                self._discard(held)
            else:
                self._idle.append(held)

    def _wake_next(self, held: _Held[S] | None) -> bool:
        while self._waiting:
            if self._wake(self._waiting.popleft(), held):
                return True
        return False

    @staticmethod
    def _wake(future: "asyncio.Future[_Held[S] | None]", held: _Held[S] | None) -> bool:
        if future.done():
            return False
        future.set_result(held)
        return True

    def _discard(self, held: _Held[S]) -> None:
        self._size -= 1
        self._count.closed += 1
        self._spawn(self._kind.close(held.session))
        if not self._closed:
            self._wake_next(None)  # there is room for one who waits to open

    async def _reset(self, held: _Held[S]) -> None:
        if await self._kind.reset(held.session):
            self._offer(held)
        else:
            self._count.broken += 1
            self._discard(held)

    async def _tend(self) -> None:
        """Keep at least `min_size` warm, retire the old and the long idle."""
        while True:
            try:
                while self._size < self._settings.min_size and not self._closed:
                    self._offer(await self._open(self._clock() + self._settings.timeout))
            except ProblemError:
                pass  # counted in open_failures; the next call will say why, and the next look tries again
            now = self._clock()
            for held in list(self._idle):
                too_old = now - held.opened >= self._settings.max_lifetime
                too_idle = now - held.used >= self._settings.max_idle and self._size > self._settings.min_size
                if too_old or too_idle:
                    self._idle.remove(held)
                    self._discard(held)
            await asyncio.sleep(_TENDING_PERIOD)

    def _spawn(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
