"""Stand-ins: what the inner calls of a workflow are answered instead of being made, so that it runs without its backends."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Record, Values


@dataclass(frozen=True)
class Standing:
    """What one turn of a step is answered, as JSON: an answer, a declared fault with its parts, or the code of a problem. With
    `takes` it is for the turn that asks for just that; the order of turns decides otherwise."""

    step: str
    answer: Mapping[str, Any] = field(default_factory=dict)
    fault: str = ""
    message: str = ""
    detail: Mapping[str, Any] = field(default_factory=dict)
    problem: str = ""
    takes: Mapping[str, Any] | None = None


class StandIns:
    """Those of one call. Each is used once; the last one of a step again and again."""

    def __init__(self, all_of_them: Sequence[Standing]) -> None:
        self._waiting: dict[str, list[Standing]] = {}
        for one in all_of_them:
            self._waiting.setdefault(one.step, []).append(one)

    def knows(self, step: str) -> bool:
        return step in self._waiting

    def answer(self, step: str, output: Record, asked: Mapping[str, Any], faults: Mapping[str, Record]) -> Values:
        """What a call is answered. Raises what it would have failed with, and ProblemError where nothing stands in for it, or what does is
        not of the contract of what is called."""
        one = self._next(step, asked)
        self._fail(one, faults)
        problems: list[Problem] = []
        values = from_plain(output, one.answer, step, problems)
        if problems:
            first = problems[0]
            raise ProblemError(Problem("test.stand-in", f"What stands in for {step} is not what is promised there: {first.message}",
                                       Kind.BACKEND, place=first.place, expected=first.expected, found=first.found))
        return values

    def plain(self, step: str) -> dict[str, Any]:
        """What something is answered that has no contract."""
        one = self._next(step, {})
        self._fail(one, {})
        return dict(one.answer)

    def _next(self, step: str, asked: Mapping[str, Any]) -> Standing:
        waiting = self._waiting.get(step)
        if not waiting:
            raise ProblemError(Problem("test.stand-in", f"Nothing stands in for the step {step}.", Kind.BACKEND, place=step,
                                       expected=", ".join(self._waiting) or "a stand-in", mend="Add it to 'stand_ins:' of the case."))
        one = next((one for one in waiting if one.takes is not None and one.takes == asked), None) or waiting[0]
        if len(waiting) > 1:
            waiting.remove(one)
        return one

    def _fail(self, one: Standing, faults: Mapping[str, Record]) -> None:
        if one.problem:
            raise ProblemError(Problem(one.problem, one.message or "It failed.", Kind.BACKEND))
        if not one.fault:
            return
        record = faults.get(one.fault)
        if record is None:
            raise ProblemError(Problem("test.stand-in", f"What stands in for {one.step} fails in an undeclared way.",
                                       Kind.BACKEND,
                                       place=one.step, expected=", ".join(faults) or "no fault", found=shown(one.fault)))
        told = {"message": one.message} if any(slot.name == "message" for slot in record.slots) else {}
        raise DeclaredFaultError(one.fault, one.message, from_plain(record, {**told, **one.detail}, one.step, []))
