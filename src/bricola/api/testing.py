"""What is answered about test suites and their runs."""

from typing import Any, Literal

from typing_extensions import TypedDict

from bricola.api.base import Line, Problem, closed
from bricola.core.testing.running import Outcome

RunState = Literal["running", "ended", "stopped", "broken off"]


@closed
class TestRun(TypedDict):
    """Moments are seconds since 1970. `total` is how many cases it has. `words` say what it waits for, or
    why it stopped."""

    number: int
    environment: str
    author: str
    begun_at: float
    ended_at: float | None
    state: RunState
    purpose: str
    suites: list[str]
    releases: dict[str, int]
    total: int
    passed: int
    failed: int
    left_out: int
    warned: int
    words: str


@closed
class TestResult(TypedDict):
    """What became of one case for one row, of a set-up or of a clean-up. The first problem is the first difference. `element` and `rule`
    are those of a generated test. Request and response are kept where it failed, without what is sensitive; `values` fill the bench."""

    number: int
    suite: str
    service: str
    case: str
    row: str
    part: str
    operation: str
    outcome: Outcome
    description: str
    expected: str
    problems: list[Problem]
    warnings: list[Problem]
    ms: float
    call: str
    status: int
    caller: str
    face: str
    element: str
    rule: str
    request: str
    response: str
    values: dict[str, Any]


@closed
class ChangedOutcome(TypedDict):
    """A case whose outcome is another than in the run before; `before` is '' for one that was not in it."""

    suite: str
    case: str
    row: str
    before: str
    now: str


@closed
class TestRunDetail(TestRun):
    """With its results from a number on, and what changed since the run before of the same suites there."""

    results: list[TestResult]
    before: int | None
    changes: list[ChangedOutcome]


@closed
class SuiteCase(TypedDict):
    """`fits` are the problems with the draft of the service; `last` is its outcome in the newest run, by environment."""

    name: str
    section: Literal["case", "step"]
    operation: str
    description: str
    expects: str
    caller: str
    face: str
    writes: bool
    rows: int
    fits: list[Problem]
    last: dict[str, str]


@closed
class Suite(TypedDict):
    name: str
    service: str
    description: str
    cases: int
    problems: int
    runs: list[TestRun]  # the newest of each environment


@closed
class SuiteDetail(Suite):
    text: str
    path: str
    parts: list[SuiteCase]
    history: list[TestRun]


@closed
class Chosen(TypedDict):
    """Where something else is expected than came, and why."""

    place: str
    words: str


@closed
class KeptCase(TypedDict):
    """A case that was made of a call, as text, with what was chosen for it. `created`: the suite began with it."""

    suite: str
    case: str
    service: str
    created: bool
    text: str
    chosen: list[Chosen]


@closed
class Mended(TypedDict):
    """What was mended of a suite, what is left, and the lines that differ."""

    suite: str
    mended: list[Chosen]
    left: list[Problem]
    lines: list[Line]


@closed
class CaseForms(TypedDict):
    """A case as a request to be sent from outside: curl, python, zeep, http; `address` is where it goes."""

    address: str
    caller: str
    identity: str
    headers: dict[str, str]
    body: str
    forms: dict[str, str]


@closed
class JudgedReply(TypedDict):
    """What a reply that came elsewhere is worth; `call` is the number under which the service recorded it."""

    call: str
    outcome: Outcome
    problems: list[Problem]
