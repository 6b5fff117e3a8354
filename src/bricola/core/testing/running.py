"""Running a suite: its set-up, its cases, several at once, and its clean-up whatever happens.

Who sends what a case says, and reads what comes back, is a door; so that the same runner tests what is live through its own front door, a
release that is not live yet, and a workflow without its backends. A case that speaks of the answer of another waits for it. Cases that
write wait for each other, in the order in which they stand.
"""

import asyncio
import json
import re
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any, Protocol

from bricola.core.definitions.suites import Case, SuiteDefinition
from bricola.core.messages.envelope import Soap
from bricola.core.messages.handout import request_headers
from bricola.core.messages.request import write_request
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import OperationShape, ServiceShape
from bricola.core.testing.checking import check_suite, needed_first
from bricola.core.testing.comparing import judge
from bricola.core.testing.paths import value_at
from bricola.core.testing.places import fill, first_name
from bricola.core.testing.replies import Seen
from bricola.core.testing.tables import row_label, rows_of


class Outcome(StrEnum):
    PASSED = "passed"
    FAILED = "failed"
    LEFT_OUT = "left out"  # not run: what it needs is not there


@dataclass(frozen=True)
class Shot:
    """One request, ready to go. `face` is soap 1.1, soap 1.2 or rest."""

    suite: str
    case: Case
    operation: OperationShape
    face: str
    caller: str
    body: bytes
    headers: Mapping[str, str]
    values: Mapping[str, Any]
    trial: bool


@dataclass(frozen=True)
class Result:
    """What became of one case, for one row. `part` is case, set-up or clean-up. `warnings` are no failures: the answer is as expected, and
    still thin."""

    suite: str
    service: str
    case: str
    row: str
    part: str
    operation: str
    outcome: Outcome
    problems: tuple[Problem, ...] = ()
    warnings: tuple[Problem, ...] = ()
    seconds: float = 0.0
    call: str = ""
    status: int = 0
    caller: str = ""
    face: str = ""
    expected: str = ""
    sent: bytes = b""
    seen: Seen | None = field(default=None, repr=False)
    values: Mapping[str, Any] = field(default_factory=dict, repr=False)


class Door(Protocol):
    """What a request goes through. `send` raises ProblemError where no reply comes at all. `beside` is the answer beside what is stored;
    None where nothing can be read. `thin` says why an answer that is right still looks empty."""

    async def send(self, shot: Shot) -> tuple[Seen, str]: ...
    async def beside(self, shot: Shot, seen: Seen) -> Mapping[str, Any] | None: ...
    async def thin(self, shot: Shot, seen: Seen) -> Sequence[Problem]: ...
    async def close(self) -> None: ...
    def why_not(self, case: Case, operation: OperationShape) -> str:
        """Why a case is not run here; '' when it is."""
        ...


Emit = Callable[[Result], None]
Verdict = Callable[[Case, OperationShape, Seen], list[Problem]]  # of generated tests, whose promise is a class of answers
LARGE = 200_000  # bytes of a reply, from which on it is looked at beside the event loop
_GONE_AFTER = 3  # replies in a row that did not come, until the rest is left out


