"""Maps between two records: from where in one each part of the other comes.

A map is lines `target: source` of paths with dots. What has the same name on both sides, letter case aside, needs no line. Where a target
inside a list is filled from inside a list, each item is made of one item. A source that begins with `=` is a text to put there. Lines are
checked and compiled when a service is deployed.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Record, Values
from bricola.core.shapes.simple import SimpleType

Lines = Mapping[str, str]
Steps = tuple[str, ...]
Scope = dict[Steps, Any]  # what stands at a path now: the whole message, and the items of the lists that are gone through
Fill = Callable[[Scope], Any]
_MOST_DEPTH = 24
_ABSENT = object()


@dataclass(frozen=True)
class Mapped:
    """A compiled map, what it leaves without a value although it must have one, and the lines that names alone made."""

    run: Callable[[Values], Values]
    missing: tuple[str, ...]
    proposed: tuple[tuple[str, str], ...]


def compile_map(target: Record, source: Record, lines: Lines, place: str) -> Mapped:
    """A function from the values of `source` to those of `target`. Raises ProblemError for lines that lead nowhere or do not fit."""
    compiler = _Compiler(source, lines, place)
    fill = compiler.record(target, (), (), 0)
    unused = [one for one in lines if tuple(one.split(".")) not in compiler.used]
    problems = [*compiler.problems, *(Problem("map.target", "There is no such part to fill.", place=f"{place}, {one}", found=shown(one))
                                      for one in unused)]
    if problems:
        raise ProblemError(*problems)
    return Mapped(lambda values: fill({(): values}) or {}, tuple(compiler.missing), tuple(compiler.proposed))


class _Compiler:
    def __init__(self, source: Record, lines: Lines, place: str) -> None:
        self._source = source
        self._lines = {tuple(target.split(".")): one for target, one in lines.items()}
        self._place = place
        self.problems: list[Problem] = []
        self.missing: list[str] = []
        self.proposed: list[tuple[str, str]] = []
        self.used: set[Steps] = set()

    def record(self, target: Record, at: Steps, beside: Steps | None, depth: int) -> Callable[[Scope], Values | None]:
        """Fills a record. `beside` is where in the source names are looked for; None for nowhere."""
        plans: list[tuple[str, Fill]] = []
        needed: list[tuple[Element, str]] = []
        for slot in target.slots if depth < _MOST_DEPTH else ():
            fill = self._slot(slot, (*at, slot.name), beside, depth)
            if fill is not None:
                plans.append((slot.name, fill))
            elif slot.least and slot.default is None and slot.fixed is None:
                needed.append((slot, ".".join((*at, slot.name))))
        if plans or not at:
            self.missing += [path for _, path in needed]
        defaults = {slot.name: slot.default for slot in target.slots if slot.default is not None}

        def run(scope: Scope) -> Values | None:
            values: Values = dict(defaults)
            for name, fill in plans:
                value = fill(scope)
                if value is not _ABSENT and value is not None:
                    values[name] = value
            return values

        return run if plans or not at else _nothing

    def _slot(self, slot: Element, path: Steps, beside: Steps | None, depth: int) -> Fill | None:
        line = self._lines.get(path)
        if line is not None:
            self.used.add(path)
            return self._line(slot, path, line, depth)
        named = self._named(slot.name, beside) if beside is not None else None
        deeper = any(one[: len(path)] == path for one in self._lines)
        if isinstance(slot.type, SimpleType):
            if named is None or isinstance(named[1].type, Record):
                return None
            fill = self._value(slot, path, *named)
            if fill is not None:
                self.proposed.append((".".join(path), ".".join(named[0])))
            return fill
        if named is not None and isinstance(named[1].type, Record):
            return self._inner(slot, path, named[0], named[1], depth)
        if not deeper:
            return None
        return self._inner(slot, path, None, None, depth)

    def _line(self, slot: Element, path: Steps, line: str, depth: int) -> Fill | None:
        if line.startswith("="):
            return self._constant(slot, path, line[1:])
        steps = tuple(line.split("."))
        found = self._find(steps)
        if found is None:
            self.problems.append(Problem("map.source", "There is no such part to take from.", place=f"{self._place}, {'.'.join(path)}",
                                         found=shown(line), choices=tuple(one.name for one in self._source.slots[:20])))
            return None
        if isinstance(slot.type, Record):
            if isinstance(found.type, Record):
                return self._inner(slot, path, steps, found, depth)
            self.problems.append(self._unlike(path, line, "a record", "a value"))
            return None
        if isinstance(found.type, Record):
            self.problems.append(self._unlike(path, line, "a value", "a record"))
            return None
        return self._value(slot, path, steps, found)

    def _unlike(self, path: Steps, line: str, wanted: str, given: str) -> Problem:
        return Problem("map.kind", "What is taken does not fit what is filled.", place=f"{self._place}, {'.'.join(path)}", expected=wanted,
                       found=f"{given} at {line}", mend="Name the parts inside with lines of their own.")

    def _constant(self, slot: Element, path: Steps, text: str) -> Fill | None:
        if not isinstance(slot.type, SimpleType):
            self.problems.append(self._unlike(path, f"={text}", "a record", "a text"))
            return None
        value, problem = slot.type.read(text)
        if problem is not None:
            self.problems.append(problem.at(f"{self._place}, {'.'.join(path)}"))
            return None
        return lambda scope: [value] if slot.is_list else value

    def _value(self, slot: Element, path: Steps, steps: Steps, found: Element) -> Fill | None:
        """Values are taken as they are where the types have one class, else by their text."""
        kind, other = slot.type, found.type
        assert isinstance(kind, SimpleType)
        assert isinstance(other, SimpleType)
        fetch, is_list = _fetcher(steps), slot.is_list
        where = f"{self._place}, {'.'.join(path)}"

        def fill(scope: Scope) -> Any:
            values = [one for one in fetch(scope) if one is not None]
            if not values:
                return _ABSENT
            turned = [_converted(kind, other, one, where) for one in values]
            if is_list:
                return turned
            if len(turned) > 1:
                raise ProblemError(Problem("map.several", "There are several values where one belongs.", Kind.BACKEND, place=where,
                                           expected="one", found=str(len(turned)), mend="Take it from inside the list that it is in."))
            return turned[0]

        return fill

    def _inner(self, slot: Element, path: Steps, steps: Steps | None, found: Element | None, depth: int) -> Fill | None:
        assert isinstance(slot.type, Record)
        if not slot.is_list:
            if found is not None and found.is_list:
                self.problems.append(self._unlike(path, ".".join(steps or ()), "one record", "a list"))
                return None
            single = self.record(slot.type, path, steps, depth + 1)
            fetch = _fetcher(steps) if steps is not None else None
            required = bool(slot.least)

            def one(scope: Scope) -> Any:
                if fetch is not None and steps is not None:
                    here = next(iter(fetch(scope)), None)
                    if here is None and not required:
                        return _ABSENT
                    scope = scope | {steps: here or {}}
                return single(scope) or ({} if required else _ABSENT)

            return None if single is _nothing else one
        around = steps if found is not None and found.is_list else self._list_of(path)
        if around is None:
            return None
        items, make = _fetcher(around), self.record(slot.type, path, around, depth + 1)
        return None if make is _nothing else lambda scope: [make(scope | {around: one}) or {} for one in items(scope) if one is not None]

    def _list_of(self, path: Steps) -> Steps | None:
        """The list that the lines below a target list take from: the outermost that is not gone through already."""
        for target, line in self._lines.items():
            if target[: len(path)] == path and not line.startswith("="):
                steps = tuple(line.split("."))
                for end in range(1, len(steps)):
                    found = self._find(steps[:end])
                    if found is not None and found.is_list:
                        return steps[:end]
        self.problems.append(Problem("map.list", "A list is filled from what is no list.", place=f"{self._place}, {'.'.join(path)}",
                                     mend=f"Write a line '{'.'.join(path)}: LIST', or take its parts from inside a list."))
        return None

    def _named(self, name: str, beside: Steps) -> tuple[Steps, Element] | None:
        record = self._source if not beside else self._record_at(beside)
        if record is None:
            return None
        same = [one for one in record.slots if one.name == name] or [one for one in record.slots if one.name.lower() == name.lower()]
        return ((*beside, same[0].name), same[0]) if len(same) == 1 else None

    def _record_at(self, steps: Steps) -> Record | None:
        found = self._find(steps)
        return found.type if found is not None and isinstance(found.type, Record) else None

    def _find(self, steps: Steps) -> Element | None:
        record, found = self._source, None
        for index, step in enumerate(steps):
            found = next((one for one in record.slots if one.name == step), None)
            if found is None:
                return None
            if index < len(steps) - 1:
                if not isinstance(found.type, Record):
                    return None
                record = found.type
        return found


def _nothing(scope: Scope) -> Values | None:
    return None


def _fetcher(steps: Steps) -> Callable[[Scope], list[Any]]:
    """All values at a path, from the innermost place of the scope that it begins with."""

    def fetch(scope: Scope) -> list[Any]:
        start = next(end for end in range(len(steps), -1, -1) if steps[:end] in scope)
        found = [scope[steps[:start]]]
        for step in steps[start:]:
            inner: list[Any] = []
            for one in found:
                value = one.get(step) if isinstance(one, Mapping) else None
                inner += value if isinstance(value, list | tuple) else [value] if value is not None else []
            found = inner
        return found

    return fetch


def _converted(kind: SimpleType, other: SimpleType, value: Any, where: str) -> Any:
    if kind.primitive.python is other.primitive.python and kind.base == other.base and kind.item is None and not kind.members:
        return value
    taken, problem = kind.read(value if isinstance(value, str) else other.write(value))
    if problem is not None:
        raise ProblemError(Problem(problem.code, problem.message, Kind.BACKEND, place=where, expected=problem.expected,
                                   found=problem.found))
    return taken
