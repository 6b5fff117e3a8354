"""Programs and copybooks: layouts, records byte by byte, what hosts offer, drafts."""

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change
from bricola.core.cobol.comparing import Moved
from bricola.core.cobol.describing import Layout
from bricola.core.cobol.spreading import Spread


@closed
class Layouts(TypedDict):
    """The records of a copybook, and the reference format that it was read in."""

    records: list[Layout]
    source_format: str


@closed
class SpreadRecord(TypedDict):
    """A record byte by byte: what each byte shows in the code page ("." where it is no letter), and each item with its value."""

    letters: str
    items: list[Spread]


@closed
class HostedProgram(TypedDict):
    """A program that a host offers, the lengths of its areas, and the definitions that call it."""

    name: str
    areas: list[int]
    words: str
    called_by: list[str]


@closed
class AffectedOperation(TypedDict):
    """An operation that needs what changes: by which definitions, which cases prove it, and who called it in the last month."""

    service: str
    operation: str
    by: list[str]
    cases: list[str]
    callers: list[str]


@closed
class TakenCopybook(TypedDict):
    """A copybook that is brought in: whether it is new, how its layout differs from the one that is kept, what would not fit any more, and
    who is affected."""

    new: bool
    differences: list[Moved]
    problems: list[Problem]
    affected: list[AffectedOperation]
    saved: bool
    changes: list[Change]


@closed
class ProgramDraft(TypedDict):
    """Definitions by path: copybooks, records of tables, the program, and a service where one is named."""

    files: dict[str, str]
    saved: bool
    changes: list[Change]
