"""Routes for people who write workflows."""

import asyncio
from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import workflows as answers
from bricola.api.words import Role
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.kinds.workflows import drafts, processes, writing
from bricola.store.people import StoredUser

router = APIRouter(tags=["workflows"], route_class=Guarded)
Text = Annotated[str | None, Field(max_length=1_000_000)]


class Written(BaseModel):
    """A workflow as text, or as JSON data; with neither, the draft. `call` is a recorded call whose values go with it."""

    text: Text = None
    definition: dict[str, Any] | None = None
    call: str = Field("", max_length=100)


class Trial(Written):
    """An expression that is tried before a step; without one, the map of a `part` of the step."""

    step: str = Field(max_length=2_000)
    part: str = Field("", max_length=200)
    expression: str | None = Field(None, max_length=10_000)


class DraftValues(BaseModel):
    text: Text = None
    definition: dict[str, Any] | None = None
    environment: str = Field(max_length=80)
    values: dict[str, Any] | None = None
    trial: bool = True


class Sample(BaseModel):
    expression: str = Field(max_length=10_000)
    sample: dict[str, Any] = {}


class Process(BaseModel):
    """Files of a process in base64, by path; `main` says which is the process where several are. `choices` are what its open ends become,
    by their ids; `accept` takes the proposals for all others."""

    files: dict[str, str]
    main: str = Field("", max_length=500)
    service: str = Field(max_length=80)
    role: str = Field("", max_length=80)
    choices: dict[str, str] = {}
    accept: bool = False
    plan_only: bool = False


@router.get("/workflows", response_model=list[answers.Workflow])
async def workflows(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """All workflows, with what they call, what runs them, and how many mistakes their drafts have."""
    return await writing.listed(bricola)


def _may_look(user: StoredUser, body: Written) -> None:
    """Values of a recorded call are for those who may see calls from inside."""
    if body.call and user.role == Role.VIEWER:
        raise ProblemError(Problem("role.missing", "What a call took and gave is for operators.", Kind.PERMISSION,
                                   expected="the role operator"))


@router.get("/workflows-language", response_model=answers.Language)
async def language(_: Viewer, bricola: Running) -> dict[str, Any]:
    """The functions of expressions, and everything that a step can call."""
    return await asyncio.to_thread(writing.language, bricola)


@router.post("/workflows/{name}/look", response_model=answers.WorkflowLook)
async def look(name: str, body: Written, user: Viewer, bricola: Running) -> dict[str, Any]:
    """A look at a workflow that need not be sound: what is wrong where, what is known before each step, what each map fills. Nothing is
    stored."""
    _may_look(user, body)
    return await writing.looked(bricola, name, body.text, body.definition, body.call)


@router.post("/workflows/{name}/try", response_model=answers.Tried)
async def try_in_place(name: str, body: Trial, _: Integrator, bricola: Running) -> dict[str, Any]:
    """What an expression, or a map of a step, gives for the values of a sample."""
    return await writing.tried(bricola, name, body.text, body.definition, body.step, body.part, body.expression, body.call)


@router.post("/workflows/{name}/run", response_model=answers.DraftRun)
async def run(name: str, body: DraftValues, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Run it as it is written on the backends of an environment: as a trial, unless `trial` is false. Without values it takes samples."""
    return await drafts.run(bricola, name, body.text, body.definition, body.environment, body.values, body.trial, user.name)


@router.post("/expressions/try", response_model=answers.Tried)
async def try_expression(body: Sample, _: Viewer, bricola: Running) -> dict[str, Any]:
    """What an expression gives for a sample."""
    return await writing.tried_alone(body.expression, body.sample)


@router.post("/processes", response_model=answers.TakenProcess)
@takes_files
async def take_process(body: Process, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make drafts of a process in WS-BPEL 2.0 with its WSDL: a service, its workflows, and what they ask of others."""
    wish = processes.Wish(body.service, body.main, body.role, body.choices, body.accept)
    return await processes.take_in(bricola, body.files, wish, user.name, body.plan_only)
