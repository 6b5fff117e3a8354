"""The definitions that all kinds of source share: backends, services, environments. Each is data only; what it means is worked out in
`shapes`, `kinds` and `review`."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import AfterValidator, model_validator
from pydantic import Field as Described
from pydantic_core import PydanticCustomError

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Refers, Scalar
from bricola.core.definitions.engines import ENGINES, BackendParts, BindingParts
from bricola.core.definitions.engines.engine import Engine
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.names import kebab_case
from bricola.core.definitions.parts import RecordDefinition, TypeDefinition
from bricola.core.definitions.runs import add_kind, read_runs


def _known_engine(word: str) -> str:
    if word not in ENGINES:
        raise PydanticCustomError("literal_error", "This is not offered", {"expected": " or ".join(ENGINES)})
    return word


EngineWord = Annotated[str, AfterValidator(_known_engine)]


class _Backend(Definition):
    name: Name
    """What objects, queries and environments name it by."""
    engine: Annotated[EngineWord, Refers("engine")]
    """What it is."""
    description: Line = ""
    """What stands there, and whose it is."""


class BackendDefinition(BackendParts, _Backend):
    """A system of record. Where it is and as whom to sign on is bound by each environment; what its engine adds stands in
    `definitions/engines`."""

    kind: ClassVar[str] = "backend"

    @property
    def about(self) -> Engine:
        """What is known of its engine."""
        return ENGINES[self.engine]

    @model_validator(mode="after")
    def _has_its_part(self) -> Self:
        own = frozenset(self.about.backend.model_fields) if self.about.backend is not None else frozenset()
        for name in BackendParts.model_fields:
            given = getattr(self, name) is not None
            if given != (name in own):
                raise ValueError(f"a backend of {self.engine} {'needs' if name in own else 'has no'} '{name}:'")
        return self


class Parameter(NamedPart):
    """What an operation says about one of its inputs beyond what it inherits: who gives it, and words.

    A context input takes a value of the environment by its name, or of the call: `caller.name`, `call.id`, `now`.
    """

    given: Literal["caller", "fixed", "default", "context"] = "caller"
    """Who gives the value: the caller; always the same; the same unless the caller says another; the context."""
    value: Scalar | None = None
    """The fixed value, the default, or the name of the context value."""
    description: Line = ""
    """What it means, where the source says too little."""
    sample: Scalar | None = None
    """A value for samples."""


def _runnable(text: str) -> str:
    read_runs(text)
    return text


def _runnable_or_none(text: str) -> str:
    return _runnable(text) if text else text


def _in_a_header(text: str) -> str:
    """What a quoted string of an HTTP header can hold as it is (RFC 9110, section 5.6.4)."""
    if len(text) > 500 or any(not "!" <= one <= "~" or one in '"\\' for one in text):
        raise PydanticCustomError("literal_error", "This is no SOAPAction", {
            "expected": "at most 500 ASCII letters and signs, no spaces or quotes"})
    return text


SoapAction = Annotated[str, AfterValidator(_in_a_header)]


class Operation(NamedPart):
    """One callable thing. `runs` names what it runs: `vessel.get`, `query tonnage`, `query tonnage.details`,
    `screen-flow vessel-ledger`; the forms are those of the kinds (see `definitions.runs`).

    Everything else is inherited from there. `takes` and `gives` narrow the fields of the input and of the output. Where the service has
    a contract of somebody else, `map_in` says from where in the request each input of what it runs comes, `map_out` from where in what
    it gives each part of the answer comes, `map_faults` which fault of the contract one of its own becomes (`problem` and
    `problem:CODE` stand for failures that are none), and with `Fault.part`
    from where its parts come; paths have dots, and what has the same name needs no line. `nil` is of releases of form 1.
    """

    runs: Annotated[str, AfterValidator(_runnable), Refers("runs")]
    """What it runs: vessel.get, query tonnage, screen-flow vessel-ledger."""
    description: Line = ""
    """What it does, for callers."""
    implements: str = ""
    """The operation of the service's contract, where it has another name there."""
    soap_action: SoapAction | None = None
    """Where callers use another than the contract says."""
    stub: Literal["answer", "fault"] = "answer"
    """What it answers while nothing implements it."""
    map_in: dict[str, str] = {}
    """From where in the request each input comes."""
    map_out: dict[str, str] = {}
    """From where in what it gives each part of the answer comes."""
    map_faults: dict[str, str] = {}
    """Which fault of the contract one of its own becomes."""
    takes: Names = ()
    """The inputs that it takes; all when empty."""
    gives: Names = ()
    """The fields that it gives; all when empty."""
    nil: Literal["empties", "absent"] = "empties"
    """How it is told that there is no value."""
    input: NamedParts[Parameter] = ()
    """What is fixed, has a default or comes from the context."""

    @property
    def source(self) -> tuple[str, str]:
        """The kind and name of the definition that it runs."""
        return read_runs(self.runs)[:2]

    @property
    def verb(self) -> str:
        """What it does with it: a verb or finder of an object; rows or details of a query."""
        return read_runs(self.runs).verb


