"""Live services: everything that a call needs, compiled once when a release is deployed, and immutable."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from bricola.core.calls.call import Handler
from bricola.core.contracts.kept import hand_out
from bricola.core.contracts.served import Offered
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition, StoredAnswerPolicy
from bricola.core.kinds.around import with_around
from bricola.core.kinds.completing import with_given
from bricola.core.kinds.kind import Lasting, Pools, Probe, ResolvedOperation
from bricola.core.kinds.resolve import ResolvedService
from bricola.core.messages.addressing import UNDERSTOOD
from bricola.core.messages.cleaning import Cleaner
from bricola.core.messages.decoder import ElementReader, compile_decoder
from bricola.core.messages.encoder import Encoder, compile_encoder
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.rows import located
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.mapping import Mapped
from bricola.core.shapes.model import OperationShape, Record, ServiceShape
from bricola.core.shapes.styles import answer_record, into_answer, out_of_request, request_record


@dataclass(frozen=True)
class LiveOperation:
    """One operation, ready to run."""

    shape: OperationShape
    roles: frozenset[str]
    decode: ElementReader
    encode: Encoder
    encode_fault: Mapping[str, Encoder]
    handle: Handler
    marked: bool = False  # a write leaves a mark of its request in the backend
    checks_input: bool = True  # whether messages are held against the contract before they are handled
    told: Mapping[str, tuple[str, Mapped]] = field(default_factory=dict)  # by which declared faults failures are told
    job: Lasting | None = None  # what does it, where the handler accepts it only
    desk: bool = False  # it accepts jobs, or tells of them
    backends: tuple[str, ...] = ()  # that it reaches
    clean: Cleaner | None = None  # takes out of a request what an application put beside the contract
    around_writes: bool = False  # what stands around it may store something, whatever it does itself
    stored: StoredAnswerPolicy | None = None  # where a read may be answered from memory
    shared: bool = False  # a stored answer is for every caller
    tells_writes: bool = False  # with the answer goes what was written
    tells_of: str = ""  # the operation whose jobs it gives the results of
    calls_back: bool = False  # what it accepts is told to an address, where the caller names one
    stops_when_left: bool = False  # it is stopped when its caller is gone
    leaves_queue: bool = False  # it waits for a session before anything has begun

    def declared(self, error: ProblemError, call: str) -> DeclaredFaultError | None:
        """The fault of the contract by which a failure is told; None for one that the contract has no fault for, and for what is said of
        callers, which no contract hides."""
        problem = error.problem
        known = self.told.get(problem.code.partition(".")[0]) or self.told.get("")
        if known is None or problem.kind in (Kind.IDENTITY, Kind.PERMISSION, Kind.LIMIT):
            return None
        fault, mapped = known
        values = {name: text for name, text in problem.as_dict().items() if name != "kind"}
        return DeclaredFaultError(fault, problem.message, mapped.run(values | {"sentence": problem.sentence(), "call": call}))


@dataclass(frozen=True)
class LiveService:
    """A release of a service in an environment. Replaced as a whole, never changed."""

    environment: str
    name: str
    segment: str  # of its address
    release: int
    shape: ServiceShape
    anonymous: bool
    by_tag: Mapping[str, LiveOperation]  # of the body's element, '' for a body without one
    by_name: Mapping[str, LiveOperation]
    by_action: Mapping[str, LiveOperation] = field(default_factory=dict)  # SOAPAction, where several have one element
    shared_tags: frozenset[str] = frozenset()
    understood: frozenset[str] = frozenset()  # header blocks that the contract declares
    offer: Offered | None = None  # the contract of somebody else, which is handed out as it came
    probes: tuple[Probe, ...] = ()  # to try once before the service goes live
    records: str = "all"  # which calls leave a record: all, faults, none
    repeat_hours: float = 24.0  # how long a write's request id is remembered
    call_seconds: float = 120.0  # after which a call is given up
    traces: str = "none"  # which calls leave a trace: none, faults, share, all
    trace_percent: float = 1.0  # of the share
    unforeseen: str = ""  # Service.Operation, which is told of failures that no fault is declared for
    notice: str = ""  # for callers, in the contract and on the page
    kept: str = field(default="", repr=False)  # the contract as it was released
    pools: Pools = field(default_factory=dict, compare=False, repr=False)  # by backend
    _contracts: dict[str, bytes] = field(default_factory=dict, compare=False, repr=False)

    @cached_property
    def calls_back(self) -> bool:
        return any(one.calls_back for one in self.by_name.values())

    @cached_property
    def names(self) -> list[str]:
        return list(self.by_name)

    def contract(self, address: str) -> bytes:
        """The WSDL with a given address. Addresses are few: the environment's, and the hosts it is asked by."""
        found = self._contracts.get(address)
        if found is None:
            if len(self._contracts) > 32:
                self._contracts.clear()
            found = self._contracts[address] = hand_out(self.kept, address, self.notice)
        return found


