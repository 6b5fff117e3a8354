"""The jobs of a running service: accepted, done, taken up after the process ended, and what people do with them.

Who does a job has claimed it in the store, under a name that no other process has; whoever lost it goes no further. So a job is done in
one place at a time, even where two processes were started by mistake.
"""

import asyncio
import itertools
from collections.abc import Awaitable, Callable

import structlog

from bricola.core.ages import Ages
from bricola.core.calls.call import Call
from bricola.core.jobs import values
from bricola.core.jobs.journal import Entry, JobStopError, Ledger, StoppedError, UnknownOutcomeError, told_of
from bricola.core.jobs.model import OPEN, Desk, Job, JobLog, JobState
from bricola.core.messages.addressing import reply_address
from bricola.core.messages.envelope import message_id
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.live import LiveOperation, LiveService
from bricola.core.shapes.model import Values

log = structlog.stdlib.get_logger("bricola.jobs")

AT_ONCE = 50  # that run side by side in one process
MOST_WAITING = 10_000  # that wait or run; more are not accepted
CANCELLED = "job.cancelled"
STOP_SECONDS = 15.0  # that steps under way have, when the service stops

Find = Callable[[Job], Awaitable[LiveService]]
Perform = Callable[[LiveService, LiveOperation, Job, Ledger], Awaitable[Values]]


class Jobs:
    """`find` gives the release that accepted a job, `perform` does it; `now` are seconds since 1970. `ended` is told of every job that has
    come to rest; `may_tell` says which addresses callers may have told of it."""

    def __init__(self, store: JobLog, find: Find, perform: Perform, now: Callable[[], float], ages: Ages, new_id: Callable[[], str],
                 worker: str, ended: Callable[[str], None] = lambda job: None,
                 may_tell: Callable[[str], bool] = lambda address: False) -> None:
        self._store, self._find, self._perform = store, find, perform
        self.ages = ages
        self._now, self._new_id, self.worker, self._ended, self.may_tell = now, new_id, worker, ended, may_tell
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._ledgers: dict[str, Ledger] = {}
        self._bound = asyncio.Semaphore(AT_ONCE)
        self._claims = itertools.count(1)
        self._closed = False

    def desk(self, service: LiveService, operation: LiveOperation) -> Desk:
        """What a call of one operation knows of jobs."""
        return _Desk(self, service, operation)

    async def accept(self, job: Job, since: float) -> str:
        """Keep a new job, and begin. The same request may have been accepted for `since` a moment: then that job is the one. Raises
        ProblemError when there are too many."""
        if len(self._tasks) >= MOST_WAITING:
            raise ProblemError(Problem("job.too-many", "More jobs wait than may.", Kind.BUSY, expected=f"up to {MOST_WAITING}",
                                       mend="Send it again later."))
        number = await self._store.accept(job, since)
        self.begin(number)
        return number

    def new_id(self) -> str:
        return self._new_id()

    def now(self) -> float:
        return self._now()

    async def find(self, job: str) -> Job | None:
        return await self._store.find(job)

    async def take_up(self) -> None:
        """Begin every job that waits, and every one that a process left behind."""
        for job in await self._store.open_jobs():
            self.begin(job)

    def begin(self, job: str) -> None:
        """Do it, unless that is being done already."""
        if self._closed or job in self._tasks:
            return
        task = self._tasks[job] = asyncio.ensure_future(self._run(job))
        task.add_done_callback(lambda _: self._tasks.pop(job, None))

    def cancel(self, job: str, why: Problem) -> bool:
        """End one that runs here, and undo what it did; False where it does not run here."""
        ledger, task = self._ledgers.get(job), self._tasks.get(job)
        if ledger is None or task is None:
            return False
        if ledger.cancelled is None:
            ledger.cancelled = why
            task.cancel()
        return True

    async def stop(self) -> None:
        """Let steps under way end, and begin nothing more. What is not done is taken up at the next start."""
        self._closed = True
        for ledger in self._ledgers.values():
            ledger.closed = True
        tasks = list(self._tasks.values())
        for task in tasks:
            task.cancel()
        if tasks:
            _, late = await asyncio.wait(tasks, timeout=STOP_SECONDS)
            if late:
                log.warning("jobs are cut off in the middle of a step", jobs=len(late))

    async def _run(self, number: str) -> None:
        try:
            async with self._bound:
                await self._do(number)
        except asyncio.CancelledError:
            if not self._closed:
                raise
        except ProblemError as error:  # the store does not answer; the next round takes it up
            log.warning("a job waits", job=number, problem=str(error))
        except Exception:
            log.exception("a job failed inside", job=number)

    async def _do(self, number: str) -> None:
        claim = f"{self.worker} {next(self._claims)}"  # what an earlier claim of this process writes counts no more
        claimed = await self._store.claim(number, claim, self._now())
        if claimed is None:
            return
        job, entries = claimed
        ledger = Ledger(number, _Page(self._store, number, claim), job.attempt, self._now, self.ages, {one.key: one for one in entries})
        if job.cancelled:
            ledger.cancelled = cancelled_by(job.cancelled)
        elif job.ends_at <= self._now():  # while no process had it: what it did is undone, step by step, as if somebody wanted its end
            ledger.cancelled = Problem("workflow.time", "The job took longer than it may.", Kind.BUSY,
                                       expected=f"at most {job.ends_at - job.accepted_at:.0f} s")
        self._ledgers[number] = ledger
        try:
            await self._rest(number, claim, *await self._outcome(job, ledger))
        except JobStopError:
            return
        finally:
            self._ledgers.pop(number, None)

    async def _outcome(self, job: Job, ledger: Ledger) -> tuple[JobState, str, str]:
        """How it ended, with what is kept of that, and words for people. Raises JobStopError where it goes no further for now."""
        try:
            service = await self._find(job)
        except ProblemError as error:
            return JobState.WAITING, "", error.problem.sentence()
        try:
            answer = await self._perform(service, service.by_name[job.operation], job, ledger)
            return JobState.DONE, values.written(answer), ""
        except UnknownOutcomeError as stop:
            log.error("a job stops, since the outcome of a step is not known", job=job.id, step=stop.key)
            return JobState.UNKNOWN, values.written(told_of(ProblemError(stop.problem))), f"{stop.problem.message} {stop.problem.mend}"
        except DeclaredFaultError as fault:
            return JobState.FAULT, values.written(told_of(fault)), fault.message
        except ProblemError as error:
            cancelled = any(one.code == CANCELLED for one in error.problems)
            problems = (*error.problems, *(UnknownOutcomeError(key).problem for key in ledger.left_unknown))
            return (JobState.CANCELLED if cancelled else JobState.FAILED, values.written(told_of(ProblemError(*problems))),
                    problems[0].sentence())

    async def _rest(self, job: str, claim: str, state: JobState, outcome: str, words: str) -> None:
        if not await self._store.finish(job, claim, state, outcome, words, self._now()):
            log.error("a job came to an end that somebody else has", job=job)
            return
        if state not in OPEN:
            self._ended(job)


