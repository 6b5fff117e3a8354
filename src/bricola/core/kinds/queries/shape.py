"""What a query takes and gives: its rows or groups with totals, and the rows behind them."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Dialect
from bricola.core.definitions.model import Operation
from bricola.core.definitions.parts import label_texts
from bricola.core.kinds.queries.definition import Measure, QueryDefinition
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, OperationShape, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_elements
from bricola.core.sql.listing import PAGE_OUTPUTS, dialect_of, filter_element, filter_mistakes, item_name, ordering, page_inputs
from bricola.core.sql.text import SqlPiece, read_sql

DETAILS = "details"  # the verb for the rows behind the groups
_PAGE, _MOST_PAGE = 50, 1000
_SUMMED = ("sum", "mean")


@dataclass(frozen=True)
class ResolvedQuery:
    """A query with its SELECT taken apart, its columns, and the row of its groups (of its columns where it has none)."""

    definition: QueryDefinition
    dialect: Dialect
    pieces: tuple[SqlPiece, ...]
    details: Record
    groups: Record


def resolve_query(definition: QueryDefinition, catalogue: Catalogue) -> ResolvedQuery:
    """Raises ProblemError with everything that does not fit together."""
    place = f"query {definition.name}"
    prompts = {one.name: one for one in typed_elements(definition.prompts, catalogue, f"{place}, prompts")}
    columns = {one.name: one for one in typed_elements(definition.columns, catalogue, f"{place}, columns")}
    measures = {one.name: one for one in typed_elements(definition.measures, catalogue, f"{place}, measures")}
    pieces = read_sql(definition.select, f"{place}, select")
    problems = list(_mistakes(definition, prompts, columns, measures, pieces))
    if problems:
        raise ProblemError(*problems)
    details = Record(definition.record_name + ("Detail" if definition.groups else ""), tuple(columns.values()))
    grouped = (
        Record(definition.record_name, (*(columns[one] for one in definition.groups), *measures.values())) if definition.groups else details
    )
    return ResolvedQuery(definition, dialect_of(definition.backend, catalogue), pieces, details, grouped)


def _mistakes(definition: QueryDefinition, prompts: Mapping[str, Element], columns: Mapping[str, Element], measures: Mapping[str, Element],
              pieces: tuple[SqlPiece, ...]) -> Iterator[Problem]:
    place = f"query {definition.name}"
    used = {one.text for one in pieces if one.is_prompt}
    for name in sorted(used - set(prompts)):
        yield Problem("query.prompt", f"The SELECT takes :{name}, which is no prompt of the query.", place=f"{place}, select",
                      expected="a prompt under 'prompts:'", choices=tuple(prompts), found=f":{name}")
    for name in prompts:
        if name not in used:
            yield Problem("query.unused-prompt", f"The SELECT never says :{name}, so the prompt changes nothing.",
                          place=f"{place}, prompts, {name}", mend=f"Use :{name} in the SELECT, or remove the prompt.")
    for one in definition.prompts:
        kind = prompts[one.name].type
        if one.binds == "next-day" and (not isinstance(kind, SimpleType) or kind.base != "date"):
            yield Problem("query.binds", "Only a date has a next day.", place=f"{place}, prompts, {one.name}",
                          expected="type: date", found=one.type)
        if prompts[one.name].is_list or isinstance(kind, Record):
            yield Problem("query.prompt", "A prompt is one simple value.", place=f"{place}, prompts, {one.name}",
                          mend="Use a filter with 'compare: one-of'.")
    yield from filter_mistakes(definition.filters, (), columns, f"{place}, filters")
    for name in (one.name for one in definition.filters):
        if name in prompts:
            yield Problem("query.filter", "A prompt has this name already.", place=f"{place}, filters, {name}")
    for what, names in (("key", definition.key), ("groups", definition.groups)):
        for name in names:
            if name not in columns:
                yield Problem("query.column", "The query has no such column.", place=f"{place}, {what}",
                              choices=tuple(columns), found=shown(name))
    shown_names = {*definition.groups, *measures} if definition.groups else set(columns)
    for word in definition.order:
        if word.removesuffix(" descending") not in shown_names:
            yield Problem("query.column", "The rows have no such element to be ordered by.", place=f"{place}, order",
                          choices=tuple(sorted(shown_names)), found=shown(word))
    if definition.measures and not definition.groups:
        yield Problem(
            "query.measure",
            "Measures are of groups.",
            place=f"{place}, measures",
            mend="Name the columns that make a group under 'groups:'.",
        )
    for measure in definition.measures:
        yield from _measure_mistakes(measure, columns, measures[measure.name], f"{place}, measures, {measure.name}")
    elements = {**columns, **measures}
    for total in definition.totals:
        source = elements.get(total.sum) if total.sum in shown_names else None
        if source is None or not isinstance(source.type, SimpleType) or source.type.primitive.python not in (int, Decimal):
            yield Problem("query.total", "A total sums a whole or decimal number of the rows.", place=f"{place}, totals, {total.name}",
                          choices=tuple(sorted(shown_names)), found=shown(total.sum))


def _measure_mistakes(measure: Measure, columns: Mapping[str, Element], element: Element, place: str) -> Iterator[Problem]:
    if measure.of == "count":
        return
    source = columns.get(measure.column)
    if source is None:
        yield Problem("query.column", f"A {measure.of} needs a column.", place=place, choices=tuple(columns),
                      found=shown(measure.column) if measure.column else "nothing")
    elif measure.of in _SUMMED and isinstance(element.type, SimpleType) and element.type.primitive.python not in (int, float, Decimal):
        yield Problem("query.measure", f"A {measure.of} is a number.", place=place, expected="a number type", found=element.type.base)
    elif measure.of == "mean" and isinstance(element.type, SimpleType) and element.type.primitive.python is int:
        yield Problem("query.measure", "The mean of whole numbers has places.", place=place, expected="a decimal or a double",
                      found=element.type.base, mend="Say 'type: decimal', and with 'fraction:' how many places.")


def query_shape(operation: Operation, source: ResolvedQuery, row: Record, inputs: tuple[Element, ...]) -> OperationShape:
    """Rows or groups, all in one answer, with the totals over them."""
    definition = source.definition
    order = ordering(definition.order, definition.groups or definition.key)
    elements = {element.name: element for element in source.groups.elements}
    totals = tuple(_total(one.name, elements[one.sum], one.description) for one in definition.totals)
    output = Record(f"{operation.name}Response", (
        Element("row", row, 0, definition.most_rows, description=f"In the order of {', '.join(order)}"), *totals))
    return OperationShape(operation.name, Record(operation.name, inputs), output, (), operation.description or definition.description,
                          rows="row", keys=definition.groups or definition.key)


def details_shape(operation: Operation, source: ResolvedQuery, row: Record, inputs: tuple[Element, ...]) -> OperationShape:
    """The rows behind the groups, a page at a time."""
    definition = source.definition
    output = Record(f"{operation.name}Response", (
        Element("row", row, 0, None, description=f"In the order of {', '.join(definition.key)}"), *PAGE_OUTPUTS))
    words = operation.description or f"Lists the rows behind {item_name(source.groups)}."
    return OperationShape(operation.name, Record(operation.name, inputs), output, (), words,
                          rows=output.elements[0].name, keys=definition.key)


def query_inputs(source: ResolvedQuery, catalogue: Catalogue, drill: bool) -> tuple[Element, ...]:
    """The prompts and the filters; a drill-down also takes each column of a group that no filter compares already."""
    definition = source.definition
    columns = {element.name: element for element in source.details.elements}
    prompts = tuple(typed_elements(definition.prompts, catalogue, f"query {definition.name}, prompts"))
    filters = tuple(filter_element(one, columns[one.field]) for one in definition.filters)
    taken = {one.name for one in (*prompts, *filters)}
    groups = tuple(replace(columns[one], least=0) for one in definition.groups if one not in taken) if drill else ()
    return (*prompts, *filters, *groups, *(page_inputs(_PAGE, _MOST_PAGE) if drill else ()))


def _total(name: str, element: Element, description: str) -> Element:
    assert isinstance(element.type, SimpleType)  # looked at above
    wide = replace(element.type, digits=None, min=None, max=None, name="", base="decimal" if element.type.base == "decimal" else "integer")
    return Element(
        name, wide, description=description or f"The sum of {element.name} over all rows", labels=label_texts(""), unit=element.unit
    )
