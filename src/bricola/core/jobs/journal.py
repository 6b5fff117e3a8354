"""The journal of a job: what each step gave, kept before the next one begins, so that a job that was cut off goes on where it was.

A job goes on by running its steps again from the beginning. A step that is in the journal gives what it gave, and does nothing; the first
one that is not does its work. Between the two there is at most one step for each thing that runs side by side: it began, and nobody knows
how it ended. What may be done again is done again: what only reads, what says `repeatable`, and what left a mark in the backend's own
transaction, which is found there. Anything else stops the job for a person.

A key says where a step stands, with the index of every loop around it: `items[3].booked`.
"""

import asyncio
import hashlib
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import asdict, dataclass, field
from enum import StrEnum
from typing import Any, NamedTuple, Protocol

from bricola.core.ages import Ages
from bricola.core.durations import DAY
from bricola.core.jobs import values
from bricola.core.jobs.marks import RequestMark
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError

ENDING = "=ending"  # no step has such a name
UNDONE = "=undone"
_MARK_DAYS = 30  # a step that began longer ago finds no mark any more
_SLOW = "outside.slow"
_PAUSES = (0.2, 1.0, 3.0)  # seconds, before a mark is looked for again


class Mark(StrEnum):
    """What is known of a step."""

    BEGAN = "began"
    DONE = "done"
    FAILED = "failed"


class Entry(NamedTuple):
    """`at` is seconds since 1970; `attempt` counts how often people had the job tried again; `text` are values (see `values`)."""

    key: str
    mark: Mark
    at: float
    attempt: int
    text: str = ""


class JobStopError(BaseException):
    """The job goes no further for now. Nothing that a workflow says about failures is about this: nothing catches it, nothing is undone."""


class StoppedError(JobStopError):
    """The process ends, or somebody else has the job."""


class CancelledByPersonError(JobStopError):
    """Somebody wants the job to end: what it did is undone, and nothing new begins. `told` is how a workflow inside ended."""

    def __init__(self, told: BaseException | None = None) -> None:
        super().__init__()
        self.told = told


class UnknownOutcomeError(JobStopError):
    """A step began, and nobody can know how it ended. `key` says which, `why` what is known of it."""

    def __init__(self, key: str, why: str = "") -> None:
        super().__init__(key)
        self.key, self.why = key, why

    @property
    def problem(self) -> Problem:
        return Problem("job.outcome-unknown", f"The step {self.key} was cut off, and whether it was stored is not known.", Kind.CONFLICT,
                       place=self.key, mend="Look at what it writes to, then say what happened.", inner=self.why)


class Page(Protocol):
    """Where the entries of one job are kept, durably. Raises StoppedError when they cannot be, or when the job has passed to somebody
    else."""

    async def write(self, entry: Entry) -> None: ...


@dataclass
class Ledger:
    """All that is known of one job, for every part of it."""

    job: str
    page: Page
    attempt: int
    now: Callable[[], float]
    ages: Ages
    entries: dict[str, Entry] = field(default_factory=dict)
    closed: bool = False  # the process ends: nothing new begins
    cancelled: Problem | None = None  # why it shall end: somebody wants it, or its time was over while nobody had it
    left_unknown: list[str] = field(default_factory=list)  # steps that were given up without knowing how they ended


class Done(NamedTuple):
    """What a step gave. `undo` are the inputs that undo it, by the path of the step; a text says why they could not be worked out."""

    value: Any
    undo: tuple[tuple[str, Any], ...] = ()


class Once(NamedTuple):
    """How a step is done at most once. `writes`: that it begins is kept first. `repeatable`: it may be done again. `marked`: it finds what
    it stored before by the mark that `work` is given. `after_all`: it is done though the job is cancelled."""

    writes: bool = False
    repeatable: bool = False
    marked: bool = False
    after_all: bool = False


READS = Once()


