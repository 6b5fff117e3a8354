"""A case made of what happened: a request with its answer, as expectations that a person would write.

What will differ the next time is not taken as it is: moments near the one of the call, tokens that change with every write, values that the
backend made itself. What is sensitive is replaced. Each such choice is told, so that whoever keeps the case can put it right.
"""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from bricola.core.definitions.suites import Case, StandIn
from bricola.core.messages.request import MASK
from bricola.core.messages.samples import smallest
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Element, OperationShape, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.testing.places import literal

_MOST_PATHS = 40
_NEAR = timedelta(days=1)


@dataclass
class Happened:
    """A call that was made. `answer` or `fault` (declared: name and parts; else code and place) is what came; `at` is when."""

    operation: OperationShape
    values: Mapping[str, Any]
    answer: Mapping[str, Any] | None = None
    fault: str = ""
    parts: Mapping[str, Any] = field(default_factory=dict)
    problem: str = ""
    place: str = ""
    envelope: str = ""
    face: str = ""
    caller: str = ""
    trial: bool = False
    at: datetime = field(default_factory=lambda: datetime.now(UTC))
    stand_ins: tuple[StandIn, ...] = ()
    film: str = ""


@dataclass
class Kept:
    """The case, and what was chosen for it: a place, and why it is not the value that came."""

    case: Case
    chosen: list[tuple[str, str]] = field(default_factory=list)


def keep(name: str, one: Happened) -> Kept:
    """The case of a call. Raises ProblemError for one that wrote something, since nobody knows how to take that away."""
    if one.operation.writes and not one.trial and not one.stand_ins and one.answer is not None:
        raise ProblemError(Problem("keep.wrote", "The call stored something, so as a case it must say how that is taken away.",
                                   place=one.operation.name,
                                   mend="Keep a trial of it (--trial), or write the case with 'clean_up:' yourself."))
    maker = _Maker(one)
    values = maker.request(one.operation.input, one.values, "")
    expects: dict[str, Any] = {}
    if one.answer is not None:
        expects["values"] = dict(maker.answer(one.operation.output, one.answer, ""))
    elif one.fault:
        record = next((two.record for two in one.operation.faults if two.name == one.fault), None)
        expects = {"fault": one.fault, "values": dict(maker.answer(record, one.parts, "")) if record is not None else {}}
    else:
        expects = {"problem": one.problem, **({"place": one.place.rpartition("/")[2]} if one.place else {})}
    case = Case.model_validate({
        "name": name, "operation": one.operation.name, "values": literal(values) if not one.envelope else {},
        "envelope": literal(one.envelope), "face": one.face, "caller": "" if one.caller == "anonymous" else one.caller,
        **({"identity": "none"} if one.caller == "anonymous" else {}), "expects": expects, "stand_ins": one.stand_ins, "film": one.film,
        "writes": bool(one.stand_ins) and one.operation.writes and not one.trial})
    return Kept(case, maker.chosen)


