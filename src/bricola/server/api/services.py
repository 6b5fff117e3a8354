"""Services, releases, deployments, contracts, samples, the test bench, call records."""

from typing import Annotated, Any, Literal

import httpx
from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, Field

from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.api.access import Base, Integrator, Operator, Running, Viewer
from bricola.server.usecases import bench, deployments, releases, services
from bricola.store import calls
from bricola.store import releases as stored

router = APIRouter(tags=["services"])


class NewRelease(BaseModel):
    notes: str = Field("", max_length=2000)


class NewDeployment(BaseModel):
    environment: str
    release: int | None = None  # None: the newest


class BenchRequest(BaseModel):
    """One request of the test bench: values by name, or a whole envelope."""

    environment: str
    service: str
    operation: str
    caller: str = ""  # '': the first caller who may; 'anonymous': without identity
    soap: Literal["1.1", "1.2"] = "1.1"
    values: dict[str, Any] = {}
    envelope: str | None = Field(None, max_length=4_000_000)


@router.get("/overview")
async def overview(_: Viewer, bricola: Running, base: Base) -> dict[str, Any]:
    """Every service with its state per environment, addresses and the figures of the last hour."""
    return await services.overview(bricola, base)


@router.get("/services/{service}")
async def detail(service: str, _: Viewer, bricola: Running, base: Base) -> dict[str, Any]:
    return await services.service_detail(bricola, service, base)


@router.get("/services/{service}/contract")
async def contract(service: str, _: Viewer, bricola: Running, base: Base, environment: str = "",
                   release: int | None = None) -> Response:
    """The WSDL of what is live in an environment, of a release, or of the draft."""
    shape = await services.shape_for(bricola, service, environment, release)
    address = services.addresses(bricola, environment or "draft", service, base)["soap"]
    return Response(write_wsdl(shape, address), media_type="text/xml; charset=utf-8")


@router.get("/services/{service}/operations")
async def operations(service: str, _: Viewer, bricola: Running, environment: str = "") -> list[dict[str, Any]]:
    """What callers see of the operations: of the live release, or of the draft without an environment."""
    return await services.operations(bricola, service, environment)


@router.get("/services/{service}/sample/{operation}")
async def sample(service: str, operation: str, _: Viewer, bricola: Running, environment: str = "",
                 soap: str = "1.1") -> dict[str, Any]:
    """A request that works unedited."""
    return await bench.sample(bricola, service, operation, environment, soap)


@router.post("/services/{service}/releases", status_code=201)
async def release(service: str, body: NewRelease, user: Integrator, bricola: Running) -> dict[str, Any]:
    made = await releases.release(bricola, service, body.notes, user.name)
    return {"service": service, "release": made.number, "digest": made.digest, "at": made.at}


@router.post("/services/{service}/deployments", status_code=201)
async def deploy(service: str, body: NewDeployment, user: Operator, bricola: Running, base: Base) -> dict[str, Any]:
    """Make a release live now."""
    made = await deployments.deploy(bricola, service, body.environment, body.release, user.name)
    return {"service": service, "environment": body.environment, "release": made.number,
            **services.addresses(bricola, body.environment, service, base)}


@router.delete("/services/{service}/deployments/{environment}", status_code=204)
async def undeploy(service: str, environment: str, user: Operator, bricola: Running) -> None:
    await deployments.undeploy(bricola, service, environment, user.name)


@router.get("/deployments")
async def history(_: Viewer, bricola: Running, limit: Annotated[int, Query(ge=1, le=500)] = 20) -> list[dict[str, Any]]:
    """The latest deployments, the newest first."""
    return [vars(one) for one in await bricola.storage.main(stored.deployments, limit=limit)]


@router.post("/bench")
async def send(body: BenchRequest, request: Request, _: Operator, bricola: Running) -> dict[str, Any]:
    """Send a request through the real endpoint as a chosen caller; answers both envelopes, status and time."""
    transport: httpx.AsyncClient = request.app.state.own_endpoint
    return await bench.send(bricola, transport, body.environment, body.service, body.operation, body.caller, body.soap,
                            body.values, body.envelope)


@router.get("/calls")
async def recent(
    _: Viewer, bricola: Running, environment: str = "", service: str = "", caller: str = "", failed: bool = False,
    before: float | None = None, limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> list[dict[str, Any]]:
    """Recorded calls, the newest first."""
    found = await bricola.storage.calls(calls.recent_calls, environment, service, caller, failed, "", before, limit)
    return [one._asdict() for one in found]


@router.get("/calls/{call}")
async def one_call(call: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    found = await bricola.storage.calls(calls.recent_calls, call=call, limit=1)
    if not found:
        raise ProblemError(Problem("call.unknown", "There is no record of this call.", Kind.MISSING, place=call))
    return found[0]._asdict()