def compile_service(
    environment: EnvironmentDefinition, service: ServiceDefinition, release: int, resolved: ResolvedService,
    pools: Pools, kept: str = "",
) -> LiveService:
    """Make a release live. `pools` by backend name; `kept` is its contract as it was released. Raises ProblemError when a definition
    cannot be compiled."""
    namespace = resolved.shape.namespace
    before, after = (_beside(one, environment, pools) for one in resolved.around)
    hooks = [one for one in resolved.around if one is not None]
    operations: dict[str, LiveOperation] = {}
    for one in resolved.operations:
        policy = environment.stored_answers.get(f"{service.segment}.{one.shape.name}")
        inner = one if one.ways is None else one.ways.inner
        compiled = one.kind.compile(inner, environment, pools)
        faults = {fault.name: compile_encoder(fault.record, namespace) for fault in one.shape.faults}
        operations[one.shape.name] = LiveOperation(
            one.shape,
            service.roles_for(one.of or one.shape.name),
            compile_request(one.shape, namespace, resolved.shape.form.strict),
            compile_answer(one.shape, namespace),
            faults,
            with_around(with_given(compiled.handle, one, environment), one.shape, environment.name, before, after),
            compiled.marked,
            compiled.checks_input or one.ways is not None or bool(hooks),  # maps, and what stands around it, need the values
            one.told,
            job=compiled.job,
            desk=compiled.desk,
            backends=tuple(dict.fromkeys((*one.backends, *(name for hook in hooks for name in hook.backends)))),
            stored=policy if not (one.shape.writes or hooks or compiled.desk) and compiled.checks_input else None,
            clean=compiled.clean if one.ways is None else None,
            around_writes=any(hook.shape.writes for hook in hooks),
            shared=not (compiled.sees_caller or inner.given.per_call),
            tells_writes=compiled.tells_writes,
            tells_of=one.of if compiled.gives_result else "",
            calls_back=compiled.calls_back,
            stops_when_left=compiled.stops_when_left,
            leaves_queue=compiled.leaves_queue,
        )
    by_tag, by_action, shared = _dispatch(operations, namespace)
    shape = resolved.shape
    understood = frozenset(tag for one in shape.operations for tag in one.understood)
    if any(one.calls_back for one in operations.values()):
        understood |= UNDERSTOOD
    return LiveService(
        environment.name, service.name, service.segment, release, shape, service.name in environment.anonymous, by_tag, operations,
        by_action, shared, understood, resolved.offer, resolved.probes,
        environment.records.of, environment.repeat_hours, environment.call_seconds, pools=pools, kept=kept or resolved.kept_contract(),
        unforeseen=environment.handlers.get(service.unforeseen, ""), traces=environment.traces.of, trace_percent=environment.traces.percent)


def _beside(operation: ResolvedOperation | None, environment: EnvironmentDefinition, pools: Pools) -> tuple[Handler, Record] | None:
    """What is run before or after every operation, with what it takes."""
    if operation is None:
        return None
    compiled = operation.kind.compile(operation, environment, pools)
    if compiled.desk:
        raise ProblemError(Problem("around.later", "What stands around every operation is waited for, and this is done later.",
                                   place=operation.shape.name.lower(),
                                   mend="Name a workflow that answers now, or put '.now' behind its name."))
    return with_given(compiled.handle, operation, environment), operation.shape.input


def compile_request(operation: OperationShape, namespace: str, strict: bool) -> ElementReader:
    """Reads what stands in the body of a request."""
    read = compile_decoder(request_record(operation), namespace, strict)
    if not operation.calls:
        return read
    return lambda node, path, problems: out_of_request(operation, read(node, path, problems) or {})


def compile_answer(operation: OperationShape, namespace: str) -> Encoder:
    """Writes what stands in the body of an answer."""
    write = located(compile_encoder(answer_record(operation), namespace), operation)
    return (lambda values: write(into_answer(operation, values))) if operation.calls else write


def _dispatch(operations: Mapping[str, LiveOperation],
              namespace: str) -> tuple[dict[str, LiveOperation], dict[str, LiveOperation], frozenset[str]]:
    """How a message finds its operation: by the element of its body, and where several have one, by SOAPAction."""
    by_tag: dict[str, LiveOperation] = {}
    shared: set[str] = set()
    for one in operations.values():
        tag = request_record(one.shape).tag_in(namespace)
        if tag in by_tag:
            shared.add(tag)
        by_tag.setdefault(tag, one)
    by_action = {one.shape.action: one for one in operations.values() if one.shape.action} if shared else {}
    return by_tag, by_action, frozenset(shared)
