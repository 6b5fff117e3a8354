"""The endpoints of one pool: which one the next session goes to, and which are left alone for a while.

Each endpoint has a circuit breaker. Strategy: consecutive failures open it, so that nobody waits for what does
not answer; after a pause it is half open and lets one attempt through; that attempt closes it, or opens it
again for twice the time. Pure state: seconds come in as `now`, so that a test needs no clock and a wall clock
that jumps changes nothing (callers pass monotonic seconds).
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum

from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Breaker
from bricola.core.problems import Kind, Problem, ProblemError

_LONGEST_PAUSE = 60.0  # seconds; a backend that comes back is found again within a minute at the latest


class Circuit(StrEnum):
    CLOSED = "closed"  # healthy
    OPEN = "open"  # left alone
    HALF_OPEN = "half-open"  # one attempt is under way


@dataclass(slots=True)
class EndpointState:
    """What is known of one endpoint. Times are monotonic seconds."""

    endpoint: Endpoint
    circuit: Circuit = Circuit.CLOSED
    failures: int = 0  # in a row
    pause: float = 0.0
    opened_at: float = 0.0
    sessions: int = 0  # open or opening
    connects: int = 0
    connect_errors: int = 0
    lost: int = 0
    connect_seconds: float = 0.0  # of the newest connect
    checked_at: float | None = None
    reason: str = ""  # of the newest failure, for owners

    @property
    def name(self) -> str:
        return self.endpoint.name

    @property
    def load(self) -> float:
        return self.sessions / self.endpoint.weight


class Endpoints:
    """All endpoints of a pool and their breakers."""

    def __init__(self, endpoints: Iterable[Endpoint], breaker: Breaker) -> None:
        self._states = {one.name: EndpointState(one) for one in endpoints}
        self.breaker = breaker

    def __iter__(self) -> Iterator[EndpointState]:
        return iter(self._states.values())

    def __len__(self) -> int:
        return len(self._states)

    def state(self, name: str) -> EndpointState:
        return self._states[name]

    def usable(self, state: EndpointState, now: float) -> bool:
        """Whether an attempt may be made. An open circuit whose pause is over may be tried by one."""
        if state.circuit is Circuit.OPEN:
            return now - state.opened_at >= state.pause
        return state.circuit is Circuit.CLOSED

    def choose(self, now: float, without: frozenset[str] = frozenset()) -> EndpointState | None:
        """The endpoint for the next session: the best priority that may be tried, the least loaded in it."""
        able = [one for one in self._states.values() if one.name not in without and self.usable(one, now)]
        if not able:
            return None
        chosen = min(able, key=lambda one: (one.endpoint.priority, one.circuit is not Circuit.CLOSED, one.load))
        if chosen.circuit is Circuit.OPEN:
            chosen.circuit = Circuit.HALF_OPEN
        return chosen

    def succeeded(self, state: EndpointState, now: float) -> None:
        state.circuit, state.failures, state.pause, state.reason = Circuit.CLOSED, 0, 0.0, ""
        state.checked_at = now

    def failed(self, state: EndpointState, now: float, reason: str) -> None:
        """Count a failed connect, a failed check or a lost session."""
        state.failures += 1
        state.reason = reason
        state.checked_at = now
        if state.circuit is Circuit.HALF_OPEN:
            state.pause = min(_LONGEST_PAUSE, state.pause * 2)
        elif state.circuit is Circuit.CLOSED and state.failures >= self.breaker.failures:
            state.pause = self.breaker.retry_after
        else:
            return
        state.circuit, state.opened_at = Circuit.OPEN, now

    def given_up(self, state: EndpointState) -> None:
        """An attempt ended without a verdict (it was cancelled): let the next one through."""
        if state.circuit is Circuit.HALF_OPEN:
            state.circuit = Circuit.OPEN

    def surplus(self, now: float) -> EndpointState | None:
        """An endpoint that holds a session too many, now that a better or less loaded one answers again."""
        sound = [one for one in self._states.values() if one.circuit is Circuit.CLOSED]
        if len(sound) < 2:
            return None
        best = min(one.endpoint.priority for one in sound)
        worse = [one for one in self._states.values() if one.endpoint.priority > best and one.sessions]
        if worse:
            return max(worse, key=lambda one: one.endpoint.priority)
        peers = [one for one in sound if one.endpoint.priority == best]
        full = max(peers, key=lambda one: one.load)
        # Moving one session must make the shares more even, or it would go to and fro for ever.
        if any((one.sessions + 1) / one.endpoint.weight < full.load for one in peers if one is not full):
            return full
        return None

    def refusal(self, pool: str, now: float) -> ProblemError:
        """Why no endpoint may be tried now; names and reasons are for owners."""
        waits = [max(0.0, one.pause - (now - one.opened_at)) for one in self._states.values() if one.circuit is Circuit.OPEN]
        soonest = f"{min(waits):.0f} s" if waits else "a moment"
        return ProblemError(Problem(
            "backend.unreachable", "The backend of this service does not answer.", Kind.UNREACHABLE,
            found=f"it is tried again in {soonest}",
            mend="Try again in a moment. The people who run the service see the cause at the pool.",
            inner=f"{pool}: " + "; ".join(f"{one.name}: {one.reason}" for one in self._states.values() if one.reason),
            wait=min(waits, default=1.0),
        ))
