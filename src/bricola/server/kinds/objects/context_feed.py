"""Lists of context values that come from a table: read when somebody asks for it, and kept as a draft that says what it was."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel

from bricola.api import definitions as answers
from bricola.core.definitions.contexts import ContextList
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.sql.statements import quoted, table_name
from bricola.server.api.access import Integrator, Running
from bricola.server.api.bodies import Guarded
from bricola.server.ports.drafts import unknown
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports

router = APIRouter(tags=["definitions"], route_class=Guarded)
_MOST = 2000  # names that somebody can pick from


class TakeBody(BaseModel):
    plan_only: bool = False


@router.post("/context-lists/{name}/take/{environment}", response_model=answers.Changes)
async def take_list(name: str, environment: str, body: TakeBody, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Read the names and values of a list from its table there; in effect at once, unless it is a plan."""
    return await take(bricola, name, environment, user.name, body.plan_only)


def _text(value: object, place: str) -> str:
    """A text as it is, or the digits of a whole number; nothing else has one form that everybody would write."""
    if isinstance(value, str):
        return value
    if isinstance(value, int) and not isinstance(value, bool):
        return str(value)
    raise ProblemError(Problem("context.feed", "A list holds texts and whole numbers.", place=place, found=type(value).__name__,
                               mend="Feed it from a field of type string or int."))


async def take(ports: Ports, name: str, environment: str, author: str, plan_only: bool) -> dict[str, Any]:
    """Raises ProblemError for a list without a feed, a name that stands for two values, and a table that cannot be read."""
    began = ports.drafts.revisions
    catalogue, place = ports.drafts.catalogue, ports.drafts.environment(environment)
    known = catalogue.get(ContextList, name)
    if known is None:
        raise ProblemError(unknown("context-list", name, [one.name for one in catalogue.all_of(ContextList)]))
    if known.feed is None:
        raise ProblemError(Problem("context.feed", f"The list {name} is its owner's, and comes from no table.", Kind.CONFLICT,
                                   place=f"context-list {name}", mend="Say 'feed: {object: …, name: …, value: …}'."))
    source = catalogue.get(ObjectDefinition, known.feed.object)
    fields = [source.field(one) if source is not None else None for one in (known.feed.name, known.feed.value)]
    if source is None or None in fields:
        missing = known.feed.object if source is None else known.feed.name if fields[0] is None else known.feed.value
        raise ProblemError(Problem("context.feed", "The feed names what there is not.", Kind.MISSING, place=f"context-list {name}, feed",
                                   found=missing))
    columns = ", ".join(quoted(one.column_name) for one in fields if one is not None)
    async with ports.places.visit(place, source.backend, catalogue) as session:
        rows = await session.rows(f"SELECT {columns} FROM {table_name(source.table)} ORDER BY 1, 2 LIMIT {_MOST + 1}", [])
    values: dict[str, str] = {}
    for said, value in rows:
        if said is None or value is None:
            continue
        pair = _text(said, f"context-list {name}, feed, name"), _text(value, f"context-list {name}, feed, value")
        if values.setdefault(*pair) != pair[1]:
            raise ProblemError(Problem("context.twice", "A name stands for two values in the table.", Kind.CONFLICT,
                                       place=f"context-list {name}, feed", found=pair[0]))
    if len(rows) > _MOST:
        raise ProblemError(Problem("context.many", "The table has more rows than a list holds.", Kind.TOO_LARGE,
                                   expected=f"at most {_MOST}"))
    path = ports.drafts.path_of(known.kind, name) or default_path(known)
    changes = await definitions.apply(ports, {path: write_definition(known.model_copy(update={"values": values}))}, author,
                                      plan_only=plan_only, based_on=definitions.started_from(began, [(known.kind, name)]))
    return {"changes": [definitions.plain_change(one) for one in changes]}