class ServiceDefinition(Definition):
    """A named set of operations with one namespace, one contract and one access policy.

    `version` is the major version: 2 and above have an address and a namespace of their own. `before` and `after` are run around every
    operation, and `unforeseen` names a handler, which each environment binds to an operation that is told of what fails there without a
    declared fault (see core/kinds/around.py). `request` is the integration request that the service was made of.
    """

    kind: ClassVar[str] = "service"
    name: ElementName
    """Its name in addresses and contracts."""
    version: int = Described(1, ge=1, le=99)
    """The major version; from 2 on it has an address of its own."""
    description: Line = ""
    """What it is for, for callers."""
    owner: str = ""
    """Who answers for it."""
    namespace: str = ""
    """The XML namespace; made of the name when empty."""
    soap: tuple[Literal["1.1", "1.2"], ...] = ("1.1", "1.2")
    """The versions of SOAP that it speaks."""
    style: Literal["wrapped", "bare", "rpc"] = "wrapped"
    """How messages are built (WS-I Basic Profile)."""
    contract: Annotated[str, Refers("contract")] = ""
    """A contract of somebody else, which it follows to the letter."""
    contract_service: str = ""
    """Which service of it, where it has several."""
    ports: Names = ()
    """Which ports of that contract; all that speak SOAP when empty."""
    before: Annotated[str, AfterValidator(_runnable_or_none), Refers("runs")] = ""
    """What runs before every operation."""
    after: Annotated[str, AfterValidator(_runnable_or_none), Refers("runs")] = ""
    """What runs after every operation."""
    unforeseen: Name | Literal[""] = ""
    """The handler that is told of failures nobody declared."""
    request: Annotated[Name | Literal[""], Refers("request")] = ""
    """The integration request that it was made of."""
    access: Annotated[dict[Name, Literal["all"] | tuple[str, ...]], Refers("role")] = {}
    """For each role the operations that it may call, or all."""
    operations: NamedParts[Operation] = ()
    """What can be called."""

    @property
    def sources(self) -> list[tuple[str, str]]:
        """The kind and name of everything that it runs: its operations, and what stands around them."""
        around = [(found.kind, found.name) for text in (self.before, self.after) if text for found in (read_runs(text),)]
        return [*(one.source for one in self.operations), *around]

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
    """So many in a row, and the endpoint is left alone."""
    retry_after: float = Described(5.0, gt=0, le=3600)
    """Seconds until it is tried again."""


class PoolSettings(Frozen):
    """Bounds and lifetimes of the sessions to one backend; sizes are sessions, times are seconds.

    A session that was idle for `check_after` is checked before it is lent, and with `keep_alive` every so often while it is
    idle, so that the backend does not end it; endpoints are checked every `health_every`. `start` is with the service or at
    the first call; after `sleep_after` without a call the pool closes all its sessions until the next call (None: always on).
    A call waits at most `timeout`, a connect `connect_timeout`.
    """

    min_size: int = Described(1, ge=0)
    """Sessions that are always open."""
    max_size: int = Described(4, ge=1, le=1000)
    """The most sessions at once."""
    max_idle: float = Described(600.0, gt=0)
    """Seconds after which an idle session is closed."""
    max_lifetime: float = Described(3600.0, gt=0)
    """Seconds after which any session is closed."""
    timeout: float = Described(10.0, gt=0)
    """The most seconds that a call takes here."""
    connect_timeout: float = Described(3.0, gt=0)
    """The most seconds that a connect takes."""
    max_waiting: int = Described(1000, ge=0)
    """The most calls that wait for a session."""
    check_after: float = Described(30.0, ge=0)
    """Seconds of rest after which a session is checked before it is lent."""
    keep_alive: float | None = Described(None, gt=0)
    """Seconds between signs of life, so that the host ends no idle session."""
    health_every: float = Described(10.0, gt=0)
    """Seconds between checks of an endpoint."""
    start: Literal["service", "first-call"] = "service"
    """When the first sessions are opened."""
    sleep_after: float | None = Described(None, gt=0)
    """Seconds without a call after which all sessions are closed; never when empty."""
    breaker: Breaker = Breaker()
    """When an endpoint is left alone."""


class _Bound(NamedPart):
    name: Annotated[Name, Refers("backend")]
    """The backend."""


