"""Workflows in the management API: the list, a look at one that is written, expressions that are tried."""

from typing import Any, NotRequired

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.bench import StoredChange
from bricola.api.calls import Trace
from bricola.api.definitions import Change


@closed
class RunBy(TypedDict):
    """An operation that runs it, and where that is live."""

    service: str
    operation: str
    environments: list[str]


@closed
class Workflow(TypedDict):
    """One in the list; `problems` is how many mistakes its draft has."""

    name: str
    description: str
    path: str
    steps: int
    problems: int
    writes: bool
    calls: list[str]
    run_by: list[RunBy]


@closed
class FoundProblem(Problem):
    """`step` is the path of the step that it is about, '' for the workflow; `part` which part of it, with dots; `character` where in an
    expression, from 1."""

    step: str
    part: str
    character: NotRequired[int]


@closed
class Name(TypedDict):
    """Something that a step may speak of: the text that names it, its type, whether it may be absent, and a value of the sample."""

    path: str
    type: str
    optional: bool
    value: NotRequired[Any]


@closed
class FilledPart(TypedDict):
    """One part of a map; `line` is what stands there, `proposal` what names and types say should, `fits` what else could."""

    path: str
    type: str
    required: bool
    list: bool
    line: str
    proposal: str
    fits: "list[str]"


@closed
class StepLook(TypedDict):
    """What is known of a step: what it calls (a title of the kind, whether it writes, its faults), the names known before it, its maps."""

    step: str
    kind: str
    writes: bool
    faults: list[str]
    known: list[Name]
    maps: dict[str, list[FilledPart]]


@closed
class Slot(TypedDict):
    name: str
    type: str
    required: bool
    list: bool


@closed
class WorkflowLook(TypedDict):
    """A workflow as it is written: its canonical text, the same as JSON data, and everything that is wrong. `text` is empty where the data
    is no workflow at all. `sample` says where values come from: the number of a call, or '' for made-up ones."""

    name: str
    text: str
    definition: dict[str, Any]
    revision: int
    problems: list[FoundProblem]
    input: list[Slot]
    output: list[Slot]
    faults: list[str]
    steps: list[StepLook]
    sample: str


@closed
class Tried(TypedDict):
    """What an expression gives, with its type; or what is wrong with it."""

    type: str
    value: Any
    problems: list[Problem]


@closed
class DraftRun(TypedDict):
    """What a workflow did as it is written: its answer, or the declared fault (`fault`) or problems by which it failed; `changes` are
    what a trial would have stored."""

    answer: dict[str, Any] | None
    fault: str
    problems: list[Problem]
    micros: int
    trial: bool
    changes: list[StoredChange]
    trace: Trace


@closed
class FunctionHelp(TypedDict):
    form: str
    words: str


@closed
class Offer(TypedDict):
    """Something that a step can call."""

    call: str
    title: str
    description: str
    writes: bool


@closed
class Language(TypedDict):
    """What a workflow is written with: the functions of expressions, and everything that can be called."""

    functions: list[FunctionHelp]
    offers: list[Offer]


@closed
class TakenWorkflow(TypedDict):
    """A workflow that a process became: the operation that runs it, and its text."""

    name: str
    operation: str
    steps: int
    text: str


@closed
class Partner(TypedDict):
    """Whom a process asks: its link, and what the workflows call; `new` where nothing here sent such messages on."""

    link: str
    calls: str
    new: bool


@closed
class LeftOut(TypedDict):
    """Something of a process that was not taken, or (`taken`) in another way: its line, what, and why."""

    line: int
    what: str
    why: str
    taken: bool


@closed
class OpenEnd(TypedDict):
    """An end that is no answer: what it may become, what is proposed, what was chosen ('' while nobody has)."""

    id: str
    line: int
    what: str
    options: "list[str]"
    proposal: str
    chosen: str


@closed
class TakenProcess(TypedDict):
    """A process as drafts, or the plan of them (`applied` false). `problems` is what is still to be done by hand."""

    service: str
    contract: str
    applied: bool
    workflows: list[TakenWorkflow]
    partners: list[Partner]
    left: list[LeftOut]
    endings: list[OpenEnd]
    changes: list[Change]
    problems: list[Problem]
