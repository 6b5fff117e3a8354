"""Definitions as YAML text: read with errors that name the line, written in one canonical form.

The first key is the kind and its value the name. A default is never written. Writing what was read from
canonical text gives the same bytes. Only true, false, null and plain whole numbers are more than text here:
`no`, `0412`, `1.10` and `2026-11-24` stay what they look like.
"""

import io
import re
import weakref
from collections.abc import Mapping
from typing import Any

import yaml
from pydantic import ValidationError
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from bricola.core.definitions import access as _access  # noqa: F401 — the same
from bricola.core.definitions import contexts as _contexts  # noqa: F401 — the same
from bricola.core.definitions import model as _shared  # noqa: F401 — its kinds are known from here on
from bricola.core.definitions import outside as _outside  # noqa: F401 — the same
from bricola.core.definitions import requests as _requests  # noqa: F401 — the same
from bricola.core.definitions import suites as _suites  # noqa: F401 — the same
from bricola.core.definitions import table_rules as _table_rules  # noqa: F401 — the same
from bricola.core.definitions.base import Definition, Frozen
from bricola.core.definitions.nodes import compose
from bricola.core.definitions.runs import models
from bricola.core.problems import Problem, ProblemError, shown

_FLOW_WIDTH = 110  # a mapping or list that fits is written on one line
_MOST_TEXT = 1_000_000  # characters of one definition
_MOST_TOLD_BETTER = 20_000
_written: dict[int, tuple[weakref.ref[Definition], str]] = {}  # by identity: equal ones are compared at length, and few are hashable
_MOST_CONTRACT = 45_000_000  # of one that holds the contract of somebody else, in base64 where it is no plain text


class _Loader(yaml.CSafeLoader):
    """The safe loader of libyaml, ten times faster, with a smaller set of implicit types (see the module's comment)."""


class _Dumper(yaml.SafeDumper):
    """The safe writer with the same small set, so that it quotes exactly what would be misread."""

    def ignore_aliases(self, data: object) -> bool:
        return True


for _class in (_Loader, _Dumper):
    _class.yaml_implicit_resolvers = {}
    for _tag, _pattern, _first in (
        ("bool", r"^(?:true|false)$", "tf"),
        ("null", r"^(?:null|~|)$", ["n", "~", ""]),
        ("int", r"^-?(?:0|[1-9][0-9]*)$", "-0123456789"),
    ):
        _class.add_implicit_resolver(f"tag:yaml.org,2002:{_tag}", re.compile(_pattern), list(_first))


def _number(dumper: yaml.SafeDumper, value: float) -> Node:
    """Whole seconds as whole numbers; others as their shortest text, which reads back as the same number."""
    if value.is_integer():
        return dumper.represent_scalar("tag:yaml.org,2002:int", str(int(value)))
    return dumper.represent_scalar("tag:yaml.org,2002:str", repr(value))


_Dumper.add_representer(float, _number)


def read_definition(text: str, place: str = "definition") -> Definition:
    """The definition in a YAML text. Raises ProblemError with every mistake, each with `place:line`."""
    root, kinds = compose_text(text, place), models()
    if not isinstance(root, MappingNode) or not root.value:
        raise ProblemError(Problem(
            "definition.empty", "This is not a definition.", place=f"{place}:1",
            expected="a first line like 'object: vessel' or 'service: VesselRegistry'",
            mend=f"Begin with one of: {', '.join(kinds)}.",
        ))
    kind_node = root.value[0][0]
    kind = getattr(kind_node, "value", "")
    if kind not in kinds:
        raise ProblemError(Problem(
            "definition.kind", "The first key is not a kind of definition.", place=_at(place, kind_node),
            choices=tuple(kinds), found=shown(kind),
        ))
    _refuse_repeated_keys(root, place)
    loader = _Loader("")
    try:
        body: dict[str, Any] = loader.construct_document(root)
    except yaml.constructor.ConstructorError as error:
        raise ProblemError(_yaml_problem(error, place)) from None
    name = body.pop(kind)
    try:
        return kinds[kind].model_validate({"name": name, **body})
    except ValidationError as error:
        errors = error.errors()
        inner = [one for one in errors if one["type"] != "too_short"] or errors  # a refused item also makes its list short
        raise ProblemError(*(_explain(one, kinds[kind], kind, root, place) for one in inner)) from None


def read_data(model: type[Definition], data: Mapping[str, Any], place: str) -> Definition:
    """A definition of JSON data, with its `name`. Raises ProblemError with every mistake, each with its path."""
    named = {model.kind: data.get("name", ""), **{key: value for key, value in data.items() if key != "name"}}
    node = _Dumper(io.StringIO(), sort_keys=False).represent_data(named)
    _lay_out(node, is_root=True)
    return read_definition(yaml.serialize(node, Dumper=_Dumper, allow_unicode=True, width=2**31), place)


