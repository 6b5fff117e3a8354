"""A program in an environment: its steps as functions, made when it is deployed.

Strategy: each step becomes a function of the run and its names. Steps that wait for nothing are plain functions, and a block runs them
without a task switch; the others are awaited. A step says whether it ended the workflow. Names live in one mapping a run; a loop that does
several items at once gives each item a copy, so no two ever share one. What goes through long lists is given a small budget first and, when
that is spent, done again in a thread, since expressions change nothing.
"""

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable, Coroutine, Mapping, Sequence
from copy import copy
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any, NamedTuple, TypeVar

from bricola.core.calls.call import Call, Handler, out_of_time
from bricola.core.calls.written import mark_undone
from bricola.core.expressions.arithmetic import Budget, FailedError, SpentError, parts_of
from bricola.core.expressions.compiling import AT_MOST, AT_ONCE, Compiled, spent
from bricola.core.jobs.journal import CancelledByPersonError, Done, Once, StoppedError, UnknownOutcomeError
from bricola.core.jobs.marks import RequestMark
from bricola.core.kinds.workflows.definition import MOST_SECONDS
from bricola.core.kinds.workflows.knowledge import CALL
from bricola.core.kinds.workflows.program import Catching, Program
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Values

Names = dict[str, Any]
SyncStep = Callable[["Run", Names, int], bool]
AsyncStep = Callable[["Run", Names], Awaitable[bool]]
_TURN = 0.002  # seconds that steps run without giving others a turn
UNDO_SECONDS = 30.0  # that what undoes a step may take, though the call's own time is over
_TRIED_AGAIN = (Kind.BACKEND, Kind.UNREACHABLE, Kind.BUSY)
T = TypeVar("T")
FAILURES = (ProblemError, DeclaredFaultError)


_UNFORESEEN = Problem("internal", "Something failed that was not foreseen.")


class Undo(NamedTuple):
    """How something that is done is undone: with which values (a text: why they could not be worked out), and what it wrote to. `key` says
    which of the times that the step at `path` was done, and `how` it is done at most once."""

    path: str
    key: str
    given: Values | str
    run: Callable[[Call, RequestMark | None], Awaitable[None]]
    backends: frozenset[str]
    how: Once


Undoer = Callable[["Run", Values | str, str], Undo]  # of a step: from the run, the values and the key


class Run:
    """One run of a workflow: the call that it answers, the answer, and what undoes the steps that are done."""

    __slots__ = ("answer", "call", "depth", "journal", "since", "undo")

    def __init__(self, call: Call, depth: int = 1) -> None:
        self.call = call
        self.answer: Values | None = None
        self.undo: list[Undo] = []
        self.depth = depth
        self.journal = call.journal
        self.since = time.monotonic()

    def child(self) -> "Run":
        """For steps that run beside others: what they note of the call is their own, what undoes them belongs to all."""
        one = Run(copy(self.call), self.depth)
        one.undo = self.undo
        one.journal = self.journal
        return one

    def key(self, path: str) -> str:
        """Which of the times that a step is done this is."""
        return self.journal.key(path) if self.journal is not None else path

    async def value(self, compiled: Compiled, names: Names) -> Any:
        """What an expression gives, in a thread where it takes long."""
        if not compiled.loops:
            return compiled.run(names, None)
        try:
            return compiled.run(names, Budget(AT_ONCE))
        except SpentError:
            return await self.beside(lambda most: compiled.run(names, Budget(most, self._late)))

    async def beside(self, work: Callable[[int], Any]) -> Any:
        try:
            return await asyncio.to_thread(work, AT_MOST)
        except SpentError:
            raise (out_of_time() if self._late() else spent()) from None

    def _late(self) -> bool:
        return self.call.deadline is not None and time.monotonic() > self.call.deadline

    async def turn(self) -> None:
        """Let others run, when this has done so for long; and stop when time is over."""
        now = time.monotonic()
        if now - self.since > _TURN:
            if self.call.deadline is not None and now > self.call.deadline:
                raise out_of_time()
            await asyncio.sleep(0)
            self.since = time.monotonic()


class Steps:
    """A block, ready to run."""

    __slots__ = ("_steps",)

    def __init__(self, steps: Sequence[tuple[SyncStep | None, AsyncStep | None]]) -> None:
        self._steps = tuple(steps)

    async def run(self, run: Run, names: Names) -> bool:
        """Whether the workflow has ended."""
        for plain, waiting in self._steps:
            if plain is not None:
                try:
                    ended = plain(run, names, AT_ONCE)
                except SpentError:
                    ended = await run.beside(lambda most, plain=plain: plain(run, names, most))  # type: ignore[misc]
            else:
                assert waiting is not None
                ended = await waiting(run, names)
            if ended:
                return True
        return False


