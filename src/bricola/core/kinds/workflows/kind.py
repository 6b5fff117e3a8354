"""Workflows: several backends behind one operation."""

from collections.abc import Iterable, Sequence

from bricola.core.calls.call import Call, Handler
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.parts import TypedPart
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.workflows import looping as _looping  # noqa: F401 — the makers of its steps are in the table from here on
from bricola.core.kinds.workflows import outward as _outward  # noqa: F401
from bricola.core.kinds.workflows.acting import Binder
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.program import Program
from bricola.core.kinds.workflows.reaching import all_steps, backends, needs
from bricola.core.kinds.workflows.review import RULES, findings
from bricola.core.kinds.workflows.running import compile_program
from bricola.core.kinds.workflows.shape import program_of, workflow_shape
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.model import Record, Values
from bricola.core.shapes.narrowing import narrowed, required, taken


def _resolve(operation: Operation, definition: WorkflowDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    program = program_of(definition, catalogue, form)
    inputs = program.input.slots
    if definition.contract:
        return ResolvedOperation(workflow_shape(operation.name, program, (), (), operation.description), WORKFLOW, program, operation.verb,
                                 program.backends)
    hidden, inputs = taken(operation, inputs, place, required(inputs))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    outputs = narrowed(operation, Record("", program.output.slots), place).elements
    shape = workflow_shape(operation.name, program, inputs, outputs, operation.description)
    return ResolvedOperation(shape, WORKFLOW, program, operation.verb, program.backends, given)


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    program: Program = operation.source
    binder = Binder(environment, pools)
    handle = compile_program(program, binder.block(program.block))
    shown = {one.name for one in operation.shape.output.slots}
    hidden = [one.name for one in program.output.slots if one.name not in shown]
    # A repeat of a request that was cut off is not done again from what its steps stored: what it read may have changed since.
    return Compiled(_narrowed(handle, hidden) if hidden else handle, False)


def _narrowed(handle: Handler, hidden: list[str]) -> Handler:
    """Without outputs that the operation does not give."""

    async def run(call: Call, values: Values) -> Values:
        answer = await handle(call, values)
        return {name: value for name, value in answer.items() if name not in hidden}

    return run


def _parts(definition: WorkflowDefinition) -> Iterable[TypedPart]:
    yield from (*definition.input, *definition.output, *definition.variables)
    for fault in definition.faults:
        yield from fault.fields
    for step in all_steps(definition):
        if step.gives:
            yield TypedPart(name="body", type=step.gives)


def _probes(operation: ResolvedOperation) -> Sequence[Probe]:
    program: Program = operation.source
    return tuple(dict.fromkeys(probe for one in program.inner for probe in one.kind.probes(one)))


WORKFLOW = SourceKind(
    title="workflow", model=WorkflowDefinition, runs=RunsForm(), parts=_parts, needs=needs, backends=backends, resolve=_resolve,
    compile=_compile, probes=_probes, rules=RULES, findings=findings,
    entry=Entry("workflows", "steps that call, decide, repeat, map, answer or fail", "/workflows"),
)
