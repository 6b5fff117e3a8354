"""Definitions: apply, export, review."""

from dataclasses import asdict
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel

from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.usecases import catalogue

router = APIRouter(tags=["definitions"])


class Bundle(BaseModel):
    """Definition files: path -> YAML text."""

    files: dict[str, str]
    remove_others: bool = False
    plan_only: bool = False


@router.post("/definitions")
async def apply(body: Bundle, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make drafts of all files, or of none; answers what is added, changed, moved, removed and unchanged."""
    changes = await catalogue.apply(bricola, body.files, user.name, body.remove_others, body.plan_only)
    return {"applied": not body.plan_only, "changes": [asdict(one) for one in changes]}


@router.get("/definitions")
async def export(_: Viewer, bricola: Running) -> dict[str, Any]:
    """All drafts in their canonical text, by path. There are no secrets in definitions."""
    return {"files": {one.path: one.text for one in bricola.drafts}}


@router.get("/services/{service}/review")
async def review(service: str, _: Viewer, bricola: Running, environment: str = "") -> list[dict[str, str]]:
    """The findings of the draft, errors first; with an environment also those of running it there."""
    findings = catalogue.review_service(bricola, service, environment)
    return [{"severity": str(one.severity), **one.problem.as_dict()} for one in findings]
