"""Values for people who look on: JSON data with sensitive values masked, cut where it is long."""

from collections.abc import Mapping
from typing import Any

from bricola.core.messages.request import MASK
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.primitives import lexical

MOST_ITEMS = 20  # of a list
MOST_TEXT = 500  # characters of one value


class Left:
    """How many characters may still be shown."""

    def __init__(self, most: int) -> None:
        self.most = most


def shown_plain(record: Record | None, values: Any, left: Left, secret: frozenset[str] = frozenset()) -> Any:
    """What may be shown of values. `record` says which are sensitive, `secret` are further fields at the top, '' all of them. Lists and
    texts are cut, and say so; when nothing is `left` of what may be shown in all, the rest is left out."""
    if "" in secret:
        return MASK
    return _any(record, values, left, secret)


def _any(kind: Record | None, value: Any, left: Left, secret: frozenset[str] = frozenset()) -> Any:
    if left.most <= 0:
        return "…"
    if isinstance(value, Mapping):
        elements = {one.name: one for one in kind.slots} if kind is not None else {}
        return {str(name): MASK if name in secret and inner is not None else _slot(elements.get(name), inner, left)
                for name, inner in value.items()}
    if isinstance(value, list | tuple):
        items = [_any(kind, one, left) for one in value[:MOST_ITEMS]]
        return [*items, f"… {len(value) - MOST_ITEMS} more"] if len(value) > MOST_ITEMS else items
    if value is None or isinstance(value, bool | int):
        left.most -= 8
        return value
    try:
        text = f"{len(value)} bytes" if isinstance(value, bytes) else lexical(value)
    except TypeError:  # something that is no value of a message: its class says enough
        text = f"a {type(value).__name__}"
    left.most -= min(len(text), MOST_TEXT)
    return f"{text[:MOST_TEXT]}… {len(text) - MOST_TEXT} more characters" if len(text) > MOST_TEXT else text


def _slot(element: Element | None, value: Any, left: Left) -> Any:
    if element is not None and element.sensitive and value is not None:
        return MASK
    return _any(element.type if element is not None and isinstance(element.type, Record) else None, value, left)
