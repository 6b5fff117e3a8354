"""Live services: everything that a call needs, compiled once when a release is deployed, and immutable."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.messages.decoder import Reader, compile_decoder
from bricola.core.messages.encoder import Encoder, compile_encoder
from bricola.core.problems import Problem, ProblemError
from bricola.core.runtime.databases import Handler, Values
from bricola.core.runtime.flows import compile_flow
from bricola.core.runtime.pool import Pool
from bricola.core.runtime.queries import compile_query, query_probe
from bricola.core.runtime.reading import compile_check, compile_finder, compile_get, probe_statement
from bricola.core.runtime.sessions import CallLabel, current_call
from bricola.core.runtime.writes import compile_write
from bricola.core.shapes.flows import ResolvedFlow
from bricola.core.shapes.given import Given, call_value, context_values
from bricola.core.shapes.model import OperationShape, ServiceShape
from bricola.core.shapes.queries import ResolvedQuery
from bricola.core.shapes.resolve import ResolvedOperation, ResolvedService


@dataclass(frozen=True)
class LiveOperation:
    """One operation, ready to run."""

    shape: OperationShape
    roles: frozenset[str]
    decode: Reader
    encode: Encoder
    encode_fault: Mapping[str, Encoder]
    handle: Handler
    marked: bool = False  # a write leaves a mark of its request in the backend


@dataclass(frozen=True)
class LiveService:
    """A release of a service in an environment. Replaced as a whole, never changed."""

    environment: str
    name: str
    segment: str  # of its address
    release: int
    shape: ServiceShape
    anonymous: bool
    by_tag: Mapping[str, LiveOperation]
    by_name: Mapping[str, LiveOperation]
    probes: tuple[tuple[str, str], ...] = ()  # (backend, statement) to try once before the service goes live
    records: str = "all"  # which calls leave a record: all, faults, none
    repeat_hours: float = 24.0  # how long a write's request id is remembered
    notice: str = ""  # for callers, in the contract and on the page
    pools: Mapping[str, Pool[Any]] = field(default_factory=dict, compare=False, repr=False)  # by backend
    _contracts: dict[str, bytes] = field(default_factory=dict, compare=False, repr=False)

    @cached_property
    def names(self) -> list[str]:
        return list(self.by_name)

    def contract(self, address: str) -> bytes:
        """The WSDL with a given address. Addresses are few: the environment's, and the hosts it is asked by."""
        found = self._contracts.get(address)
        if found is None:
            if len(self._contracts) > 32:
                self._contracts.clear()
            found = self._contracts[address] = write_wsdl(self.shape, address, self.notice)
        return found


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pool: Any) -> Handler:
    source = operation.source
    if isinstance(source, ResolvedFlow):
        if source.definition.writes:
            _refuse_read_only(operation, environment)
        handler = compile_flow(operation, source, pool)
    elif isinstance(source, ResolvedQuery):
        handler = compile_query(operation, source, pool)
    elif operation.finder is not None:
        handler = compile_finder(operation, source, operation.finder, pool)
    elif operation.verb == "get":
        handler = compile_get(operation, source, pool)
    elif operation.verb == "check":
        handler = compile_check(operation, source, pool)
    else:
        _refuse_read_only(operation, environment)
        handler = compile_write(operation, source, pool, _requests(operation, environment))
    return with_given(handler, operation.given, context_values(operation.given, operation.shape.name, environment), operation.nested)


def _refuse_read_only(operation: ResolvedOperation, environment: EnvironmentDefinition) -> None:
    binding = environment.binding(operation.backend)
    if binding is not None and binding.read_only:
        raise ProblemError(Problem(
            "binding.read-only", f"{operation.shape.name} writes, but {operation.backend} is read only in {environment.name}.",
            place=f"environment {environment.name}, backends, {operation.backend}, read_only",
            mend="Leave the operation out of the service, or bind the backend without 'read_only'."))


def _requests(operation: ResolvedOperation, environment: EnvironmentDefinition) -> str:
    binding = environment.binding(operation.backend)
    return binding.requests if binding is not None else ""


def with_given(handler: Handler, given: Given, context: Values, nested: str) -> Handler:
    """The handler with the values that callers do not give, and with its inputs taken out of the element around them."""
    constant = given.fixed | context
    makers = [(name, kind, call_value(source, kind)) for name, (source, kind) in given.per_call.items()]
    if not constant and not makers:
        if not nested:
            return handler

        async def taken_out(values: Values) -> Values:
            return await handler(values[nested])

        return taken_out

    async def completed(values: Values) -> Values:
        whole = constant | (values[nested] if nested else values)
        if makers:
            label = current_call.get() or CallLabel("", "", "")
            for name, kind, make in makers:
                value = whole[name] = make(label.caller, label.call, label.at)
                if code := kind.check(value):
                    raise ProblemError(Problem(code, "What the call itself gives does not fit this input.", place=name, expected=kind.rule,
                                               mend="The owner of the service gives the input a wider type, or another value."))
        return await handler(whole)

    return completed


def probe(operation: ResolvedOperation) -> str:
    """A statement to try once before the service goes live; '' where a session that is signed on says enough."""
    source = operation.source
    if isinstance(source, ResolvedFlow):
        return ""
    return query_probe(source) if isinstance(source, ResolvedQuery) else probe_statement(source)


def compile_service(
    environment: EnvironmentDefinition, service: ServiceDefinition, release: int, resolved: ResolvedService,
    pools: Mapping[str, Pool[Any]],
) -> LiveService:
    """Make a release live. `pools` by backend name. Raises ProblemError when a definition cannot be compiled."""
    namespace = resolved.shape.namespace
    operations: dict[str, LiveOperation] = {}
    for one in resolved.operations:
        faults = {fault.name: compile_encoder(fault.record, namespace) for fault in one.shape.faults}
        operations[one.shape.name] = LiveOperation(
            one.shape,
            service.roles_for(one.shape.name),
            compile_decoder(one.shape.input, namespace),
            compile_encoder(one.shape.output, namespace),
            faults,
            _compile(one, environment, pools[one.backend]),
            bool(_requests(one, environment)),
        )
    by_tag = {f"{{{namespace}}}{name}": operation for name, operation in operations.items()}
    probes = tuple(dict.fromkeys((one.backend, probe(one)) for one in resolved.operations))
    return LiveService(environment.name, service.name, service.segment, release, resolved.shape,
                       service.name in environment.anonymous, by_tag, operations, probes, environment.records.of,
                       environment.repeat_hours, pools=pools)
