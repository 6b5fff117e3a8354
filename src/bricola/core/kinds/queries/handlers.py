"""Handlers of queries: the SELECT stands as it was written, around it what groups, filters, orders and bounds its rows."""

from collections.abc import Callable, Mapping
from datetime import timedelta
from decimal import ROUND_HALF_EVEN, Decimal
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.definitions.engines.engine import Dialect
from bricola.core.kinds.kind import Probe, ResolvedOperation
from bricola.core.kinds.queries.definition import Measure
from bricola.core.kinds.queries.shape import DETAILS, ResolvedQuery
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Element, Record, Values
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.listing import ordering
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import DatabasePool, read
from bricola.core.sql.statements import Clauses, Keyset, Where, comparison, placeholder, quoted

_ROWS = '"q"'
_MEAN_PLACES = 10
_FUNCTIONS = {"sum": "SUM", "least": "MIN", "greatest": "MAX", "mean": "AVG"}


class _Select:
    """The SELECT with its prompts as parameters, and the clauses of the filters around it."""

    def __init__(self, source: ResolvedQuery, more: Mapping[str, Clauses]) -> None:
        definition = source.definition
        self._prompts = [one.text for one in source.pieces if one.is_prompt]
        decimals = {one.name for one in definition.prompts if one.type == "decimal"}
        self._next_day = {one.name for one in definition.prompts if one.binds == "next-day"}
        inner = "".join(
            _placeholder(one.text, one.text in decimals, source.dialect) if one.is_prompt else one.text for one in source.pieces)
        self.columns = {one.name: f"{_ROWS}.{quoted(one.column_name)}" for one in definition.columns}
        self.elements = {one.name: one for one in source.details.elements}
        self.rows = f"FROM ({inner}) AS {_ROWS}"
        self.tests = tests = [
            (one.name, comparison(self.columns[one.field], one, self.elements[one.field], source.dialect)) for one in definition.filters
        ]
        self._where = Where([*tests, *more.items()])
        self.utc = frozenset(one.name for one in definition.columns if one.zone == "utc")

    def bind(self, given: Values) -> list[Any]:
        return [given[name] + timedelta(days=1) if name in self._next_day else given[name] for name in self._prompts]

    def filtered(self, given: Values) -> tuple[list[str], list[Any]]:
        clauses, parameters = self._where.clauses(given)
        return clauses, self.bind(given) + parameters


def _placeholder(name: str, is_decimal: bool, dialect: Dialect) -> str:
    return "CAST(? AS NUMERIC)" if is_decimal and dialect.casts_decimals else "?"


def parts_of_query(source: ResolvedQuery, given: Mapping[str, Any]) -> tuple[str, list[Any], list[tuple[str, str, Clauses]]]:
    """The rows of a query as the FROM of a statement, with the values of its prompts and its filters: input, field, clause."""
    select = _Select(source, {})
    fields = {one.name: one.field for one in source.definition.filters}
    return select.rows.removeprefix("FROM "), select.bind(dict(given)), [(name, fields[name], make) for name, make in select.tests]


def compile_query(operation: ResolvedOperation, source: ResolvedQuery, pool: DatabasePool) -> Handler:
    """The handler of an operation that runs a query."""
    return _compile_details(operation, source, pool) if operation.verb == DETAILS else _compile_rows(operation, source, pool)


def _compile_rows(operation: ResolvedOperation, source: ResolvedQuery, pool: DatabasePool) -> Handler:
    definition = source.definition
    select = _Select(source, {})
    wanted = source.groups.elements
    if definition.groups:
        places = {name: select.columns[name] for name in definition.groups}
        columns = {one.name: one for one in source.details.elements}
        places |= {one.name: _aggregate(one, select.columns, columns) for one in definition.measures}
        group_by = f" GROUP BY {', '.join(select.columns[name] for name in definition.groups)}"
    else:
        places, group_by = select.columns, ""
    head = f"SELECT {', '.join(places[one.name] for one in wanted)} {select.rows}"
    order = ordering(definition.order, definition.groups or definition.key)
    tail = group_by + Keyset(order, places, {one.name: one for one in wanted}, source.dialect, "").order_by() + " LIMIT ?"
    to_values = compile_row(wanted, select.utc)
    rounded = {one.name: _rounding(one.name, wanted) for one in definition.measures if one.of == "mean"}
    totals = [(one.name, one.sum, _zero(source.groups, one.sum)) for one in definition.totals]
    most, name = definition.most_rows, operation.shape.name

    async def rows(call: Call, given: Values) -> Values:
        clauses, parameters = select.filtered(given)
        where = f" WHERE {' AND '.join(clauses)}" if clauses else ""
        found = [to_values(row) for row in await read(pool, call, head + where + tail, [*parameters, most + 1])]
        if len(found) > most:
            raise ProblemError(Problem("query.too-many", "The query gives more rows than one answer holds.", Kind.TOO_LARGE, place=name,
                                       expected=f"at most {most} rows", mend="Narrow the inputs."))
        for column, adjust in rounded.items():
            for one in found:
                one[column] = adjust(one[column])
        answer: Values = {"row": found}
        for total, column, zero in totals:
            answer[total] = sum((one[column] for one in found if one[column] is not None), zero)
        return answer

    return rows