class SuiteRun:
    """One suite at one door. `values` are those of the environment; `bound` is what all suites of a run share; `chosen` says which cases
    run, with those whose answers they need. A `verdict` stands for what cases expect, where they are generated."""

    def __init__(self, suite: SuiteDefinition, shape: ServiceShape, door: Door, values: Mapping[str, str], made: Mapping[str, str],
                 bound: asyncio.Semaphore, emit: Emit, chosen: Callable[[str], bool] = lambda name: True,
                 verdict: Verdict | None = None) -> None:
        self._suite, self._shape, self._door = suite, shape, door
        self._values = {**suite.values, **values, **made}
        self._bound, self._emit, self._chosen = bound, emit, chosen
        self._answers: dict[str, Mapping[str, Any]] = {}
        self._done: dict[str, asyncio.Event] = {}
        self._writing = asyncio.Lock()
        self._gone = 0
        self._verdict = verdict
        parts = {one.name for _, one in suite.all_parts}
        self._wrong = _by_part(check_suite(suite, shape, {*values, *made}), parts) if verdict is None else {}

    def count(self) -> int:
        """How many results its cases will have."""
        return sum(self._rows(one) for one in self._wanted())

    def _rows(self, case: Case) -> int:
        try:
            return len(rows_of(self._suite, case, case.name))
        except ProblemError:
            return 1

    def _wanted(self) -> list[Case]:
        """The chosen cases with those whose answers they need."""
        found = {one.name: one for one in self._suite.cases if self._chosen(one.name)}
        waiting = list(found.values())
        while waiting:
            for name in needed_first(self._suite, waiting.pop()):
                one = self._suite.case(name)
                if one is not None and name not in found:
                    found[name] = one
                    waiting.append(one)
        return [one for one in self._suite.cases if one.name in found]

    async def run(self) -> None:
        """Everything; results are emitted as they come. A run that is cancelled cleans up, too."""
        wanted = self._wanted()
        if not wanted:
            return
        self._done = {one.name: asyncio.Event() for one in wanted}
        try:
            whole = self._wrong.get("")
            why = whole[0] if whole else await self._steps(self._suite.set_up, "set-up", "")
            if why:
                for one in wanted:
                    self._leave_out(one, why)
                return
            async with asyncio.TaskGroup() as tasks:
                for one in wanted:
                    tasks.create_task(self._case(one))
        finally:
            await asyncio.shield(self._end())

    async def _end(self) -> None:
        try:
            await self._steps(self._suite.clean_up, "clean-up", "")
        finally:
            await self._door.close()

    async def _case(self, case: Case) -> None:
        try:
            for name in needed_first(self._suite, case):
                await self._done[name].wait()
                if name not in self._answers:
                    self._leave_out(case, Problem("test.needed", f"{name} gave no answer, and this speaks of it.", place=name))
                    return
            if case.writes:
                async with self._writing, self._bound:
                    await self._case_rows(case)
            else:
                await self._case_rows(case, self._bound)
        finally:
            self._done[case.name].set()

    async def _case_rows(self, case: Case, bound: asyncio.Semaphore | None = None) -> None:
        operation = self._shape.operation(case.operation)
        try:
            rows = rows_of(self._suite, case, case.name)
        except ProblemError:
            rows = [{}]
        wrong = self._wrong.get(case.name, [])
        why = self._door.why_not(case, operation) if operation is not None and not wrong else ""
        if wrong or operation is None:
            self._emit(replace(self._empty(case, "case"), outcome=Outcome.FAILED, problems=tuple(wrong)))
        elif why:
            self._leave_out(case, Problem("test.not-here", why))
        elif len(rows) == 1 or bound is None:
            for number, row in enumerate(rows):
                await self._row(case, operation, row, row_label(row, number) if case.rows else "", bound)
        else:
            async with asyncio.TaskGroup() as tasks:
                for number, row in enumerate(rows):
                    tasks.create_task(self._row(case, operation, row, row_label(row, number), bound))

    async def _row(self, case: Case, operation: OperationShape, row: Mapping[str, str], label: str,
                   bound: asyncio.Semaphore | None) -> None:
        if bound is not None:
            async with bound:
                await self._row(case, operation, row, label, None)
            return
        if self._gone >= _GONE_AFTER:
            self._leave_out(case,
                            Problem("test.gone", f"{self._shape.name} does not answer any more, so the rest is left out.", Kind.BACKEND),
                            label)
            return
        scope = dict(row)
        try:
            why = await self._steps(case.set_up, "set-up", case.name, scope)
            if why:
                self._leave_out(case, why, label)
                return
            result = await self._shoot(case, operation, scope, "case", label)
            self._emit(result)
        finally:
            if case.clean_up:
                await asyncio.shield(self._steps(case.clean_up, "clean-up", case.name, scope))

    async def _steps(self, names: Sequence[str], part: str, of: str, scope: Mapping[str, str] | None = None) -> Problem | None:
        """Run steps, one after the other; a clean-up goes on when one fails. Why what follows cannot run; None when it can."""
        for name in names:
            step = self._suite.step(name)
            operation = self._shape.operation(step.operation) if step is not None else None
            label = f"{of}/{name}" if of else name
            if step is None or operation is None or self._wrong.get(name):
                wrong = tuple(self._wrong.get(name, ())) or (Problem("test.step", "There is no such step.", place=name),)
                result = replace(self._empty(step, part) if step is not None else self._nameless(name, part), outcome=Outcome.FAILED,
                                 problems=wrong)
            else:
                inner = await self._steps(step.set_up, "set-up", label, scope)
                if inner is not None:
                    if part == "set-up":
                        return inner
                    continue
                result = await self._shoot(step, operation, dict(scope or {}), part, "")
                await self._steps(step.clean_up, "clean-up", label, scope)
            result = replace(result, case=label)
            if result.outcome is not Outcome.PASSED or part == "case":
                self._emit(result)
            if result.outcome is not Outcome.PASSED and part == "set-up":
                first = result.problems[0] if result.problems else None
                return Problem("test.set-up", f"The set-up {name} failed" + (f": {first.message}" if first is not None else "."),
                               place=name,
                               expected=first.expected if first is not None else "", found=first.found if first is not None else "")
        return None

    def _nameless(self, name: str, part: str) -> Result:
        return Result(self._suite.name, self._shape.name, name, "", part, "", Outcome.FAILED)

    def _empty(self, case: Case, part: str) -> Result:
        return Result(self._suite.name, self._shape.name, case.name, "", part, case.operation, Outcome.LEFT_OUT,
                      expected=case.expects.words, caller=case.caller or self._suite.caller)

    def _leave_out(self, case: Case, why: Problem, label: str = "") -> None:
        self._emit(replace(self._empty(case, "case"), row=label, problems=(why,)))

    def _scope(self, row: Mapping[str, str], place: str) -> Callable[[str], Any]:
        def look(name: str) -> Any:
            first = first_name(name)
            if first == name:
                if name in row:
                    return row[name]
                if name in self._values:
                    return self._values[name]
            elif first in self._answers:
                return value_at(name[len(first):].lstrip("."), self._answers[first], place)
            raise ProblemError(Problem("test.place", "Nothing stands at this place.", place=place, found=f"{{{name}}}",
                                       expected=", ".join(sorted({*row, *self._values, *self._answers}))[:500]))

        return look

    async def _shoot(self, case: Case, operation: OperationShape, row: Mapping[str, str], part: str, label: str) -> Result:
        """Send one request, and hold what comes back against what is expected."""
        result = replace(self._empty(case, part), row=label)
        scope = self._scope(row, case.name)
        started = time.perf_counter()
        try:
            shot = make_shot(self._suite, case, self._shape, operation, scope)
        except ProblemError as error:
            return replace(result, outcome=Outcome.FAILED, problems=error.problems)
        result = replace(result, face=shot.face, sent=shot.body, values=shot.values)
        try:
            seen, caller = await self._door.send(shot)
        except ProblemError as error:
            self._gone += error.problem.kind in (Kind.BACKEND, Kind.UNREACHABLE)
            return replace(result, outcome=Outcome.FAILED, problems=error.problems, seconds=time.perf_counter() - started)
        self._gone = self._gone + 1 if _is_gone(seen) else 0
        stored = None
        if _asks_source(case) and seen.answer is not None:
            try:
                stored = await self._door.beside(shot, seen)
            except ProblemError as error:
                return replace(result, outcome=Outcome.FAILED, problems=error.problems, seconds=seen.seconds, call=seen.call, seen=seen)
        verdict = self._verdict

        def look() -> list[Problem]:
            return verdict(case, operation, seen) if verdict is not None else judge(operation, case.expects, seen, scope, stored)

        problems = await asyncio.to_thread(look) if len(seen.body) > LARGE else look()
        if seen.answer is not None and case.expects.answered and not problems:
            self._answers[case.name] = seen.answer
        warnings: Sequence[Problem] = ()
        if not problems and self._verdict is None and seen.answer is not None and part == "case" and not _foresees_nothing(case):
            warnings = await self._door.thin(shot, seen)
        return replace(result, outcome=Outcome.FAILED if problems else Outcome.PASSED, problems=tuple(problems), warnings=tuple(warnings),
                       seconds=seen.seconds, call=seen.call, status=seen.status, caller=caller, seen=seen)


