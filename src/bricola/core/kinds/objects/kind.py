"""Business objects: typed views on tables, with verbs and finders."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.bindings import marks_table, refuse_read_only
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.reads import compile_check, compile_finder, compile_get, object_probes
from bricola.core.kinds.objects.review import RULES, findings
from bricola.core.kinds.objects.shape import (
    VERBS,
    ResolvedObject,
    check_shape,
    finder_shape,
    get_shape,
    resolve_object,
)
from bricola.core.kinds.objects.write_probes import written
from bricola.core.kinds.objects.write_shape import NESTED, clearing, write_shape
from bricola.core.kinds.objects.writes import compile_write
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.narrowing import narrowed, required, taken
from bricola.core.sql.listing import item_name


def _resolve(operation: Operation, definition: ObjectDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    verb, finder = operation.verb, definition.finder(operation.verb)
    if finder is None and verb not in VERBS:
        offered = ", ".join([*VERBS, *(one.name for one in definition.finders)])
        raise ProblemError(Problem(
            "reference.verb", f"The object {definition.name} has no such operation or finder.", place=f"{place}, runs",
            expected=f"one of {offered}", found=shown(verb),
        ))
    source = resolve_object(definition, catalogue)
    if finder is not None:
        shape = finder_shape(operation, source, finder, narrowed(operation, source.row, place))
    elif verb == "get":
        shape = get_shape(operation, source, narrowed(operation, source.row, place))
    elif verb == "check":
        shape = check_shape(operation, source)
    else:
        shape = write_shape(operation, verb, source, form)
    if operation.gives and finder is None and verb != "get":
        raise ProblemError(
            Problem("operation.gives", "What a write or a check answers is fixed.", place=f"{place}, gives", mend="Take 'gives:' out.")
        )
    nests = verb in NESTED and finder is None  # the row stands in an element of its own
    hidden, elements = taken(operation, shape.input.elements, place, () if nests else required(shape.input.elements))
    given, elements = apply_parameters(operation, elements, place, hidden)
    if verb == "update" and finder is None and form.empties_by_name:
        elements += clearing(elements, source)
    nested = item_name(source.row) if nests else ""
    message = Record(operation.name, elements)
    if nested:
        message = Record(operation.name, (Element(nested, Record(f"{operation.name}Input", elements)),))
    return ResolvedOperation(replace(shape, input=message), OBJECT, source, verb, (definition.backend,), given, nested)


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    source: ResolvedObject = operation.source
    backend = source.definition.backend
    pool, finder = pools[backend], source.definition.finder(operation.verb)
    if finder is not None:
        return Compiled(compile_finder(operation, source, finder, pool), leaves_queue=True)
    if operation.verb == "get":
        return Compiled(compile_get(operation, source, pool), leaves_queue=True)
    if operation.verb == "check":
        return Compiled(compile_check(operation, source, pool), leaves_queue=True)
    refuse_read_only(operation.shape.name, backend, environment)
    requests = marks_table(backend, environment)
    return Compiled(compile_write(operation, source, pool, requests), bool(requests), leaves_queue=True)


def _probes(operation: ResolvedOperation) -> Sequence[Probe]:
    source: ResolvedObject = operation.source
    writing = source.definition.finder(operation.verb) is None and operation.verb not in ("get", "check")
    writes, holds = written(operation, source) if writing else ([], [])
    return object_probes(source, writes, holds)


def _needs(definition: ObjectDefinition) -> Iterable[Reference]:
    names = (*(one.object for one in definition.children), *(one.refers_to for one in definition.fields if one.refers_to))
    return [(ObjectDefinition.kind, name) for name in names]


OBJECT = SourceKind(
    title="object", model=ObjectDefinition, runs=RunsForm(bare=True, verbs=None, default=""),
    parts=lambda definition: definition.fields, needs=_needs, backends=lambda definition, catalogue: (definition.backend,),
    resolve=_resolve, compile=_compile, probes=_probes, runs_on=Family.DATABASE, rules=RULES, findings=findings,
    verbs=lambda definition: (*VERBS, *(one.name for one in definition.finders)),
    entry=Entry("objects", "a typed view on tables, with its finders and writes", "/definitions/objects"),
)