class _Maker:
    def __init__(self, one: Happened) -> None:
        self._one = one
        self.chosen: list[tuple[str, str]] = []
        self._given = {str(value) for value in _leaves(one.values)}
        self._left = _MOST_PATHS

    def request(self, record: Record, values: Mapping[str, Any], path: str) -> dict[str, Any]:
        """The values that were sent, without what is sensitive."""
        known = {one.name: one for one in record.slots}
        made: dict[str, Any] = {}
        for name, value in values.items():
            element, at = known.get(name), f"{path}.{name}" if path else name
            if element is not None and isinstance(element.type, Record) and isinstance(value, Mapping):
                made[name] = self.request(element.type, value, at)
            elif element is not None and isinstance(element.type, Record) and isinstance(value, list):
                made[name] = [self.request(element.type, item, at) if isinstance(item, Mapping) else item for item in value]
            elif element is not None and (element.sensitive or value == MASK) and isinstance(element.type, SimpleType):
                made[name] = str(element.sample) if element.sample is not None else smallest(element.type)
                self.chosen.append((at, "it is sensitive, so a sample stands for it"))
            else:
                made[name] = value
        return made

    def answer(self, record: Record, values: Mapping[str, Any], path: str) -> Iterator[tuple[str, Any]]:
        """What is expected at each path."""
        for element in record.slots:
            if element.name not in values or self._left <= 0:
                continue
            value, at = values[element.name], f"{path}.{element.name}" if path else element.name
            if element.is_list:
                yield from self._list(element, value, at)
            elif isinstance(element.type, Record):
                if isinstance(value, Mapping):
                    yield from self.answer(element.type, value, at)
            elif value is not None:
                self._left -= 1
                yield at, self._value(element, element.type, value, at)

    def _list(self, element: Element, value: Any, at: str) -> Iterator[tuple[str, Any]]:
        self._left -= 1
        items = value if isinstance(value, list) else []
        yield at, {"count": len(items)}
        if not items:
            return
        if isinstance(element.type, Record):
            yield from self.answer(element.type, items[0], f"{at}[0]")
        elif isinstance(element.type, SimpleType):
            self._left -= 1
            yield f"{at}[0]", self._value(element, element.type, items[0], f"{at}[0]")

    def _value(self, element: Element, kind: SimpleType, value: Any, at: str) -> Any:
        text = ("true" if value else "false") if isinstance(value, bool) else str(value)
        if element.sensitive or text == MASK:
            self.chosen.append((at, "it is sensitive, so it only has to be there"))
            return {"present": True}
        if element.echoed or element.name.lower().endswith("token"):
            self.chosen.append((at, "it changes with every write, so it only has to be there"))
            return {"present": True}
        if kind.base == "dateTime" and self._is_near(text) and text not in self._given:
            self.chosen.append((at, "it is about the moment of the call, so it only has to be there"))
            return {"present": True}
        if kind.base == "date" and text == self._one.at.date().isoformat() and text not in self._given:
            self.chosen.append((at, "it is the day of the call"))
            return {"equal": "{today}"}
        if self._one.operation.writes and text not in self._given and re.search(r"\d", text) and kind.primitive.python in (str, int):
            pattern = kind.pattern or re.sub(r"\d+", lambda found: f"\\d{{{len(found[0])}}}", re.escape(text).replace("\\-", "-"))
            self.chosen.append((at, f"the backend made it, so it has to have the form {pattern}"))
            return {"matches": literal(pattern)}
        return literal(text)

    def _is_near(self, text: str) -> bool:
        try:
            found = datetime.fromisoformat(text.replace("Z", "+00:00"))
        except ValueError:
            return False
        return abs((found if found.tzinfo is not None else found.replace(tzinfo=UTC)) - self._one.at) < _NEAR


def _leaves(value: Any) -> Iterator[Any]:
    if isinstance(value, Mapping):
        for one in value.values():
            yield from _leaves(one)
    elif isinstance(value, list):
        for one in value:
            yield from _leaves(one)
    else:
        yield value


def stand_ins_of(spans: list[dict[str, Any]]) -> tuple[StandIn, ...]:
    """What the inner calls of a workflow were answered, from the trace of one call; what a called workflow did itself is not asked."""
    found: list[StandIn] = []
    inside: int | None = None
    for one in spans[1:]:
        if inside is not None and one["depth"] > inside:
            continue
        inside = None
        if one["action"] not in ("call", "http"):
            continue
        inside = one["depth"]
        failed = str(one.get("failed", ""))
        parts: dict[str, Any] = {"step": one["name"]}
        if one.get("taken"):
            parts["takes"] = _present(one["taken"])
        if failed and "." not in failed:
            parts |= {"fault": failed, "message": str(one.get("words", ""))[:1000]}
        elif failed:
            parts |= {"problem": failed, "message": str(one.get("words", ""))[:1000]}
        else:
            parts["answer"] = _present(one.get("given") or {})
        found.append(StandIn.model_validate(parts))
    return tuple(found)


def _present(value: Any) -> Any:
    """Without what was absent, and without marks of what a trace cut off."""
    if isinstance(value, Mapping):
        return {name: _present(one) for name, one in value.items() if one is not None}
    return [_present(one) for one in value] if isinstance(value, list) else value


