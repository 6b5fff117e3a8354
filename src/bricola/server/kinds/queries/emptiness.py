"""Why a query found nothing."""

from collections.abc import Mapping
from typing import Any

from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.queries.handlers import parts_of_query
from bricola.core.kinds.queries.shape import ResolvedQuery
from bricola.core.sql.emptiness import Cause, why_empty
from bricola.server.kinds.kind import Visit


async def empty(found: ResolvedOperation, given: Mapping[str, Any], visit: Visit) -> list[Cause]:
    """The likeliest cause first."""
    source: ResolvedQuery = found.source
    rows, bound, tests = parts_of_query(source, given)
    prompts = ", ".join(one.name for one in source.definition.prompts)
    what = f"the query {source.definition.name}" + (f" for these {prompts}" if prompts else "")
    async with visit(source.definition.backend) as session:
        return await why_empty(session.rows, rows, bound, tests, given, what)
