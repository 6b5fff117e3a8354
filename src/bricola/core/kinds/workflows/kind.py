"""Workflows: several backends behind one operation."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

from bricola.core.calls.call import Call, Handler
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.parts import TypedPart
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.kind import Compiled, Entry, Lasting, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.workflows import keeping as _keeping  # noqa: F401 — the makers of its steps are in the table from here on
from bricola.core.kinds.workflows import looping as _looping  # noqa: F401
from bricola.core.kinds.workflows import outward as _outward  # noqa: F401
from bricola.core.kinds.workflows.acting import Binder
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.jobs import (
    NOW,
    RESULT,
    STATUS,
    VERBS,
    accept,
    accepting_shape,
    companions,
    result_shape,
    status_shape,
    tell_result,
    tell_status,
)
from bricola.core.kinds.workflows.program import Block, CallNode, Program, nodes_of
from bricola.core.kinds.workflows.reaching import all_steps, backends, hollow, needs
from bricola.core.kinds.workflows.review import RULES, findings
from bricola.core.kinds.workflows.running import compile_program
from bricola.core.kinds.workflows.shape import program_of, workflow_shape
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.model import Record, Values
from bricola.core.shapes.narrowing import narrowed, required, taken


def _resolve(operation: Operation, definition: WorkflowDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    program = program_of(definition, catalogue, form)
    if operation.verb == STATUS or operation.verb == RESULT:
        return _asking(operation, definition, program, catalogue, place, form)
    whole = _whole(operation, definition, program, place)
    if operation.verb == NOW or definition.answers == "now":
        return whole
    return replace(whole, shape=accepting_shape(whole.shape, definition.answers))


def _asking(operation: Operation, definition: WorkflowDefinition, program: Program, catalogue: Catalogue, place: str,
            form: Form) -> ResolvedOperation:
    """What tells of the jobs of a workflow."""
    if definition.answers != "later":
        raise ProblemError(Problem("workflow.no-job", f"The workflow {definition.name} makes no jobs that are asked for.",
                                   place=f"{place}, runs", expected="answers: later", found=f"answers: {definition.answers}"))
    if operation.verb == STATUS:
        shape = status_shape(operation.name, operation.description)
    else:
        shape = result_shape(operation.name, _whole(operation, definition, program, place).shape, operation.description)
    return ResolvedOperation(shape, WORKFLOW, program, operation.verb)


def _whole(operation: Operation, definition: WorkflowDefinition, program: Program, place: str) -> ResolvedOperation:
    """An operation that answers when all steps are done."""
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
    definition = program.definition
    if operation.verb == STATUS:
        return Compiled(tell_status(definition), desk=True)
    if operation.verb == RESULT:
        return Compiled(tell_result(definition, operation.shape), desk=True, gives_result=True)
    binder = Binder(environment, pools)
    handle = compile_program(program, binder.block(program.block), binder.undoers)
    if operation.verb != NOW and definition.answers != "now":
        # Which outputs there are, the operation that gives the result says.
        job = Lasting(handle, program.input, program.output, _given(program.block))
        return Compiled(accept(definition, handle), True, job=job, desk=True, calls_back=definition.call_back)
    shown = {one.name for one in operation.shape.output.slots}
    hidden = [one.name for one in program.output.slots if one.name not in shown]
    # A repeat of a request that was cut off is not done again from what its steps stored: what it read may have changed since.
    return Compiled(_narrowed(handle, hidden) if hidden else handle, False, stops_when_left=definition.caller_leaves == "stop",
                    sees_caller=program.sees_call, tells_writes=definition.tells_writes)


def _given(block: Block) -> dict[str, Record]:
    """What calls give, by where they are written."""
    return {one.path: one.inner.shape.output for one in nodes_of(block) if isinstance(one, CallNode)}


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
    title="workflow", model=WorkflowDefinition, runs=RunsForm(verbs=VERBS), parts=_parts, needs=needs, backends=backends, resolve=_resolve,
    compile=_compile, probes=_probes, rules=RULES, findings=findings,
    companions=companions, hollow=hollow,
    entry=Entry("workflows", "steps that call, decide, repeat, map, answer or fail", "/workflows"),
)
