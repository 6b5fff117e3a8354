"""Places in texts of a test: `{known}`, `{row_column}`, `{enter.changeToken}`. See `definitions/suites` for what they mean."""

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any
from xml.sax.saxutils import escape

_PLACE = re.compile(r"\{\{|\{([A-Za-z_][\w-]*(?:\.[A-Za-z_@][\w-]*|\[\d+\])*)\}")
MADE = ("today", "now", "unique", "environment")  # for each run
Scope = Callable[[str], Any]


def places_in(value: Any) -> Iterator[str]:
    """The places of a value, however deep."""
    if isinstance(value, str):
        yield from (found[1] for found in _PLACE.finditer(value) if found[1])
    elif isinstance(value, Mapping):
        for one in value.values():
            yield from places_in(one)
    elif isinstance(value, list | tuple):
        for one in value:
            yield from places_in(one)


def first_name(place: str) -> str:
    """The name that a place begins with."""
    return re.split(r"[.\[]", place, maxsplit=1)[0]


def fill(value: Any, scope: Scope, in_xml: bool = False) -> Any:
    """The value with what belongs into its places. A text that is one place only becomes what stands there, with its type; `in_xml` texts
    are written so that they stay texts. `scope` raises ProblemError for a name that has no value."""
    if isinstance(value, str):
        whole = _PLACE.fullmatch(value)
        if whole is not None and whole[1] and not in_xml:
            return scope(whole[1])

        def put(found: re.Match[str]) -> str:
            if not found[1]:
                return "{"
            text = _text(scope(found[1]))
            return escape(text, {'"': "&quot;"}) if in_xml else text

        return _PLACE.sub(put, value)
    if isinstance(value, Mapping):
        return {name: fill(one, scope, in_xml) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [fill(one, scope, in_xml) for one in value]
    return value


def literal(value: Any) -> Any:
    """A value in which nothing is a place, however it looks."""
    if isinstance(value, str):
        return _PLACE.sub(lambda found: "{" + found[0], value)
    if isinstance(value, Mapping):
        return {name: literal(one) for name, one in value.items()}
    return [literal(one) for one in value] if isinstance(value, list | tuple) else value


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)
