"""Screen flows: walks through the screens of a terminal host."""

from collections.abc import Sequence

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.bindings import refuse_read_only
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.handlers import compile_flow
from bricola.core.kinds.screens.review import RULES, findings
from bricola.core.kinds.screens.shape import ResolvedFlow, flow_shape, resolve_flow
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.model import Record
from bricola.core.shapes.narrowing import narrowed, required, taken


def _resolve(operation: Operation, definition: ScreenFlowDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    source = resolve_flow(definition, catalogue)
    hidden, inputs = taken(operation, source.inputs, place, required(source.inputs))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    outputs = narrowed(operation, Record("", source.outputs), place).elements
    shape = flow_shape(operation, source, inputs, outputs)
    return ResolvedOperation(shape, SCREEN_FLOW, source, operation.verb, (definition.backend,), given)


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    source: ResolvedFlow = operation.source
    if source.definition.writes:
        refuse_read_only(operation.shape.name, source.definition.backend, environment)
    # Nothing is lost by a read that ends in the middle: the session finds its way back.
    return Compiled(compile_flow(operation, source, pools[source.definition.backend]), stops_when_left=not source.definition.writes,
                    leaves_queue=True)


def _probes(operation: ResolvedOperation) -> Sequence[Probe]:
    source: ResolvedFlow = operation.source
    return (Probe(source.definition.backend),)


SCREEN_FLOW = SourceKind(
    title="screen flow", model=ScreenFlowDefinition, runs=RunsForm(default="walk"),
    parts=lambda definition: (*definition.input, *definition.output), backends=lambda definition, catalogue: (definition.backend,),
    resolve=_resolve, compile=_compile, probes=_probes, runs_on=Family.TERMINAL_HOST, rules=RULES, findings=findings,
    entry=Entry("screen flows", "a recorded walk through the screens of a terminal host", "/screens"),
)
