"""Jobs: calls that are answered at once and done later, however often the service is started in between."""

from enum import StrEnum
from typing import Any, NamedTuple, Protocol

from bricola.core.jobs.journal import Entry
from bricola.core.problems import Kind, Problem


class JobState(StrEnum):
    """Where a job is. In the last five it rests; people may have it tried again from all of them but `done`."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAULT = "fault"  # ended with a declared fault
    FAILED = "failed"
    CANCELLED = "cancelled"
    UNKNOWN = "outcome unknown"  # a person has to say what happened
    LEFT = "ended by hand"


OPEN = frozenset({JobState.WAITING, JobState.RUNNING})


class Act(StrEnum):
    """What people do with a job."""

    CANCEL = "cancel"  # end it, and undo what it did
    AGAIN = "again"  # try it again: what it stored and is still there stays, all else is done anew
    STORED = "stored"  # the step whose outcome is unknown was stored, and answered this
    NOT_STORED = "not stored"  # it was not: do it now
    LEAVE = "leave"  # end it as it is: a person has set it right


# From which states each act is possible.
ACTS: dict[Act, frozenset[JobState]] = {
    Act.CANCEL: frozenset({JobState.WAITING, JobState.RUNNING, JobState.UNKNOWN}),
    Act.AGAIN: frozenset({JobState.FAULT, JobState.FAILED, JobState.CANCELLED}),
    Act.STORED: frozenset({JobState.UNKNOWN}),
    Act.NOT_STORED: frozenset({JobState.UNKNOWN}),
    Act.LEAVE: frozenset({JobState.UNKNOWN, JobState.FAILED, JobState.FAULT, JobState.CANCELLED}),
}


class Job(NamedTuple):
    """One job. Moments are seconds since 1970; `given` and `outcome` are values as text, or problems; `cancelled` says who wants its end;
    `worker` is the claim of the process that has it; `reply_to` an address that is told of the end, `told` what became of
    that."""

    id: str
    environment: str
    service: str
    segment: str
    release: int
    operation: str
    source: str
    caller: str
    roles: tuple[str, ...]
    accepted_at: float
    ends_at: float
    given: str
    state: JobState = JobState.WAITING
    attempt: int = 1
    worker: str = ""
    steps: int = 0  # that are done
    step: str = ""  # the last one that began
    changed_at: float = 0.0
    words: str = ""  # why it failed, or waits
    outcome: str = ""
    cancelled: str = ""
    request: str = ""  # the mark of the request that it was accepted for
    reply_to: str = ""
    message_id: str = ""
    soap: str = ""  # the version that it came in
    told: str = ""


def ended_by_hand(job: str) -> Problem:
    """What callers are told of a job that people ended as it was."""
    return Problem("job.ended-by-hand", "The people who run the service ended this job, and answer for it.", Kind.CONFLICT, place="job",
                   found=job)


class JobLog(Protocol):
    """Where jobs are kept, durably. All raise ProblemError when the store cannot do it."""

    async def accept(self, job: Job, since: float) -> str:
        """Keep a new job; its id, or that of the one that was accepted for the same request at or after a moment."""
        ...

    async def claim(self, job: str, worker: str, at: float) -> tuple[Job, list[Entry]] | None:
        """Take a job that waits or runs, whoever had it; None for one that rests."""
        ...

    async def write(self, job: str, worker: str, entry: Entry) -> bool:
        """False when the job is not this worker's."""
        ...

    async def finish(self, job: str, worker: str, state: JobState, outcome: str, words: str, at: float) -> bool: ...

    async def find(self, job: str) -> Job | None: ...

    async def open_jobs(self) -> list[str]:
        """Those that wait or run; the oldest first."""
        ...


class Desk(Protocol):
    """What a call knows of jobs: it has its own accepted, and asks for those of its operation."""

    async def accept(self, call: Any, source: str, values: dict[str, Any], seconds: float, call_back: bool) -> str:
        """Keep it and begin; its id. `source` is what runs. Raises ProblemError when there are too many."""
        ...

    async def find(self, call: Any, source: str, job: str) -> Job:
        """A job of the same caller, of the same source. Raises ProblemError for any other."""
        ...
