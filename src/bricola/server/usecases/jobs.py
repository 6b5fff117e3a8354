"""Jobs for the people who run the service: a list, one in full, and what they decide about it."""

import time
from collections.abc import Mapping
from typing import Any, Protocol

from bricola.core.jobs import values
from bricola.core.jobs.journal import ENDING, UNDONE, Entry, Mark, failure_of, stands
from bricola.core.jobs.model import ACTS, Act, Job, JobState
from bricola.core.messages.plain import from_plain
from bricola.core.messages.showing import Left, shown_plain
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.jobs import Jobs, cancelled_by
from bricola.core.serving.live import LiveOperation, LiveService
from bricola.core.shapes.model import Record
from bricola.server.ports.changes import Change, Changes, Topic
from bricola.server.ports.jobs import StoredJobs
from bricola.store import jobs as stored

_MOST_SHOWN = 50_000


class Ports(Protocol):
    jobs: Jobs
    stored_jobs: StoredJobs
    changes: Changes

    async def job_service(self, job: Job) -> LiveService: ...


async def listed(ports: Ports, environment: str, service: str, state: str, before: float | None, limit: int) -> list[dict[str, Any]]:
    if state and state not in tuple(JobState):
        raise ProblemError(Problem("job.state", "There is no such state.", place="state", choices=tuple(JobState),
                                   found=shown(state)))
    return [_plain(one) for one in await ports.stored_jobs.recent(environment, service, state, before, limit)]


def _plain(job: Job) -> dict[str, Any]:
    return {
        "job": job.id, "environment": job.environment, "service": job.segment, "release": job.release, "operation": job.operation,
        "workflow": job.source, "caller": job.caller, "state": str(job.state), "attempt": job.attempt, "steps": job.steps, "step": job.step,
        "accepted_at": job.accepted_at, "changed_at": job.changed_at, "ends_at": job.ends_at, "words": job.words,
        "reply_to": job.reply_to, "told": job.told, "cancelled_by": job.cancelled,
        "acts": [str(act) for act, states in ACTS.items() if job.state in states],
    }


async def one(ports: Ports, number: str) -> dict[str, Any]:
    """A job with what it took, what each step gave, and how it ended; sensitive values masked."""
    job = await _found(ports, number)
    operation = await _operation(ports, job)
    left = Left(_MOST_SHOWN)
    taken = operation.job.input if operation is not None and operation.job is not None else None
    answer, problems = None, list[dict[str, str]]()
    if job.state is JobState.DONE:
        given = operation.job.output if operation is not None and operation.job is not None else None
        answer = _shown(given, values.read(job.outcome), left)
    elif job.outcome:
        failure = failure_of(values.read(job.outcome))
        problems = ([one.as_dict(for_owners=True) for one in failure.problems] if isinstance(failure, ProblemError) else
                    [Problem("fault", str(failure), Kind.CONFLICT, found=getattr(failure, "name", "")).as_dict()])
    return _plain(job) | {"input": _shown(taken, values.read(job.given), left), "answer": answer, "problems": problems,
                          "journal": [_entry(one, operation, left) for one in await ports.stored_jobs.entries(number)]}


def _shown(record: Record | None, given: Any, left: Left) -> Any:
    """Without the record nobody knows which values are sensitive, so none is shown."""
    return shown_plain(record, given, left) if record is not None else None


def _entry(entry: Entry, operation: LiveOperation | None, left: Left) -> dict[str, Any]:
    shown_as: dict[str, Any] = {"step": entry.key.removesuffix(UNDONE).removesuffix(ENDING) or "the whole", "mark": str(entry.mark),
                                "at": entry.at, "undoing": entry.key.endswith(UNDONE), "value": None, "words": ""}
    if entry.mark is Mark.FAILED:
        shown_as["words"] = str(failure_of(values.read(entry.text)))
    elif entry.mark is Mark.DONE and not shown_as["undoing"]:
        record = operation.job.steps.get(_path(entry.key)) if operation is not None and operation.job is not None else None
        shown_as["value"] = _shown(record, values.read(entry.text)["value"], left)
    return shown_as


