"""Definitions as forms: their grammar, names to choose from, and form and text made of each other."""

import asyncio
from dataclasses import asdict
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import forms as answers
from bricola.core.definitions import forms as grammar
from bricola.core.definitions.drawn import Drawn, from_text, from_values
from bricola.core.definitions.folder import folder_of
from bricola.core.definitions.model import BackendDefinition
from bricola.core.definitions.runs import models
from bricola.server.api.access import Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.usecases import drawing, naming

router = APIRouter(tags=["definitions"], route_class=Guarded)


class FormValues(BaseModel):
    """What a form holds: `name`, and the fields that are filled in."""

    kind: str = Field(max_length=80)
    values: dict[str, Any]


class FormText(BaseModel):
    text: str


class Sample(BaseModel):
    """A message or a schema, in XML or JSON; `part` says which of a schema's elements, types or definitions is meant."""

    content: str
    name: str = Field("", max_length=80)
    part: str = Field("", max_length=200)


class Texts(BaseModel):
    """A record, and those beside it that are no drafts yet."""

    texts: list[str] = Field(min_length=1, max_length=500)


@router.get("/forms", response_model=answers.Forms)
async def forms(_: Viewer) -> dict[str, Any]:
    """The grammar of definitions: for each kind its fields, what each takes, and what it means."""
    found = grammar.forms()
    known = models()
    return {"kinds": [{"kind": kind, "group": group, "folder": folder_of(known[kind]), "live": known[kind].live}
                      for kind, group in found.kinds.items()],
            "groups": {name: [asdict(one) for one in slots] for name, slots in found.groups.items()}}


@router.get("/names", response_model=answers.KnownNames)
async def names(_: Viewer, bricola: Running) -> dict[str, Any]:
    """What there is to choose from: names of definitions by kind; also engines, primitives, roles, credentials, and what operations run."""
    return {"names": await naming.names(bricola),
            "engines": {one.name: one.engine for one in bricola.drafts.catalogue.all_of(BackendDefinition)}}


@router.post("/forms/text", response_model=answers.Drawn)
async def write(body: FormValues, _: Viewer) -> dict[str, Any]:
    """The text of what a form holds, with what is wrong with it."""
    return _plain(await asyncio.to_thread(from_values, body.kind, body.values, "form"))


@router.post("/forms/values", response_model=answers.Drawn)
@takes_files
async def read(body: FormText, _: Viewer) -> dict[str, Any]:
    """The values of the form of a text, with what is wrong with it."""
    return _plain(await asyncio.to_thread(from_text, body.text, "form"))


@router.post("/records/drawn", response_model=answers.DrawnRecords)
@takes_files
async def draw_record(body: Sample, _: Viewer, bricola: Running) -> dict[str, Any]:
    """The records that a sample message or a schema shows. Nothing is stored."""
    return await drawing.drawn(bricola, body.content.encode(), body.name, body.part)


@router.post("/records/sample", response_model=answers.SampleMessage)
@takes_files
async def sample_of_record(body: Texts, _: Viewer, bricola: Running) -> dict[str, str]:
    """A message of a record that is being written."""
    return await drawing.sample_message(bricola, body.texts)


def _plain(one: Drawn) -> dict[str, Any]:
    return {"kind": one.kind, "values": one.values, "text": one.text, "problems": [two.as_dict() for two in one.problems],
            "lines": [{"at": list(path), "line": line} for path, line in one.lines]}