def write_definition(definition: Definition) -> str:
    """The canonical YAML text, ending in a newline. It is made once for each object: a definition never changes, and every list that says
    what differs from a release asks for the texts of all."""
    key = id(definition)
    known = _written.get(key)
    if known is not None and known[0]() is definition:
        return known[1]
    text = _text_of(definition)
    _written[key] = weakref.ref(definition, lambda _: _written.pop(key, None)), text  # it goes before its id is another's
    return text


def _text_of(definition: Definition) -> str:
    body = {definition.kind: definition.name, **definition.model_dump(mode="json", exclude_defaults=True)}
    body.pop("name", None)
    return write_mapping(body)


def read_mapping(text: str, place: str) -> dict[str, Any]:
    """Any YAML mapping, read as definitions are. Raises ProblemError."""
    root = compose_text(text, place)
    if not isinstance(root, MappingNode):
        raise ProblemError(Problem("yaml.mapping", "This is no mapping of names to values.", place=f"{place}:1"))
    _refuse_repeated_keys(root, place)
    try:
        return dict(_Loader("").construct_document(root))
    except yaml.constructor.ConstructorError as error:
        raise ProblemError(_yaml_problem(error, place)) from None


def write_mapping(data: Mapping[str, Any]) -> str:
    """A mapping as YAML, laid out as definitions are."""
    node = _Dumper(io.StringIO(), sort_keys=False).represent_data(dict(data))
    _lay_out(node, is_root=True)
    return yaml.serialize(node, Dumper=_Dumper, allow_unicode=True, width=2**31)


def explain(error: ValidationError, model: type[Frozen], first: str, text: str, place: str) -> ProblemError:
    """What Pydantic says of a mapping that was read from a text, as problems with their lines. `first` is its first key."""
    root = compose_text(text, place)
    assert isinstance(root, MappingNode)
    return ProblemError(*(_explain(one, model, first, root, place) for one in error.errors()))


def compose_text(text: str, place: str) -> Node | None:
    """The root node of a definition's text, within the bounds of one. Raises ProblemError."""
    most = _MOST_CONTRACT if text.startswith("contract:") else _MOST_TEXT
    if len(text) > most:
        raise ProblemError(Problem("definition.size", "The definition is too long.", place=place,
                                   expected=f"at most {most} characters", found=str(len(text))))
    try:
        return compose(text, _Loader, place)
    except yaml.YAMLError as error:
        raise ProblemError(_yaml_problem(_told_better(text) or error, place)) from None


def _told_better(text: str) -> yaml.YAMLError | None:
    """The same mistake in the words of PyYAML's own parser, which point at the line more exactly than libyaml's. It is slow, so of a long
    text libyaml's have to do; its events are read one by one, so that nesting needs no stack."""
    if len(text) > _MOST_TOLD_BETTER:
        return None
    try:
        for _ in yaml.parse(text, Loader=yaml.SafeLoader):
            pass
    except yaml.YAMLError as error:
        return error
    return None


def _yaml_problem(error: yaml.YAMLError, place: str) -> Problem:
    mark = getattr(error, "problem_mark", None)
    what = getattr(error, "problem", None) or getattr(error, "reason", None) or "the text cannot be read"
    where = f"{place}:{mark.line + 1}" if mark is not None else place
    mend = "Check the indentation and the quotes of this line and the one above it."
    if "\\t" in str(what):
        mend = "Use spaces, not tabs, to indent."
    elif "mapping values" in str(what):
        mend = "A value that has ': ' in it stands in quotes, or on lines of its own below '|-'."
    return Problem("yaml.syntax", f"This is not well-formed YAML: {what}.", place=where, mend=mend)


def _refuse_repeated_keys(node: Node, place: str) -> None:
    if isinstance(node, MappingNode):
        seen: dict[str, Node] = {}
        for key, value in node.value:
            if not isinstance(key, ScalarNode):
                raise ProblemError(Problem("yaml.key", "A key must be a plain word.", place=_at(place, key)))
            if key.value in seen:
                raise ProblemError(Problem(
                    "yaml.repeated-key", f"The key {key.value} stands twice.", place=_at(place, key),
                    found=f"the first on line {seen[key.value].start_mark.line + 1}", mend="Keep one of the two.",
                ))
            seen[key.value] = key
            _refuse_repeated_keys(value, place)
    elif isinstance(node, SequenceNode):
        for item in node.value:
            _refuse_repeated_keys(item, place)


def _at(place: str, node: Node) -> str:
    return f"{place}:{node.start_mark.line + 1}"


