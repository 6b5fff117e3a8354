"""The kinds of source that this service knows."""

from typing import Any

from fastapi import APIRouter

from bricola.api import definitions as answers
from bricola.core.definitions.engines import ENGINES
from bricola.core.kinds.registry import kinds
from bricola.server.api.access import Viewer
from bricola.server.api.bodies import Guarded

router = APIRouter(tags=["definitions"], route_class=Guarded)


@router.get("/engines", response_model=list[answers.EngineEntry])
async def list_engines(_: Viewer) -> list[dict[str, Any]]:
    """What backends can be, with the port that their servers usually listen on."""
    return [{"engine": one.word, "title": one.title, "family": str(one.family), "is_file": one.is_file,
             "is_folder": one.is_folder, "port": one.port, "settings": sorted(one.settings)}
            for one in ENGINES.values()]


@router.get("/kinds", response_model=list[answers.KindEntry])
async def list_kinds(_: Viewer) -> list[dict[str, Any]]:
    """What services can be made of, for lists and finders."""
    return [{"kind": one.word, "title": one.title, "plural": one.entry.plural, "words": one.entry.words, "page": one.entry.page,
             "runs": one.runs.example(one.word)} for one in kinds()]
