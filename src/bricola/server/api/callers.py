"""Callers, their roles and tokens."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, Field, StringConstraints

from bricola.server.api.access import Admin, Running, Viewer
from bricola.server.usecases import people
from bricola.store import people as stored

router = APIRouter(tags=["callers"])

Word = Annotated[str, StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9._-]{0,79}$")]


class CallerBody(BaseModel):
    description: str = Field("", max_length=500)
    roles: list[Word] = []


@router.get("/callers")
async def callers(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    return [{"name": one.name, "description": one.description, "roles": one.roles, "created_at": one.created_at,
             "tokens": [{"prefix": prefix, "created_at": at} for prefix, at in one.tokens]}
            for one in await bricola.storage.main(stored.callers)]


@router.put("/callers/{name}")
async def save_caller(name: Word, body: CallerBody, _: Admin, bricola: Running) -> dict[str, Any]:
    """Add a caller, or replace what is known of it. Takes effect with the next call."""
    await people.save_caller(bricola, name, body.description, list(body.roles))
    return {"name": name, "roles": body.roles}


@router.post("/callers/{name}/tokens", status_code=201)
async def new_token(name: str, _: Admin, bricola: Running) -> dict[str, str]:
    """A new token, in this answer and never again."""
    return {"caller": name, "token": await people.new_token(bricola, name)}


@router.delete("/callers/{name}/tokens/{prefix}", status_code=204)
async def revoke_token(name: str, prefix: str, _: Admin, bricola: Running) -> None:
    """Refused from the next call on."""
    await people.revoke_token(bricola, name, prefix)
