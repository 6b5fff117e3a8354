"""The kinds of definition. Each is data only; what it means is worked out in `shapes`, `runtime` and `review`."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field as Described
from pydantic import StringConstraints, model_validator

from bricola.core.definitions.base import ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Scalar
from bricola.core.definitions.names import kebab_case
from bricola.core.definitions.objects import ObjectDefinition
from bricola.core.definitions.parts import RecordDefinition, TypeDefinition
from bricola.core.definitions.queries import QueryDefinition
from bricola.core.definitions.screens import ScreenFlowDefinition, TerminalHost


class BackendDefinition(Frozen):
    """A system of record. Where it is and as whom to sign on is bound by each environment.

    The engines tn3270 and tn5250 are terminal hosts, and say under `terminal` how one works with them.
    """

    kind: ClassVar[str] = "backend"
    name: Name
    engine: Literal["sqlite", "postgresql", "mariadb", "tn3270", "tn5250"]
    description: Line = ""
    terminal: TerminalHost | None = None

    @property
    def is_terminal(self) -> bool:
        return self.engine in ("tn3270", "tn5250")

    @model_validator(mode="after")
    def _has_its_part(self) -> Self:
        if self.is_terminal != (self.terminal is not None):
            raise ValueError(f"a backend of {self.engine} {'needs' if self.is_terminal else 'has no'} 'terminal:'")
        return self


class Parameter(NamedPart):
    """What an operation says about one of its inputs beyond what it inherits: who gives it, and words.

    A context input takes a value of the environment by its name, or of the call: `caller.name`, `call.id`, `now`.
    """

    given: Literal["caller", "fixed", "default", "context"] = "caller"
    value: Scalar | None = None
    description: Line = ""
    sample: Scalar | None = None


class Operation(NamedPart):
    """One callable thing. `runs` names what it runs: `vessel.get`, `query tonnage`, `query tonnage.details`,
    `screen-flow vessel-ledger`.

    Everything else is inherited from there. `takes` and `gives` narrow the fields of the input and of the output. `nil:
    absent` makes an update take nil as left out, for callers whose tools send nil for everything that they do not set.
    """

    runs: Annotated[
        str, StringConstraints(pattern=r"^([A-Za-z][\w-]*\.[A-Za-z]\w*|query [A-Za-z][\w-]*(\.details)?|screen-flow [A-Za-z][\w-]*)$")
    ]
    description: Line = ""
    takes: Names = ()
    gives: Names = ()
    nil: Literal["empties", "absent"] = "empties"
    input: NamedParts[Parameter] = ()

    @property
    def source(self) -> tuple[str, str]:
        """The kind and name of the definition that it runs."""
        kind, space, name = self.runs.partition(" ")
        return (kind, name.partition(".")[0]) if space else ("object", self.runs.partition(".")[0])

    @property
    def verb(self) -> str:
        """What it does with it: a verb or finder of an object; rows or details of a query."""
        return self.runs.partition(".")[2] or "rows"


class ServiceDefinition(Frozen):
    """A named set of operations with one namespace, one contract and one access policy.

    `version` is the major version: 2 and above have an address and a namespace of their own.
    """

    kind: ClassVar[str] = "service"
    name: ElementName
    version: int = Described(1, ge=1, le=99)
    description: Line = ""
    owner: str = ""
    namespace: str = ""
    access: dict[Name, Literal["all"] | tuple[str, ...]] = {}
    operations: NamedParts[Operation] = ()

    @property
    def target_namespace(self) -> str:
        base = self.namespace or f"urn:service:{kebab_case(self.name)}"
        if self.version == 1:
            return base
        return f"{base}:v{self.version}" if base.startswith("urn:") else f"{base.rstrip('/')}/v{self.version}"

    @property
    def segment(self) -> str:
        """What stands for the service in addresses: its name, with the major version from 2 on."""
        return segment_of(self.name, self.version)

    def roles_for(self, operation: str) -> frozenset[str]:
        """The roles that may call an operation. None named means nobody."""
        return frozenset(role for role, granted in self.access.items() if granted == "all" or operation in granted)


class Breaker(Frozen):
    """When an endpoint is left alone: after `failures` in a row, for `retry_after` seconds, then one probe."""

    failures: int = Described(3, ge=1, le=100)
    retry_after: float = Described(5.0, gt=0, le=3600)


class PoolSettings(Frozen):
    """Bounds and lifetimes of the sessions to one backend; sizes are sessions, times are seconds.

    A session that was idle for `check_after` is checked before it is lent, and with `keep_alive` every so often while it is
    idle, so that the backend does not end it; endpoints are checked every `health_every`. `start` is with the service or at
    the first call; after `sleep_after` without a call the pool closes all its sessions until the next call (None: always on).
    A call waits at most `timeout`, a connect `connect_timeout`.
    """

    min_size: int = Described(1, ge=0)
    max_size: int = Described(4, ge=1, le=1000)
    max_idle: float = Described(600.0, gt=0)
    max_lifetime: float = Described(3600.0, gt=0)
    timeout: float = Described(10.0, gt=0)
    connect_timeout: float = Described(3.0, gt=0)
    max_waiting: int = Described(1000, ge=0)
    check_after: float = Described(30.0, ge=0)
    keep_alive: float | None = Described(None, gt=0)
    health_every: float = Described(10.0, gt=0)
    start: Literal["service", "first-call"] = "service"
    sleep_after: float | None = Described(None, gt=0)
    breaker: Breaker = Breaker()


class Endpoint(NamedPart):
    """One address of a backend. The lowest `priority` that answers is used; `weight` shares within one priority."""

    name: Name
    address: str = ""  # host:port
    weight: int = Described(1, ge=1, le=1000)
    priority: int = Described(1, ge=1, le=100)


class StatementLimits(Frozen):
    """Bounds of one statement, whoever wrote it: seconds, rows and bytes of its result."""

    seconds: float = Described(30.0, gt=0, le=3600)
    rows: int = Described(100_000, ge=1)
    bytes: int = Described(64_000_000, ge=1000)


class Binding(NamedPart):
    """Where a backend is in one environment, as whom Bricola signs on there, and how many sessions it holds.

    With `read_only` nothing can be written through it, and operations that write cannot be deployed there. `requests` names
    a table for marks of repeatable requests: columns id (64 characters, the key), expires (whole number), answer (text).

    `devices` are the LU or device names of a terminal host, one for each session. With `film` a terminal backend is no host but
    the recorded film of that screen flow.

    A SQLite backend has a `file`, relative to the service's data folder. Others have an `address`, or several
    `endpoints`, a `database` and the name of a `credential`.
    """

    name: Name
    file: str = ""
    address: str = ""
    endpoints: NamedParts[Endpoint] = ()
    database: str = ""
    credential: str = ""
    tls: Literal["off", "encrypt", "verify"] = "off"
    read_only: bool = False
    requests: str = ""
    devices: tuple[str, ...] = ()
    film: str = ""
    limits: StatementLimits = StatementLimits()
    pool: PoolSettings = PoolSettings()

    @property
    def ends(self) -> tuple[Endpoint, ...]:
        """All endpoints, however they are written; none when the backend has no place here."""
        if self.endpoints:
            return self.endpoints
        where = self.file or self.address or (f"film {self.film}" if self.film else "")
        return (Endpoint(name="main", address=where),) if where else ()


class RecordPolicy(Frozen):
    """Which calls leave a record in this environment, and for how many days."""

    of: Literal["all", "faults", "none"] = "all"
    keep_days: int = Described(90, ge=1, le=3650)


class EnvironmentDefinition(Frozen):
    """Where releases run. `follows` names the environment that a release passes before this one."""

    kind: ClassVar[str] = "environment"
    name: Name
    description: Line = ""
    address: str = ""  # public base address; the host that the caller asked when empty
    follows: str = ""
    protected: bool = False
    anonymous: tuple[str, ...] = ()  # services that answer callers without identity, on purpose
    context: dict[Name, Scalar] = {}  # company, language, site: taken by inputs that are given by context
    records: RecordPolicy = RecordPolicy()
    screen_check_hours: float | None = Described(None, gt=0, le=8760)  # how often the films are held against the live hosts
    repeat_hours: float = Described(24.0, gt=0, le=8760)  # how long a write's request id is remembered
    backends: NamedParts[Binding] = ()

    def binding(self, backend: str) -> Binding | None:
        return next((one for one in self.backends if one.name == backend), None)


Definition = (
    TypeDefinition | RecordDefinition | BackendDefinition | ObjectDefinition | QueryDefinition | ScreenFlowDefinition
    | ServiceDefinition | EnvironmentDefinition
)
KINDS: dict[str, type[Definition]] = {
    one.kind: one
    for one in (
        TypeDefinition, RecordDefinition, BackendDefinition, ObjectDefinition, QueryDefinition, ScreenFlowDefinition,
        ServiceDefinition, EnvironmentDefinition,
    )
}


def segment_of(service: str, version: int) -> str:
    """How a service stands in addresses."""
    return service if version == 1 else f"{service}-v{version}"
