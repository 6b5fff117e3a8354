"""Why a list is empty: no rows at all, a filter that no row has, or filters that no row has together. For people who test."""

from collections.abc import Awaitable, Callable, Mapping, Sequence
from typing import Any

from bricola.core.sql.statements import Clauses

Rows = Callable[[str, list[Any]], Awaitable[Sequence[Any]]]
Cause = tuple[str, str]  # the input that it is about, '' for none; and words


async def why_empty(rows: Rows, source: str, bound: list[Any], tests: Sequence[tuple[str, str, Clauses]], given: Mapping[str, Any],
                    what: str) -> list[Cause]:
    """The causes, the likeliest first. `source` is the FROM of a statement with its bound values, `tests` are the filters as (input, field,
    clause), `what` is how the rows are called."""

    async def found(clauses: Sequence[str], values: list[Any]) -> bool:
        where = f" WHERE {' AND '.join(clauses)}" if clauses else ""
        return bool(await rows(f"SELECT 1 FROM {source}{where} LIMIT 1", [*bound, *values]))

    if not await found((), []):
        return [("", f"There are no rows at all in {what}.")]
    asked = [(name, field, make(given[name])) for name, field, make in tests if given.get(name) not in (None, [])]
    alone = [(name, field) for name, field, (clause, values) in asked if not await found((clause,), values)]
    if alone:
        return [(name, f"No row of {what} has what {name} asks of {field}.") for name, field in alone]
    if len(asked) > 1:
        names = ", ".join(name for name, _, _ in asked)
        return [("", f"Rows of {what} fit each of {names}, and none fits all of them.")]
    return []