def _aggregate(measure: Measure, columns: Mapping[str, str], elements: Mapping[str, Element]) -> str:
    if measure.of == "count":
        return f"COUNT({columns[measure.column] if measure.column else '*'})"
    place = columns[measure.column]
    kind = elements[measure.column].type
    if measure.of == "mean" and isinstance(kind, SimpleType) and kind.primitive.python in (int, Decimal):
        # Some engines give a mean a few places more than its column has, and drop the others.
        place = f"CAST({place} AS DECIMAL(38,{max(measure.fraction or 0, kind.fraction or 0) + _MEAN_PLACES}))"
    return f"{_FUNCTIONS[measure.of]}({place})"


def _rounding(name: str, elements: tuple[Element, ...]) -> Callable[[Any], Any]:
    """A mean has as many places as its type says, and up to ten where it does not say."""
    kind = next(one.type for one in elements if one.name == name)
    if not isinstance(kind, SimpleType) or kind.primitive.python is not Decimal:
        return lambda value: value
    told = kind.fraction
    places = Decimal(1).scaleb(-(_MEAN_PLACES if told is None else told))

    def rounded(value: Any) -> Any:
        if value is None:
            return None
        exact = Decimal(repr(value) if value.__class__ is float else value).quantize(places, ROUND_HALF_EVEN)
        return exact if told is not None else Decimal(f"{exact.normalize():f}")

    return rounded


def _zero(groups: Record, name: str) -> Any:
    kind = next(one.type for one in groups.elements if one.name == name)
    if isinstance(kind, SimpleType) and kind.primitive.python is Decimal:
        return Decimal(0).quantize(Decimal(1).scaleb(-(kind.fraction or 0)))
    return 0


def _compile_details(operation: ResolvedOperation, source: ResolvedQuery, pool: DatabasePool) -> Handler:
    definition = source.definition
    columns = {one.name: one for one in source.details.elements}
    taken = {one.name for one in (*definition.prompts, *definition.filters)}
    drills = {name: _equal(f"{_ROWS}.{quoted(definition.column(name).column_name)}", columns[name], source.dialect)  # type: ignore[union-attr]
              for name in definition.groups if name not in taken}
    select = _Select(source, drills)
    item = operation.shape.output.elements[0]
    assert isinstance(item.type, Record)
    wanted = tuple(one for one in source.details.elements if one in item.type.elements or one.name in definition.key)
    head = f"SELECT {', '.join(select.columns[one.name] for one in wanted)} {select.rows}"
    keyset = Keyset(definition.key, select.columns, columns, source.dialect, f"{definition.name}.details")
    tail = f"{keyset.order_by()} LIMIT ?"
    to_values = compile_row(wanted, select.utc)
    place = f"{operation.shape.name}/after"

    async def details(call: Call, given: Values) -> Values:
        limit = given["limit"]
        clauses, parameters = select.filtered(given)
        if "after" in given:
            clause, bound = keyset.beyond(given["after"], place)
            clauses.append(clause)
            parameters += bound
        where = f" WHERE {' AND '.join(clauses)}" if clauses else ""
        rows = await read(pool, call, head + where + tail, [*parameters, limit + 1])
        return keyset.page("row", [to_values(row) for row in rows[:limit]], len(rows) > limit)

    return details


def _equal(expression: str, element: Element, dialect: Dialect) -> Clauses:
    mark = placeholder(element, dialect)
    return lambda value: (f"{expression} = {mark}", [value])


def query_probe(source: ResolvedQuery) -> Probe:
    """A statement that reads nothing, and fails where the SELECT does not fit the database. Prompts are NULL in it."""
    definition = source.definition
    inner = "".join("NULL" if one.is_prompt else one.text for one in source.pieces)
    columns = ", ".join(f"{_ROWS}.{quoted(one.column_name)}" for one in definition.columns)
    select = f"SELECT {columns} FROM ({inner}) AS {_ROWS}"
    return Probe(definition.backend, f"{select} WHERE 1 = 0", definition.name, "", f"{select} LIMIT 1", f"query {definition.name}, columns",
                 tuple(source.details.elements), source.dialect)
