"""Test suites and their runs."""

from typing import Annotated, Any

import httpx
from fastapi import APIRouter, Query, Request
from pydantic import BaseModel, Field

from bricola.api import testing as answers
from bricola.server.api.access import Operator, Running, Viewer
from bricola.server.usecases import suites as use

router = APIRouter(tags=["tests"])


class NewRun(BaseModel):
    """Which suites run: by name, or those of services; all that are about what is live there when neither is named. `only` are words of
    which a case has one in its name or operation. `generated`: tests made from the contracts instead; `random` more of them from `seed`."""

    environment: str
    services: list[str] = Field([], max_length=200)
    suites: list[str] = Field([], max_length=200)
    only: list[str] = Field([], max_length=50)
    generated: bool = False
    random: int = Field(0, ge=0, le=1000)
    seed: int = 0
    at_once: int = Field(use.AT_ONCE, ge=1, le=32)


@router.get("/suites", response_model=list[answers.Suite])
async def all_suites(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """All test suites, with the newest run in each environment."""
    return await use.suites(bricola)


@router.get("/suites/{name}", response_model=answers.SuiteDetail)
async def one_suite(name: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    """A suite with its cases: whether they fit the draft of the service, and what became of them last."""
    return await use.suite_detail(bricola, name)


@router.post("/test-runs", response_model=answers.TestRun, status_code=201)
async def begin(body: NewRun, request: Request, user: Operator, bricola: Running) -> dict[str, Any]:
    """Begin a run; it goes on by itself, and is looked at by its number."""
    transport: httpx.AsyncClient = request.app.state.own_endpoint
    asked = use.Asked(tuple(body.services), tuple(body.suites), tuple(body.only), body.generated, body.random, body.seed, body.at_once)
    run = await use.start(bricola, await use.plan(bricola, body.environment, asked, transport), user.name)
    return use.plain_run(run.stored, run)


@router.get("/test-runs", response_model=list[answers.TestRun])
async def runs(_: Viewer, bricola: Running, environment: str = "", suite: str = "",
               limit: Annotated[int, Query(ge=1, le=200)] = 50) -> list[dict[str, Any]]:
    """The newest first."""
    return await use.recent(bricola, environment, suite, limit)


@router.get("/test-runs/{number}", response_model=answers.TestRunDetail)
async def one_run(number: int, _: Viewer, bricola: Running, after: Annotated[int, Query(ge=0)] = 0) -> dict[str, Any]:
    """A run with its results from a number on; of one that has ended also what changed since the run before."""
    return await use.look(bricola, number, after)


@router.delete("/test-runs/{number}", response_model=answers.TestRunDetail)
async def stop(number: int, _: Operator, bricola: Running) -> dict[str, Any]:
    """End a run that is under way: what was done stays, what has to be cleaned up is."""
    return await use.stop(bricola, number)
