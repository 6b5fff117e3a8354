"""Contracts of others that nothing implements yet: each operation answers what its contract says an answer looks like, and says that it
is a stub; or, where that was chosen, that it is not built."""

from collections.abc import Iterator
from dataclasses import dataclass

from bricola.core.calls.call import Call, Handler
from bricola.core.contracts.served import read_definition_of, shape_of
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.kind import Compiled, Entry, Pools, ResolvedOperation, SourceKind, Subject
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.plain import from_plain
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.forms import Form
from bricola.core.shapes.model import OperationShape, Record, Values

RULES = Rules(
    Rule("contract.stub", Area.CONTRACT, Severity.WARNING, "A stub shows what an answer looks like, and is not the real thing."),
    Rule("contract.problem", Area.CONTRACT, Severity.HINT, "What is wrong in a contract of somebody else stays, and should be known."),
)


@dataclass(frozen=True)
class Stub:
    contract: str
    answers: bool


def _resolve(operation: Operation, definition: ContractDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    wanted = operation.implements or operation.verb
    contract = read_definition_of(definition)
    found = {name: one for service in contract.services.values() for port in service.ports.values() if port.soap
             for name, one in port.operations.items()}
    if wanted not in found:
        raise ProblemError(Problem("reference.operation", f"The contract {definition.name} has no such operation.", place=f"{place}, runs",
                                   expected="a contract with operations", choices=tuple(found), found=shown(wanted)))
    shape = shape_of(found[wanted], operation.name, operation.description)
    return ResolvedOperation(shape, CONTRACT, Stub(definition.name, operation.stub == "answer"), operation.verb)


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    stub: Stub = operation.source
    return Compiled(_answering(operation.shape, stub) if stub.answers else _refusing(operation.shape))


def _answering(shape: OperationShape, stub: Stub) -> Handler:
    answer, problems = _sample(shape.output, full=True)
    if problems:  # something optional that no value can be made up for
        answer, problems = _sample(shape.output, full=False)
    if problems:
        mend = "Let it answer 'not built yet': stub: fault"
        raise ProblemError(*(Problem("contract.sample", "No answer can be made from the contract alone.", found=one.message, mend=mend,
                                     place=f"{shape.name}, {one.place}") for one in problems))

    async def handle(call: Call, values: Values) -> Values:
        call.stub = True
        call.message = f"a stub: the answer was made from the contract {stub.contract}"
        return answer

    return handle


def _sample(record: Record, full: bool) -> tuple[Values, list[Problem]]:
    """Values of an answer, with what is optional when `full`, and what is wrong with them."""
    problems: list[Problem] = []
    values = from_plain(record, sample_values(record, full=full), record.name, problems)
    if not problems:
        try:
            compile_encoder(record, "")(values)
        except ProblemError as error:
            problems += error.problems
    return values, problems


def _refusing(shape: OperationShape) -> Handler:
    async def handle(call: Call, values: Values) -> Values:
        call.stub = True
        raise ProblemError(Problem("operation.not-built", f"{shape.name} is not built yet.", Kind.NOT_BUILT,
                                   mend="The contract is the final one; ask the owner of the service when it will be."))

    return handle


def _findings(subject: Subject) -> Iterator[Finding]:
    for definition, operations in subject.sources(ContractDefinition):
        names = ", ".join(one.name for one in operations)
        yield RULES.finding("contract.stub", "Operations answer samples from the contract." if len(operations) > 1 else
                            "An operation answers a sample from the contract.", f"service {subject.service.name}", found=names,
                            mend="Let each run an object, a query or a screen flow.")
        for one in read_definition_of(definition).problems[:10]:
            yield RULES.finding("contract.problem", one.message, f"contract {definition.name}, {one.place}"
                                + (f":{one.line}" if one.line else ""))


CONTRACT = SourceKind(
    title="contract", model=ContractDefinition, runs=RunsForm(verbs=None, default=""),
    backends=lambda definition, catalogue: (), resolve=_resolve, compile=_compile, rules=RULES, findings=_findings, stubs=True,
    entry=Entry("contracts", "a contract of somebody else, answered by samples until something implements it"),
)
