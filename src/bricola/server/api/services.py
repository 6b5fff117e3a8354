"""Services, releases, deployments, contracts, samples, the test bench, call records."""

import time
from datetime import date
from typing import Annotated, Any, Literal

import httpx
from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field

from bricola.api import bench as bench_answers
from bricola.api import calls as call_answers
from bricola.api import services as answers
from bricola.core.definitions.model import segment_of
from bricola.core.durations import DAY
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.api.access import Base, Integrator, Operator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.bricola import Bricola
from bricola.server.usecases import bench, compare, deployments, outside, records, releases, services
from bricola.server.usecases.soundness import soundness
from bricola.store.releases import StoredRelease

router = APIRouter(tags=["services"], route_class=Guarded)


class NewRelease(BaseModel):
    """`consent`: the reason why a breaking change is let through."""

    notes: str = Field("", max_length=2000)
    consent: str = Field("", max_length=2000)


class NewDeployment(BaseModel):
    """`release` null: the newest. `share`: percent of the calls, beside what is live, below 100. `overrule`: the reason why tests that fail
    do not stop it."""

    environment: str
    release: int | None = None
    share: int = Field(100, ge=1, le=100)
    consent: str = Field("", max_length=2000)
    overrule: str = Field("", max_length=2000)


class Step(BaseModel):
    """`version` is the major version of the service; null is the only one that is deployed there."""

    version: int | None = Field(None, ge=1, le=99)
    consent: str = Field("", max_length=2000)
    overrule: str = Field("", max_length=2000)


class Ending(BaseModel):
    """`on` null takes the end back; `words` tell callers what to use instead."""

    on: date | None
    words: str = Field("", max_length=500)
    version: int | None = Field(None, ge=1, le=99)


class BenchRequest(BaseModel):
    """One request of the test bench: values by name, or a whole envelope."""

    environment: str
    service: str
    operation: str
    caller: str = ""  # '': the first caller who may; 'anonymous': without identity
    soap: Literal["1.1", "1.2"] = "1.1"
    values: dict[str, Any] = {}
    envelope: str | None = Field(None, max_length=4_000_000)
    trial: bool = False  # everything runs and is rolled back
    request_id: str = Field("", max_length=255)


class OutsideRequest(BaseModel):
    """A request to the other side of a relay itself; `ours` is the envelope that this service answered to it."""

    environment: str
    service: str
    operation: str
    soap: Literal["1.1", "1.2"] = "1.1"
    values: dict[str, Any] = {}
    envelope: str | None = Field(None, max_length=4_000_000)
    ours: str = Field("", max_length=64_000_000)
    writes: bool = False  # it may change something over there


class Answered(BaseModel):
    """A request and its answer, as the bench gave it."""

    environment: str
    service: str
    operation: str
    values: dict[str, Any] = {}
    answer: dict[str, Any]


@router.get("/overview", response_model=answers.Overview)
async def overview(_: Viewer, bricola: Running, base: Base) -> dict[str, Any]:
    """Every service with its state per environment, addresses and the figures of the last hour."""
    return await services.overview(bricola, base)


@router.get("/services/{service}", response_model=answers.ServiceDetail)
async def detail(service: str, _: Viewer, bricola: Running, base: Base) -> dict[str, Any]:
    return await services.service_detail(bricola, service, base)


@router.get("/services/{service}/contract")
async def contract(service: str, _: Viewer, bricola: Running, base: Base, environment: str = "",
                   release: int | None = None, soap: str = "") -> Response:
    """The WSDL of what is live in an environment, of a release, or of the draft; for both SOAP versions, or for 1.1 or 1.2 alone."""
    address = services.addresses(bricola, environment or "draft", service, base)["soap"]
    body = await services.contract_for(bricola, service, address, environment, release, soap)
    return Response(body, media_type="text/xml; charset=utf-8")


@router.get("/services/{service}/contract.zip")
async def contract_zip(service: str, environment: str, _: Viewer, bricola: Running, base: Base) -> Response:
    """The contract of what is live in an environment as a zip of all its documents, with a name that says the release."""
    address = services.addresses(bricola, environment, service, base)["soap"]
    name, content = await services.contract_pack(bricola, service, environment, address)
    return Response(content, media_type="application/zip", headers={"Content-Disposition": f'attachment; filename="{name}"'})


