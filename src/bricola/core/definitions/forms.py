"""The grammar of definitions as forms: for each kind its fields, what each takes, and words for people.

The models are the only grammar. What is told here is read off them: a field's shape from its annotation, its words from the docstring that
stands below it. A part that a form cannot draw (steps of a workflow) has the shape `text`, and is written where it always was.
"""

import ast
import inspect
import sys
import types
import typing
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cache
from typing import Any, Literal

from pydantic.fields import FieldInfo

from bricola.core.definitions.base import Definition, Frozen, Lines, NamedPart, Refers
from bricola.core.definitions.engines import ENGINES, BackendParts, BindingParts
from bricola.core.definitions.runs import models


class Shape(StrEnum):
    """How a value is drawn, and what it is in the data."""

    LINE = "line"  # a text
    LINES = "lines"  # a text of several lines
    WHOLE = "whole"  # a whole number
    NUMBER = "number"
    CHECK = "check"  # true or false
    CHOICE = "choice"  # one of `choices`
    NAMES = "names"  # a list of texts; one of `choices` may stand alone in its place
    PAIRS = "pairs"  # texts by names
    LISTS = "lists"  # lists of texts by names
    PARTS = "parts"  # groups by names
    GROUP = "group"  # one group
    GROUPS = "groups"  # groups one after the other
    TEXT = "text"  # no form draws it


@dataclass(frozen=True)
class Slot:
    """One field. `group` names what stands inside; `refers` the kinds of definition whose names fit, as the value or as the keys of it;
    `default` is never written; `engines` are those of backends for which it means something, all where there are none."""

    name: str
    shape: Shape
    words: str
    required: bool
    default: str | int | float | bool | None
    choices: tuple[str, ...]
    refers: tuple[str, ...]
    group: str
    engines: tuple[str, ...]


@dataclass(frozen=True)
class Forms:
    """`kinds` gives the group of each kind's own fields; `groups` the fields of each."""

    kinds: Mapping[str, str]
    groups: Mapping[str, tuple[Slot, ...]]


def forms() -> Forms:
    """The forms of all kinds of definition that there are."""
    kinds = models()
    return _forms(tuple(kinds.items()))


@cache
def _forms(kinds: tuple[tuple[str, type[Definition]], ...]) -> Forms:
    groups: dict[str, tuple[Slot, ...]] = {}
    made: dict[str, type[Frozen]] = {}
    waiting: list[type[Frozen]] = [model for _, model in kinds]
    while waiting:
        model = waiting.pop()
        if made.setdefault(model.__name__, model) is not model:
            raise TypeError(f"two models of definitions are called {model.__name__}, and a form is found by its name")
        if model.__name__ in groups:
            continue
        inner: list[type[Frozen]] = []
        groups[model.__name__] = tuple(_slots(model, inner))
        waiting += inner
    return Forms({kind: model.__name__ for kind, model in kinds}, groups)


def _slots(model: type[Frozen], inner: list[type[Frozen]]) -> Iterator[Slot]:
    words = _words(model)
    for name, about in model.model_fields.items():
        if name == "name" and issubclass(model, NamedPart):
            continue  # it is the key that the part stands at
        shape, choices, part = _shape(about)
        if part is not None:
            inner.append(part)
        default = about.default if isinstance(about.default, str | int | float | bool) else None
        keys = part.model_fields.get("name") if part is not None and shape is Shape.PARTS else None
        marks = _marks(about) or (_marks(keys) if keys is not None else [])
        yield Slot(name, shape, words.get(name, ""), about.is_required(), default, choices,
                   marks[0].kinds if marks else (), part.__name__ if part else "", _engines(model, name))


def _engines(model: type[Frozen], field: str) -> tuple[str, ...]:
    """Of a setting that some engines bring along, those engines."""
    if issubclass(model, BindingParts):
        return tuple(word for word, one in ENGINES.items() if field in one.settings) if field in BindingParts.model_fields else ()
    if issubclass(model, BackendParts) and field in BackendParts.model_fields:
        return tuple(word for word, one in ENGINES.items() if one.backend is not None and field in one.backend.model_fields)
    return ()


