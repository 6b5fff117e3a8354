"""Programs: COBOL, and whatever else takes a record that a copybook lays out."""

from collections.abc import Iterable, Sequence

from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.copybooks import CopybookDefinition
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition, Operation
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.bindings import refuse_read_only
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.programs.definition import ProgramDefinition
from bricola.core.kinds.programs.handlers import CARRIERS, compile_program
from bricola.core.kinds.programs.review import RULES, findings
from bricola.core.kinds.programs.shape import ResolvedProgram, program_shape, resolve_program
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.model import Record
from bricola.core.shapes.narrowing import narrowed, required, taken


def _resolve(operation: Operation, definition: ProgramDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    backend = _backend(definition, catalogue)
    if backend.about.family is not Family.PROGRAM_HOST and len(definition.areas) > 1:
        raise ProblemError(Problem("program.areas", "Only a program host passes several areas.", place=f"program {definition.name}, areas",
                                   expected="one area", found=f"{len(definition.areas)} areas"))
    source = resolve_program(definition, catalogue)
    elements = tuple(one.element for one in source.inputs)
    hidden, inputs = taken(operation, elements, place, required(elements))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    outputs = narrowed(operation, Record("", tuple(one.element for one in source.outputs)), place).elements
    shape = program_shape(operation, source, inputs, outputs)
    return ResolvedOperation(shape, PROGRAM, (source, backend.about.family), operation.verb, (definition.backend,), given)


def _backend(definition: ProgramDefinition, catalogue: Catalogue) -> BackendDefinition:
    backend = catalogue.find_backend(definition.backend)
    if backend is None or backend.about.family not in CARRIERS:
        raise ProblemError(Problem(
            "program.backend", "The program needs a backend that takes records.", place=f"program {definition.name}, backend",
            expected="a program host, an HTTP service or a folder", found=shown(definition.backend)))
    return backend


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    source: ResolvedProgram
    source, family = operation.source
    if source.definition.writes:
        refuse_read_only(operation.shape.name, source.definition.backend, environment)
    return Compiled(compile_program(operation, source, pools[source.definition.backend], family), leaves_queue=True)


def _probes(operation: ResolvedOperation) -> Sequence[Probe]:
    return (Probe(operation.backends[0]),)


def _needs(definition: ProgramDefinition) -> Iterable[Reference]:
    return ((CopybookDefinition.kind, one.copybook) for one in definition.areas)


PROGRAM = SourceKind(
    title="program", model=ProgramDefinition, runs=RunsForm(default="call"),
    parts=lambda definition: (*definition.input, *definition.output), needs=_needs,
    backends=lambda definition, catalogue: (definition.backend,),
    resolve=_resolve, compile=_compile, probes=_probes, runs_on=Family.PROGRAM_HOST, rules=RULES, findings=findings,
    entry=Entry("programs", "a COBOL program, called with a record that a copybook lays out"),
)
