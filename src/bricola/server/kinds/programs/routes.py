"""Routes for programs and their copybooks."""

import asyncio
from typing import Annotated, Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from bricola.api import programs as answers
from bricola.core.cobol.record import Options
from bricola.core.definitions.base import Name
from bricola.core.definitions.copybooks import CopybookDefinition
from bricola.core.kinds.programs.definition import Held
from bricola.core.problems import Problem, ProblemError, shown
from bricola.server.api.access import Integrator, Running, Viewer
from bricola.server.api.bodies import Guarded, takes_files
from bricola.server.kinds.programs import importing

router = APIRouter(tags=["programs"], route_class=Guarded)

MOST_HEX = 400_000  # letters of a record that is looked at

Word = Annotated[str, Field(max_length=200)]


class CopybookText(BaseModel):
    """A copybook with all that it copies; `source_format` is found out when empty."""

    text: str
    source_format: Literal["", "fixed", "free"] = ""
    members: dict[str, str] = {}
    replacing: dict[str, str] = {}

    def options(self, record: str = "", held: Held | None = None) -> Options:
        held = held or Held()
        return Options(source_format=self.source_format or None, members=self.members, replacing=self.replacing, record=record,
                       native_bytes=held.native_bytes, binary_truncate=held.binary_truncate, table_follows=held.table_follows,
                       order=held.order, floats=held.floats, signs=held.signs)


class LayoutWish(CopybookText):
    held: Held = Held()


class SpreadWish(CopybookText):
    """The bytes of one record in hexadecimal, blanks between them allowed."""

    record: Word = ""
    hex: str = Field(max_length=MOST_HEX)
    held: Held = Held()


class NamedCopybook(CopybookText):
    name: Name
    description: str = Field("", max_length=2000)


class TakenText(CopybookText):
    description: str = Field("", max_length=2000)
    save: bool = False


class AreaWish(BaseModel):
    name: Name
    copybook: Name
    record: Word = ""
    use: Literal["both", "in", "out"] = "both"
    room: Literal["whole", "filled"] = "whole"


class ProgramWish(BaseModel):
    """What a program is made of. `inputs` and `outputs` are items or groups by name or path; guessed where they are not said."""

    name: Name
    description: str = Field("", max_length=2000)
    backend: Name
    calls: str = Field(min_length=1, max_length=200)
    writes: bool = True
    held: Held = Held()
    copybooks: list[NamedCopybook] = Field(default=[], max_length=64)
    areas: list[AreaWish] = Field(min_length=1, max_length=64)
    inputs: list[Word] | None = Field(None, max_length=5000)
    outputs: list[Word] | None = Field(None, max_length=5000)
    service: Word = ""
    operation: Word = ""
    roles: list[Word] = Field(default=[], max_length=50)
    save: bool = False


@router.get("/copybooks", response_model=list[answers.KeptCopybook])
async def kept(_: Viewer, bricola: Running) -> list[dict[str, Any]]:
    """The copybooks that the service keeps, with the programs whose areas they lay out."""
    return importing.kept(bricola)


@router.post("/copybooks/layout", response_model=answers.Layouts)
@takes_files
async def layout(body: LayoutWish, _: Viewer) -> dict[str, Any]:
    """Where each item of a copybook lies; refused with line and column of what is wrong."""
    return await asyncio.to_thread(importing.layouts, body.text, body.options(held=body.held))


@router.post("/copybooks/spread", response_model=answers.SpreadRecord)
@takes_files
async def spread(body: SpreadWish, _: Viewer) -> dict[str, Any]:
    """A record byte by byte: every item with its place in just these bytes, and its value or why it has none."""
    try:
        data = bytes.fromhex("".join(body.hex.split()))
    except ValueError:
        raise ProblemError(Problem("record.hex", "These are no bytes in hexadecimal.", place="hex", found=shown(body.hex),
                                   expected="two digits 0-9 A-F for each byte")) from None
    return await asyncio.to_thread(importing.spread_record, body.text, body.options(body.record, body.held), body.held.code_page, data)


@router.put("/copybooks/{name}", response_model=answers.TakenCopybook)
@takes_files
async def take(name: Name, body: TakenText, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Bring in a copybook, new or instead of the one that is kept: what differs and who is affected; saved as a draft when asked."""
    newer = CopybookDefinition(name=name, **body.model_dump(exclude={"save"}))
    return await importing.take(bricola, bricola.calls, newer, body.save, user.name)


@router.get("/hosted-programs/{environment}/{backend}", response_model=list[answers.HostedProgram])
async def hosted(environment: str, backend: str, _: Integrator, bricola: Running, search: str = "") -> list[dict[str, Any]]:
    """The programs that a host offers, narrowed by a part of their names, with the definitions that call them."""
    return await importing.hosted(bricola, environment, backend, search)


@router.post("/programs", response_model=answers.ProgramDraft)
@takes_files
async def draft(body: ProgramWish, user: Integrator, bricola: Running) -> dict[str, Any]:
    """Make a program of its copybooks, and a service where one is named; saved as drafts when asked."""
    copybooks = [CopybookDefinition(**one.model_dump()) for one in body.copybooks]
    wish = body.model_dump(exclude={"copybooks", "save"})
    return await importing.draft(bricola, wish, copybooks, body.save, user.name)