class Journal:
    """The journal as the steps of one workflow see it; one that is called by another writes below the step that calls it."""

    __slots__ = ("_after_all", "_ledger", "_shown", "_stem")

    def __init__(self, ledger: Ledger, stem: str = "", shown: str = "", after_all: bool = False) -> None:
        self._ledger, self._stem, self._shown, self._after_all = ledger, stem, shown, after_all

    @property
    def closed(self) -> bool:
        return self._ledger.closed

    @property
    def cancelled(self) -> Problem | None:
        return self._ledger.cancelled

    @property
    def outermost(self) -> bool:
        return not self._shown

    def key(self, path: str) -> str:
        """Where a step stands."""
        return f"{self._shown}{path[len(self._stem):]}"

    def item(self, path: str, index: int) -> "Journal":
        """The journal of one item of a loop."""
        return Journal(self._ledger, path, f"{self.key(path)}[{index}]", self._after_all)

    def inside(self, path: str) -> "Journal":
        """The journal of a workflow that a step calls."""
        return Journal(self._ledger, "", f"{self.key(path)}/", self._after_all)

    def after_all(self) -> "Journal":
        """The same for what is done though the job is cancelled."""
        return Journal(self._ledger, self._stem, self._shown, True)

    def mark(self, key: str, attempt: int) -> RequestMark:
        """What a writing step leaves in the backend, in its own transaction."""
        ledger = self._ledger
        name = hashlib.sha256(f"{ledger.job}\n{attempt}\n{key}".encode()).hexdigest()
        ages = ledger.ages
        now, days = ages.earliest(), _MARK_DAYS * DAY
        return RequestMark(name, now, ages.latest() + days, now - days, values.written, values.read)

    def go_on(self, how: Once = READS) -> None:
        """Raises JobStopError where nothing new may begin."""
        if self._ledger.closed:
            raise StoppedError
        if self._ledger.cancelled is not None and not (how.after_all or self._after_all):
            raise CancelledByPersonError

    async def once(self, path: str, how: Once, work: Callable[[RequestMark | None], Awaitable[Done]],
                   left: Callable[[], Sequence[tuple[str, Any]]] = tuple) -> Done:
        """What a step gives, worked out at most once. A failure is kept, too, with what it left to be undone. Raises what the step raises,
        and every JobStopError."""
        key, ledger = self.key(path), self._ledger
        known = ledger.entries.get(key)
        if known is not None and known.mark is Mark.DONE:
            return _done(known)
        if known is not None and known.mark is Mark.FAILED:
            raise failure_of(values.read(known.text))
        try:
            self.go_on(how)
        except CancelledByPersonError:
            if known is not None and how.writes:
                ledger.left_unknown.append(key)
            raise
        began = known.at if known is not None else ledger.ages.latest()
        attempt = known.attempt if known is not None else ledger.attempt
        mark = self.mark(key, attempt) if how.marked and how.writes else None
        if known is not None and how.writes and not how.repeatable:
            if mark is None or began + _MARK_DAYS * DAY < ledger.ages.earliest():
                raise UnknownOutcomeError(key)
        elif known is None and how.writes:
            await self._write(Entry(key, Mark.BEGAN, began, attempt))
        try:
            done = await self._settled(key, how, mark, known is not None, work)
        except (ProblemError, DeclaredFaultError) as error:
            await self._write(Entry(key, Mark.FAILED, ledger.now(), attempt, values.written(told_of(error) | {"undo": list(left())})))
            raise
        await self._write(Entry(key, Mark.DONE, ledger.now(), attempt, _kept(done, how.writes)))
        return done

    async def _settled(self, key: str, how: Once, mark: RequestMark | None, began: bool,
                       work: Callable[[RequestMark | None], Awaitable[Done]]) -> Done:
        """Do it, until it is known how it ended. While the backend does not answer, a mark that may be there cannot be looked for."""
        for pause in (*_PAUSES, None):
            try:
                return await work(mark)
            except ProblemError as error:
                unsure = leaves_unknown(error) or (began and error.problem.kind in (Kind.BACKEND, Kind.UNREACHABLE, Kind.BUSY))
                if not (how.writes and unsure) or how.repeatable:
                    raise
                if mark is None or pause is None or self._ledger.closed:
                    raise UnknownOutcomeError(key, str(error)) from None
                began = True
            await asyncio.sleep(pause)
        raise AssertionError  # the last round returns or raises

    def failed(self, path: str) -> Exception | None:
        """How steps that ran side by side, or against time, failed together: the next time they need not meet in the same order."""
        return self._end_of(self.key(path))

    async def fail(self, path: str, failure: Exception) -> None:
        """Keep that they did."""
        if not self._ledger.closed:
            await self._end(self.key(path), failure)

    async def ending(self, failure: BaseException) -> None:
        """Keep that the workflow fails, before anything is undone."""
        await self._end(self._shown, failure)

    def ended(self) -> Exception | None:
        """The failure that it was being undone for when it was cut off."""
        return self._end_of(self._shown)

    async def _end(self, where: str, failure: BaseException) -> None:
        key, ledger = f"{where}{ENDING}", self._ledger
        if key not in ledger.entries:
            await self._write(Entry(key, Mark.FAILED, ledger.now(), ledger.attempt, values.written(told_of(failure))))

    def _end_of(self, where: str) -> Exception | None:
        entry = self._ledger.entries.get(f"{where}{ENDING}")
        return failure_of(values.read(entry.text)) if entry is not None else None

    def to_undo(self, path: str | None = None) -> list[tuple[str, str, Any]]:
        """What is done and can be undone, in the order in which it was done: where, the path of the step, and the input. Of one step with
        all that is inside of it, or of all."""
        start = self._shown if path is None else self.key(path)
        found = []
        for key, entry in self._ledger.entries.items():
            rest = key[len(start):]
            if entry.mark is not Mark.BEGAN and key.startswith(start) and "/" not in rest and "=" not in key and (
                    path is None or rest[:1] in ("", ".", "[")):
                found += [(f"{key}:{number}", one, given) for number, (one, given) in enumerate(values.read(entry.text).get("undo", ()))]
        return found

    def undoing(self, key: str) -> str:
        """Where it is kept that something is undone."""
        return f"{self._stem}{key[len(self._shown):]}{UNDONE}"

    async def _write(self, entry: Entry) -> None:
        await self._ledger.page.write(entry)
        self._ledger.entries.pop(entry.key, None)  # so that they stand in the order in which they ended
        self._ledger.entries[entry.key] = entry


