"""What a pool and its users agree on: how a kind of session is handled, and what is told about each session."""

from dataclasses import dataclass, replace
from typing import Any, Generic, Protocol, TypeVar

from bricola.core.calls.call import Call
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.pool.states import SessionState
from bricola.core.problems import Kind, Problem, ProblemError

S = TypeVar("S")


class SessionKind(Protocol[S]):
    """How one kind of session is handled. `open` raises ProblemError; the others must not raise."""

    async def open(self, endpoint: Endpoint) -> S: ...
    def is_sound(self, session: S) -> bool:
        """What is known without asking: False once the connection is known to be lost."""
        ...

    def is_clean(self, session: S) -> bool:
        """Whether it may be lent again as it is."""
        ...

    async def check(self, session: S) -> bool:
        """Ask the backend for a sign of life."""
        ...

    async def reset(self, session: S) -> bool: ...
    async def close(self, session: S) -> None:
        """May be called twice."""
        ...

    def cut(self, session: S) -> None:
        """Make what runs on it now fail at once."""
        ...

    def identity(self, session: S) -> str:
        """As whom it is signed on, for people; never a secret."""
        ...

    async def most_sessions(self, session: S) -> int | None:
        """How many sessions the backend itself allows, where it tells."""
        ...


class SessionLostError(ProblemError):
    """The connection broke. `begun` is False when the work provably never reached the backend."""

    def __init__(self, problem: Problem, begun: bool) -> None:
        super().__init__(replace(problem, kind=Kind.UNREACHABLE) if problem.kind is Kind.BACKEND else problem)
        self.begun = begun


@dataclass(slots=True)
class PoolStatistics:
    """Counters since the pool was made and its present state, under the names that psycopg_pool gave them."""

    pool_min: int = 0
    pool_max: int = 0
    pool_size: int = 0
    pool_available: int = 0
    requests_waiting: int = 0
    requests_num: int = 0
    requests_queued: int = 0
    requests_wait_ms: float = 0.0
    requests_errors: int = 0
    usage_ms: float = 0.0
    returns_bad: int = 0
    connections_num: int = 0
    connections_ms: float = 0.0
    connections_errors: int = 0
    connections_lost: int = 0


@dataclass(slots=True, eq=False)
class Held(Generic[S]):
    """A session in a pool's hands. Times are monotonic seconds."""

    number: int
    endpoint: str
    opened: float
    expires: float = 0.0
    generation: int = 0
    session: S = None  # type: ignore[assignment]  # until it is open
    state: SessionState = SessionState.OPENING
    used: float = 0.0
    check_at: float = 0.0  # from then on it is checked before it is lent
    alive: float = 0.0  # the last sign of life that was asked for
    lent_at: float = 0.0
    uses: int = 0
    call: Call | None = None
    identity: str = ""

    def view(self, now: float) -> dict[str, Any]:
        """What the live view shows; times in seconds from now."""
        call = self.call if self.state in (SessionState.IN_USE, SessionState.DRAINING) else None
        return {
            "session": self.number, "endpoint": self.endpoint, "identity": self.identity, "state": str(self.state),
            "age": round(now - self.opened, 1), "expires_in": round(max(0.0, self.expires - now), 1), "uses": self.uses,
            "idle_for": round(now - self.used, 1) if self.state is SessionState.WARM else None,
            "call": call.id if call else "", "operation": call.operation if call else "",
            "caller": call.caller.name if call else "", "held_for": round(now - self.lent_at, 3) if call else None,
        }


def stopped(name: str, words: str) -> ProblemError:
    """What callers are told of a pool that lends nothing; its name is for owners."""
    return ProblemError(Problem(f"pool.{words}", f"The backend of this service is {words} for now.", Kind.BUSY,
                                mend="Try again later. The people who run the service start it again at the pool.",
                                inner=f"the pool {name}"))
