"""Who is affected when something below services changes."""

from typing import Annotated, Any

from fastapi import APIRouter, Query

from bricola.api import impact as answers
from bricola.server.api.access import Operator, Running
from bricola.server.api.bodies import Guarded
from bricola.server.usecases import impact

router = APIRouter(tags=["services"], route_class=Guarded)


@router.get("/impact", response_model=answers.Impact)
async def impact_of(of: Annotated[str, Query(max_length=200)], _: Operator, bricola: Running,
                    environment: Annotated[list[str] | None, Query()] = None) -> dict[str, Any]:
    """The operations that need a backend, a source, a copybook or a contract, with their cases and callers, and what of them does not fit
    what is there now."""
    return await impact.impact(bricola, bricola.kinds, of, environment or [])
