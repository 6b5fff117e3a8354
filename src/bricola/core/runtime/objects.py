"""Handlers of object operations: SQL made once at deployment, values bound at the call.

Every statement is built from names in the definition, quoted; what a caller sends is only ever bound.
Reading by key is short and runs at once; finders run in the session's own worker thread.
"""

import base64
import binascii
import json
from collections.abc import Awaitable, Callable, Sequence
from contextlib import AbstractAsyncContextManager
from datetime import date, datetime, time
from decimal import Decimal
from functools import lru_cache
from typing import Any, Protocol

from bricola.core.definitions.model import Filter, Finder, ObjectDefinition
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.runtime.pool import Pool
from bricola.core.runtime.sessions import SessionLostError
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.resolve import ResolvedOperation, ordering
from bricola.core.shapes.simple import SimpleType

_READ_ATTEMPTS = 3  # with a session each; the pool checks the others of an endpoint that lost one

Values = dict[str, Any]
Handler = Callable[[Values], Awaitable[Values]]
Row = Sequence[Any]


class DatabaseSession(Protocol):
    """A session to a database. Statements have a question mark for each parameter. Both raise SessionLostError when
    the connection broke, and ProblemError when the database refuses."""

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[Row] | None:
        """The rows of a short indexed read, or None when it would have to wait."""
        ...

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[Row]: ...

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        """Inside a transaction; answers how many rows it changed. Raises ConstraintError for what a rule of the table forbids."""
        ...

    def transaction(self) -> AbstractAsyncContextManager[None]:
        """Committed when the block ends, rolled back when it raises. SessionLostError with `begun` False when nothing began."""
        ...

    @property
    def lock_clause(self) -> str:
        """What makes a SELECT hold its row until the transaction ends; empty where the transaction itself does."""
        ...


class ConstraintError(ProblemError):
    """A rule of the table forbids a write. `constraint` is unique, foreign, check or required."""

    def __init__(self, constraint: str, problem: Problem) -> None:
        super().__init__(problem)
        self.constraint = constraint


def compile_handler(operation: ResolvedOperation, pool: Pool[DatabaseSession]) -> Handler:
    """The handler of one object operation on the pool of its backend."""
    item = operation.shape.output.elements[0]
    assert isinstance(item.type, Record)  # resolve_service makes it so; what writes is compiled by `writes`
    if operation.finder is None:
        return _compile_get(operation.object, item, operation.fixed, pool)
    return _compile_finder(operation, operation.finder, item, pool)


def probe_statement(operation: ResolvedOperation) -> str:
    """A statement that reads nothing, and fails where the table or a column of the object is missing."""
    return f"{selection(operation.object, operation.row)[0]} WHERE 1 = 0"


def _compile_get(definition: ObjectDefinition, item: Element, fixed: Values, pool: Pool[DatabaseSession]) -> Handler:
    assert isinstance(item.type, Record)
    select, to_values = selection(definition, item.type)
    keys = definition.key
    where = " AND ".join(f"{column(definition, key)} = ?" for key in keys)
    sql = f"{select} WHERE {where}"
    name, label = item.name, f"{item.name} with {' and '.join(keys)}"

    async def get(values: Values) -> Values:
        given = fixed | values if fixed else values
        key = [bindable(given[one]) for one in keys]
        rows = await _read(pool, sql, key, at_once=True)
        if not rows:
            words = " and ".join(str(one) for one in key)
            raise DeclaredFaultError("NotFound", f"There is no {label} {words}.",
                                     {"message": f"There is no {label} {words}.", **{k: given[k] for k in keys}})
        return {name: to_values(rows[0])}

    return get


def _compile_finder(
    operation: ResolvedOperation, finder: Finder, item: Element, pool: Pool[DatabaseSession]
) -> Handler:
    definition, fixed = operation.object, operation.fixed
    assert isinstance(item.type, Record)
    select, to_values = selection(definition, item.type)
    order = ordering(definition, finder)
    columns = [column(definition, one) for one in order]
    order_by = f" ORDER BY {', '.join(columns)} LIMIT ?"
    beyond = f"({', '.join(columns)}) > ({', '.join('?' * len(columns))})"
    mark = f"{definition.name}.{finder.name}"
    tests = [(one.name, *_comparison(definition, one)) for one in finder.filters]
    place = f"{operation.shape.name}/after"
    name = item.name

    async def find(values: Values) -> Values:
        given = fixed | values if fixed else values
        limit = given["limit"]
        clauses: list[str] = []
        parameters: list[Any] = []
        for filter_name, clause, prepare in tests:
            value = given.get(filter_name)
            if value is not None:
                clauses.append(clause)
                parameters.append(prepare(value))
        if "after" in given:
            clauses.append(beyond)
            parameters += read_position(given["after"], mark, len(columns), place)
        sql = f"{select} WHERE {' AND '.join(clauses)}{order_by}" if clauses else select + order_by
        parameters.append(limit + 1)
        rows = await _read(pool, sql, parameters, at_once=False)
        found = [to_values(row) for row in rows[:limit]]
        answer: Values = {name: found, "more": len(rows) > limit}
        if len(rows) > limit:
            last = found[-1]
            answer["after"] = write_position(mark, [bindable(last[one]) for one in order])
        return answer

    return find


