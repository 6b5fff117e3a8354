"""What the review knows of objects in an environment: the fields that no row fills, and rows that break the contract."""

import asyncio
import contextlib

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.reads import RowSelect
from bricola.core.kinds.objects.review import EmptyFields, UnfitRow
from bricola.core.kinds.objects.shape import ResolvedObject, resolve_object
from bricola.core.messages.rows import compile_fitting, key_of
from bricola.core.pool.states import PoolState
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Element, Record
from bricola.core.sql.sessions import DatabasePool, DriverRow
from bricola.core.sql.statements import quoted, table_name
from bricola.server.kinds.kind import Ports

CHECKED = 2_000  # rows that are held against the contract
LOOKED_AT = 10_000  # rows in which a field that never has a value is looked for


async def empty_fields(ports: Ports, catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition) -> EmptyFields:
    """The optional fields that have no value in the first rows of their tables. What cannot be reached says nothing here:
    the check of the way to it tells why."""
    found: set[tuple[str, str]] = set()
    unfit: list[UnfitRow] = []
    for kind, name in dict.fromkeys(one.source for one in service.operations):
        definition = catalogue.get(ObjectDefinition, name) if kind == ObjectDefinition.kind else None
        pool = ports.places.pools().get((environment.name, definition.backend)) if definition is not None else None
        if definition is None or pool is None or pool.state is not PoolState.SERVING:
            continue
        with contextlib.suppress(ProblemError):
            unfit += await _unfit(resolve_object(definition, catalogue, with_children=False), pool)
        fields = [one for one in definition.fields if not one.required and not one.parent]
        if not fields:
            continue
        columns = ", ".join(quoted(one.column_name) for one in fields)
        counts = ", ".join(f"COUNT({quoted(one.column_name)})" for one in fields)
        sql = f'SELECT COUNT(*), {counts} FROM (SELECT {columns} FROM {table_name(definition.table)} LIMIT {LOOKED_AT}) AS "t"'
        with contextlib.suppress(ProblemError):
            async with pool.session() as session:
                total, *filled = (await session.rows(sql, []))[0]
            found |= {(definition.name, one.name) for one, count in zip(fields, filled, strict=True) if total and not count}
    return EmptyFields(frozenset(found), LOOKED_AT, tuple(unfit))


async def _unfit(source: ResolvedObject, pool: DatabasePool) -> list[UnfitRow]:
    """The first row for each field whose value the contract does not allow."""
    reader = RowSelect(source, [one.name for one in source.fields])
    async with pool.session() as session:
        rows = await session.rows(f"{reader.select} LIMIT {CHECKED}", [])
    return await asyncio.to_thread(_wrong_rows, source, reader, rows)


def _wrong_rows(source: ResolvedObject, reader: RowSelect, rows: list[DriverRow]) -> list[UnfitRow]:
    item = Element("row", Record(source.row.name, source.fields))
    wrong = compile_fitting(item, "Rows")
    keys = [one for one in source.fields if one.name in source.definition.key]
    found: dict[str, UnfitRow] = {}
    for row in map(reader.to_values, rows):
        problem = wrong(row)
        if problem is not None:
            field = problem.place.rpartition("/")[2]
            found.setdefault(field, UnfitRow(source.definition.name, field, key_of(keys, row), problem.expected, problem.found))
    return list(found.values())
