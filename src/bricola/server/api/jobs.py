"""Routes about jobs: accepted calls that are done later."""

from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import BaseModel

from bricola.api import jobs as answers
from bricola.core.jobs.model import Act
from bricola.server.api.access import Operator, Running, Viewer
from bricola.server.api.bodies import Guarded
from bricola.server.usecases import jobs

router = APIRouter(tags=["jobs"], route_class=Guarded)


class Decision(BaseModel):
    """What shall happen with a job. With `stored` goes what the step answered, by name."""

    act: Act
    answer: dict[str, Any] | None = None


@router.get("/jobs", response_model=list[answers.Job])
async def listed(
    _: Viewer, bricola: Running, environment: str = "", service: str = "", state: str = "", before: float | None = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> list[dict[str, Any]]:
    """Jobs, the newest first."""
    return await jobs.listed(bricola, environment, service, state, before, limit)


@router.get("/jobs/{job}", response_model=answers.JobDetail)
async def one(job: str, _: Operator, bricola: Running) -> dict[str, Any]:
    """One job with its journal."""
    return await jobs.one(bricola, job)


@router.post("/jobs/{job}", response_model=answers.Job)
async def act(job: str, body: Decision, user: Operator, bricola: Running) -> dict[str, Any]:
    """Decide about one: cancel it, have it tried again, say what became of a step whose outcome is unknown, or end it as it is."""
    return await jobs.act(bricola, job, body.act, user.name, body.answer)
