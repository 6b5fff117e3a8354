"""Jobs in the management API: the list, and one with what each of its steps gave."""

from typing import Any

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.core.jobs.model import Act, JobState


@closed
class Job(TypedDict):
    """Moments are seconds since 1970. `step` is the one that began last, `words` why it failed or waits, `acts` what may be done with it
    now. `reply_to` is the address that is told of its end, `told` what became of that."""

    job: str
    environment: str
    service: str
    release: int
    operation: str
    workflow: str
    caller: str
    state: JobState
    attempt: int
    steps: int
    step: str
    accepted_at: float
    changed_at: float
    ends_at: float
    words: str
    reply_to: str
    told: str
    cancelled_by: str
    acts: list[Act]


@closed
class JobEntry(TypedDict):
    """A line of the journal: where, with the index of every loop around it; `mark` began, done or failed; `undoing` where something was
    undone. `value` is what it gave, where that is known and may be shown."""

    step: str
    mark: str
    at: float
    undoing: bool
    value: Any
    words: str


@closed
class JobDetail(Job):
    """With what it took and gave (sensitive values masked), and how it failed."""

    input: Any
    answer: Any
    problems: list[Problem]
    journal: list[JobEntry]
