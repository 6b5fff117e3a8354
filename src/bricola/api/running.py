"""Running it: backends, checks, pools, credentials."""

from typing import Literal, NotRequired

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.words import CredentialKind
from bricola.core.definitions.engines.engine import Family
from bricola.core.pool.endpoints import Circuit
from bricola.core.pool.states import PoolState, SessionState


@closed
class BackendEnd(TypedDict):
    """A backend in an environment, bound or not."""

    backend: str
    engine: str
    family: Family
    environment: str
    protected: bool
    bound: bool
    endpoints: list[str]
    database: str
    credential: str
    tls: str
    pool: str
    services: list[str]


@closed
class CheckStage(TypedDict):
    stage: str
    outcome: Literal["passed", "failed", "skipped", "not tried"]
    detail: str
    ms: float
    problem: Problem | None


@closed
class CheckResult(TypedDict):
    environment: str
    backend: str
    endpoint: str
    passed: bool
    stages: list[CheckStage]
    address: NotRequired[str]


@closed
class PoolSession(TypedDict):
    """One session; times in seconds from now."""

    session: int
    endpoint: str
    identity: str
    state: SessionState
    age: float
    expires_in: float
    uses: int
    idle_for: float | None
    call: str
    operation: str
    caller: str
    held_for: float | None


@closed
class PoolEndpoint(TypedDict):
    endpoint: str
    address: str
    weight: int
    priority: int
    circuit: Circuit
    sessions: int
    connects: int
    connect_errors: int
    lost: int
    connect_ms: float
    reason: str
    checked_ago: float | None


@closed
class Load(TypedDict):
    arrivals_per_second: float
    held_ms: float
    calls: int


@closed
class PoolFigures(TypedDict):
    """Counters since the pool was made and its present state; times in milliseconds."""

    pool_min: int
    pool_max: int
    pool_size: int
    pool_available: int
    requests_waiting: int
    requests_num: int
    requests_queued: int
    requests_wait_ms: float
    requests_errors: int
    usage_ms: float
    returns_bad: int
    connections_num: int
    connections_ms: float
    connections_errors: int
    connections_lost: int


@closed
class PoolBreaker(TypedDict):
    failures: int
    retry_after: float


@closed
class PoolBounds(TypedDict):
    """The settings in effect, with their defaults; times in seconds."""

    min_size: int
    max_size: int
    max_idle: float
    max_lifetime: float
    timeout: float
    connect_timeout: float
    max_waiting: int
    check_after: float
    keep_alive: float | None
    health_every: float
    start: Literal["service", "first-call"]
    sleep_after: float | None
    breaker: PoolBreaker


@closed
class PoolView(TypedDict):
    """One pool with its sessions, endpoints, statistics, measured load and advice."""

    environment: str
    protected: bool
    backend: str
    services: list[str]
    credential: str
    effective: str
    advice: list[str]
    state: PoolState
    statistics: PoolFigures
    settings: PoolBounds
    sessions: list[PoolSession]
    endpoints: list[PoolEndpoint]
    load: Load
    advised_size: int | None
    backend_limit: int | None


@closed
class CredentialUse(TypedDict):
    """Where a credential is used; `signs_on_as` in the form that the backend wants, `powers` what it told that the account may do beyond
    rows of tables, null where it was not asked since the start."""

    environment: str
    backend: str
    signs_on_as: str
    powers: list[str] | None


@closed
class CredentialPlace(TypedDict):
    """Where an admin agreed that a credential is presented; `address` is host and port."""

    credential: str
    environment: str
    engine: str
    address: str


@closed
class Credential(TypedDict):
    """Everything but the secret. `account` says whose it is, `cost` what using it costs, in the owner's words."""

    name: str
    kind: CredentialKind
    description: str
    created_at: str
    user: str
    expires_at: str | None
    rotated_at: str | None
    rotated_by: str
    last_used_at: str | None
    overlap_until: str | None
    account: str
    cost: str
    used_by: list[CredentialUse]


@closed
class Resealed(TypedDict):
    secrets: int
