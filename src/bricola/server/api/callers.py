"""Callers, their limits, roles and tokens."""

from datetime import timedelta
from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, Field, StringConstraints

from bricola.api import people as answers
from bricola.server.api.access import Admin, Running, Viewer
from bricola.server.api.bodies import Guarded
from bricola.server.usecases import people
from bricola.store.database import timestamp

router = APIRouter(tags=["callers"], route_class=Guarded)

Word = Annotated[str, StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9._-]{0,79}$")]


class CallerBody(BaseModel):
    """`networks` in CIDR form, none for anywhere; `per_minute` and `parallel` calls, null for no limit."""

    description: str = Field("", max_length=500)
    roles: list[Word] = []
    networks: list[str] = Field([], max_length=100)
    per_minute: int | None = Field(None, ge=1, le=1_000_000)
    parallel: int | None = Field(None, ge=1, le=10_000)


class TokenBody(BaseModel):
    """Days that the new token is valid, and hours until the older ones end; null: for ever, and not at all."""

    days: float | None = Field(None, gt=0, le=3650)
    overlap_hours: float | None = Field(None, ge=0, le=8760)


@router.get("/callers", response_model=list[answers.Caller])
async def callers(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    await bricola.note_uses()
    return [{"name": one.name, "description": one.description, "roles": one.roles, "networks": one.networks,
             "per_minute": one.per_minute, "parallel": one.parallel, "created_at": one.created_at,
             "tokens": [{"prefix": token.prefix, "created_at": token.created_at, "expires_at": token.expires_at,
                         "last_used_at": token.last_used_at} for token in one.tokens]}
            for one in await bricola.people.known_callers()]


@router.put("/callers/{name}", response_model=answers.SavedCaller)
async def save_caller(name: Word, body: CallerBody, user: Admin, bricola: Running) -> dict[str, Any]:
    """Add a caller, or replace what is known of it. Takes effect with the next call."""
    await people.save_caller(bricola, name, body.description, list(body.roles), body.networks, body.per_minute, body.parallel, user.name)
    return {"name": name, **body.model_dump(), "effective": timestamp()}


@router.delete("/callers/{name}", status_code=204)
async def remove_caller(name: str, user: Admin, bricola: Running) -> None:
    await people.remove_caller(bricola, name, user.name)


@router.post("/callers/{name}/tokens", response_model=answers.NewToken, status_code=201)
async def new_token(name: str, user: Admin, bricola: Running, body: TokenBody | None = None) -> dict[str, Any]:
    """A new token, in this answer and never again."""
    body = body or TokenBody()
    return await people.new_token(bricola, name, user.name, timedelta(days=body.days) if body.days is not None else None,
                                  timedelta(hours=body.overlap_hours) if body.overlap_hours is not None else None)


@router.delete("/callers/{name}/tokens/{prefix}", status_code=204)
async def revoke_token(name: str, prefix: str, user: Admin, bricola: Running) -> None:
    """Refused from the next call on."""
    await people.revoke_token(bricola, name, prefix, user.name)


@router.get("/roles", response_model=list[answers.RoleGrants])
async def roles(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """What each role may call, and who has it."""
    return await people.roles(bricola)
