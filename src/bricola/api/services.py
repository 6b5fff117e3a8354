"""Services, releases and deployments."""

from typing import Any, Literal, NotRequired

from typing_extensions import TypedDict

from bricola.api.base import Line, Problem, Source, closed
from bricola.api.definitions import FileDifference, Finding, UsedBackend
from bricola.api.words import DraftState, GateOutcome, PlaceState, Stage
from bricola.core.pool.states import PoolState


@closed
class Figures(TypedDict):
    """Of the last hour; `slices` are calls and faults of each minute."""

    service: str
    environment: str
    calls: int
    faults: int
    p95_micros: int
    slices: list[tuple[int, int]]


@closed
class Part(TypedDict):
    """A release that answers a share of the calls, in percent."""

    release: int
    share: int
    since: str


@closed
class Ail(TypedDict):
    """Something that a service needs (deployment, pool, credential, film) and that is not as it should be."""

    part: str
    name: str
    state: PlaceState
    words: str
    mend: str
    inner: NotRequired[str]


@closed
class Place(TypedDict):
    """A service in an environment; what follows `anonymous` only where something is deployed. Its state is the worst of
    all that it needs (`ails`); it `answers` where a release is loaded, be it with failures."""

    environment: str
    protected: bool
    version: int
    segment: str
    state: PlaceState
    anonymous: bool
    soap: NotRequired[str]
    wsdl: NotRequired[str]
    rest: NotRequired[str]
    ails: NotRequired[list[Ail]]
    answers: NotRequired[bool]
    reason: NotRequired[str]
    release: NotRequired[int]
    since: NotRequired[str]
    by: NotRequired[str]
    parts: NotRequired[list[Part]]
    newest: NotRequired[bool]
    ends: NotRequired[str]
    soap_versions: NotRequired[list[str]]
    figures: NotRequired[Figures | None]


@closed
class Hosting(TypedDict):
    """Whether an environment can host a kind of source or an engine; `reason` says why not."""

    what: Literal["kind", "engine"]
    word: str
    title: str
    able: bool
    reason: str


@closed
class BoundHandler(TypedDict):
    """A name that services give to who is told of failures: the operation that it is here ('' for none yet), and whether that is live."""

    name: str
    operation: str
    live: bool


@closed
class Environment(TypedDict):
    name: str
    description: str
    follows: str
    protected: bool
    address: str
    context: dict[str, str]
    effective: str
    hosts: list[Hosting]
    handlers: list[BoundHandler]


@closed
class ServiceRow(TypedDict):
    name: str
    description: str
    sources: list[Source]
    group: str
    version: int
    backends: list[str]
    draft: DraftState
    stage: Stage
    newest: int | None
    deployments: list[Place]


@closed
class PoolStatistics(TypedDict):
    """Counters under the names that psycopg_pool gave them."""

    environment: str
    backend: str
    state: PoolState
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
class Strangers(TypedDict):
    """How many requests of nobody who is known came to a service in the last hour; '' for no service."""

    environment: str
    service: str
    count: int


@closed
class Overview(TypedDict):
    """`now` in seconds since 1970."""

    now: float
    organisation: str
    environments: list[Environment]
    services: list[ServiceRow]
    pools: list[PoolStatistics]
    strangers: list[Strangers]


@closed
class Element(TypedDict):
    """One element of a message; `elements` where it is a record, what stands before them where it is a simple value."""

    name: str
    label: str
    description: str
    unit: str
    labels: dict[str, str]
    sensitive: bool
    nillable: bool
    key_of: str
    required: bool
    list: bool
    least: int
    most: int | None
    type: str
    base: NotRequired[str]
    rule: NotRequired[str]
    codes: NotRequired["list[str]"]
    default: NotRequired[str | None]
    sample: NotRequired[str | None]
    elements: NotRequired["list[Element]"]


@closed
class Fault(TypedDict):
    name: str
    description: str
    elements: list[Element]


@closed
class Said(TypedDict):
    """A setting that the contract of somebody else decides: what it says, and what is used. Most cannot differ."""

    setting: str
    contract: str
    used: str
    may_differ: bool
    differs: bool


