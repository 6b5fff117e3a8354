"""Handlers of the operations that read an object: get, check, finders. SQL is made once at deployment.

What a session can do at once it does at once; what turns out to be long runs in the session's own worker thread.
"""

from collections.abc import Awaitable, Callable, Sequence
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.kinds.kind import Probe, ResolvedOperation
from bricola.core.kinds.objects.change_tokens import compile_hash
from bricola.core.kinds.objects.columns import column, columns_of, from_clause, utc_fields
from bricola.core.kinds.objects.definition import Finder, ObjectDefinition
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, ResolvedChild, ResolvedObject
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.rows import LEFT_OUT, compile_fitting, without_unfit
from bricola.core.shapes.model import Element, Record, Values
from bricola.core.sql.listing import item_name, ordering
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import DatabasePool, DatabaseSession, DriverRow, read
from bricola.core.sql.statements import Keyset, Where, comparison, quoted, table_name

_MOST_KEYS = 200  # of parents whose children one statement fetches
Rows = Callable[[str, Sequence[Any]], Awaitable[list[DriverRow]]]


class RowSelect:
    """The SELECT of an object, and the way from its rows to values with children and token.

    `names` are the elements that are wanted; what the token needs is read too."""

    def __init__(self, source: ResolvedObject, names: Sequence[str] | None = None) -> None:
        definition = source.definition
        wanted = set(names) if names is not None else {one.name for one in source.row.elements}
        self._hash = compile_hash(source) if definition.hashed and CHANGE_TOKEN in wanted else None
        self.children = [_Children(source, one) for one in source.children if one.child.name in wanted or self._hash is not None]
        needed = {two for one in self.children for two in one.parent_fields}
        fields = tuple(one for one in source.fields if one.name in wanted | needed or self._hash is not None)
        places = columns_of(source)
        columns = [places[one.name] for one in fields]
        elements: tuple[Element, ...] = fields
        if definition.token_column and CHANGE_TOKEN in wanted:
            elements += (source.row.elements[-1],)
            columns.append((f"{quoted('t')}." if definition.parents else "") + quoted(definition.token_column))
        self.elements = elements
        self.select = f"SELECT {', '.join(columns)} FROM {from_clause(source)}"
        self.to_values = compile_row(elements, utc_fields(source))
        self.plain = not self.children and self._hash is None

    async def complete(self, rows: list[Values], fetch: Rows) -> list[Values]:
        """Attach children and token to rows."""
        for one in self.children:
            await one.attach(rows, fetch)
        if self._hash is not None:
            for row in rows:
                row[CHANGE_TOKEN] = self._hash(row)
        return rows


class _Children:
    """The children of a kind, for many parents with few statements."""

    def __init__(self, parent: ResolvedObject, child: ResolvedChild) -> None:
        source, definition = child.source, child.source.definition
        self._name, self._item = child.child.name, child.item
        self._theirs = list(child.child.match)
        self.parent_fields = list(child.child.match.values())
        self._match = [column(source, one) for one in self._theirs]
        own = child.row.elements
        shared = tuple(one for one in source.fields if one.name in child.child.match)
        self._to_values = compile_row((*own, *shared), utc_fields(source))
        places = columns_of(source)
        if definition.parents:
            self._match = [places[one] for one in self._theirs]
        columns = ", ".join(places[one.name] for one in (*own, *shared))
        self._select = f"SELECT {columns} FROM {from_clause(source)} WHERE "
        self._order = " ORDER BY " + ", ".join((*self._match, *(places[one] for one in definition.key)))
        self._most = child.child.at_most

    async def attach(self, rows: list[Values], fetch: Rows) -> None:
        by_key: dict[tuple[Any, ...], list[Values]] = {}
        for row in rows:
            row[self._name] = {self._item: by_key.setdefault(tuple(row[one] for one in self.parent_fields), [])}
        keys = [key for key in by_key if None not in key]
        for start in range(0, len(keys), _MOST_KEYS):
            part = keys[start:start + _MOST_KEYS]
            if len(self._match) == 1:
                where, parameters = f"{self._match[0]} IN ({', '.join('?' * len(part))})", [key[0] for key in part]
            else:
                one_key = "(" + " AND ".join(f"{name} = ?" for name in self._match) + ")"
                where, parameters = " OR ".join([one_key] * len(part)), [value for key in part for value in key]
            for one in await fetch(f"{self._select}{where}{self._order} LIMIT {self._most * len(part) + 1}", parameters):
                values = self._to_values(one)
                by_key[tuple(values.pop(name) for name in self._theirs)].append(values)


def compile_get(operation: ResolvedOperation, source: ResolvedObject, pool: DatabasePool) -> Handler:
    item = operation.shape.output.elements[0]
    assert isinstance(item.type, Record)
    reader = RowSelect(source, [one.name for one in item.type.elements])
    keys = source.definition.key
    sql = f"{reader.select} WHERE {' AND '.join(f'{_own(source, key)} = ?' for key in keys)}"
    name, label = item.name, f"{item_name(source.row)} with {' and '.join(keys)}"
    to_values, plain = reader.to_values, reader.plain

    async def get(call: Call, given: Values) -> Values:
        rows = await read(pool, call, sql, [given[one] for one in keys], at_once=True)
        if not rows:
            raise missing(label, keys, given)
        row = to_values(rows[0])
        if not plain:
            await reader.complete([row], fetch_by(pool, call))
        return {name: row}

    return get


