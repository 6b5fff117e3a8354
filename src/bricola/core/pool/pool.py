"""One pool for every kind of session: database connections, terminal sessions, program hosts, HTTP clients.

On top of lending: what people do with a pool (start, stop, recycle, evict, new bounds), what is told about it, and what
happens by itself every second: retire the old and the idle, keep some warm, check and spread over the endpoints.
"""

import asyncio
import random
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import structlog

from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import PoolSettings
from bricola.core.pool.capacity import advised_size
from bricola.core.pool.endpoints import Circuit, EndpointState
from bricola.core.pool.lending import Lender
from bricola.core.pool.sessions import Held, S, SessionKind, stopped
from bricola.core.pool.states import PoolState, SessionState
from bricola.core.problems import ProblemError

log = structlog.stdlib.get_logger("bricola.pools")

_TENDING_PERIOD = 1.0  # seconds between looks at what is too old, too idle, too few or unchecked


class Pool(Lender[S]):
    """Bounded, self-renewing sessions to one backend. `clock` gives monotonic seconds, `chance` 0..1."""

    def __init__(self, name: str, kind: SessionKind[S], endpoints: tuple[Endpoint, ...], settings: PoolSettings,
                 clock: Callable[[], float], chance: Callable[[], float] = random.random) -> None:
        super().__init__(name, kind, endpoints, settings, clock, chance)
        self._tending: asyncio.Task[None] | None = None
        self._checking: set[str] = set()

    # What people do with a pool

    def start(self) -> None:
        """Begin to warm up and to tend; also after a stop. A backend that is down does not stop the start."""
        if self._state is PoolState.STOPPED:
            self._state = PoolState.SERVING
        if self._tending is None or self._tending.done():
            self._tending = asyncio.get_running_loop().create_task(self._tend())

    def stop(self, cut: bool = False) -> None:
        """Lend nothing more. Sessions in use end with their calls, or at once with `cut`."""
        self._state = PoolState.STOPPED
        log.info("pool is stopped", pool=self.name, cut=cut)
        self._fail_waiting(stopped(self.name, PoolState.STOPPED))
        self._close_idle()
        for held in self._lent.values():
            held.state = SessionState.DRAINING
            if cut:
                self._kind.cut(held.session)

    def recycle(self) -> None:
        """Renew every session: the idle now, those in use when they come back."""
        self._generation += 1
        log.info("pool is recycled", pool=self.name)
        self._close_idle()
        for held in self._lent.values():
            held.state = SessionState.DRAINING

    def evict(self, number: int, cut: bool = False) -> bool:
        """Close one session, now when idle, else when it comes back or at once with `cut`. Whether there is such a one."""
        held = self._all.get(number)
        if held is None:
            return False
        if held in self._idle:
            self._idle.remove(held)
            self._discard(held)
        elif id(held.session) in self._lent:
            held.state = SessionState.DRAINING
            if cut:
                self._kind.cut(held.session)
        return True

    def adjust(self, settings: PoolSettings) -> None:
        """Take new bounds and lifetimes at once, with the sessions that there are."""
        self._settings = settings
        self.endpoints.breaker = settings.breaker
        while self._idle and len(self._all) > settings.max_size:
            self._discard(self._idle.pop(0))
        now = self._clock()
        for held in self._all.values():
            held.expires = min(held.expires, held.opened + settings.max_lifetime) if held.expires else held.expires
            held.check_at = min(held.check_at, now + settings.check_after)
        self._grow()

    def try_again(self) -> None:
        """Something outside has changed, as a secret: ask the endpoints that are left alone at once, and not when their pause is over."""
        self._room = None
        for state in self.endpoints:
            if state.circuit is Circuit.OPEN:
                state.pause = 0.0
        if self._state in (PoolState.SERVING, PoolState.ASLEEP):
            self._check_endpoints(self._clock())

    def retire(self) -> None:
        """Another pool takes this one's place: keep nothing warm any more, but still serve the calls in flight."""
        self._state = PoolState.RETIRED
        if self._tending is not None:
            self._tending.cancel()
        self._close_idle()

    async def close(self) -> None:
        """Close idle sessions now and lent ones when they come back; those who wait are told."""
        self._state = PoolState.CLOSED
        self._fail_waiting(stopped(self.name, PoolState.CLOSED))
        self._close_idle()
        pending = list(self._tasks)
        for task in (self._tending, self._growing):
            if task is not None:
                task.cancel()
                pending.append(task)
        await asyncio.gather(*pending, return_exceptions=True)

    # What is told about it

    @property
    def settings(self) -> PoolSettings:
        return self._settings

    @property
    def state(self) -> PoolState:
        """At risk when some endpoint is left alone, faulting when all are."""
        circuits = [one.circuit for one in self.endpoints]
        if self._state is not PoolState.SERVING or all(one is Circuit.CLOSED for one in circuits):
            return self._state
        return PoolState.AT_RISK if Circuit.CLOSED in circuits else PoolState.FAULTING

    def statistics(self) -> dict[str, float]:
        count = self._count
        count.pool_min, count.pool_max = self._settings.min_size, self._settings.max_size
        count.pool_size, count.pool_available, count.requests_waiting = len(self._all), len(self._idle), len(self._waiting)
        return asdict(count)

    def view(self) -> dict[str, Any]:
        """Everything that the live view shows, as JSON data. Times in seconds."""
        now = self._clock()
        load = self._meter.load(now)
        return {
            "state": str(self.state), "statistics": self.statistics(), "settings": self._settings.model_dump(mode="json"),
            "sessions": [held.view(now) for held in sorted(self._all.values(), key=lambda one: one.opened)],
            "endpoints": [
                {"endpoint": one.name, "address": one.endpoint.address, "weight": one.endpoint.weight,
                 "priority": one.endpoint.priority, "circuit": str(one.circuit), "sessions": one.sessions,
                 "connects": one.connects, "connect_errors": one.connect_errors, "lost": one.lost,
                 "connect_ms": round(one.connect_seconds * 1000, 2), "reason": one.reason,
                 "checked_ago": None if one.checked_at is None else round(now - one.checked_at, 1)}
                for one in self.endpoints
            ],
            "load": {"arrivals_per_second": round(load.arrivals, 3), "held_ms": round(load.held * 1000, 3), "calls": load.calls},
            "advised_size": advised_size(load), "backend_limit": self.backend_limit,
        }

    # What happens by itself

    async def _tend(self) -> None:
        while True:
            try:
                if self._state is PoolState.SERVING:
                    await self._tend_once(self._clock())
            except ProblemError:
                pass  # counted against its endpoint; the next call will say why, and the next look tries again
            except Exception:
                log.exception("tending a pool failed", pool=self.name)
            await asyncio.sleep(_TENDING_PERIOD)

    async def _tend_once(self, now: float) -> None:
        """Retire the old and the long idle, fall asleep, keep `min_size` warm, spread over endpoints, check them."""
        settings = self._settings
        if settings.sleep_after is not None and not self._lent and now - self._asked >= settings.sleep_after:
            self._state = PoolState.ASLEEP
            log.info("pool falls asleep", pool=self.name)
            self._close_idle()
            return
        for held in list(self._idle):
            too_idle = now - held.used >= settings.max_idle and len(self._all) > settings.min_size
            if now >= held.expires or too_idle:
                self._idle.remove(held)
                self._discard(held)
        kept = settings.keep_alive
        for held in [one for one in self._idle if one.check_at <= 0 or (kept is not None and now - max(one.used, one.alive) >= kept)]:
            # others of their endpoint were lost, or the backend would soon end it
            self._idle.remove(held)
            self._spawn(self._check_idle(held))
        self._check_endpoints(now)
        self._move_one(now)
        while len(self._all) < min(settings.min_size, self._most()) and self._state is PoolState.SERVING:
            self._offer(await self._open())

    def _move_one(self, now: float) -> None:
        """Close one session of an endpoint that holds too many; its successor goes where it belongs."""
        surplus = self.endpoints.surplus(now)
        if surplus is None:
            return
        idle = next((one for one in self._idle if one.endpoint == surplus.name), None)
        if idle is not None:
            self._idle.remove(idle)
            self._discard(idle)
            return
        lent = next((one for one in self._lent.values() if one.endpoint == surplus.name and one.state is SessionState.IN_USE), None)
        if lent is not None:
            lent.state = SessionState.DRAINING

    def _check_endpoints(self, now: float) -> None:
        for state in self.endpoints:
            due = state.checked_at is None or now - state.checked_at >= self._settings.health_every
            again = state.circuit is Circuit.OPEN and self.endpoints.usable(state, now)
            if (due or again) and state.name not in self._checking and state.circuit is not Circuit.HALF_OPEN:
                self._checking.add(state.name)
                self._spawn(self._check_endpoint(state, now))

    async def _check_endpoint(self, state: EndpointState, now: float) -> None:
        """Check one idle session of an endpoint; where there is none, or its circuit is open, try to open one."""
        try:
            held = next((one for one in self._idle if one.endpoint == state.name), None)
            if state.circuit is Circuit.CLOSED and held is not None:
                self._idle.remove(held)
                await self._check_idle(held)
            elif state.circuit is Circuit.CLOSED and state.sessions:
                state.checked_at = now  # in use: each call is a check
            elif self.endpoints.usable(state, now) and self._state is PoolState.SERVING:
                if state.circuit is Circuit.OPEN:
                    state.circuit = Circuit.HALF_OPEN
                opened = await self._open(only=state)
                if self._waiting or len(self._all) <= self._settings.min_size:
                    self._offer(opened)
                else:
                    self._discard(opened)
        except ProblemError:
            pass  # counted against the endpoint
        finally:
            self._checking.discard(state.name)

    async def _check_idle(self, held: Held[S]) -> None:
        """Check one that was taken out of the idle ones. It goes to whoever waits, else to the far end, since the check
        was no use of it."""
        if not await self._checked(held):
            return
        if self._waiting or self._must_go(held, self._clock()):
            self._offer(held)
        else:
            held.state = SessionState.WARM
            self._idle.insert(0, held)