@closed
class Operation(TypedDict):
    """What callers see, who may call, and what it runs. `soap` are the versions in which it is asked. `kept_inside`:
    inputs that callers neither give nor see. `contract`: what the contract of somebody else says, for drafts that follow one."""

    name: str
    soap: list[str]
    description: str
    writes: bool
    input: list[Element]
    output: list[Element]
    faults: list[Fault]
    roles: list[str]
    runs: str
    source: Source | None
    verb: str
    kept_inside: NotRequired[dict[str, str]]
    contract: NotRequired[list[Said]]


@closed
class ReleaseNote(TypedDict):
    number: int
    version: int
    author: str
    at: str
    notes: str
    digest: str
    consent: str


@closed
class Release(TypedDict):
    """A release with everything in it."""

    service: str
    number: int
    digest: str
    notes: str
    author: str
    at: str
    version: int
    consent: str
    bundle: dict[str, str]


@closed
class Deployment(TypedDict):
    environment: str
    service: str
    version: int
    release: int
    share: int
    how: str
    reason: str
    author: str
    at: str
    ended_at: str | None
    ended_by: str | None


@closed
class Around(TypedDict):
    """What is run before and after every operation, and the name of the handler that is told of failures; '' for none."""

    before: str
    after: str
    unforeseen: str


@closed
class Told(TypedDict):
    """The operation that is told of failures in an environment; '' where none is bound."""

    environment: str
    operation: str


@closed
class ServiceDetail(TypedDict):
    """`told` has a line for each environment where the service names a handler; `request` is the one that it was made of."""

    name: str
    description: str
    owner: str
    version: int
    path: str
    namespace: str
    draft: DraftState
    stage: Stage
    releases: list[ReleaseNote]
    deployments: list[Place]
    history: list[Deployment]
    operations: list[Operation]
    problems: list[Problem]
    around: Around
    told: list[Told]
    request: str


@closed
class Sample(TypedDict):
    """A request that works unedited: `envelope` is its message, `answer` one of the answer, `forms` the request for curl, Python and as
    plain HTTP where it is live."""

    envelope: str
    values: dict[str, Any]
    answer: str
    content_type: str
    forms: dict[Literal["curl", "python", "http"], str]


@closed
class Released(TypedDict):
    service: str
    release: int
    version: int
    digest: str
    at: str
    consent: str


@closed
class Side(TypedDict):
    label: str
    release: int | None
    version: int


@closed
class ContractChange(TypedDict):
    verdict: str
    rule: str
    operation: str
    place: str
    message: str
    before: str
    after: str
    callers: list[str]


@closed
class JudgedCaller(TypedDict):
    """A caller of the last 30 days, with the worst that happens to what it used; `last` in seconds since 1970."""

    caller: str
    calls: int
    last: float
    operations: list[str]
    verdict: str


@closed
class AffectedCase(TypedDict):
    """A test case that a change is about. `problems` say why it does not fit the new contract, `mends` what can be mended by itself."""

    suite: str
    case: str
    operation: str
    changes: list[str]
    problems: list[Problem]
    mends: list[str]


@closed
class Comparison(TypedDict):
    service: str
    old: Side
    new: Side
    verdict: str
    changes: list[ContractChange]
    callers: list[JudgedCaller]
    cases: list[AffectedCase]
    definitions: list[FileDifference]
    contract: list[Line]


@closed
class Gate(TypedDict):
    """`run` is the test run behind it; what tests close may be overruled with a reason."""

    name: str
    outcome: GateOutcome
    consent: str
    run: int | None
    words: str
    problems: list[Problem]
    findings: list[Finding]


@closed
class Plan(TypedDict):
    """What a deployment would do."""

    service: str
    environment: str
    release: int
    version: int
    replaces: int | None
    gates: list[Gate]
    uses: list[UsedBackend]


@closed
class DeployedPart(TypedDict):
    part: Literal["service", "pool"]
    name: str
    state: str


@closed
class Deployed(TypedDict):
    service: str
    environment: str
    release: int
    version: int
    parts: list[DeployedPart]
    soap: str
    wsdl: str
    rest: str
    share: NotRequired[int]


@closed
class AnnouncedEnd(TypedDict):
    service: str
    environment: str
    ends_at: str | None
