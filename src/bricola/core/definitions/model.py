"""The definitions that all kinds of source share: backends, services, environments. Each is data only; what it means is worked out in
`shapes`, `kinds` and `review`."""

import base64
import binascii
from typing import Annotated, ClassVar, Literal, Self

from pydantic import AfterValidator, model_validator
from pydantic import Field as Described
from pydantic_core import PydanticCustomError

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Scalar
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
    engine: EngineWord
    description: Line = ""


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
    value: Scalar | None = None
    description: Line = ""
    sample: Scalar | None = None


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

    runs: Annotated[str, AfterValidator(_runnable)]
    description: Line = ""
    implements: str = ""  # the operation of the service's contract, where it has another name there
    soap_action: SoapAction | None = None  # where callers, or the other side, use another than the contract says
    stub: Literal["answer", "fault"] = "answer"  # what a contract that nothing implements yet does
    map_in: dict[str, str] = {}
    map_out: dict[str, str] = {}
    map_faults: dict[str, str] = {}
    takes: Names = ()
    gives: Names = ()
    nil: Literal["empties", "absent"] = "empties"
    input: NamedParts[Parameter] = ()

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
    version: int = Described(1, ge=1, le=99)
    description: Line = ""
    owner: str = ""
    namespace: str = ""
    soap: tuple[Literal["1.1", "1.2"], ...] = ("1.1", "1.2")  # the versions that it speaks
    style: Literal["wrapped", "bare", "rpc"] = "wrapped"  # see core/shapes/styles.py
    contract: str = ""  # of somebody else, which it follows to the letter
    contract_service: str = ""  # which service of it, where it has several
    ports: Names = ()  # which ports of that; all that speak SOAP when left out
    before: Annotated[str, AfterValidator(_runnable_or_none)] = ""
    after: Annotated[str, AfterValidator(_runnable_or_none)] = ""
    unforeseen: Name | Literal[""] = ""
    request: Name | Literal[""] = ""
    access: dict[Name, Literal["all"] | tuple[str, ...]] = {}
    operations: NamedParts[Operation] = ()

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


class ContractDefinition(Definition):
    """A contract of somebody else, with all its parts as they came. `files` are texts by path, `encoded` those that are no UTF-8 text, in
    base64; `main` is the one that it begins with, `source` where it came from. `places` are the addresses of parts that were fetched, since
    parts name each other by them."""

    kind: ClassVar[str] = "contract"
    name: Name
    description: Line = ""
    source: Line = ""
    fetched: Line = ""
    main: str
    files: dict[str, str] = {}
    encoded: dict[str, str] = {}
    places: dict[str, str] = {}

    @property
    def contents(self) -> dict[str, bytes]:
        """All parts as bytes, by path."""
        return {path: text.encode() for path, text in self.files.items()} | {
            path: base64.b64decode(text) for path, text in self.encoded.items()}

    @model_validator(mode="after")
    def _is_whole(self) -> Self:
        for path, text in self.encoded.items():
            try:
                base64.b64decode(text, validate=True)
            except binascii.Error:
                raise ValueError(f"{path} is no base64") from None
        if self.main not in self.files and self.main not in self.encoded:
            raise ValueError(f"the main part {self.main} is not among the files")
        return self


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


class _Bound(NamedPart):
    name: Name


class Binding(BindingParts, _Bound):
    """Where a backend is in one environment, as whom Bricola signs on there, and how many sessions it holds. Which settings belong to
    which engine, its module in `definitions/engines` says."""

    context: dict[Name, Scalar] = {}  # that its account is for: the company, the site; a call in another is told before it is sent
    pool: PoolSettings = PoolSettings()

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
    keep_days: int = Described(90, ge=1, le=3650)


class TracePolicy(Frozen):
    """Which calls leave a trace of what every step took and gave, and for how many days: none, those that fail, a share of `percent` and
    those that fail, or all."""

    of: Literal["none", "faults", "share", "all"] = "faults"
    percent: float = Described(1.0, gt=0, le=100)
    keep_days: int = Described(14, ge=1, le=3650)


class StoredAnswerPolicy(Frozen):
    """A read of one operation may be answered from memory for so many `seconds`; the last `at_most` answers are kept."""

    seconds: float = Described(gt=0, le=86_400)
    at_most: int = Described(200, ge=1, le=10_000)


class TestGate(Frozen):
    """Which suites must pass before a release is deployed here: all that were released with it, or these. They run in the environment
    `run_in`, where that release must be live; left out, here, on the release before it is in service. A run of the same release and suites
    that is not older than `minutes` counts; 0 for none."""

    suites: Literal["all"] | tuple[Name, ...] = "all"
    run_in: Name | Literal[""] = ""
    minutes: float = Described(60.0, ge=0, le=10_080)


class EnvironmentDefinition(Definition):
    """Where releases run. `follows` names the environment that a release passes before this one."""

    kind: ClassVar[str] = "environment"
    name: Name
    description: Line = ""
    address: str = ""  # public base address; the host that the caller asked when empty
    follows: str = ""
    protected: bool = False
    anonymous: tuple[str, ...] = ()  # services that answer callers without identity, on purpose
    context: dict[Name, Scalar] = {}  # company, language, site: taken by inputs that are given by context
    tests: TestGate | None = None  # what a release must pass before it is deployed here
    test_values: dict[ElementName, Scalar] = {}  # what test suites find here: known keys, and the like
    records: RecordPolicy = RecordPolicy()
    traces: TracePolicy = TracePolicy()
    screen_check_hours: float | None = Described(None, gt=0, le=8760)  # how often the films are held against the live hosts
    contract_check_hours: float | None = Described(None, gt=0, le=8760)  # how often contracts of others are looked at again
    repeat_hours: float = Described(24.0, gt=0, le=8760)  # how long a write's request id is remembered
    stored_answers: dict[str, StoredAnswerPolicy] = {}  # by Service.Operation; all others are answered live
    job_days: int = Described(30, ge=1, le=3650)  # how long a job is kept after it came to rest
    handlers: dict[Name, str] = {}  # names that services give to what is told of failures -> Service.Operation
    call_seconds: float = Described(120.0, gt=0, le=3600)  # after which a call is given up, whatever it waits for
    backends: NamedParts[Binding] = ()

    def binding(self, backend: str) -> Binding | None:
        return next((one for one in self.backends if one.name == backend), None)


for _model in (TypeDefinition, RecordDefinition, BackendDefinition, ContractDefinition, ServiceDefinition, EnvironmentDefinition):
    add_kind(_model)


def segment_of(service: str, version: int) -> str:
    """How a service stands in addresses."""
    return service if version == 1 else f"{service}-v{version}"
