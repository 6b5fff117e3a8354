"""Programs and copybooks: layouts, records byte by byte, what hosts offer, drafts."""

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change
from bricola.api.impact import AffectedOperation
from bricola.core.cobol.comparing import Moved
from bricola.core.cobol.describing import Layout
from bricola.core.cobol.spreading import Spread


@closed
class Proposed(TypedDict):
    """What is guessed to go in and to come out of a record, by the paths of its items and tables."""

    record: str
    inputs: list[str]
    outputs: list[str]


@closed
class Layouts(TypedDict):
    """The records of a copybook, the reference format that it was read in, and what may go in and out of each."""

    records: list[Layout]
    source_format: str
    proposals: list[Proposed]


@closed
class KeptCopybook(TypedDict):
    """A copybook that the service keeps, and the programs whose areas it lays out."""

    name: str
    description: str
    source_format: str
    text: str
    members: dict[str, str]
    replacing: dict[str, str]
    programs: list[str]


@closed
class ContractLine(TypedDict):
    """An element of a message: `depth` says how deep in records it stands, `rule` what it takes, `item` where it lies."""

    name: str
    depth: int
    rule: str
    occurrence: str
    item: str


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
    """Definitions by path: copybooks, records of tables, the program, and a service where one is named. `input`, `output`
    and `faults` are what callers will see."""

    files: dict[str, str]
    input: list[ContractLine]
    output: list[ContractLine]
    faults: list[str]
    saved: bool
    changes: list[Change]
