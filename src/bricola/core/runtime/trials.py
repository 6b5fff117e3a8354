"""Trials of writes: everything runs, what would be stored is noted, and the transaction is rolled back."""

from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any

from bricola.core.runtime.databases import Values


@dataclass(frozen=True)
class StoredChange:
    """What a write does to one row: created, changed or deleted. `fields`: name -> value before and after."""

    object: str
    action: str
    key: Values
    fields: dict[str, tuple[Any, Any]]


@dataclass
class Trial:
    """The changes that a trial noted, in order. `transactions` counts what was rolled back."""

    changes: list[StoredChange] = field(default_factory=list)
    transactions: int = 0

    def note(self, name: str, action: str, key: Values, before: Values, after: Values) -> None:
        names = dict.fromkeys((*before, *after))
        fields = {one: (before.get(one), after.get(one)) for one in names if before.get(one) != after.get(one)}
        self.changes.append(StoredChange(name, action, key, fields))


current_trial: ContextVar[Trial | None] = ContextVar("current_trial", default=None)


class RolledBackError(Exception):
    """Raised inside a transaction to end it without a trace."""
