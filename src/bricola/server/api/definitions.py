"""Definitions: apply, export, compare with a folder, revisions, review, mend."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import definitions as answers
from bricola.api.words import Role
from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.ports.changes import Topic
from bricola.server.usecases import copying, credentials, definitions, grants, mending, publishing
from bricola.server.usecases.definitions import plain_change
from bricola.server.usecases.deployments import plain_finding, used_backends
from bricola.server.usecases.reviews import review_service
from bricola.store import definitions as stored

router = APIRouter(tags=["definitions"], route_class=Guarded)


class Files(BaseModel):
    """Definition files: path -> YAML text."""

    files: dict[str, str]


class Bundle(Files):
    """`based_on`: the revision that the author started from, by 'kind name', so that nothing is overwritten unseen."""

    remove_others: bool = False
    plan_only: bool = False
    based_on: dict[str, int] | None = None


class Copy(BaseModel):
    """`folder` without one: beside the original."""

    name: str = Field(max_length=80)
    folder: str | None = Field(None, max_length=200)


class ToPublish(BaseModel):
    """`runs` as operations name it, like 'workflow price-toll'; without an `operation` it is called as its source. `role` may call it."""

    runs: str = Field(max_length=200)
    service: str = Field(max_length=80)
    operation: str = Field("", max_length=80)
    role: str = Field("", max_length=80)
    plan_only: bool = False


class AroundAll(BaseModel):
    """What stands around every operation of a service; '' for nothing."""

    before: str = Field("", max_length=200)
    after: str = Field("", max_length=200)
    unforeseen: str = Field("", max_length=80)


class Mend(BaseModel):
    """`code` of one rule; empty for every mend that is mechanical. Only with `settings` is an environment changed, at once; `plan_only`
    tells what would be done."""

    environment: str = ""
    code: str = ""
    settings: bool = False
    plan_only: bool = False


@router.post("/definitions", response_model=answers.Applied)
@takes_files
async def apply(body: Bundle, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make drafts of all files, or of none; answers what is added, changed, moved, removed and unchanged, and for live
    settings the moment since when they are in effect. A plan also tells what it would break elsewhere."""
    agrees = user.role == Role.ADMIN and not body.plan_only  # an admin's environments say where credentials belong
    more = credentials.agreeing(bricola, body.files, user.name) if agrees else None
    changes = await definitions.apply(bricola, body.files, user.name, body.remove_others, body.plan_only, body.based_on,
                                      also=[Topic.CREDENTIALS] if agrees else [], more=more)
    breaks = [*await definitions.breaks(bricola, body.files, body.remove_others),
              *await grants.lost_by(bricola, body.files, body.remove_others)] if body.plan_only else []
    return {"applied": not body.plan_only, "changes": [plain_change(one) for one in changes], "breaks": [one.as_dict() for one in breaks]}


@router.get("/definitions", response_model=answers.Export)
async def export(_: Viewer, bricola: Running) -> dict[str, Any]:
    """All drafts in their canonical text, by path, with the revision of each. There are no secrets in definitions."""
    return {"files": {one.path: one.text for one in bricola.drafts.files},
            "revisions": {f"{kind} {name}": one.revision for (kind, name), one in bricola.drafts.revisions.items()}}


@router.post("/definitions/comparison", response_model=list[answers.FileDifference])
@takes_files
async def compare_folder(body: Files, _: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """How these files differ from the drafts, line by line."""
    return [vars(one) for one in definitions.compare_folder(bricola, body.files)]


@router.get("/definitions/{kind}/{name}/revisions", response_model=list[answers.Revision])
async def revisions(kind: str, name: str, _: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """Who wrote which text when, the newest first."""
    return [vars(one) for one in await bricola.storage.read(stored.revisions, kind, name)]


@router.post("/definitions/{kind}/{name}/copy", response_model=answers.Changes, status_code=201)
async def copy(kind: str, name: str, body: Copy, user: Integrator, bricola: Running) -> dict[str, Any]:
    """A further draft that is equal but for its name."""
    changes = await copying.copy(bricola, kind, name, body.name, body.folder, user.name)
    return {"changes": [plain_change(one) for one in changes]}


@router.post("/publish", response_model=answers.Published)
async def publish(body: ToPublish, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make a source an operation of a service, new or known, as a draft; of one that follows a contract, one of that contract's."""
    return await publishing.publish(bricola, body.runs, body.service, body.operation, body.role, user.name, body.plan_only)


@router.put("/services/{service}/around", response_model=answers.Changes)
async def surround(service: str, body: AroundAll, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Say what is run before and after every operation, and who is told of failures, as a draft."""
    changes = await publishing.surround(bricola, service, body.model_dump(), user.name)
    return {"changes": [plain_change(one) for one in changes]}


@router.get("/services/{service}/review", response_model=list[answers.Finding])
async def review(service: str, _: Viewer, bricola: Running, environment: str = "") -> list[dict[str, Any]]:
    """The findings of the draft, errors first; with an environment also those of running it there."""
    return [plain_finding(one) for one in await review_service(bricola, service, environment)]


@router.get("/services/{service}/uses", response_model=list[answers.UsedBackend])
async def uses(service: str, environment: str, _: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """The backends of the draft in an environment, and when the draft was last held against each."""
    return used_backends(bricola, service, environment)


@router.post("/services/{service}/mend", response_model=answers.Mends)
async def mend(service: str, body: Mend, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Do the mends of the review that are mechanical, as new drafts; those of environments only where that is asked for."""
    done = await mending.mend(bricola, service, body.environment, body.code, user.name, body.settings, body.plan_only)
    return {"changes": [plain_change(one) for one in done.changes], "left": [plain_finding(one) for one in done.left]}
