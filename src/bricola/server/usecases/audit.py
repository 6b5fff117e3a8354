"""The audit trail: what people did that nothing stored tells of, and looking things up in it."""

from typing import Any, Protocol

from bricola.server.ports.changes import Change, Changes, Topic
from bricola.server.ports.storage import Storage
from bricola.store import audit
from bricola.store.audit import AuditEntry


class Ports(Protocol):
    changes: Changes
    storage: Storage


async def note(ports: Ports, topic: Topic, who: str, action: str, subject: str, before: Any = None, after: Any = None) -> None:
    """Add a row for something that was done; never with a secret."""

    def work(change: Change) -> None:
        change.note(who, action, subject, before, after)

    await ports.changes.make([topic], work)


async def entries(ports: Ports, subject: str, who: str, before: int | None, limit: int) -> list[AuditEntry]:
    """The newest first."""
    return await ports.storage.read(audit.entries, subject, who, before, limit)
