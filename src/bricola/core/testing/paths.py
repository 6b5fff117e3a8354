"""Paths into an answer: `vessel.name`, `passage[0].toll`, `passage.toll` for all of them."""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from bricola.core.nearness import nearest
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import TYPE, Element, Record

_STEP = re.compile(r"([^.\[\]]+)(?:\[(\d+)\])?(?:\.|$)")
ABSENT = object()  # nothing stands at a path


class Step(NamedTuple):
    """One name of a path, and which item of a list is meant; None: all, or the list itself at the end."""

    name: str
    item: int | None = None


class Target(NamedTuple):
    """What a path leads to: the element that it ends in. `is_list`: its value there is a list."""

    steps: tuple[Step, ...]
    element: Element
    is_list: bool


def read_path(text: str, place: str) -> tuple[Step, ...]:
    """The steps of a path. Raises ProblemError."""
    steps, at = [], 0
    while at < len(text):
        found = _STEP.match(text, at)
        if found is None:
            break
        steps.append(Step(found[1], int(found[2]) if found[2] else None))
        at = found.end()
    if at < len(text) or not steps or text.endswith("."):
        raise ProblemError(Problem("test.path", "This is no path.", place=place, found=shown(text),
                                   expected="names with dots between, like vessel.name or passage[0].toll"))
    return tuple(steps)


def find_target(record: Record, text: str, place: str) -> Target:
    """What a path leads to in the contract. Raises ProblemError with what there is instead."""
    steps = read_path(text, place)
    element: Element | None = None
    here: Record | None = record
    for number, step in enumerate(steps):
        slots = _slots(here) if here is not None else {}
        found = slots.get(step.name)
        if found is None:
            before = ".".join(one.name for one in steps[:number])
            raise ProblemError(_unknown(step.name, before, slots, place))
        if step.item is not None and not found.is_list:
            raise ProblemError(Problem("test.path", f"{step.name} stands once, so it has no items.", place=place, found=shown(text),
                                       mend=f"Leave out [{step.item}]."))
        element, here = found, found.type if isinstance(found.type, Record) else None
    assert element is not None
    return Target(steps, element, element.is_list and steps[-1].item is None)


def _slots(record: Record) -> dict[str, Element]:
    """The slots of a record, and of what may stand in its place."""
    return {one.name: one for kind in (*reversed(record.derived), record) for one in kind.slots}


def _unknown(name: str, before: str, slots: Mapping[str, Element], place: str) -> Problem:
    where = f"{before} has" if before else "The contract has"
    near = nearest(name, slots)
    return Problem("test.path", f"{where} no part {name}.", place=place, found=shown(name),
                   expected="a value without parts", choices=tuple(slots),
                   mend=f"Did you mean {'.'.join(filter(None, (before, near)))}?" if near else "")


def values_at(steps: Sequence[Step], values: Any, before: str = "") -> Iterator[tuple[str, Any]]:
    """What stands at a path in an answer in JSON, each with its place; ABSENT where nothing does. A list at the end stays one."""
    step, rest = steps[0], steps[1:]
    at = f"{before}.{step.name}" if before else step.name
    value = values.get(step.name, ABSENT) if isinstance(values, Mapping) else ABSENT
    if value is not ABSENT and isinstance(value, list) and step.item is not None:
        at = f"{at}[{step.item}]"
        value = value[step.item] if step.item < len(value) else ABSENT
    if not rest:
        yield at, value
    elif isinstance(value, list):
        for number, one in enumerate(value):
            yield from values_at(rest, one, f"{at}[{number}]")
    elif value is ABSENT or value is None:
        yield f"{at}.{'.'.join(one.name for one in rest)}", ABSENT
    else:
        yield from values_at(rest, value, at)


def value_at(text: str, values: Mapping[str, Any], place: str) -> Any:
    """The one value at a path of an earlier answer. Raises ProblemError where there is none, or several."""
    found = [one for _, one in values_at(read_path(text, place), values)]
    if len(found) != 1 or found[0] is ABSENT:
        raise ProblemError(Problem("test.place", f"The earlier answer has {'several' if len(found) > 1 else 'no'} {text}.", place=place,
                                   found=", ".join(one for one in values if one != TYPE)))
    return found[0]
