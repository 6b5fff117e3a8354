"""Change tokens: a number in a column, or a digest of what the row and its children hold."""

import base64
import hashlib
import json
from collections.abc import Callable
from typing import Any

from bricola.core.kinds.objects.shape import ResolvedObject
from bricola.core.shapes.model import Values
from bricola.core.shapes.simple import SimpleType

_DIGEST_BYTES = 18  # 144 bits: nobody meets two rows of one object with the same


def compile_hash(source: ResolvedObject) -> Callable[[Values], str]:
    """A function from a whole row, its children attached, to its token. Joined fields do not belong to the row."""
    own = {one.name for one in source.definition.fields if not one.parent}
    fields = [(one.name, one.type) for one in source.fields if one.name in own]
    children = [(one.child.name, one.item, [(two.name, two.type) for two in one.row.elements]) for one in source.children]

    def token(row: Values) -> str:
        state: list[Any] = [_plain(row, fields)]
        for name, item, columns in children:
            state.append([_plain(one, columns) for one in row[name][item]])
        digest = hashlib.sha256(json.dumps(state, separators=(",", ":")).encode()).digest()
        return base64.urlsafe_b64encode(digest[:_DIGEST_BYTES]).decode()

    return token


def _plain(row: Values, fields: list[tuple[str, Any]]) -> list[str | None]:
    return [None if row.get(name) is None else _text(kind, row[name]) for name, kind in fields]


def _text(kind: SimpleType, value: Any) -> str:
    return kind.write(value) if value.__class__ is kind.primitive.python else repr(value)
