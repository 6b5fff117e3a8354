"""What the review knows of objects in an environment: the fields that no row fills."""

import contextlib

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.review import EmptyFields
from bricola.core.pool.states import PoolState
from bricola.core.problems import ProblemError
from bricola.core.sql.statements import quoted, table_name
from bricola.server.kinds.kind import Ports

LOOKED_AT = 10_000  # rows in which a field that never has a value is looked for


async def empty_fields(ports: Ports, catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition) -> EmptyFields:
    """The optional fields that have no value in the first rows of their tables. What cannot be reached says nothing here:
    the check of the way to it tells why."""
    found: set[tuple[str, str]] = set()
    for kind, name in dict.fromkeys(one.source for one in service.operations):
        definition = catalogue.get(ObjectDefinition, name) if kind == ObjectDefinition.kind else None
        pool = ports.places.pools().get((environment.name, definition.backend)) if definition is not None else None
        if definition is None or pool is None or pool.state is not PoolState.SERVING:
            continue
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
    return EmptyFields(frozenset(found), LOOKED_AT)
