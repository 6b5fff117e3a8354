"""A definition as values of its form and as its text, each made of the other, so that people can write either and see both.

Neither has to be complete: what is half written is shown on both sides, with what is wrong with it and where.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from yaml.nodes import MappingNode, Node, SequenceNode

from bricola.core.definitions.base import Definition
from bricola.core.definitions.forms import Forms, Shape, Slot, forms
from bricola.core.definitions.runs import models
from bricola.core.definitions.text import compose_text, read_definition, read_mapping, write_definition, write_mapping
from bricola.core.problems import Problem, ProblemError, shown

Path = tuple[str, ...]


@dataclass(frozen=True)
class Drawn:
    """`values` are those of the form, with `name`; None where the text is no mapping of a known kind. `lines` are the lines of the text on
    which each part of the values begins, by its path; parts of a list count from 0."""

    kind: str
    values: Mapping[str, Any] | None
    text: str
    problems: tuple[Problem, ...]
    lines: tuple[tuple[Path, int], ...]


def from_values(kind: str, values: Mapping[str, Any], place: str) -> Drawn:
    """What a form gives, as text: canonical where it is a definition. Raises ProblemError for a kind that there is not."""
    if kind not in models():
        raise ProblemError(Problem("definition.kind", "There is no such kind of definition.", place=place, found=shown(kind),
                                   choices=tuple(models())))
    given = {key: value for key, value in values.items() if key != "name"}
    text = write_mapping({kind: values.get("name", ""), **_ordered(given, forms().kinds[kind], forms())})
    return from_text(text, place)


def from_text(text: str, place: str) -> Drawn:
    """A text with the values of its form. Of one that is a definition the text is the canonical one."""
    try:
        definition = read_definition(text, place)
    except ProblemError as error:
        kind, values = _half(text, place)
        return Drawn(kind, values, text, error.problems, _lines(text, place) if values is not None else ())
    canonical = write_definition(definition)
    return Drawn(definition.kind, values_of(definition), canonical, (), _lines(canonical, place))


def values_of(definition: Definition) -> dict[str, Any]:
    """The values of its form: what is not at its default, and the name."""
    body = definition.model_dump(mode="json", exclude_defaults=True)
    return {"name": definition.name, **{key: value for key, value in body.items() if key != "name"}}


def _half(text: str, place: str) -> tuple[str, dict[str, Any] | None]:
    """What can be said of a text that is no definition yet."""
    try:
        body = read_mapping(text, place)
    except ProblemError:
        return "", None
    kind = next(iter(body), "")
    if kind not in models():
        return "", None
    name = body.pop(kind)
    return kind, {"name": name if isinstance(name, str) else "", **body}


def _ordered(values: Mapping[str, Any], group: str, known: Forms) -> dict[str, Any]:
    """The values in the order of the form. Texts that nobody filled in are left out; what no form knows comes last, as it is."""
    slots = {one.name: one for one in known.groups[group]}
    found = {name: _filled(values[name], slot, known) for name, slot in slots.items() if name in values}
    return {**{name: value for name, value in found.items() if value not in ("", None)},
            **{name: value for name, value in values.items() if name not in slots}}


def _filled(value: Any, slot: Slot, known: Forms) -> Any:
    if slot.shape is Shape.GROUP and isinstance(value, Mapping):
        return _ordered(value, slot.group, known)
    if slot.shape is Shape.GROUPS and isinstance(value, list):
        return [_ordered(one, slot.group, known) if isinstance(one, Mapping) else one for one in value]
    if slot.shape is Shape.PARTS and isinstance(value, Mapping):
        return {key: _ordered(one, slot.group, known) if isinstance(one, Mapping) else one for key, one in value.items()}
    return value


def _lines(text: str, place: str) -> tuple[tuple[Path, int], ...]:
    root = compose_text(text, place)
    if not isinstance(root, MappingNode) or not root.value:
        return ()
    first = root.value[0]
    return ((("name",), first[0].start_mark.line + 1), *_below(root.value[1:], ()))


def _below(entries: list[tuple[Node, Node]], path: Path) -> Iterator[tuple[Path, int]]:
    """Depth is bounded where the text is composed (core/definitions/nodes.py)."""
    for key, value in entries:
        here = (*path, str(key.value))
        yield here, key.start_mark.line + 1
        yield from _inside(value, here)


def _inside(value: Node, path: Path) -> Iterator[tuple[Path, int]]:
    if isinstance(value, MappingNode):
        yield from _below(value.value, path)
    elif isinstance(value, SequenceNode):
        for index, item in enumerate(value.value):
            here = (*path, str(index))
            yield here, item.start_mark.line + 1
            yield from _inside(item, here)