def cancelled_by(who: str) -> Problem:
    return Problem(CANCELLED, "The job was cancelled.", Kind.CONFLICT, found=f"cancelled by {who}")


class _Page:
    """The entries of one job that this process has claimed."""

    __slots__ = ("_claim", "_job", "_store")

    def __init__(self, store: JobLog, job: str, claim: str) -> None:
        self._store, self._job, self._claim = store, job, claim

    async def write(self, entry: Entry) -> None:
        try:
            kept = await self._store.write(self._job, self._claim, entry)
        except ProblemError as error:  # no failure of the step, which may be stored: nothing catches it, nothing is undone for it
            log.warning("a job waits, since its journal cannot be written", job=self._job, step=entry.key, problem=str(error))
            raise StoppedError from None
        if not kept:
            raise StoppedError


class _Desk:
    """Jobs of one operation."""

    __slots__ = ("_jobs", "_operation", "_service")

    def __init__(self, jobs: Jobs, service: LiveService, operation: LiveOperation) -> None:
        self._jobs, self._service, self._operation = jobs, service, operation

    async def accept(self, call: Call, source: str, values_in: Values, seconds: float, call_back: bool) -> str:
        service, now = self._service, self._jobs.ages.latest()
        job = Job(self._jobs.new_id(), service.environment, service.name, service.segment, service.release, self._operation.shape.name,
                  source, call.caller.name, tuple(sorted(call.caller.roles)), now, now + seconds, values.written(values_in), changed_at=now,
                  request=call.request.id if call.request is not None else "")
        since = call.request.since if call.request is not None else now
        return await self._jobs.accept(self._with_reply(job, call) if call_back and call.came is not None else job, since)

    def _with_reply(self, job: Job, call: Call) -> Job:
        """With where its end is told, if the caller named an address. Raises ProblemError for one that the operator does not allow."""
        assert call.came is not None
        address = reply_address(call.came.headers)
        if not address:
            return job
        if not self._jobs.may_tell(address):
            raise ProblemError(Problem("job.reply-to", "No answer is sent to this address.", Kind.PERMISSION, place="Header/ReplyTo",
                                       expected="an address that the operator of the service allows", found=shown(address, 200),
                                       mend="Leave ReplyTo out and ask for the result, or have the address allowed."))
        return job._replace(reply_to=address, message_id=message_id(list(call.came.headers)), soap=call.came.soap)

    async def find(self, call: Call, source: str, number: str) -> Job:
        job = await self._jobs.find(number)
        service = self._service
        if job is None or (job.environment, job.segment, job.source, job.caller) != (
                service.environment, service.segment, source, call.caller.name):
            raise ProblemError(Problem("job.unknown", "There is no such job of yours.", Kind.MISSING, place="job", found=shown(number)))
        return job
