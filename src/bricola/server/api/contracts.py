"""Contracts of others: read, and taken in as services."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import contracts as answers
from bricola.api import definitions as definition_answers
from bricola.api import mapping as map_answers
from bricola.core.contracts.reading.contract import ReadContract
from bricola.core.definitions.base import ElementName
from bricola.server.api.access import Integrator, Operator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.usecases import contracts, drift, mapping
from bricola.server.usecases.contracts import Source
from bricola.server.usecases.definitions import plain_change

router = APIRouter(tags=["contracts"], route_class=Guarded)


class ContractSource(BaseModel):
    """An `address` that the service fetches, or `files` by path in base64, one of which may be a zip. `main` is the file that the contract
    begins with, where it is not plain. `user` and `password` sign in at the address, and are kept nowhere."""

    address: str = Field("", max_length=2000)
    files: dict[str, str] = {}
    main: str = Field("", max_length=500)
    user: str = Field("", max_length=500)
    password: str = Field("", max_length=2000, repr=False)

    def source(self) -> Source:
        return Source(self.address, self.files, self.main, self.user, self.password)


class TakeIn(ContractSource):
    """`offers` is the service of the contract, where it has several; `role` may call everything; operations of `not_built` answer that they
    are not built yet, and all others a sample; `plan_only` changes nothing."""

    service: ElementName
    offers: str = ""
    role: str = ""
    not_built: list[str] = []
    plan_only: bool = False


@router.post("/contracts/read", response_model=answers.ReadContract)
@takes_files
async def read(body: ContractSource, _: Integrator, bricola: Running) -> dict[str, Any]:
    """What a contract offers, and everything that is wrong with it."""
    found = await contracts.read(bricola, body.source())
    return _read(found)


@router.post("/contracts/import", response_model=answers.TakenContract)
@takes_files
async def take_in(body: TakeIn, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make a service of a contract, or bring one that follows it up to date; its maps are kept."""
    return await contracts.take_in(bricola, body.source(), body.service, user.name, offers=body.offers, role=body.role,
                                   not_built=body.not_built, plan_only=body.plan_only)


@router.get("/contracts", response_model=list[answers.TakenInContract])
async def list_contracts(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """The contracts of others that were taken in."""
    return contracts.list_contracts(bricola)


@router.get("/contracts/checks", response_model=list[answers.ContractCheck])
async def checks(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """What the last checks found, in every environment."""
    return await drift.known(bricola)


@router.get("/contracts/{name}", response_model=answers.ReadContract)
async def find_contract(name: str, _: Viewer, bricola: Running) -> dict[str, Any]:
    """What one that was taken in offers."""
    return _read(await contracts.find_contract(bricola, name))


def _read(found: ReadContract) -> dict[str, Any]:
    return found.as_dict() | {"usable": found.usable, "parts": [one.name for one in found.parts]}


class Implementing(BaseModel):
    """What an operation runs, and the lines of its maps; those of the draft where they are left out. Nothing is changed without `save`."""

    runs: str | None = Field(None, max_length=300)
    map_in: dict[str, str] | None = None
    map_out: dict[str, str] | None = None
    save: bool = False


@router.post("/services/{service}/operations/{operation}/map", response_model=map_answers.Implementation)
async def implement(service: str, operation: str, body: Implementing, user: Integrator, bricola: Running) -> dict[str, Any]:
    """From where each part comes when an operation of somebody's contract runs something of ours, with what else would fit; a draft on
    request."""
    return await mapping.implement(bricola, service, operation, body.runs, body.map_in, body.map_out, user.name, body.save)


class Other(BaseModel):
    """What a service uses in place of what the contract says."""

    value: str = Field(max_length=2000)


@router.put("/services/{service}/operations/{operation}/contract/{setting}", response_model=definition_answers.Changes)
async def differ(service: str, operation: str, setting: str, body: Other, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Differ from the contract of somebody else in one setting of an operation, on purpose: `soap_action` or `description`."""
    return {"changes": [plain_change(one) for one in await contracts.differ(bricola, service, operation, setting, body.value, user.name)]}


@router.delete("/services/{service}/operations/{operation}/contract/{setting}", response_model=definition_answers.Changes)
async def follow(service: str, operation: str, setting: str, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Go back to what the contract says."""
    return {"changes": [plain_change(one) for one in await contracts.differ(bricola, service, operation, setting, None, user.name)]}


@router.post("/environments/{environment}/contracts/check", response_model=list[answers.ContractCheck])
async def check(environment: str, _: Operator, bricola: Running) -> list[dict[str, Any]]:
    """Fetch the contracts of others that live services follow there, and tell what changed, for which operations and callers."""
    return await drift.check(bricola, environment)
