"""Trials of writes: everything runs, what would be stored is noted, and the transaction is rolled back."""

from dataclasses import dataclass, field
from typing import Any
from xml.sax.saxutils import quoteattr

from bricola.core.contracts.names import TRIAL
from bricola.core.messages.faults import clean
from bricola.core.messages.request import MASK
from bricola.core.shapes.model import Values
from bricola.core.shapes.primitives import lexical


@dataclass(frozen=True)
class StoredChange:
    """What a write does to one row: created, changed or deleted. `fields`: name -> text before and after, None for no value."""

    object: str
    action: str
    key: dict[str, str]
    fields: dict[str, tuple[str | None, str | None]]

    def as_dict(self) -> dict[str, Any]:
        return {"object": self.object, "action": self.action, "key": self.key,
                "fields": {name: {"before": before, "after": after} for name, (before, after) in self.fields.items()}}


@dataclass
class Trial:
    """The changes that a trial noted, in order. `transactions` counts what was rolled back."""

    changes: list[StoredChange] = field(default_factory=list)
    transactions: int = 0
    kept: bool = False  # whether what runs now is rolled back later, together with other steps

    def note(self, name: str, action: str, key: Values, before: Values, after: Values, sensitive: frozenset[str]) -> None:
        fields = {}
        for one in dict.fromkeys((*before, *after)):
            old, new = _text(before.get(one)), _text(after.get(one))
            if old != new:
                fields[one] = (old and MASK, new and MASK) if one in sensitive else (old, new)
        self.changes.append(StoredChange(name, action, {one: _text(value) or "" for one, value in key.items()}, fields))

    def header(self) -> str:
        """The block in the header of a SOAP answer."""
        parts = []
        for one in self.changes:
            keys = "".join(f"<key name={quoteattr(name)}>{clean(value)}</key>" for name, value in one.key.items())
            fields = "".join(f"<field name={quoteattr(name)}>{_side('before', before)}{_side('after', after)}</field>"
                             for name, (before, after) in one.fields.items())
            parts.append(f"<change object={quoteattr(one.object)} action={quoteattr(one.action)}>{keys}{fields}</change>")
        return f'<trial xmlns="{TRIAL}" rolledBack="{self.transactions}">{"".join(parts)}</trial>'


class RolledBackError(Exception):
    """Raised inside a transaction to end it without a trace."""


def _side(name: str, value: str | None) -> str:
    return "" if value is None else f"<{name}>{clean(value)}</{name}>"


def _text(value: Any) -> str | None:
    """For people: bytes by their number."""
    if value is None:
        return None
    return f"{len(value)} bytes" if isinstance(value, bytes) else lexical(value)