def stands(entries: Sequence[Entry]) -> set[str]:
    """The steps that wrote something which is still there. When a job is tried again, all else is done anew: what was undone, what failed,
    and what was read, since that may have changed."""
    undone = {one.key.removesuffix(UNDONE).rpartition(":")[0] for one in entries if one.key.endswith(UNDONE) and one.mark is Mark.DONE}
    return {one.key for one in entries
            if one.mark is Mark.DONE and "=" not in one.key and one.key not in undone and values.read(one.text)["wrote"]}


def leaves_unknown(error: BaseException) -> bool:
    """Whether a failure says that nobody knows what was stored: a session was lost after something began on it, or the other side got the
    request and did not answer in time."""
    if not isinstance(error, ProblemError):
        return False
    return bool(getattr(error, "begun", False)) or any(one.code.endswith("outcome-unknown") or one.code == _SLOW for one in error.problems)


def _kept(done: Done, wrote: bool) -> str:
    return values.written({"value": done.value, "undo": list(done.undo), "wrote": wrote})


def _done(entry: Entry) -> Done:
    kept = values.read(entry.text)
    return Done(kept["value"], tuple((path, given) for path, given in kept["undo"]))


def told_of(error: BaseException) -> dict[str, Any]:
    """A failure as it is kept."""
    if isinstance(error, DeclaredFaultError):
        return {"fault": error.name, "message": error.message, "detail": dict(error.detail)}
    if isinstance(error, ProblemError):
        return {"problems": [{**asdict(one), "kind": one.kind.name} for one in error.problems]}
    unforeseen = Problem("internal.error", "Something failed that was not foreseen.", Kind.INTERNAL, inner=repr(error))
    return {"problems": [{**asdict(unforeseen), "kind": unforeseen.kind.name}]}


def failure_of(kept: dict[str, Any]) -> Exception:
    """The failure that was kept."""
    if "fault" in kept:
        return DeclaredFaultError(kept["fault"], kept["message"], kept["detail"])
    return ProblemError(*(Problem(**{**one, "kind": Kind[one["kind"]]}) for one in kept["problems"]))
