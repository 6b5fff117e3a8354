"""Routines: procedures and functions of a database."""

from collections.abc import Sequence
from functools import partial

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.bindings import marks_table, refuse_read_only
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.routines.comparing import unfit
from bricola.core.kinds.routines.definition import RoutineDefinition
from bricola.core.kinds.routines.handlers import compile_routine
from bricola.core.kinds.routines.review import RULES, findings
from bricola.core.kinds.routines.shape import ResolvedRoutine, all_outputs, resolve_routine, routine_shape
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.model import Record
from bricola.core.shapes.narrowing import narrowed, required, taken
from bricola.core.sql.statements import table_name


def _resolve(operation: Operation, definition: RoutineDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    source = resolve_routine(definition, catalogue)
    hidden, inputs = taken(operation, source.inputs, place, required(source.inputs))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    outputs = narrowed(operation, Record("", all_outputs(source)), place).elements
    shape = routine_shape(operation, source, inputs, outputs)
    return ResolvedOperation(shape, ROUTINE, source, operation.verb, (definition.backend,), given)


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    source: ResolvedRoutine = operation.source
    definition = source.definition
    requests = ""
    if definition.writes:
        refuse_read_only(operation.shape.name, definition.backend, environment)
        # A mark stands and falls with the write; one that is committed apart from it would prove nothing.
        requests = marks_table(definition.backend, environment) if definition.transaction == "joins" else ""
    return Compiled(compile_routine(operation, source, pools[definition.backend], requests), bool(requests), leaves_queue=True)


def _probes(operation: ResolvedOperation) -> Sequence[Probe]:
    """A database reads no call without running it, so its catalogue is asked."""
    source: ResolvedRoutine = operation.source
    definition = source.definition
    right = f"EXECUTE ON {definition.form.upper()} {table_name(definition.calls)}"
    return (Probe(definition.backend, place=f"routine {definition.name}", grants=(right,), calls=definition.calls,
                  routine=partial(unfit, definition), marked=definition.writes and definition.transaction == "joins"),)


ROUTINE = SourceKind(
    title="routine", model=RoutineDefinition, runs=RunsForm(default="call"),
    parts=lambda definition: (*definition.input, *definition.output, *(column for one in definition.rows for column in one.columns)),
    backends=lambda definition, catalogue: (definition.backend,),
    resolve=_resolve, compile=_compile, probes=_probes, runs_on=Family.DATABASE, rules=RULES, findings=findings,
    entry=Entry("routines", "a procedure or function of a database, with its parameters and results"),
)