def _marks(about: FieldInfo) -> list[Refers]:
    return [one for one in about.metadata if isinstance(one, Refers)]


def _shape(about: FieldInfo) -> tuple[Shape, tuple[str, ...], type[Frozen] | None]:
    """What a field takes: its shape, its choices and the model of what stands inside."""
    if any(isinstance(one, Lines) for one in about.metadata):
        return Shape.LINES, (), None
    return _shape_of(about.annotation)


_PLAIN: Mapping[object, Shape] = {bool: Shape.CHECK, int: Shape.WHOLE, float: Shape.NUMBER, str: Shape.LINE}


def _shape_of(kind: Any) -> tuple[Shape, tuple[str, ...], type[Frozen] | None]:
    kind = _bare(kind)
    if kind in _PLAIN:
        return _PLAIN[kind], (), None
    if inspect.isclass(kind) and issubclass(kind, Frozen):
        return Shape.GROUP, (), kind
    origin, inside = typing.get_origin(kind), typing.get_args(kind)
    if origin is Literal and all(isinstance(one, str) for one in inside):
        return Shape.CHOICE, tuple(inside), None
    if origin is Literal and all(isinstance(one, int) for one in inside):
        return Shape.WHOLE, (), None
    if origin in (typing.Union, types.UnionType):
        return _union(inside)
    if origin is tuple and len(inside) == 2 and inside[1] is ...:
        return _many(inside[0])
    if origin is dict:
        shape, choices, part = _shape_of(inside[1])
        by = {Shape.LINE: Shape.PAIRS, Shape.NAMES: Shape.LISTS, Shape.GROUP: Shape.PARTS}.get(shape, Shape.TEXT)
        return by, choices, part
    return Shape.TEXT, (), None


def _union(inside: tuple[Any, ...]) -> tuple[Shape, tuple[str, ...], type[Frozen] | None]:
    """A union that has one form of its own: of something or nothing, of a text and an empty one, of a text or names."""
    rest = [one for one in map(_bare, inside) if one is not type(None) and one != Literal[""]]
    if len(rest) == 1:
        shape, choices, part = _shape_of(rest[0])
        return shape, ("", *choices) if shape is Shape.CHOICE else choices, part
    shapes = [_shape_of(one) for one in rest]
    if {one[0] for one in shapes} == {Shape.CHOICE, Shape.NAMES}:
        return Shape.NAMES, next(one[1] for one in shapes if one[0] is Shape.CHOICE), None
    # A text, or more than a form draws: a label in several languages. The form takes the text and leaves the other alone.
    return (Shape.LINE if str in rest else Shape.TEXT), (), None


def _many(inside: Any) -> tuple[Shape, tuple[str, ...], type[Frozen] | None]:
    shape, choices, part = _shape_of(inside)
    if part is not None:
        return (Shape.PARTS if issubclass(part, NamedPart) else Shape.GROUPS), (), part
    if shape in (Shape.LINE, Shape.CHOICE):
        return Shape.NAMES, choices, None
    return Shape.TEXT, (), None


def _bare(kind: Any) -> Any:
    while typing.get_origin(kind) is typing.Annotated:
        kind = typing.get_args(kind)[0]
    return kind


def _words(model: type[Frozen]) -> dict[str, str]:
    """What the docstrings below a model's fields say, its bases' included."""
    found: dict[str, str] = {}
    for one in reversed(model.__mro__):
        if issubclass(one, Frozen):
            found |= _in_module(one.__module__).get(one.__name__, {})
    return found


@cache
def _in_module(module: str) -> dict[str, dict[str, str]]:
    tree = ast.parse(inspect.getsource(sys.modules[module]))
    return {one.name: dict(_said(one)) for one in tree.body if isinstance(one, ast.ClassDef)}


def _said(model: ast.ClassDef) -> Iterator[tuple[str, str]]:
    for field, below in zip(model.body, model.body[1:], strict=False):
        if (isinstance(field, ast.AnnAssign) and isinstance(field.target, ast.Name) and isinstance(below, ast.Expr)
                and isinstance(below.value, ast.Constant) and isinstance(below.value.value, str)):
            yield field.target.id, " ".join(below.value.value.split())