def _path(key: str) -> str:
    """Where a step is written, without the indices of loops."""
    return "".join(part.partition("]")[2] if number else part for number, part in enumerate(key.split("[")))


async def _found(ports: Ports, number: str) -> Job:
    job = await ports.stored_jobs.find(number)
    if job is None:
        raise ProblemError(Problem("job.unknown", "There is no such job.", Kind.MISSING, found=shown(number)))
    return job


async def _operation(ports: Ports, job: Job) -> LiveOperation | None:
    """The operation that accepted it, as it was released; None where that cannot be brought up here."""
    try:
        return (await ports.job_service(job)).by_name.get(job.operation)
    except ProblemError:
        return None


async def act(ports: Ports, number: str, what: Act, author: str, answer: Mapping[str, Any] | None) -> dict[str, Any]:
    """Do what a person decides. Raises ProblemError where the job is not in a state for it (any more)."""
    job = await _found(ports, number)
    _check(job, what)
    operation = await _operation(ports, job) if what is Act.STORED else None
    step = _unknown_step(job)
    given = _answer(operation, step, answer) if what is Act.STORED else None

    def work(change: Change) -> None:
        now = stored.find(change.db, number)
        assert now is not None
        _check(now, what)  # somebody else may have decided meanwhile
        known = stored.entries(change.db, number, ports.stored_jobs.unseal)
        at = time.time()
        if what is Act.CANCEL:
            stored.want_end(change.db, number, author)
        elif what is Act.LEAVE:
            stored.leave(change.db, number, f"Ended by {author}.", at)
        elif what is Act.AGAIN:
            stored.resume(change.db, number, [one.key for one in known if one.key not in stands(known)], [], True, at,
                          ports.stored_jobs.seal)
        elif what is Act.NOT_STORED:
            stored.resume(change.db, number, [step], [], False, at, ports.stored_jobs.seal)
        else:
            entry = Entry(step, Mark.DONE, at, now.attempt, values.written({"value": given, "undo": [], "wrote": True}))
            stored.resume(change.db, number, [], [entry], False, at, ports.stored_jobs.seal)
        change.note(author, str(what), f"job {number}", {"state": str(now.state)}, {"step": step} if step else None)

    await ports.changes.make([Topic.JOBS], work)
    if (what is Act.CANCEL and not ports.jobs.cancel(number, cancelled_by(author))) or what not in (Act.CANCEL, Act.LEAVE):
        ports.jobs.begin(number)
    return _plain(await _found(ports, number))


def _check(job: Job, what: Act) -> None:
    if job.state not in ACTS[what]:
        raise ProblemError(Problem("job.state", f"A job that is {job.state} is not for that.", Kind.CONFLICT, place=job.id,
                                   expected=f"a job that is {' or '.join(sorted(ACTS[what]))}", found=str(job.state)))


def _unknown_step(job: Job) -> str:
    """The step whose outcome is not known; '' where there is none."""
    if job.state is not JobState.UNKNOWN or not job.outcome:
        return ""
    failure = failure_of(values.read(job.outcome))
    return failure.problem.place if isinstance(failure, ProblemError) else ""


def _answer(operation: LiveOperation | None, step: str, answer: Mapping[str, Any] | None) -> Any:
    """What a person says that a step gave, held against what it gives."""
    record = operation.job.steps.get(_path(step)) if operation is not None and operation.job is not None else None
    if record is None:
        raise ProblemError(Problem("job.answer", "What this step gives is not known, so its answer cannot be said.", place=step,
                                   mend="Say that it was not stored, or end the job by hand."))
    problems: list[Problem] = []
    found = from_plain(record, dict(answer or {}), step, problems)
    if problems:
        raise ProblemError(*problems)
    return found