def given(compiled: Compiled, names: Names, most: int) -> Any:
    """What an expression gives, within a budget."""
    return compiled.run(names, Budget(most) if compiled.loops else None)


# catching


def caught_names(error: BaseException, step: str) -> Values:
    """What a handler knows of a failure."""
    if isinstance(error, DeclaredFaultError):
        return {"code": "fault", "message": error.message, "sentence": error.message, "step": step, "fault": error.name,
                "detail": dict(error.detail)}
    assert isinstance(error, ProblemError)
    problem = error.problem
    told = {"code": problem.code, "message": problem.message, "sentence": problem.sentence(), "step": step, "place": problem.place,
            "expected": problem.expected, "found": problem.found, "mend": problem.mend}
    return {name: text for name, text in told.items() if text or name in ("code", "message", "sentence", "step")}


def handles(one: Catching, error: BaseException) -> bool:
    if isinstance(error, DeclaredFaultError):
        return one.fault == error.name or not (one.fault or one.codes)
    assert isinstance(error, ProblemError)
    code = error.problem.code
    return any(code == first or code.startswith(f"{first}.") for first in one.codes) if one.codes else not one.fault


async def again(run: Run, tries: int, pause: float, ask: Callable[[], Awaitable[T]]) -> T:
    """Ask up to so many times, while what fails may pass by itself. Only for what reads: the review sees to that."""
    for _ in range(tries - 1):
        try:
            return await ask()
        except ProblemError as error:
            if error.problem.kind not in _TRIED_AGAIN:
                raise
            run.call.tried_again(error.problem.sentence())
            await asyncio.sleep(pause)
    return await ask()


# running


def compile_program(program: Program, block: Steps, undoers: Mapping[str, Undoer]) -> Handler:
    """The handler of a workflow. `block` are its steps in the environment, `undoers` undo them, by their paths."""
    definition = program.definition
    bound = asyncio.Semaphore(definition.at_once) if definition.at_once is not None else None
    optional = {one.name: one.default for one in program.input.slots if one.default is not None}

    async def run(call: Call, values: Values) -> Values:
        one = Run(call, call.span.depth + 1 if call.span is not None else 1)
        names: Names = {**optional, **values}
        names[CALL] = {"id": call.id, "caller": call.caller.name, "at": datetime.fromtimestamp(call.at, UTC).replace(microsecond=0),
                       "trial": call.trial is not None}
        journal = call.journal
        if journal is not None and (before := journal.ended()) is not None:  # it was cut off while it was being undone
            one.undo = [undoers[path](one, given, key) for key, path, given in journal.to_undo()]
            raise await _undone(one, program, before)
        try:
            if definition.seconds is None or journal is not None:  # the call's own deadline bounds it
                left = call.seconds_left(time.monotonic(), MOST_SECONDS) if journal is not None and call.deadline is not None else None
                async with asyncio.timeout(left):
                    await block.run(one, names)
            else:
                async with asyncio.timeout(definition.seconds):
                    await block.run(one, names)
        except TimeoutError:
            most = f"at most {definition.seconds:g} s" if definition.seconds is not None else ""
            error = ProblemError(Problem("workflow.time", "The workflow took longer than it may.", Kind.BUSY, expected=most))
            raise await _undone(one, program, error) from None
        except FAILURES as failure:
            raise await _undone(one, program, failure) from None
        except (StoppedError, UnknownOutcomeError):
            raise
        except BaseException as failure:
            raise await asyncio.shield(_stopped(one, program, failure)) from None
        return one.answer if one.answer is not None else {}

    async def bounded(call: Call, values: Values) -> Values:
        assert bound is not None
        if call.journal is not None and call.journal.cancelled is not None:
            return await run(call, values)  # it ends, and what it did is undone: nobody waits in line for that
        try:
            async with asyncio.timeout(call.seconds_left(time.monotonic(), MOST_SECONDS)):
                await bound.acquire()
        except TimeoutError:
            raise out_of_time() from None
        try:
            return await run(call, values)
        finally:
            bound.release()

    return run if bound is None else bounded


async def _stopped(run: Run, program: Program, failure: BaseException) -> BaseException:
    """What is raised when it did not fail by itself: it was cut off from outside, or somebody wants the job to end."""
    journal = run.journal
    if journal is not None and journal.closed:
        return StoppedError()
    if journal is None or journal.cancelled is None:
        await _undone(run, program, failure)
        return failure
    inside = failure.told if isinstance(failure, CancelledByPersonError) else None
    told = await _undone(run, program, inside or ProblemError(journal.cancelled))
    return told if journal.outermost else CancelledByPersonError(told)


