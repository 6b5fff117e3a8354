"""Live services: everything that a call needs, compiled once when a release is deployed, and immutable."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.messages.decoder import Reader, compile_decoder
from bricola.core.messages.encoder import Encoder, compile_encoder
from bricola.core.runtime.objects import DatabaseSession, Handler, compile_handler, probe_statement
from bricola.core.runtime.pool import Pool
from bricola.core.runtime.writes import compile_write
from bricola.core.shapes.context import context_values
from bricola.core.shapes.model import OperationShape, ServiceShape
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
    notice: str = ""  # for callers, in the contract and on the page
    pools: Mapping[str, Pool[DatabaseSession]] = field(default_factory=dict, compare=False, repr=False)  # by backend
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


def _compile(operation: ResolvedOperation, pool: Pool[DatabaseSession]) -> Handler:
    return compile_write(operation, pool) if operation.shape.writes else compile_handler(operation, pool)


def compile_service(
    environment: EnvironmentDefinition, service: ServiceDefinition, release: int, resolved: ResolvedService,
    pools: Mapping[str, Pool[DatabaseSession]],
) -> LiveService:
    """Make a release live. `pools` by backend name. Raises ProblemError when a definition cannot be compiled."""
    namespace = resolved.shape.namespace
    operations: dict[str, LiveOperation] = {}
    for one in resolved.operations:
        faults = {fault.name: compile_encoder(fault.record, namespace) for fault in one.shape.faults}
        inside = replace(one, fixed=one.fixed | context_values(one, environment))
        operations[one.shape.name] = LiveOperation(
            one.shape, service.roles_for(one.shape.name), compile_decoder(one.shape.input, namespace),
            compile_encoder(one.shape.output, namespace), faults, _compile(inside, pools[one.object.backend]),
        )
    by_tag = {f"{{{namespace}}}{name}": operation for name, operation in operations.items()}
    probes = tuple(dict.fromkeys((one.object.backend, probe_statement(one)) for one in resolved.operations))
    return LiveService(environment.name, service.name, service.segment, release, resolved.shape,
                       service.name in environment.anonymous, by_tag, operations, probes, environment.records.of, pools=pools)
