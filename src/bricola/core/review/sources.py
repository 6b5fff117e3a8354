"""Findings about the objects and queries that a service publishes."""

from collections.abc import Iterator

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.objects import ObjectDefinition, ordered_field
from bricola.core.definitions.queries import QueryDefinition
from bricola.core.review.findings import Facts, Finding, finding
from bricola.core.shapes.writing import NESTED

_LARGE_PAGE = 1000
_PERSONAL = ("email", "mail", "phone", "mobile", "iban", "birth", "password", "secret", "passport", "salary")


def findings(catalogue: Catalogue, service: ServiceDefinition, facts: Facts) -> Iterator[Finding]:
    sources = dict.fromkeys(one.source for one in service.operations)
    for kind, name in sources:
        operations = [one for one in service.operations if one.source == (kind, name)]
        if kind == "object" and (found := catalogue.find_object(name)) is not None:
            yield from _object(found, operations, facts)
        elif kind == "query" and (query := catalogue.find_query(name)) is not None:
            yield from _query(query, operations)
    for one in service.operations:
        source = catalogue.find_source(one)
        if isinstance(source, ObjectDefinition) and one.verb in NESTED:
            yield from _required(service, one, source)


def _object(definition: ObjectDefinition, operations: list[Operation], facts: Facts) -> Iterator[Finding]:
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
        if shown and (definition.name, one.name) in facts.empty_fields:
            yield finding(
                "object.never-filled",
                f"No row has a value in {one.name}.",
                f"{place}, fields, {one.name}",
                expected="a value in some row",
                found=f"none in the first {facts.rows_looked_at:,} rows of the column {one.column_name}",
                mend="Correct 'column:', or leave the field out of what the operations give.",
            )
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


def _query(definition: QueryDefinition, operations: list[Operation]) -> Iterator[Finding]:
    if not definition.groups or any(one.verb == "details" for one in operations):
        return
    used = {*definition.groups, *definition.key, *(one.field for one in definition.filters), *(one.column for one in definition.measures),
            *(ordered_field(one)[0] for one in definition.order)}
    for one in definition.columns:
        if one.name not in used:
            yield finding("query.unused-column", f"Nothing uses the column {one.name}.", f"query {definition.name}, columns, {one.name}",
                          mend=f"Publish the details: 'runs: query {definition.name}.details', or remove the column.")