class Binding(BindingParts, _Bound):
    """Where a backend is in one environment, as whom Bricola signs on there, and how many sessions it holds. Which settings belong to
    which engine, its module in `definitions/engines` says."""

    context: dict[Name, Scalar] = {}
    """What its account is for: the company, the site."""
    pool: PoolSettings = PoolSettings()
    """How many sessions, and for how long."""

    @property
    def ends(self) -> tuple[Endpoint, ...]:
        """All endpoints, however they are written; none when the backend has no place here."""
        if self.endpoints:
            return self.endpoints
        where = self.file or self.address or (f"film {self.film}" if self.film else "")
        return (Endpoint(name="main", address=where),) if where else ()

    @property
    def given(self) -> frozenset[str]:
        """The settings of engines that are not at their defaults."""
        return frozenset(self.model_fields_set & set(BindingParts.model_fields)) - {
            name for name, about in BindingParts.model_fields.items() if getattr(self, name) == about.default}


class RecordPolicy(Frozen):
    """Which calls leave a record in this environment, and for how many days."""

    of: Literal["all", "faults", "none"] = "all"
    """Which calls leave a record."""
    keep_days: int = Described(90, ge=1, le=3650)
    """Days that a record is kept."""


class TracePolicy(Frozen):
    """Which calls leave a trace of what every step took and gave, and for how many days: none, those that fail, a share of `percent` and
    those that fail, or all."""

    of: Literal["none", "faults", "share", "all"] = "faults"
    """Which calls leave a trace of every step."""
    percent: float = Described(1.0, gt=0, le=100)
    """The share, where it is a share."""
    keep_days: int = Described(14, ge=1, le=3650)
    """Days that a trace is kept."""


class StoredAnswerPolicy(Frozen):
    """A read of one operation may be answered from memory for so many `seconds`; the last `at_most` answers are kept."""

    seconds: float = Described(gt=0, le=86_400)
    """How old an answer may be."""
    at_most: int = Described(200, ge=1, le=10_000)
    """The most answers that are kept."""


class TestGate(Frozen):
    """Which suites must pass before a release is deployed here: all that were released with it, or these. They run in the environment
    `run_in`, where that release must be live; left out, here, on the release before it is in service. A run of the same release and suites
    that is not older than `minutes` counts; 0 for none."""

    suites: Annotated[Literal["all"] | tuple[Name, ...], Refers("test-suite")] = "all"
    """Which suites must pass; all that were released with it."""
    run_in: Annotated[Name | Literal[""], Refers("environment")] = ""
    """Where they run; here when empty."""
    minutes: float = Described(60.0, ge=0, le=10_080)
    """How old a run may be that counts."""


class EnvironmentDefinition(Definition):
    """Where releases run. `follows` names the environment that a release passes before this one."""

    kind: ClassVar[str] = "environment"
    live: ClassVar[bool] = True
    name: Name
    """What people call it."""
    description: Line = ""
    """What it is for."""
    address: str = ""
    """The public address that contracts name; the one that callers use when empty."""
    follows: Annotated[str, Refers("environment")] = ""
    """The environment that a release passes before this one."""
    protected: bool = False
    """Whether every act on it has to be agreed to."""
    anonymous: Annotated[tuple[str, ...], Refers("service")] = ()
    """Services that answer callers without identity, on purpose."""
    context: Annotated[dict[Name, Scalar], Refers("context-list")] = {}
    """The company, the language, the site: what inputs take by context."""
    tests: TestGate | None = None
    """What a release must pass before it is deployed here."""
    test_values: dict[ElementName, Scalar] = {}
    """What test suites find here: known keys, and the like."""
    records: RecordPolicy = RecordPolicy()
    """Which calls leave a record."""
    traces: TracePolicy = TracePolicy()
    """Which calls leave a trace."""
    screen_check_hours: float | None = Described(None, gt=0, le=8760)
    """Hours between checks of the films against the hosts."""
    contract_check_hours: float | None = Described(None, gt=0, le=8760)
    """Hours between looks at the contracts of others."""
    repeat_hours: float = Described(24.0, gt=0, le=8760)
    """Hours that a repeated write is known as one."""
    stored_answers: dict[str, StoredAnswerPolicy] = {}
    """Reads that may be answered from memory, by Service.Operation."""
    job_days: int = Described(30, ge=1, le=3650)
    """Days that a job is kept after it came to rest."""
    handlers: dict[Name, str] = {}
    """For each handler that services name the Service.Operation that is told."""
    call_seconds: float = Described(120.0, gt=0, le=3600)
    """Seconds after which any call is given up."""
    backends: NamedParts[Binding] = ()
    """Where each backend is here, and as whom Bricola signs on."""

    def binding(self, backend: str) -> Binding | None:
        return next((one for one in self.backends if one.name == backend), None)


for _model in (TypeDefinition, RecordDefinition, BackendDefinition, ServiceDefinition, EnvironmentDefinition):
    add_kind(_model)


def segment_of(service: str, version: int) -> str:
    """How a service stands in addresses."""
    return service if version == 1 else f"{service}-v{version}"
