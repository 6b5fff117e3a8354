"""Running it: backends and their checks, pools, credentials, the audit trail, backup."""

import tempfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Query
from fastapi.responses import FileResponse
from pydantic import AwareDatetime, BaseModel, Field
from starlette.background import BackgroundTask

from bricola.api import people as people_answers
from bricola.api import running as answers
from bricola.api.words import CredentialKind, PoolAct
from bricola.server.api.access import Admin, Integrator, Operator, Running, Viewer
from bricola.server.api.bodies import Guarded
from bricola.server.api.callers import Word
from bricola.server.backup import write_backup
from bricola.server.ports.changes import Topic
from bricola.server.usecases import audit, backends, credentials, definitions

router = APIRouter(tags=["running it"], route_class=Guarded)

Secret = Annotated[str, Field(max_length=100_000, repr=False)]


class CheckBody(BaseModel):
    backend: str = ""


class NewSecret(BaseModel):
    """A secret comes in here and never goes out. `certificate` is PEM; `expires_at` has a time zone."""

    user: str = Field("", max_length=200)
    secret: Secret
    certificate: str = Field("", max_length=100_000)
    expires_at: AwareDatetime | None = None


class NewCredential(NewSecret):
    name: Word
    kind: CredentialKind = CredentialKind.PASSWORD
    description: str = Field("", max_length=500)


class CredentialUse(BaseModel):
    environment: str


class CredentialWords(BaseModel):
    """What people say of a credential; what is left out stays as it is."""

    description: str | None = Field(None, max_length=500)
    account: str | None = Field(None, max_length=200)
    cost: str | None = Field(None, max_length=200)


class Rotation(NewSecret):
    overlap_hours: float = Field(24.0, ge=0, le=8760)


class PoolAction(BaseModel):
    action: PoolAct


@router.get("/backends", response_model=list[answers.BackendEnd])
async def list_backends(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """Every backend in every environment, bound or not."""
    return backends.ends(bricola)


@router.post("/environments/{environment}/check", response_model=list[answers.CheckResult])
async def check(environment: str, body: CheckBody, _: Operator, bricola: Running) -> list[dict[str, Any]]:
    """Try the way to one backend or to all, stage by stage; the first that fails has the mend."""
    return await backends.check(bricola, environment, body.backend)


@router.get("/pools", response_model=list[answers.PoolView])
async def pools(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    return backends.pools(bricola)


@router.get("/pools/{environment}/{backend}", response_model=answers.PoolView)
async def pool(environment: str, backend: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    """One pool with its sessions, endpoints, statistics, load and advice. Times are seconds."""
    return backends.pool_view(bricola, environment, backend)


@router.post("/pools/{environment}/{backend}", response_model=answers.PoolView)
async def act(environment: str, backend: str, body: PoolAction, user: Operator, bricola: Running) -> dict[str, Any]:
    return await backends.act(bricola, environment, backend, body.action, user.name)


@router.delete("/pools/{environment}/{backend}/sessions/{session}", response_model=answers.PoolView)
async def evict(environment: str, backend: str, session: int, user: Operator, bricola: Running, cut: bool = False) -> dict[str, Any]:
    """Close one session: when its call has ended, or at once with `cut`."""
    return await backends.evict(bricola, environment, backend, session, cut, user.name)


@router.get("/credentials", response_model=list[answers.Credential])
async def list_credentials(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """Everything but the secrets."""
    await bricola.note_uses()
    return await credentials.list_credentials(bricola)


@router.post("/credentials", response_model=answers.Credential, status_code=201)
async def add_credential(body: NewCredential, user: Admin, bricola: Running) -> dict[str, Any]:
    return await credentials.add(bricola, body.name, body.kind, body.user, body.secret, body.certificate, body.expires_at,
                                 body.description, user.name)


@router.post("/credentials/{name}/rotation", response_model=answers.Credential)
async def rotate_credential(name: str, body: Rotation, user: Admin, bricola: Running) -> dict[str, Any]:
    """A new secret, in force at once; the old one is tried too while the overlap lasts."""
    return await credentials.rotate(bricola, name, body.user, body.secret, body.certificate, body.expires_at,
                                    timedelta(hours=body.overlap_hours), user.name)


@router.put("/credentials/{name}/words", response_model=answers.Credential)
async def describe_credential(name: str, body: CredentialWords, user: Admin, bricola: Running) -> dict[str, Any]:
    """Say whose account it is, what using it costs, and what it is for."""
    return await credentials.describe(bricola, name, body.model_dump(), user.name)


@router.post("/credentials/{name}/places", response_model=list[answers.CredentialPlace])
async def allow_credential(name: str, body: CredentialUse, user: Admin, bricola: Running) -> list[dict[str, str]]:
    """Agree that it is presented where the environment names it; answers all its places."""
    places = await credentials.allow(bricola, name, body.environment, user.name)
    await definitions.take_up(bricola, body.environment)
    return places


@router.delete("/credentials/{name}", status_code=204)
async def remove_credential(name: str, user: Admin, bricola: Running) -> None:
    await credentials.remove(bricola, name, user.name)


@router.post("/vault/key", response_model=answers.Resealed)
async def renew_key(user: Admin, bricola: Running) -> dict[str, int]:
    """Seal every secret with a new key."""
    return {"secrets": await credentials.renew_key(bricola, user.name)}


@router.get("/audit", response_model=list[people_answers.AuditEntry])
async def audit_trail(_: Integrator, bricola: Running, subject: str = "", who: str = "", before: int | None = None,
                      limit: Annotated[int, Query(ge=1, le=1000)] = 100) -> list[dict[str, Any]]:
    """Who changed what, the newest first."""
    return [vars(one) for one in await audit.entries(bricola, subject, who, before, limit)]


@router.post("/backup")
async def backup(user: Admin, bricola: Running, calls: bool = False) -> FileResponse:
    """The stores as one zip file, taken while the service runs. Credentials are sealed in it; the key is not in it."""
    folder = tempfile.TemporaryDirectory(dir=bricola.settings.data, prefix="backup-")
    file = Path(folder.name) / "backup.zip"
    await bricola.storage.beside(lambda: write_backup(bricola.settings.data, file, calls))
    await audit.note(bricola, Topic.STORE, user.name, "backup", "store", None, {"calls": calls})
    return FileResponse(file, media_type="application/zip", filename=f"bricola-{datetime.now():%Y-%m-%d-%H%M}.zip",
                        background=BackgroundTask(folder.cleanup))
