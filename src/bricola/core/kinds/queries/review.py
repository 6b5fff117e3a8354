"""What the review says of queries."""

from collections.abc import Iterator

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import Operation
from bricola.core.kinds.kind import Subject
from bricola.core.kinds.queries.definition import QueryDefinition
from bricola.core.kinds.queries.shape import DETAILS
from bricola.core.sql.filters import ordered_field

_E, _H = Severity.ERROR, Severity.HINT

RULES = Rules(
    Rule("reference.query", Area.SERVICE, _E, "What an operation runs must exist."),
    Rule("query.sql", Area.SERVICE, _E, "A query is one SELECT that takes values by name; order and limit stand in the definition."),
    Rule("query.prompt", Area.SERVICE, _E, "Each :name of the SELECT is a prompt with a simple type."),
    Rule("query.unused-prompt", Area.SERVICE, _E, "A prompt that the SELECT never takes is an input without effect."),
    Rule("query.binds", Area.SERVICE, _E, "Only a date has a next day."),
    Rule("query.filter", Area.SERVICE, _E, "A prompt and a filter of one name would be one input with two meanings."),
    Rule("query.column", Area.SERVICE, _E, "Keys, groups, orders and measures are columns of the query."),
    Rule("query.measure", Area.SERVICE, _E, "A measure is worked out over the rows of a group."),
    Rule("query.total", Area.SERVICE, _E, "Only numbers of the rows can be summed."),
    Rule("query.unused-column", Area.SERVICE, _H, "A column that nothing shows or compares is read for nothing."),
)
finding = RULES.finding


def findings(subject: Subject) -> Iterator[Finding]:
    for definition, operations in subject.sources(QueryDefinition):
        yield from _query(definition, operations)


def _query(definition: QueryDefinition, operations: list[Operation]) -> Iterator[Finding]:
    if not definition.groups or any(one.verb == DETAILS for one in operations):
        return
    used = {*definition.groups, *definition.key, *(one.field for one in definition.filters), *(one.column for one in definition.measures),
            *(ordered_field(one)[0] for one in definition.order)}
    for one in definition.columns:
        if one.name not in used:
            yield finding("query.unused-column", f"Nothing uses the column {one.name}.", f"query {definition.name}, columns, {one.name}",
                          mend=f"Publish the details: 'runs: query {definition.name}.details', or remove the column.")