@router.get("/services/{service}/operations", response_model=list[answers.Operation])
async def operations(service: str, _: Viewer, bricola: Running, environment: str = "") -> list[dict[str, Any]]:
    """What callers see of the operations: of the live release, or of the draft without an environment."""
    return await services.operations(bricola, service, environment)


@router.get("/services/{service}/sample/{operation}", response_model=answers.Sample)
async def sample(service: str, operation: str, _: Viewer, bricola: Running, base: Base, environment: str = "",
                 soap: str = "1.1") -> dict[str, Any]:
    """A request that works unedited with its answer, for SOAP 1.1 or 1.2, or json for the other face; where it is live, also for curl,
    Python and as plain HTTP."""
    return await bench.sample(bricola, service, operation, environment, soap, base)


@router.post("/services/{service}/releases", response_model=answers.Released, status_code=201)
async def release(service: str, body: NewRelease, user: Integrator, bricola: Running) -> dict[str, Any]:
    made = await releases.release(bricola, service, body.notes, user.name, body.consent)
    return {"service": service, "release": made.number, "version": made.version, "digest": made.digest, "at": made.at,
            "consent": made.consent}


@router.get("/services/{service}/releases/{number}", response_model=answers.Release)
async def one_release(service: str, number: int, _: Viewer, bricola: Running) -> dict[str, Any]:
    """A release with everything in it."""
    return vars(await bricola.releases.find(service, number))


@router.get("/services/{service}/comparison", response_model=answers.Comparison)
async def comparison(service: str, _: Viewer, bricola: Running, old: str, new: str = "draft") -> dict[str, Any]:
    """From `old` to `new`, each a release number, 'draft', or an environment: differences, verdict, callers."""
    return await compare.compare(bricola, service, old, new)


@router.get("/services/{service}/deployment-plan", response_model=answers.Plan)
async def deployment_plan(service: str, environment: str, _: Viewer, bricola: Running, release: int | None = None) -> dict[str, Any]:
    """What a deployment would replace and use, and its gates."""
    return await deployments.plan(bricola, service, environment, release)


@router.post("/services/{service}/deployments", response_model=answers.Deployed, status_code=201)
async def deploy(service: str, body: NewDeployment, user: Operator, bricola: Running, base: Base) -> dict[str, Any]:
    """Make a release live now, or give it a share of the calls."""
    made = await deployments.deploy(bricola, service, body.environment, body.release, user.name, body.share, body.consent,
                                    overrule=body.overrule)
    return _deployed(bricola, made, body.environment, base) | {"share": body.share}


@router.post("/services/{service}/deployments/{environment}/rollback", response_model=answers.Deployed, status_code=201)
async def roll_back(service: str, environment: str, body: Step, user: Operator, bricola: Running, base: Base) -> dict[str, Any]:
    """Back to the release before, in one step."""
    return _deployed(bricola, await deployments.roll_back(bricola, service, environment, user.name, body.version), environment, base)


@router.post("/services/{service}/deployments/{environment}/promotion", response_model=answers.Deployed, status_code=201)
async def promote(service: str, environment: str, body: Step, user: Operator, bricola: Running, base: Base) -> dict[str, Any]:
    """Make live here what is live in the environment that this one follows."""
    made = await deployments.promote(bricola, service, environment, user.name, body.consent, body.version, body.overrule)
    return _deployed(bricola, made, environment, base)


@router.put("/services/{service}/deployments/{environment}/end", response_model=answers.AnnouncedEnd)
async def retire(service: str, environment: str, body: Ending, user: Operator, bricola: Running) -> dict[str, Any]:
    """Announce the end of a service in an environment, or take it back."""
    ends = await deployments.retire(bricola, service, environment, body.on, body.words, user.name, body.version)
    return {"service": service, "environment": environment, "ends_at": ends or None}


@router.delete("/services/{service}/deployments/{environment}", status_code=204)
async def undeploy(service: str, environment: str, user: Operator, bricola: Running, version: int | None = None) -> None:
    await deployments.undeploy(bricola, service, environment, user.name, version)


