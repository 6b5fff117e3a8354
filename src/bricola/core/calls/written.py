"""What a call wrote, for callers who want to know: step by step, with keys, and whether it was undone."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import quoteattr

from bricola.core.contracts.names import WRITTEN
from bricola.core.messages.faults import clean
from bricola.core.shapes.model import Record, Values
from bricola.core.shapes.primitives import lexical
from bricola.core.shapes.simple import SimpleType


@dataclass
class Written:
    """One thing that was written: by which step, through what, and which values name it."""

    step: str
    through: str
    keys: dict[str, str]
    backends: frozenset[str]
    undone: bool = False

    def as_dict(self) -> dict[str, Any]:
        return {"step": self.step, "through": self.through, "keys": self.keys, "undone": self.undone}


def naming(record: Record, answer: Values) -> dict[str, str]:
    """What the answer of a write says of what was written: its single values, but for sensitive ones."""
    return {one.name: lexical(answer[one.name]) for one in record.slots
            if isinstance(one.type, SimpleType) and not one.is_list and not one.sensitive and answer.get(one.name) is not None}


def mark_undone(written: Sequence[Written], key: str, path: str) -> None:
    """The newest of this step that still stands is undone."""
    step = key.rpartition(":")[0]
    for one in reversed(written):
        if one.step in (step, path) and not one.undone:
            one.undone = True
            return


def written_block(written: Sequence[Written]) -> str:
    """The block in the header of a SOAP answer or fault."""
    parts = []
    for one in written:
        keys = "".join(f"<key name={quoteattr(name)}>{clean(value)}</key>" for name, value in one.keys.items())
        undone = "true" if one.undone else "false"
        parts.append(f"<write step={quoteattr(one.step)} through={quoteattr(one.through)} undone=\"{undone}\">{keys}</write>")
    return f'<written xmlns="{WRITTEN}">{"".join(parts)}</written>'