def alone(suite: SuiteDefinition, case: Case, shape: ServiceShape, values: Mapping[str, str]) -> tuple[Shot, Callable[[str], Any]]:
    """The request of one case by itself, for its first row, with what stands at its places. Raises ProblemError for one that speaks of the
    answer of another."""
    operation = shape.operation(case.operation)
    problems = [one for one in check_suite(suite, shape, values) if f", {case.name}" in one.place]
    if problems or operation is None:
        raise ProblemError(*problems or [Problem("test.operation", "The service has no such operation.", place=case.operation)])
    given = {**suite.values, **values, **rows_of(suite, case, case.name)[0]}

    def scope(name: str) -> Any:
        if name not in given:
            raise ProblemError(Problem("test.alone", f"{case.name} takes {{{name}}} of what came before it.", place=case.name,
                                       mend="Run it with its suite: bricola test ENVIRONMENT --suite " + suite.name))
        return given[name]

    return make_shot(suite, case, shape, operation, scope), scope


def _is_gone(seen: Seen) -> bool:
    """Nothing is deployed there any more, or what is deployed cannot answer."""
    return seen.fault is not None and any(one.code.startswith(("service.", "gateway.")) for one in seen.fault.problems) and seen.status in (
        404, 503)


def _asks_source(case: Case) -> bool:
    return case.expects.equals_source or any(one.source for one in case.expects.values.values())