def _deployed(bricola: Bricola, made: StoredRelease, environment: str, base: str) -> dict[str, Any]:
    segment = segment_of(made.service, made.version)
    return {"service": made.service, "environment": environment, "release": made.number, "version": made.version,
            "parts": [{"part": "service", "name": segment, "state": soundness(bricola, environment, segment).state},
                      *({"part": "pool", "name": name, "state": pool.state}
                        for (where, name), pool in bricola.places.pools().items() if where == environment
                        and name in {one.split("/")[-1].removesuffix(".yaml") for one in made.bundle if one.startswith("backends/")})],
            **services.addresses(bricola, environment, segment, base)}


@router.get("/deployments", response_model=list[answers.Deployment])
async def history(_: Viewer, bricola: Running, limit: Annotated[int, Query(ge=1, le=500)] = 20) -> list[dict[str, Any]]:
    """The latest deployments, the newest first."""
    return [vars(one) for one in await bricola.releases.deployments(limit=limit)]


@router.post("/bench", response_model=bench_answers.BenchAnswer)
async def send(body: BenchRequest, request: Request, _: Operator, bricola: Running) -> dict[str, Any]:
    """Send a request through the real endpoint as a chosen caller; answers both envelopes, status and time."""
    transport: httpx.AsyncClient = request.app.state.own_endpoint
    return await bench.send(bricola, transport, body.environment, body.service, body.operation, body.caller, body.soap,
                            body.values, body.envelope, body.trial, body.request_id)


@router.post("/bench/outside", response_model=bench_answers.OutsideAnswer)
async def ask_outside(body: OutsideRequest, _: Operator, bricola: Running) -> dict[str, Any]:
    """What the other side of a relay answers to the same request itself, and whether it is what this service answered."""
    return await outside.ask(bricola, body.environment, body.service, body.operation, body.soap, body.values, body.envelope, body.ours,
                             body.writes)


@router.post("/bench/comparison", response_model=bench_answers.RowComparison)
@takes_files
async def compare_with_source(body: Answered, _: Operator, bricola: Running) -> dict[str, Any]:
    """An answer beside the rows that it came from, field by field; of a write, what was sent beside what is stored."""
    return await records.compare(bricola, body.environment, body.service, body.operation, body.values, body.answer)


@router.get("/services/{service}/operations/{operation}/keys", response_model=bench_answers.Keys)
async def keys(
    service: str,
    operation: str,
    environment: str,
    name: Annotated[str, Query(alias="input")],
    _: Operator,
    bricola: Running,
    search: str = "",
    limit: Annotated[int, Query(ge=1, le=records.MOST_KEYS)] = 20,
) -> dict[str, Any]:
    """Real keys for an input that holds the key of an object. `input` is a path like `vessel.operatorNumber`."""
    return await records.keys(bricola, environment, service, operation, name, search, limit)


@router.get("/services/{service}/callers", response_model=list[call_answers.Usage])
async def callers_of(service: str, _: Viewer, bricola: Running, environment: str = "",
                     days: Annotated[int, Query(ge=1, le=365)] = 30) -> list[dict[str, Any]]:
    """Who called which operation in the last days."""
    return await bricola.calls.users_of(service, time.time() - days * DAY, environment)


@router.get("/calls", response_model=list[call_answers.Call])
async def recent(
    _: Viewer, bricola: Running, environment: str = "", service: str = "", caller: str = "", failed: bool = False,
    before: float | None = None, limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> list[dict[str, Any]]:
    """Recorded calls, the newest first."""
    found = await bricola.calls.recent(environment, service, caller, failed, "", before, limit)
    return [one._asdict() for one in found]


@router.get("/calls/{call}", response_model=call_answers.CallDetail)
async def one_call(call: str, user: Viewer, bricola: Running) -> dict[str, Any]:
    """One recorded call; for operators with the picture of the screen that it stopped at and its trace, where they were kept."""
    found = await bricola.calls.recent(call=call, limit=1)
    if not found:
        raise ProblemError(Problem("call.unknown", "There is no record of this call.", Kind.MISSING, place=call))
    looks_inside = user.role != "viewer"
    picture = await bricola.calls.picture(call) if looks_inside else None
    trace = await bricola.calls.trace(call) if looks_inside else None
    return found[0]._asdict() | {"picture": picture, "trace": trace}
