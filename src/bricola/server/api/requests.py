"""Routes for integration requests."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import requests as answers
from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.usecases import requests

router = APIRouter(tags=["requests"], route_class=Guarded)


class RequestToTake(BaseModel):
    """A request in YAML or JSON, and the contracts that it names as files, in base64 by path."""

    text: str = Field(max_length=200_000)
    files: dict[str, str] = {}
    plan_only: bool = False


@router.get("/requests", response_model=list[answers.Request])
async def listed(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """The integration requests that were taken in."""
    return requests.listed(bricola)


@router.get("/requests/{name}", response_model=answers.RequestDetail)
async def shown(name: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    """One, with what was taken over, what is locked, and what it leaves open."""
    return requests.shown_request(bricola, name)


@router.post("/requests", response_model=answers.TakenRequest)
@takes_files
async def take_in(body: RequestToTake, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make drafts of a request: its service, what it calls, and the maps between them."""
    return await requests.take_in(bricola, body.text, body.files, user.name, body.plan_only)
