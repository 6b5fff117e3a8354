"""The kinds of definition. Each is data only; what it means is worked out in `shapes`, `runtime` and `review`."""

import re
from typing import Annotated, ClassVar, Literal

from pydantic import Field as Described
from pydantic import StringConstraints

from bricola.core.definitions.base import ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Scalar


class Facets(Frozen):
    """What narrows a type; the names follow W3C XML Schema Part 2, section 4.3, in plain words."""

    length: int | None = Described(None, ge=0)
    min_length: int | None = Described(None, ge=0)
    max_length: int | None = Described(None, ge=0)
    pattern: str | None = None
    codes: tuple[Scalar, ...] = ()
    digits: int | None = Described(None, ge=1)
    fraction: int | None = Described(None, ge=0)
    min: Scalar | None = None
    max: Scalar | None = None


class _Based(Frozen):
    name: ElementName
    base: str
    description: Line = ""


class TypeDefinition(Facets, _Based):
    """A named simple type, used by fields of any object or record: `type: Registration`."""

    kind: ClassVar[str] = "type"


class _Typed(NamedPart):
    type: str  # declared here so that it is the first key of its line


class TypedPart(Facets, _Typed):
    """Something with a name and a type: a primitive, a named type, or a record."""

    label: str = ""
    description: Line = ""
    unit: str = ""
    required: bool = True
    repeats: bool = False
    at_most: int | None = Described(None, ge=1)
    sample: Scalar | None = None


class RecordDefinition(Frozen):
    """A named sequence of fields: `record: TollLine`."""

    kind: ClassVar[str] = "record"
    name: ElementName
    description: Line = ""
    fields: NamedParts[TypedPart] = Described(min_length=1)


class BackendDefinition(Frozen):
    """A system of record. Where it is and how to sign on is bound by each environment."""

    kind: ClassVar[str] = "backend"
    name: Name
    connects: Literal["database"] = "database"
    engine: Literal["sqlite", "postgresql"]
    description: Line = ""


class ObjectField(TypedPart):
    """A field of an object; its column is the field's name in snake_case when nothing else is said. What is read only
    is never taken from callers: the database fills it."""

    column: str = ""
    read_only: bool = False

    @property
    def column_name(self) -> str:
        return self.column or snake_case(self.name)


class Filter(NamedPart):
    """One input of a finder: compares a field with the value that the caller gives."""

    field: ElementName
    compare: Literal["equal", "contains", "starts", "from", "to"] = "equal"
    required: bool = False
    description: Line = ""


class PageLimit(Frozen):
    """How many rows an answer holds when nothing is asked, and at most."""

    default: int = Described(20, ge=1)
    most: int = Described(200, ge=1, le=10_000)


class Finder(NamedPart):
    """A named query of an object. Rows come in the stated order, the key last, so that paging is exact."""

    description: Line = ""
    filters: NamedParts[Filter] = ()
    order: Names = ()
    limit: PageLimit = PageLimit()


class ObjectDefinition(Frozen):
    """A typed business view on one table of a database backend."""

    kind: ClassVar[str] = "object"
    name: Name
    description: Line = ""
    backend: Name
    table: str
    record: ElementName | Literal[""] = ""
    key: Names = Described(min_length=1)
    change_token: str = ""  # a column that changes with every write
    fields: NamedParts[ObjectField] = Described(min_length=1)
    finders: NamedParts[Finder] = ()

    @property
    def record_name(self) -> str:
        return self.record or pascal_case(self.name)

    def field(self, name: str) -> ObjectField | None:
        return next((one for one in self.fields if one.name == name), None)


class Parameter(NamedPart):
    """What an operation says about one of its inputs beyond what it inherits: who gives it, and words."""

    given: Literal["caller", "fixed", "default", "context"] = "caller"
    value: Scalar | None = None  # for context: the name of a context value of the environment
    description: Line = ""
    sample: Scalar | None = None


class Operation(NamedPart):
    """One callable thing. `runs` names what it runs; everything else is inherited from there."""

    runs: Annotated[str, StringConstraints(pattern=r"^[A-Za-z][\w-]*\.[A-Za-z]\w*$")]
    description: Line = ""
    input: NamedParts[Parameter] = ()


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

    A session that was idle for `check_after` is checked before it is lent; endpoints are checked every
    `health_every`. `start` is with the service or at the first call; after `sleep_after` without a call the pool
    closes all its sessions until the next call (None: always on). A call waits at most `timeout`, a connect `connect_timeout`.
    """

    min_size: int = Described(1, ge=0)
    max_size: int = Described(4, ge=1, le=1000)
    max_idle: float = Described(600.0, gt=0)
    max_lifetime: float = Described(3600.0, gt=0)
    timeout: float = Described(10.0, gt=0)
    connect_timeout: float = Described(3.0, gt=0)
    max_waiting: int = Described(1000, ge=0)
    check_after: float = Described(30.0, ge=0)
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


class Binding(NamedPart):
    """Where a backend is in one environment, as whom Bricola signs on there, and how many sessions it holds.

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
    pool: PoolSettings = PoolSettings()

    @property
    def ends(self) -> tuple[Endpoint, ...]:
        """All endpoints, however they are written; none when the backend has no place here."""
        if self.endpoints:
            return self.endpoints
        where = self.file or self.address
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
    backends: NamedParts[Binding] = ()

    def binding(self, backend: str) -> Binding | None:
        return next((one for one in self.backends if one.name == backend), None)


Definition = (
    TypeDefinition | RecordDefinition | BackendDefinition | ObjectDefinition | ServiceDefinition | EnvironmentDefinition
)
KINDS: dict[str, type[Definition]] = {
    one.kind: one
    for one in (
        TypeDefinition, RecordDefinition, BackendDefinition, ObjectDefinition, ServiceDefinition, EnvironmentDefinition
    )
}


def segment_of(service: str, version: int) -> str:
    """How a service stands in addresses."""
    return service if version == 1 else f"{service}-v{version}"


def _words(name: str) -> list[str]:
    return re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+", name)


def snake_case(name: str) -> str:
    return "_".join(word.lower() for word in _words(name))


def kebab_case(name: str) -> str:
    return "-".join(word.lower() for word in _words(name))


def pascal_case(name: str) -> str:
    return "".join(word[0].upper() + word[1:] for word in _words(name))
