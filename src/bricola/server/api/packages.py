"""Routes for packages."""

from typing import Any, Literal

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from bricola.api import packages as answers
from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.usecases import packages

router = APIRouter(tags=["packages"], route_class=Guarded)


class ParameterOf(BaseModel):
    """A word of the definitions that becomes a parameter: its name, and what fits."""

    name: str = Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,79}$")
    kind: Literal["name", "call", "type", "text"] = "name"
    description: str = Field("", max_length=2000)


class PackageToMake(BaseModel):
    """`definitions` are 'kind name', `alone` leaves out what they need, `parameters` are by the word that they stand for, `keep` keeps it
    here, too."""

    name: str = Field(max_length=80)
    version: str = Field(max_length=40)
    description: str = Field("", max_length=2000)
    definitions: list[str] = Field(min_length=1, max_length=500)
    parameters: dict[str, ParameterOf] = {}
    alone: bool = False
    keep: bool = False


class PackageZip(BaseModel):
    """A package in base64."""

    content: str


class PackageToTake(BaseModel):
    """A package in base64, or the name of one that is kept; `values` of its parameters; `choices` about mismatches by their ids; `align`
    takes the proposals for all others."""

    content: str = ""
    name: str = Field("", max_length=80)
    version: str = Field("", max_length=40)
    values: dict[str, str] = {}
    choices: dict[str, str] = {}
    align: bool = False


@router.get("/packages", response_model=list[answers.KeptPackage])
async def kept(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """The packages that are kept, with their parameters and what came out of them."""
    return await packages.listed(bricola)


@router.post("/packages", response_model=answers.ToldPackage, status_code=201)
@takes_files
async def keep(body: PackageZip, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Keep a package, to be used as often as one likes."""
    return await packages.keep(bricola, body.content, user.name)


@router.get("/packages/{name}/{version}", response_class=Response)
async def download(name: str, version: str, _: Viewer, bricola: Running) -> Response:
    """A package that is kept, as its zip."""
    content = await packages.content_of(bricola, name, version)
    return Response(content, media_type="application/zip",
                    headers={"Content-Disposition": f'attachment; filename="{name}-{version}.zip"'})


@router.delete("/packages/{name}/{version}", status_code=204)
async def drop(name: str, version: str, user: Integrator, bricola: Running) -> None:
    """Keep a version no more; what came out of it stays."""
    await packages.drop(bricola, name, version, user.name)


@router.post("/packages/make", response_model=answers.MadePackage)
async def make(body: PackageToMake, user: Integrator, bricola: Running) -> dict[str, Any]:
    """A package of drafts and of what they need."""
    about = {"package": body.name, "version": body.version, "description": body.description}
    parameters = {word: one.model_dump() for word, one in body.parameters.items()}
    return await packages.make(bricola, body.definitions, about, parameters, body.alone, body.keep, user.name)


def _wish(body: PackageToTake) -> tuple[packages.Source, packages.Wish]:
    return packages.Source(body.content, body.name, body.version), packages.Wish(body.values, body.choices, body.align)


@router.post("/packages/plan", response_model=answers.TakenPackage)
@takes_files
async def plan(body: PackageToTake, _: Viewer, bricola: Running) -> dict[str, Any]:
    """What taking a package in would do, with every mismatch. Nothing is changed."""
    return await packages.plan(bricola, *_wish(body))


@router.post("/packages/take", response_model=answers.TakenPackage)
@takes_files
async def take(body: PackageToTake, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make drafts of a package's parts, aligned as was chosen."""
    return await packages.take_in(bricola, *_wish(body), user.name)
