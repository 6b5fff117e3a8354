"""What stands around every operation of a service: steps before and after it, and what is told of failures that nobody foresaw.

Each is something that an operation could run, and takes what it likes of these values by their names:

| value | of what | |
| --- | --- | --- |
| service, operation, environment, caller, callId | all | text |
| at | all | when the call came, a moment |
| trial | all | whether nothing is stored |
| request | all | what came in, as JSON, with what is sensitive masked |
| answer | after | what goes out, in the same way |
| code, message, sentence | unforeseen | what failed |

What `before` fails with is what the caller gets, and the operation is not run. When `after` fails, the answer stands, since what was done
is done; that failure, and any of the operation that is no declared fault and not the caller's, goes to the handler `unforeseen`.
"""

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.request import MASK
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import OperationShape, Record, Values

_OURS = frozenset({Kind.BACKEND, Kind.UNREACHABLE, Kind.BUSY, Kind.INTERNAL})
BEFORE, AFTER, UNFORESEEN = "before", "after", "unforeseen"
_ALL = {"service": "Locks", "operation": "GetLock", "environment": "live", "caller": "desk", "callId": "0192-1",
        "at": "2026-11-24T06:30:00Z", "trial": False, "request": "{}"}
_OFFERED: dict[str, dict[str, Any]] = {
    BEFORE: _ALL, AFTER: _ALL | {"answer": "{}"},
    UNFORESEEN: _ALL | {"code": "backend.refused", "message": "It does not answer.", "sentence": "It does not answer."}}


def misfits(record: Record, side: str, place: str) -> list[Problem]:
    """The inputs of what stands there that nothing gives, or that are of another type."""
    offered = _OFFERED[side]
    wrong = [Problem("around.input", f"Nothing gives the input {one.name} there.", place=place, found=shown(one.name),
                     expected=f"inputs among {', '.join(offered)}", mend="Make it optional, or take it out.")
             for one in record.elements if one.name not in offered and one.least and one.default is None]
    told: list[Problem] = []
    from_plain(record, _of(record, offered), side, told)
    return wrong + [Problem("around.type", f"The value given there does not fit. {one.message}", place=f"{place}, {one.place}",
                            expected=one.expected, found=one.found) for one in told if not wrong]


def _of(record: Record, values: Mapping[str, Any]) -> dict[str, Any]:
    return {one.name: values[one.name] for one in record.elements if one.name in values}


def values_of(call: Call, environment: str, record: Record, given: Values, more: Mapping[str, Any]) -> dict[str, Any]:
    """What there is to be told of a call, as JSON has it."""
    service, _, operation = call.operation.partition(".")
    return {"service": service, "operation": operation, "environment": environment, "caller": call.caller.name, "callId": call.id,
            "at": datetime.fromtimestamp(call.at, UTC).isoformat().replace("+00:00", "Z"), "trial": call.trial is not None,
            "request": _text(record, given), **more}


def _text(record: Record, values: Values) -> str:
    return json.dumps(_masked(record, to_plain(record, values)), ensure_ascii=False)


def _masked(record: Record, values: Mapping[str, Any]) -> dict[str, Any]:
    """Whole, but for what is sensitive."""
    slots = {one.name: one for one in record.slots}

    def one(name: str, value: Any) -> Any:
        slot = slots.get(name)
        if slot is not None and slot.sensitive and value is not None:
            return MASK
        inner = slot.type if slot is not None and isinstance(slot.type, Record) else None
        if inner is None:
            return value
        return [_masked(inner, item) for item in value] if isinstance(value, list) else _masked(inner, value) if value is not None else None

    return {name: one(name, value) for name, value in values.items()}


def taken(record: Record, values: Mapping[str, Any], side: str) -> Values:
    """What something takes of them. Raises ProblemError where one does not fit."""
    problems: list[Problem] = []
    found = from_plain(record, _of(record, values), side, problems)
    if problems:
        raise ProblemError(*problems)
    return found


def unforeseen(error: ProblemError) -> bool:
    """Whether a failure is one that no caller can do anything about."""
    return error.problem.kind in _OURS or error.problem.code == "fault.undeclared"


def told_of(error: Exception) -> dict[str, str]:
    """What a handler is told of a failure."""
    if isinstance(error, ProblemError):
        first = error.problem
        return {"code": first.code, "message": first.message, "sentence": first.sentence()}
    return {"code": getattr(error, "name", "internal.error"), "message": str(error), "sentence": str(error)}


def with_around(handler: Handler, shape: OperationShape, environment: str, before: tuple[Handler, Record] | None,
                after: tuple[Handler, Record] | None) -> Handler:
    """The handler with what stands around it. A failure of what stands after it is left in `Call.untold`."""
    if before is None and after is None:
        return handler

    async def around(call: Call, given: Values) -> Values:
        if call.stand_ins is not None:
            return await handler(call, given)
        if before is not None:
            call.note("what stands before it")
            try:
                with call.by_values():
                    await before[0](call, taken(before[1], values_of(call, environment, shape.input, given, {}), BEFORE))
            except DeclaredFaultError as fault:
                raise ProblemError(Problem("around.refused", fault.message, Kind.CONFLICT, found=fault.name)) from None
        answer = await handler(call, given)
        if after is not None:
            call.note("what stands after it")
            more = {"answer": _text(shape.output, answer)}
            try:
                with call.by_values():
                    await after[0](call, taken(after[1], values_of(call, environment, shape.input, given, more), AFTER))
            except (ProblemError, DeclaredFaultError) as error:
                call.note(f"what stands after it failed, and the answer stands: {error}")
                call.untold = error
        return answer

    return around

