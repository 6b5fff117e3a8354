"""Relays: an operation of somebody else's contract, sent on through a pool to their service."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from bricola.core.contracts.reading.contract import ReadOperation
from bricola.core.contracts.served import read_definition_of, shape_of
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.kind import Compiled, Entry, Followed, Pools, Probe, ResolvedOperation, SourceKind, Subject
from bricola.core.kinds.relays.definition import RelayDefinition
from bricola.core.kinds.relays.handlers import compile_relay
from bricola.core.messages.cleaning import compile_cleaner
from bricola.core.messages.envelope import Soap
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.forms import Form

RULES = Rules(
    Rule("relay.unchecked", Area.SERVICE, Severity.HINT, "What is not checked on the way fails on the other side, in its words."),
    Rule("relay.operation", Area.SERVICE, Severity.ERROR, "A name under 'writes' that the contract does not have protects nothing."),
)


@dataclass(frozen=True)
class Resolved:
    definition: RelayDefinition
    soap: Soap
    namespace: str


def _operations(definition: RelayDefinition, catalogue: Catalogue, place: str) -> tuple[dict[str, tuple[ReadOperation, Soap]], str]:
    """The operations that can be sent on, with the SOAP version in which the other side is asked."""
    contract = catalogue.get(ContractDefinition, definition.contract)
    if contract is None:
        raise ProblemError(Problem("reference.contract", "The relay follows a contract that is not defined.", place=f"{place}, contract",
                                   found=shown(definition.contract), mend="Take it in: bricola contracts import SOURCE --service NAME"))
    read = read_definition_of(contract)
    found: dict[str, tuple[ReadOperation, Soap]] = {}
    for name, service in read.services.items():
        if definition.service in ("", name):
            for port in service.ports.values():
                for operation, one in port.operations.items() if port.soap else ():
                    found.setdefault(operation, (one, Soap.V11 if port.soap == "1.1" else Soap.V12))
    return found, read.namespace


def _resolve(operation: Operation, definition: RelayDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    wanted = operation.implements or operation.verb
    found, namespace = _operations(definition, catalogue, f"relay {definition.name}")
    if wanted not in found:
        raise ProblemError(Problem("reference.operation", f"The contract {definition.contract} has no such operation.",
                                   place=f"{place}, runs", found=shown(wanted),
                                   expected="a contract with operations", choices=tuple(found)))
    read, soap = found[wanted]
    shape = shape_of(read, operation.name, operation.description, wanted in definition.writes)
    return ResolvedOperation(shape, RELAY, Resolved(definition, soap, namespace), operation.verb, (definition.backend,))


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    source: Resolved = operation.source
    definition = source.definition
    binding = environment.binding(definition.backend)
    seconds = binding.answer_seconds if binding is not None else 30.0
    handle = compile_relay(operation.shape, source.namespace, source.soap, pools[definition.backend], definition, seconds)
    return Compiled(handle, leaves_queue=True, checks_input=definition.check in ("both", "request"),
                    clean=compile_cleaner(operation.shape.input) if definition.clean in ("both", "request") else None)


def _needs(definition: RelayDefinition) -> Sequence[Reference]:
    return ((ContractDefinition.kind, definition.contract),)


def _findings(subject: Subject) -> Iterator[Finding]:
    for definition, _ in subject.sources(RelayDefinition):
        if definition.check != "both":
            yield RULES.finding("relay.unchecked", "Not everything is held against the contract.", f"relay {definition.name}, check",
                                found=definition.check, mend="Take 'check:' out.")
        try:
            known, _ = _operations(definition, subject.catalogue, f"relay {definition.name}")
        except ProblemError:
            continue  # it is told where the operation is resolved
        for name in definition.writes:
            if name not in known:
                yield RULES.finding("relay.operation", f"The contract has no operation {name}.", f"relay {definition.name}, writes",
                                    found=shown(name), choices=tuple(known), mend=f"Take {name} out.")


RELAY = SourceKind(
    title="relay", model=RelayDefinition, runs=RunsForm(verbs=None, default=""),
    needs=_needs, backends=lambda definition, catalogue: (definition.backend,), resolve=_resolve, compile=_compile,
    probes=lambda operation: (Probe(operation.source.definition.backend),),
    follows=lambda definition: (Followed(definition.contract, definition.service, definition.backend),),
    runs_on=Family.SERVICE, rules=RULES, findings=_findings,
    entry=Entry("relays", "a contract of somebody else, sent on to their service"),
)
