"""Queries: a SELECT with prompts, published as rows or groups, and as the rows behind them."""

from collections.abc import Sequence

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind
from bricola.core.kinds.queries.definition import QueryDefinition
from bricola.core.kinds.queries.handlers import compile_query, query_probe
from bricola.core.kinds.queries.review import RULES, findings
from bricola.core.kinds.queries.shape import DETAILS, ResolvedQuery, details_shape, query_inputs, query_shape, resolve_query
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import apply_parameters
from bricola.core.shapes.narrowing import narrowed, required, taken


def _resolve(operation: Operation, definition: QueryDefinition, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    source = resolve_query(definition, catalogue)
    drill = operation.verb == DETAILS
    row = narrowed(operation, source.details if drill else source.groups, place)
    inputs = query_inputs(source, catalogue, drill)
    hidden, inputs = taken(operation, inputs, place, required(inputs))
    given, inputs = apply_parameters(operation, inputs, place, hidden)
    shape = (details_shape if drill else query_shape)(operation, source, row, inputs)
    return ResolvedOperation(shape, QUERY, source, operation.verb, (definition.backend,), given)


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    source: ResolvedQuery = operation.source
    return Compiled(compile_query(operation, source, pools[source.definition.backend]), leaves_queue=True)


def _probes(operation: ResolvedOperation) -> Sequence[Probe]:
    return (query_probe(operation.source),)


QUERY = SourceKind(
    title="query", model=QueryDefinition, runs=RunsForm(verbs=(DETAILS,), default="rows"),
    parts=lambda definition: (*definition.prompts, *definition.columns, *definition.measures),
    backends=lambda definition, catalogue: (definition.backend,),
    resolve=_resolve, compile=_compile, probes=_probes, runs_on=Family.DATABASE, rules=RULES, findings=findings,
    entry=Entry("queries", "a SELECT with prompts, as rows, groups and totals"),
)