async def _undone(run: Run, program: Program, failure: BaseException) -> BaseException:
    """Undo what was done, the newest first, and give the failure as callers are told of it."""
    left: list[Problem] = []
    if run.journal is not None:
        await run.journal.ending(failure)
    if run.undo and run.call.trial is None:  # a trial has stored nothing
        run.call.deadline = max(run.call.deadline or 0.0, time.monotonic() + UNDO_SECONDS)
        for one in reversed(run.undo):
            try:
                await _undo(run, one)
                run.call.note(f"{one.path} is undone")
                if run.call.written is not None:
                    mark_undone(run.call.written, one.key, one.path)
            except (Exception, UnknownOutcomeError) as error:  # whatever it is: the others are still undone, and this one is reported
                problem = error.problem if isinstance(error, ProblemError | UnknownOutcomeError) else _UNFORESEEN
                if isinstance(error, DeclaredFaultError):
                    problem = Problem("fault", str(error), found=error.name)
                run.call.note(f"{one.path} could not be undone")
                left.append(Problem("workflow.not-undone", f"{one.path} could not be undone.", Kind.BACKEND, place=one.path,
                                    found=problem.sentence(), inner=problem.inner or repr(error),
                                    mend="Look at what it wrote, and set it right by hand."))
    if isinstance(failure, DeclaredFaultError) and not left:
        passing = program.passing.get(failure.name)
        if passing is not None:
            return DeclaredFaultError(passing.fault, failure.message,
                                      passing.detail.value({"detail": {"message": failure.message, **failure.detail}}))
        return failure
    if not left:
        return failure
    first = failure.problems if isinstance(failure, ProblemError) else (
        Problem("workflow.failed", str(failure), Kind.CONFLICT, found=getattr(failure, "name", "")),)
    return ProblemError(*left, *first)


async def _undo(run: Run, one: Undo) -> None:
    if run.journal is None:
        await one.run(run.call, None)
        return

    async def work(mark: RequestMark | None) -> Done:
        await one.run(run.call, mark)
        return Done(None)

    await to_its_end(run.journal.once(run.journal.undoing(one.key), one.how, work))


async def to_its_end(work: Coroutine[Any, Any, T], done: Callable[[T], None] = lambda result: None) -> T:
    """What `work` gives, told to `done` also where this is cancelled meanwhile. What is under way may be stored already: who left it there
    would know nothing to undo. It ends by itself, as all that runs in a call does."""
    task = asyncio.ensure_future(work)
    try:
        result = await asyncio.shield(task)
    except asyncio.CancelledError:
        while not task.done():
            with contextlib.suppress(asyncio.CancelledError):
                await asyncio.wait((task,))
        if not task.cancelled() and task.exception() is None:
            done(task.result())
        raise
    done(result)
    return result


async def as_before(run: Run, path: str, undoers: Mapping[str, Undoer], work: Callable[[], Awaitable[T]]) -> T:
    """Steps that run side by side, or against time. In a job, that they failed together is kept: done again, they might meet in another
    order, and end otherwise."""
    journal = run.journal
    if journal is None:
        return await work()
    before = journal.failed(path)
    if before is not None:
        run.undo += [undoers[one](run, given, key) for key, one, given in journal.to_undo(path)]
        raise before
    try:
        return await work()
    except FAILURES as failure:
        await journal.fail(path, failure)
        raise


# time


def seconds_of(value: Any) -> float:
    """Of what a wait says: seconds, or a duration."""
    if isinstance(value, str):
        try:
            months, seconds = parts_of(value)
        except FailedError as error:
            raise ProblemError(Problem("workflow.wait", error.message, found=value)) from None
        if months:
            raise ProblemError(Problem("workflow.wait", "Nobody waits for months.", found=value, expected="days, hours, minutes, seconds"))
        return float(seconds)
    return float(Decimal(value))


def traced(path: str, action: str, step: AsyncStep) -> AsyncStep:
    """A step that notes itself where the call is traced."""
    deep = path.count(".")

    async def noted(run: Run, names: Names) -> bool:
        trace = run.call.trace
        if trace is None:
            return await step(run, names)
        outer = run.call.span
        span = run.call.span = trace.span(path, action, run.depth + deep)
        try:
            return await step(run, names)
        except BaseException as error:
            span.fail(error)
            raise
        finally:
            trace.end(span)
            run.call.span = outer

    return noted


def traced_plain(path: str, action: str, step: SyncStep) -> SyncStep:
    """The same for a step that waits for nothing."""
    deep = path.count(".")

    def noted(run: Run, names: Names, most: int) -> bool:
        trace = run.call.trace
        if trace is None:
            return step(run, names, most)
        outer = run.call.span
        span = run.call.span = trace.span(path, action, run.depth + deep)
        try:
            return step(run, names, most)
        except SpentError:
            trace.forget(span)
            raise
        except Exception as error:
            span.fail(error)
            raise
        finally:
            trace.end(span)
            run.call.span = outer

    return noted
