"""What the review says of objects."""

from collections.abc import Iterator
from dataclasses import dataclass

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.kinds.kind import Subject
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.write_shape import NESTED

_LARGE_PAGE = 1000
_PERSONAL = ("email", "mail", "phone", "mobile", "iban", "birth", "password", "secret", "passport", "salary")
_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("reference.object", Area.SERVICE, _E, "What an operation runs must exist."),
    Rule("reference.verb", Area.SERVICE, _E, "An object offers its verbs and its finders, a query its rows and its details."),
    Rule("object.key", Area.SERVICE, _E, "Rows are read by the key, so its fields must be fields of the object."),
    Rule("object.column", Area.SERVICE, _W, "Two fields that read one column show the same value under two names."),
    Rule("object.change-token", Area.SERVICE, _H, "Without a change token a caller cannot tell that a row has changed."),
    Rule("object.parent", Area.SERVICE, _E,
         "A joined field needs the parent that it is joined from, found by fields of the object itself."),
    Rule("object.child", Area.SERVICE, _E, "Children are rows of another object of the same backend, matched field by field."),
    Rule("object.grandchildren", Area.SERVICE, _E, "What belongs to the rows of a child would be left out, without a word to anybody."),
    Rule("object.sensitive", Area.SERVICE, _H, "What is marked once is masked in tests, traces and comparisons.", True),
    Rule("object.never-filled", Area.SERVICE, _H, "A field that is listed and never has a value misleads callers."),
    Rule("object.unfit", Area.ENVIRONMENT, _W, "A row with a value that breaks the contract fails every page that it stands on."),
    Rule("finder.name", Area.SERVICE, _E, "The names of the verbs, like get and create, always mean the same."),
    Rule("finder.field", Area.SERVICE, _E, "A finder compares and orders by fields of its object."),
    Rule("finder.filter-name", Area.SERVICE, _E, "`limit` and `after` are inputs that every finder has."),
    Rule("finder.limit", Area.SERVICE, _E, "The default page cannot be larger than the largest."),
    Rule("finder.compare", Area.SERVICE, _E, "A part of a number or of a date is no comparison that databases agree on."),
    Rule("finder.must-exist", Area.SERVICE, _E, "Only the key of an object can be looked for."),
    Rule("finder.unfiltered", Area.SERVICE, _H, "Without a filter every caller walks through all rows."),
    Rule("finder.large-page", Area.SERVICE, _W, "A page of more than 1,000 rows holds memory and sessions for long."),
    Rule("finder.unused", Area.SERVICE, _H, "A finder that no operation runs was meant to be published, or can go."),
    Rule("operation.required", Area.SERVICE, _E, "A row without a required value is refused by the table, at the first call.", True),
)
finding = RULES.finding


@dataclass(frozen=True)
class EmptyFields:
    """(object, field) that had no value in any of the first rows that were looked at."""

    fields: frozenset[tuple[str, str]] = frozenset()
    rows_looked_at: int = 0
    unfit: tuple["UnfitRow", ...] = ()


@dataclass(frozen=True)
class UnfitRow:
    """A stored row with a value that the contract of its object does not allow: the first one for each field."""

    object: str
    field: str
    key: str
    expected: str
    found: str


def findings(subject: Subject) -> Iterator[Finding]:
    measured = subject.facts.of_kind.get(ObjectDefinition.kind) or EmptyFields()
    for definition, operations in subject.sources(ObjectDefinition):
        yield from _object(definition, operations, measured)
        for one in operations:
            if one.verb in NESTED and definition.finder(one.verb) is None:
                yield from _required(subject.service, one, definition)


def _object(definition: ObjectDefinition, operations: list[Operation], measured: EmptyFields) -> Iterator[Finding]:
    place = f"object {definition.name}"
    columns: dict[tuple[str, str], str] = {}
    for one in definition.fields:
        other = columns.setdefault((one.parent, one.column_name), one.name)
        if other != one.name:
            yield finding("object.column", "Two fields read one column.", f"{place}, fields, {one.name}",
                          found=f"{one.column_name}, as {other} does", mend="Correct 'column:', or remove one field.")
        if not one.sensitive and any(word in one.name.lower() for word in _PERSONAL):
            fields = tuple(two.model_copy(update={"sensitive": True}) if two.name == one.name else two for two in definition.fields)
            yield finding("object.sensitive", f"{one.name} looks like something private.", f"{place}, fields, {one.name}",
                          mend="Mark it 'sensitive: true', so that it is masked wherever people look on.",
                          mended=definition.model_copy(update={"fields": fields}))
        shown = any(not two.gives or one.name in two.gives for two in operations)
        if shown and (definition.name, one.name) in measured.fields:
            yield finding(
                "object.never-filled",
                f"No row has a value in {one.name}.",
                f"{place}, fields, {one.name}",
                expected="a value in some row",
                found=f"none in the first {measured.rows_looked_at:,} rows of the column {one.column_name}",
                mend="Correct 'column:', or leave the field out of what the operations give.",
            )
    for row in measured.unfit:
        if row.object == definition.name:
            yield finding("object.unfit", f"A stored row has a value of {row.field} that breaks the contract: the one with {row.key}.",
                          f"{place}, fields, {row.field}", expected=row.expected, found=row.found,
                          mend="Correct the row, or the type of the field; or let finders leave such rows out with 'unfit: left-out'.")
    if not definition.change_token:
        yield finding("object.change-token", f"{definition.name} has no change token.", place,
                      mend="Name a column that changes with every write: 'change_token: row_version', or use '{hash: row}'.")
    used = {one.verb for one in operations}
    for finder in definition.finders:
        where = f"{place}, finders, {finder.name}"
        if finder.name not in used:
            yield finding("finder.unused", f"No operation runs {definition.name}.{finder.name}.", where,
                          mend=f"Publish it: 'runs: {definition.name}.{finder.name}', or remove it.")
        elif not finder.filters:
            yield finding("finder.unfiltered", "The finder has no filters and lists every row.", where)
        if finder.limit.most > _LARGE_PAGE:
            yield finding("finder.large-page", "A page may be very large.", f"{where}, limit", expected=f"most up to {_LARGE_PAGE}",
                          found=str(finder.limit.most))


def _required(service: ServiceDefinition, operation: Operation, definition: ObjectDefinition) -> Iterator[Finding]:
    """What the table needs and an operation that makes rows neither takes nor gives."""
    if not operation.takes:
        return
    given = {*operation.takes, *(one.name for one in operation.input)}
    for one in definition.fields:
        if one.required and one.writable and one.default is None and one.name not in given:
            takes = (*operation.takes, one.name)
            operations = tuple(two.model_copy(update={"takes": takes}) if two.name == operation.name else two for two in service.operations)
            yield finding(
                "operation.required",
                f"{operation.name} gives no {one.name}, which every row needs.",
                f"service {service.name}, {operation.name}, takes",
                expected=f"{one.name} taken, fixed, defaulted or from the context",
                mend=f"Take {one.name}, or give it under 'input:'.",
                mended=service.model_copy(update={"operations": operations}),
            )
