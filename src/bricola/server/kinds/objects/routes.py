"""Objects for an editor."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import definitions as definitions_answers
from bricola.api import objects as answers
from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.api.bodies import Guarded
from bricola.server.kinds.objects import editing
from bricola.server.usecases.definitions import plain_change

router = APIRouter(tags=["objects"], route_class=Guarded)


class EditedObject(BaseModel):
    """The definition as in its file, without its name; `revision` is the one that the author started from."""

    definition: dict[str, Any]
    revision: int


class Tick(BaseModel):
    """Whether a service publishes an operation of an object."""

    object: str = Field(max_length=100)
    verb: str = Field(max_length=100)
    on: bool


@router.get("/objects", response_model=list[answers.ObjectRow])
async def list_objects(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    return editing.objects(bricola)


@router.get("/objects/{name}", response_model=answers.ObjectDetail)
async def one_object(name: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    """The definition, the rules of its fields in words, and who publishes what of it."""
    return editing.object_detail(bricola, name)


@router.put("/objects/{name}", response_model=definitions_answers.Changes)
async def save_object(name: str, body: EditedObject, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Save it as a draft; refused when somebody saved it meanwhile."""
    return {"changes": [plain_change(one) for one in await editing.save_object(bricola, name, body.definition, body.revision, user.name)]}


@router.put("/services/{service}/operations", response_model=definitions_answers.Changes)
async def tick(service: str, body: Tick, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Publish an operation of an object in the draft of a service, or take it out."""
    return {"changes": [plain_change(one) for one in await editing.tick(bricola, service, body.object, body.verb, body.on, user.name)]}