def _locate(root: MappingNode, kind: str, steps: tuple[int | str, ...]) -> tuple[Node, str]:
    """The node that a Pydantic location points at (or the nearest above it), and its path in words."""
    node: Node = root
    words: list[str] = []
    marker: Node = root
    for step in steps:
        if isinstance(node, MappingNode):
            entries = node.value
            if isinstance(step, int):  # a part of a `name: {…}` mapping
                if step >= len(entries):
                    break
                key, node = entries[step]
            else:
                wanted = kind if step == "name" and node is root else step
                pair = next(((k, v) for k, v in entries if k.value == wanted), None)
                if pair is None:
                    if step != "name":
                        words.append(str(step))
                    break
                key, node = pair
            marker = key
            words.append(str(key.value))
        elif isinstance(node, SequenceNode) and isinstance(step, int) and step < len(node.value):
            node = marker = node.value[step]
            words.append(str(step + 1))
        else:
            break
    return marker, ".".join(words)


def _model_at(model: type[Frozen], steps: tuple[int | str, ...]) -> type[Frozen] | None:
    """The model whose keys are meant at a location, to suggest the right key."""
    current: Any = model
    for step in steps:
        if isinstance(step, int):
            continue
        field = getattr(current, "model_fields", {}).get(step)
        if field is None:
            return None
        current = field.annotation
        inner = getattr(current, "__args__", ())
        current = next((one for one in inner if isinstance(one, type) and issubclass(one, Frozen)), current)
    return current if isinstance(current, type) and issubclass(current, Frozen) else None


def _explain(error: Any, model: type[Frozen], kind: str, root: MappingNode, place: str) -> Problem:
    steps: tuple[int | str, ...] = error["loc"]
    node, path = _locate(root, kind, steps)
    where = _at(place, node)
    context = error.get("ctx", {})
    found = error["input"] if isinstance(error["input"], str | int | float | bool) else None
    shown_value = shown(found) if found is not None else ""
    if error["type"] == "extra_forbidden":
        if steps[-1] == "":
            return Problem("definition.shape", f"{path.removesuffix('.')} needs its settings in braces.", place=where,
                           expected="a mapping like {type: string}", found=shown_value)
        owner = _model_at(model, steps[:-1])
        known = [name for name in owner.model_fields if name != "name"] if owner else []
        return Problem("definition.unknown-key", f"The key {path} is not known here.", place=where,
                       choices=tuple(known), found=shown(str(steps[-1])))
    if error["type"] == "missing":
        owner_path = ".".join(path.split(".")[:-1]) or f"The {kind}"
        return Problem("definition.missing-key", f"{owner_path} needs the key {steps[-1]}.", place=where,
                       mend=f"Add '{steps[-1]}:' there.")
    if error["type"] == "literal_error":
        return Problem("definition.value", f"{path} has a value that is not offered.", place=where,
                       expected=str(context.get("expected", "")).replace("'", ""), found=shown_value)
    if error["type"] == "string_pattern_mismatch":
        return Problem("definition.name", f"{path or kind} is not a usable name here.", place=where,
                       expected=f"the form {context.get('pattern', '')}", found=shown_value)
    if error["type"] == "value_error":
        return Problem("definition.value", f"{path or kind}: {context.get('error', '')}.", place=where, found=shown_value)
    return Problem("definition.value", f"{path or kind}: {error['msg'].lower()}.", place=where, found=shown_value)


def _lay_out(node: Node, is_root: bool = False, indent: int = 0) -> None:
    """Choose one line for what fits on one, block style for the rest, and literal style for many lines of text."""
    if isinstance(node, ScalarNode):
        if "\n" in node.value:
            node.style = "|"
        return
    if isinstance(node, MappingNode):
        node.flow_style = not is_root and _one_line(node) and _width(node) + indent <= _FLOW_WIDTH
        if not node.flow_style:
            for key, value in node.value:
                if is_root and isinstance(value, MappingNode):  # a section of the definition: an entry a line
                    value.flow_style = False
                    for name, entry in value.value:
                        _lay_out(entry, indent=2 + len(name.value) + 2)
                    continue
                _lay_out(value, indent=indent + 2 + (len(key.value) if isinstance(value, SequenceNode) else 0))
    elif isinstance(node, SequenceNode):
        node.flow_style = _one_line(node) and _width(node) + indent <= _FLOW_WIDTH
        if not node.flow_style:
            for item in node.value:
                _lay_out(item, indent=indent + 2)


def _one_line(node: Node) -> bool:
    """Whether a collection is flat enough to be read on one line: scalars, and lists of scalars."""
    items = [value for _, value in node.value] if isinstance(node, MappingNode) else node.value
    return all(
        ("\n" not in item.value) if isinstance(item, ScalarNode) else isinstance(item, SequenceNode) and _one_line(item)
        for item in items
    )


def _width(node: Node) -> int:
    if isinstance(node, ScalarNode):
        return len(node.value) + 2
    if isinstance(node, MappingNode):
        return 2 + sum(len(key.value) + 2 + _width(value) for key, value in node.value)
    return 2 + sum(_width(item) + 2 for item in node.value)
