"""Routes for the procedures and functions of databases."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import routines as answers
from bricola.core.definitions.base import Name
from bricola.server.api.access import Integrator, Running
from bricola.server.api.bodies import Guarded
from bricola.server.kinds.routines import looking

router = APIRouter(tags=["discovery"], route_class=Guarded)

Text = Annotated[str, Field(max_length=200)]


class RoutineWish(BaseModel):
    """What is wanted of a routine; `signature` tells it from others of its name. With `try_with`, arguments as text by parameter, it is
    called once in a transaction that is rolled back, to see what rows it gives."""

    routine: Text
    signature: Annotated[str, Field(max_length=2000)] | None = None
    name: Name | Literal[""] = ""
    service: Text = ""
    operation: Text = ""
    roles: list[Text] = Field(default=[], max_length=50)
    zone: Literal["", "utc", "local"] = ""
    try_with: dict[Text, Annotated[str, Field(max_length=10_000)]] | None = None
    save: bool = False


class Renewal(BaseModel):
    """`signature` tells the routine from others of its name, where it is not the one that is most like the definition."""

    signature: Annotated[str, Field(max_length=2000)] | None = None
    zone: Literal["", "utc", "local"] = ""
    save: bool = False


@router.put("/routines/{name}/renewal/{environment}", response_model=answers.RoutineRenewed)
async def renew(name: Name, environment: str, body: Renewal, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Bring a definition up to what its routine is now: what differs and who is affected; saved as a draft when asked."""
    return await looking.renew(bricola, bricola.calls, environment, name, body.model_dump(), user.name)


@router.get("/discovery/{environment}/{backend}/routines", response_model=list[answers.RoutineRow])
async def routines(environment: str, backend: str, _: Integrator, bricola: Running, search: str = "") -> list[dict[str, Any]]:
    """Procedures and functions, narrowed by parts of names, comments and parameters."""
    return await looking.routines(bricola, environment, backend, search)


@router.get("/discovery/{environment}/{backend}/routine", response_model=answers.RoutineDetail)
async def routine(environment: str, backend: str, name: str, _: Integrator, bricola: Running,
                  signature: str | None = None) -> dict[str, Any]:
    """One routine: what it takes and gives, and what of it cannot be carried."""
    return await looking.routine(bricola, environment, backend, name, signature)


@router.post("/discovery/{environment}/{backend}/routines", response_model=answers.RoutineDrafted)
async def draft(environment: str, backend: str, body: RoutineWish, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make a definition of a routine, and a service where one is named; saved as drafts when asked."""
    return await looking.draft(bricola, environment, backend, body.model_dump(), user.name)