async def _read(pool: Pool[DatabaseSession], sql: str, parameters: Sequence[Any], at_once: bool) -> list[Row]:
    """The rows of a SELECT. A session that turns out to be lost is replaced: reading again changes nothing."""
    attempt = 1
    while True:
        session = pool.take() or await pool.borrow()
        broken = True
        try:
            rows = session.rows_at_once(sql, parameters) if at_once else None
            if rows is None:
                rows = await session.rows(sql, parameters)
            broken = False
            return rows
        except SessionLostError:
            if attempt == _READ_ATTEMPTS:
                raise
            attempt += 1
        except ProblemError:
            broken = False  # refused by a backend that answers
            raise
        finally:
            pool.give_back(session, broken)


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def column(definition: ObjectDefinition, field: str) -> str:
    found = definition.field(field)
    assert found is not None  # resolve_service has checked every reference
    return quoted(found.column_name)


def selection(definition: ObjectDefinition, row: Record) -> tuple[str, Callable[[Row], Values]]:
    """The SELECT of an object's columns, and the function from a row to values."""
    elements = row.elements
    columns = [quoted(definition.change_token) if definition.change_token and one.name == "changeToken"
               else column(definition, one.name) for one in elements]
    to_values = _compile_row(elements)
    return f"SELECT {', '.join(columns)} FROM {quoted(definition.table)}", to_values


@lru_cache(2048)
def _compile_row(elements: tuple[Element, ...]) -> Callable[[Row], Values]:
    """A function from a row to values by name, as straight-line source: a value of the right class passes as it
    is, another is converted. Half the cost of a loop over the columns."""
    constants: dict[str, Any] = {}
    lines = ["def to_values(row):", f" {', '.join(f'v{index}' for index in range(len(elements)))}, = row"]
    for index, element in enumerate(elements):
        constants |= {f"k{index}": _python_class(element), f"c{index}": _converter(element)}
        lines.append(f" if v{index}.__class__ is not k{index} and v{index} is not None: v{index} = c{index}(v{index})")
    lines.append(f" return {{{', '.join(f'{one.name!r}: v{index}' for index, one in enumerate(elements))}}}")
    exec(compile("\n".join(lines), "<row>", "exec"), constants)  # names of elements are checked by the definitions' models
    made: Callable[[Row], Values] = constants["to_values"]
    return made


def _python_class(element: Element) -> type:
    assert isinstance(element.type, SimpleType)  # the fields of an object are simple
    return element.type.primitive.python


def _converter(element: Element) -> Callable[[Any], Any]:
    """From what a driver gives, when it is not the Python class of the type already. What cannot be converted
    stays as it is: the encoder then names the field and the rule."""
    assert isinstance(element.type, SimpleType)
    python, read = element.type.primitive.python, element.type.primitive.read
    if python is Decimal:
        places = f"%.{element.type.fraction or 0}f"  # 5.1 of a column with two places is 5.10

        def to_decimal(value: Any) -> Any:
            if value.__class__ not in (float, int):
                return _read_or_keep(read, value)
            text = places % value
            return Decimal(text if float(text) == value else repr(value))  # more places than declared are not hidden

        return to_decimal
    if python is str:
        return lambda value: value if value.__class__ in (bytes, bytearray) else str(value)
    if python is bool:
        return lambda value: bool(value) if value in (0, 1) else _read_or_keep(read, value)
    if python is float:
        return lambda value: float(value) if value.__class__ is int else _read_or_keep(read, value)
    if python is date:
        return lambda value: _read_or_keep(date.fromisoformat, value)
    if python is datetime:
        return lambda value: _read_or_keep(datetime.fromisoformat, value)
    return lambda value: _read_or_keep(read, value)


def _read_or_keep(read: Callable[[str], Any], value: Any) -> Any:
    if value.__class__ is not str:
        return value
    try:
        return read(value)
    except ValueError:
        return value


def bindable(value: Any) -> Any:
    """A value as every driver takes it; text keeps the digits of a decimal."""
    if value.__class__ in (str, int, bool):
        return value
    if isinstance(value, date | time):
        return value.isoformat()
    return str(value) if isinstance(value, Decimal) else value


def _comparison(definition: ObjectDefinition, one: Filter) -> tuple[str, Callable[[Any], Any]]:
    name = column(definition, one.field)
    if one.compare in ("contains", "starts"):
        lead = "%" if one.compare == "contains" else ""
        return f"LOWER({name}) LIKE ? ESCAPE '!'", lambda value: f"{lead}{_literal(value).lower()}%"
    sign = {"equal": "=", "from": ">=", "to": "<="}[one.compare]
    return f"{name} {sign} ?", bindable


def _literal(text: str) -> str:
    for special in "!%_":
        text = text.replace(special, "!" + special)
    return text


def write_position(mark: str, values: list[Any]) -> str:
    """Where a page ended, for the caller to hand back: opaque, but no secret."""
    return base64.urlsafe_b64encode(json.dumps([mark, *values], separators=(",", ":")).encode()).decode()


def read_position(text: str, mark: str, count: int, place: str) -> list[Any]:
    """The order values of a position. Raises ProblemError for anything that this finder did not give."""
    try:
        made_by, *values = json.loads(base64.b64decode(text, altchars=b"-_", validate=True))
        if made_by == mark and len(values) == count and all(isinstance(one, str | int | float) for one in values):
            return list(values)
    except (binascii.Error, ValueError, TypeError, RecursionError):
        pass
    raise ProblemError(Problem("value.position", "This is not a position that this operation gave.", place=place,
                               expected="the value of after from the answer before", found=shown(text),
                               mend="Leave it out to begin at the first row."))
