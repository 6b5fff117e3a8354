"""Test suites and their runs."""

from typing import Annotated, Any

import httpx
from fastapi import APIRouter, Query, Request
from pydantic import BaseModel, Field

from bricola.api import testing as answers
from bricola.core.problems import Problem, ProblemError
from bricola.server.api.access import Base, Integrator, Operator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.usecases import cases, keeping
from bricola.server.usecases import suites as use

router = APIRouter(tags=["tests"], route_class=Guarded)


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


class TriedCall(BaseModel):
    """A call as the bench sent it, and what came: an answer, or a fault."""

    environment: str
    service: str
    operation: str
    values: dict[str, Any] = {}
    envelope: str = Field("", max_length=4_000_000)
    soap: str = Field("", max_length=10)
    caller: str = Field("", max_length=80)
    trial: bool = False
    answer: dict[str, Any] | None = None
    fault: dict[str, Any] | None = None


class ToKeep(BaseModel):
    """What becomes a case: one call that was tried, one of the call log by its number, or the film of what an operation runs
    (Service.Operation, in an environment). `stand_ins`: what a workflow called is answered as it was then. `replace`: in the place of a
    case of that name."""

    tried: TriedCall | None = None
    call: str = Field("", max_length=100)
    film: str = Field("", max_length=200)
    environment: str = Field("", max_length=80)
    stand_ins: bool = False
    replace: bool = False


@router.post("/suites/{suite}/cases/{case}", response_model=answers.KeptCase, status_code=201)
async def keep(suite: str, case: str, body: ToKeep, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Keep what happened as a case of a suite, as a draft; a suite that is not there begins with it."""
    if body.tried is not None:
        one = body.tried
        tried = keeping.Tried(one.environment, one.service, one.operation, one.values, one.envelope, one.soap, one.caller, one.trial,
                              one.answer, one.fault)
        return await keeping.keep_tried(bricola, suite, case, tried, user.name, body.replace)
    if body.call:
        return await keeping.keep_call(bricola, suite, case, body.call, user.name, body.stand_ins, body.replace)
    service, _, operation = body.film.partition(".")
    if not operation:
        raise ProblemError(Problem("keep.what", "Nothing says what is to be kept.", expected="tried, call, or film as Service.Operation"))
    return await keeping.keep_film(bricola, suite, case, body.environment, service, operation, user.name, body.replace)


@router.get("/suites", response_model=list[answers.Suite])
async def all_suites(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """All test suites, with the newest run in each environment."""
    return await cases.suites(bricola)


@router.get("/suites/{name}", response_model=answers.SuiteDetail)
async def one_suite(name: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    """A suite with its cases: whether they fit the draft of the service, and what became of them last."""
    return await cases.suite_detail(bricola, name)


@router.get("/suites/{name}/cases/{case}/request", response_model=answers.CaseForms)
async def request_of(name: str, case: str, environment: str, _: Viewer, bricola: Running, base: Base) -> dict[str, Any]:
    """A case as a request to be sent from outside: for curl, Python (httpx and zeep), and as an HTTP file."""
    return await cases.forms(bricola, name, case, environment, base)


class OutsideReply(BaseModel):
    """A reply that came to a case's request that was sent from elsewhere."""

    environment: str
    status: int = Field(ge=100, le=599)
    body: str = Field(max_length=64_000_000)
    headers: dict[str, str] = {}
    seconds: float = Field(0, ge=0)


@router.post("/suites/{name}/cases/{case}/reply", response_model=answers.JudgedReply)
@takes_files
async def judged(name: str, case: str, body: OutsideReply, _: Operator, bricola: Running) -> dict[str, Any]:
    """Whether a reply that came elsewhere is what the case expects."""
    return await cases.judge_outside(bricola, name, case, body.environment, body.status, body.body, body.headers, body.seconds)


@router.post("/suites/{name}/mend", response_model=answers.Mended)
async def mend(name: str, user: Integrator, bricola: Running, plan_only: bool = False) -> dict[str, Any]:
    """Mend what can be mended of a suite that does not fit its service any more: names that are near, inputs that are new or gone."""
    return await cases.mend(bricola, name, user.name, plan_only)


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