def missing(label: str, keys: Sequence[str], given: Values) -> DeclaredFaultError:
    message = f"There is no {label} {' and '.join(str(given[one]) for one in keys)}."
    return DeclaredFaultError("NotFound", message, {"message": message, **{key: given[key] for key in keys}})


def fetch_by(pool: DatabasePool, call: Call) -> Rows:
    async def fetch(sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        return await read(pool, call, sql, parameters, at_once=True)

    return fetch


def _own(source: ResolvedObject, field: str) -> str:
    return columns_of(source)[field]


def compile_check(operation: ResolvedOperation, source: ResolvedObject, pool: DatabasePool) -> Handler:
    """Whether a row exists, and whether it has changed since a token was read."""
    keys = source.definition.key
    reader = RowSelect(source, [*keys, CHANGE_TOKEN])
    sql = f"{reader.select} WHERE {' AND '.join(f'{_own(source, key)} = ?' for key in keys)}"

    async def check(call: Call, given: Values) -> Values:
        rows = await read(pool, call, sql, [given[one] for one in keys], at_once=True)
        if not rows:
            return {"exists": False}
        if not source.tokened:
            return {"exists": True}
        row = (await reader.complete([reader.to_values(rows[0])], fetch_by(pool, call)))[0]
        answer = {"exists": True, CHANGE_TOKEN: row[CHANGE_TOKEN]}
        return answer | {"changed": given[CHANGE_TOKEN] != row[CHANGE_TOKEN]} if given.get(CHANGE_TOKEN) is not None else answer

    return check


def compile_finder(operation: ResolvedOperation, source: ResolvedObject, finder: Finder, pool: DatabasePool) -> Handler:
    item = operation.shape.output.elements[0]
    assert isinstance(item.type, Record)
    order = ordering(finder.order, source.definition.key)
    elements = {one.name: one for one in source.fields}
    columns = columns_of(source)
    reader = RowSelect(source, [*(one.name for one in item.type.elements), *(one.removesuffix(" descending") for one in order)])
    keyset = Keyset(order, columns, elements, source.dialect, f"{source.definition.name}.{finder.name}")
    where = Where([(one.name, comparison(columns[one.field], one, elements[one.field], source.dialect)) for one in finder.filters])
    equals = [(one.name, one.field) for one in finder.filters if one.compare == "equal"]
    select, whole_order = reader.select, f"{keyset.order_by()} LIMIT ?"
    place, name, to_values = f"{operation.shape.name}/after", item.name, reader.to_values
    wrong = compile_fitting(item, operation.shape.name) if finder.unfit == "left-out" else None
    keys = [elements[one] for one in source.definition.key]
    must_exist = [(one.name, Existence(source.references[one.field])) for one in finder.filters if one.must_exist]

    async def find(call: Call, given: Values) -> Values:
        limit = given["limit"]
        clauses, parameters = where.clauses(given)
        fixed = [field for name, field in equals if given.get(name) is not None]
        order_by = f"{keyset.order_by(fixed)} LIMIT ?" if fixed else whole_order
        if "after" in given:
            clause, bound = keyset.beyond(given["after"], place, fixed)
            clauses.append(clause)
            parameters += bound
        sql = f"{select} WHERE {' AND '.join(clauses)}{order_by}" if clauses else select + order_by
        parameters.append(limit + 1)
        rows = await read(pool, call, sql, parameters, at_once=True)
        if not rows and must_exist:
            for filter_name, existence in must_exist:
                if given.get(filter_name) is not None:
                    await existence.demand(pool, call, filter_name, given)
        found = await reader.complete([to_values(row) for row in rows[:limit]], fetch_by(pool, call))
        page = keyset.page(name, found, len(rows) > limit)
        if wrong is not None:
            page[name], left = without_unfit(found, wrong, keys, call.note)
            if left is not None:
                page[LEFT_OUT] = left
        return page

    return find


class Existence:
    """Looks whether a value is the key of an object."""

    def __init__(self, definition: ObjectDefinition) -> None:
        key = definition.field(definition.key[0])
        assert key is not None
        self._sql = f"SELECT 1 FROM {table_name(definition.table)} WHERE {quoted(key.column_name)} = ?"
        self._label = f"{definition.record_name[0].lower()}{definition.record_name[1:]} with {definition.key[0]}"

    async def demand(self, pool: DatabasePool, call: Call, name: str, given: Values) -> None:
        if not await read(pool, call, self._sql, [given[name]], at_once=True):
            raise missing(self._label, (name,), given)

    async def holds(self, session: DatabaseSession, value: Any) -> bool:
        return bool(await session.rows(self._sql, [value]))


def object_probes(source: ResolvedObject, writes: Sequence[str] = (), holds: Sequence[str] = ()) -> list[Probe]:
    """What is tried before an object is served: a statement that reads nothing, and fails where the table or a column is missing, with
    the fields that its columns fill; of its children the same."""
    definition, reader = source.definition, RowSelect(source)
    statement = f"{reader.select} WHERE 1 = 0"
    own = Probe(definition.backend, statement, definition.name, definition.table, f"{reader.select} LIMIT 1",
                f"object {definition.name}, fields", reader.elements, source.dialect, tuple(holds), tuple(writes))
    return [own, *(two for one in source.children for two in object_probes(one.source))]
