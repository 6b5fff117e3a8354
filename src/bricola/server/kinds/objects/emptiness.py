"""Why a finder found nothing."""

from collections.abc import Mapping
from typing import Any

from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.objects.columns import columns_of, from_clause
from bricola.core.kinds.objects.shape import ResolvedObject
from bricola.core.sql.emptiness import Cause, why_empty
from bricola.core.sql.statements import comparison
from bricola.server.kinds.kind import Visit


async def empty(found: ResolvedOperation, given: Mapping[str, Any], visit: Visit) -> list[Cause]:
    """The likeliest cause first; none for what is no finder."""
    source: ResolvedObject = found.source
    finder = source.definition.finder(found.verb)
    if finder is None:
        return []
    if given.get("after") is not None:
        return [("after", "There are no more rows after this position.")]
    columns, elements = columns_of(source), {one.name: one for one in source.fields}
    tests = [(one.name, one.field, comparison(columns[one.field], one, elements[one.field], source.dialect)) for one in finder.filters]
    async with visit(source.definition.backend) as session:
        return await why_empty(session.rows, from_clause(source), [], tests, given, f"the table {source.definition.table}")
