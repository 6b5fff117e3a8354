"""The kinds of source that this service knows."""

from typing import Any

from fastapi import APIRouter

from bricola.api import definitions as answers
from bricola.core.kinds.registry import kinds
from bricola.server.api.access import Viewer
from bricola.server.api.bodies import Guarded

router = APIRouter(tags=["definitions"], route_class=Guarded)


@router.get("/kinds", response_model=list[answers.KindEntry])
async def list_kinds(_: Viewer) -> list[dict[str, Any]]:
    """What services can be made of, for lists and finders."""
    return [{"kind": one.word, "title": one.title, "plural": one.entry.plural, "words": one.entry.words, "page": one.entry.page,
             "runs": one.runs.example(one.word)} for one in kinds()]
