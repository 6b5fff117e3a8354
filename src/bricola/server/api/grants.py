"""Who may call what where."""

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import people as answers
from bricola.server.api.access import Admin, Running, Viewer
from bricola.server.api.bodies import Guarded
from bricola.server.api.callers import Word
from bricola.server.usecases import grants

router = APIRouter(tags=["access"], route_class=Guarded)


class GrantBody(BaseModel):
    """The operations that a role may call, and no others; none of them takes the role out."""

    operations: Literal["all"] | list[str] = Field("all", max_length=2000)
    plan_only: bool = False


class MoveBody(BaseModel):
    plan_only: bool = False


@router.get("/access", response_model=list[answers.PlaceGrants])
async def access(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """The roles that may call each service in each environment, and where that is said."""
    return await grants.grants(bricola)


@router.put("/access/{environment}/{service}/{role}", response_model=answers.Granted)
async def grant(environment: str, service: str, role: Word, body: GrantBody, user: Admin, bricola: Running) -> dict[str, Any]:
    """Say what a role may call of a service in an environment. In effect at once; a plan only tells who gets or loses what."""
    operations = body.operations if body.operations == "all" else tuple(body.operations)
    return await grants.change(bricola, environment, service, role, operations, user.name, body.plan_only)


@router.post("/access/move", response_model=answers.Granted)
async def move(body: MoveBody, user: Admin, bricola: Running) -> dict[str, Any]:
    """Say in environments what services state for themselves, and take it out of those."""
    return await grants.move(bricola, user.name, body.plan_only)