def _foresees_nothing(case: Case) -> bool:
    """Whether the case itself says that something is empty."""
    return any(one.absent or one.count in (0, "0", (0, 0)) for one in case.expects.values.values())


def make_shot(suite: SuiteDefinition, case: Case, shape: ServiceShape, operation: OperationShape, scope: Callable[[str], Any]) -> Shot:
    """The request of a case. Raises ProblemError."""
    face = case.face or (f"soap {shape.soap[0]}" if shape.soap else "rest")
    values = fill(case.values, scope)
    trial = operation.writes and not case.writes
    if face == "rest":
        body, headers = json.dumps(values, ensure_ascii=False).encode(), {"Content-Type": "application/json"}
    else:
        version = next(one for one in Soap if one.number == face.removeprefix("soap "))
        headers = request_headers(shape, operation, version)
        body = (str(fill(case.envelope, scope, in_xml=True)).encode() if case.envelope
                else write_request(version, shape.namespace, operation, values))
    if trial:
        headers["Bricola-Trial"] = "true"
    caller = "" if case.identity not in ("", "expired-token") else case.caller or suite.caller
    return Shot(suite.name, case, operation, face, caller, body, headers, values, trial)


def _by_part(problems: Sequence[Problem], parts: Collection[str]) -> dict[str, list[Problem]]:
    """The problems of a suite by the case or step that they are about; '' for those of all of it."""
    found: dict[str, list[Problem]] = {}
    for one in problems:
        place = re.match(r"test-suite [^,]+, (?:cases|steps), ([\w-]+)", one.place)
        name = place[1] if place is not None and place[1] in parts and one.code != "test.circle" else ""
        found.setdefault(name, []).append(one)
    return found
