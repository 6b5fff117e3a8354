"""Contracts of others: read, and taken in as services."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import contracts as answers
from bricola.core.definitions.base import ElementName
from bricola.server.api.access import Integrator, Running
from bricola.server.usecases import contracts
from bricola.server.usecases.contracts import Source

router = APIRouter(tags=["contracts"])


class ContractSource(BaseModel):
    """An `address` that the service fetches, or `files` by path in base64, one of which may be a zip. `main` is the file that the contract
    begins with, where it is not plain."""

    address: str = Field("", max_length=2000)
    files: dict[str, str] = {}
    main: str = Field("", max_length=500)

    def source(self) -> Source:
        return Source(self.address, self.files, self.main)


class TakeIn(ContractSource):
    """`offers` is the service of the contract, where it has several; `role` may call everything; `plan_only` changes nothing."""

    service: ElementName
    offers: str = ""
    role: str = ""
    plan_only: bool = False


@router.post("/contracts/read", response_model=answers.ReadContract)
async def read(body: ContractSource, _: Integrator, bricola: Running) -> dict[str, Any]:
    """What a contract offers, and everything that is wrong with it."""
    found = await contracts.read(bricola, body.source())
    return found.as_dict() | {"usable": found.usable, "parts": [one.name for one in found.parts]}


@router.post("/contracts/import", response_model=answers.TakenContract)
async def take_in(body: TakeIn, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make a service of a contract, or bring one that follows it up to date; its maps are kept."""
    return await contracts.take_in(bricola, body.source(), body.service, user.name, offers=body.offers, role=body.role,
                                   plan_only=body.plan_only)
