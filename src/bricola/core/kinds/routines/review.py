"""What the review says of routines. Most of it is found when one is resolved: see `shape`."""

from collections.abc import Iterator

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.kinds.kind import Subject
from bricola.core.kinds.routines.definition import RoutineDefinition
from bricola.core.kinds.routines.shape import ResolvedRoutine, resolve_routine
from bricola.core.problems import ProblemError
from bricola.core.shapes.primitives import TEXT_TYPES
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.types import column_type

_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("reference.routine", Area.SERVICE, _E, "What an operation runs must exist."),
    Rule("routine.backend", Area.SERVICE, _E, "A routine is a procedure or function of a database server."),
    Rule("routine.parameter", Area.SERVICE, _E, "Inputs and outputs are parameters of the routine."),
    Rule("routine.unfilled", Area.SERVICE, _E, "A call gives every parameter that the database has no default for."),
    Rule("routine.twice", Area.SERVICE, _E, "One value goes to one parameter."),
    Rule("routine.simple", Area.SERVICE, _E, "A parameter is one value of a simple type."),
    Rule("routine.form", Area.SERVICE, _E, "A function returns one value, or rows; a procedure has parameters that come out."),
    Rule("routine.fault", Area.SERVICE, _E, "A fault is told by an error of the routine, or by a value that comes out."),
    Rule("routine.says", Area.SERVICE, _E, "What an error says is found by a regular expression."),
    Rule("routine.silent", Area.SERVICE, _H, "What a routine refuses and no fault declares callers get as a general error."),
    Rule("routine.room", Area.SERVICE, _W, "The contract lets in only what the parameter holds; some databases cut the rest in silence."),
    Rule("routine.own", Area.SERVICE, _W, "What a routine commits by itself cannot be tried, nor told from a repeated request."),
)


def findings(subject: Subject) -> Iterator[Finding]:
    for definition in subject.needed.all_of(RoutineDefinition):
        place = f"routine {definition.name}"
        if not definition.faults:
            yield RULES.finding("routine.silent", f"Nothing that {definition.calls} raises is declared.", f"{place}, faults",
                                mend="Declare what it refuses by its SQLSTATE or its words.")
        if definition.transaction == "own" and definition.writes:
            yield RULES.finding("routine.own", f"{definition.calls} ends transactions by itself.", f"{place}, transaction",
                                mend="Say 'transaction: joins' if it does not.")
        try:
            source = resolve_routine(definition, subject.catalogue)
        except ProblemError:
            continue  # told where it is resolved
        yield from _narrow(source, place)


def _narrow(source: ResolvedRoutine, place: str) -> Iterator[Finding]:
    """Inputs whose types let in what their parameters do not hold."""
    declared = {one.name: one.declared for one in source.definition.parameters}
    for part, element in zip(source.definition.input, source.inputs, strict=True):
        kind, there = element.type, column_type(declared.get(part.parameter_name, ""))
        if not isinstance(kind, SimpleType) or kind.codes:
            continue
        for facet in ("max_length",) if kind.base in TEXT_TYPES else ("digits", "fraction") if kind.base == "decimal" else ():
            most = there.facets.get(facet)
            own = kind.length if facet == "max_length" and kind.length is not None else getattr(kind, facet)
            if isinstance(most, int) and (own is None or own > most) and not (facet == "max_length" and kind.pattern):
                yield RULES.finding("routine.room", f"The type lets in more than {declared[part.parameter_name]} holds.",
                                    f"{place}, input, {part.name}", expected=f"{facet}: {most}",
                                    found=f"{facet}: {own}" if own is not None else f"no {facet}", mend=f"Add '{facet}: {most}'.")
