"""How often each subject was changed: a counter that whoever keeps something in memory can follow."""

from collections.abc import Iterable

from bricola.store.database import Db


def raise_revisions(db: Db, topics: Iterable[str]) -> None:
    """Count a change of each; part of the change's own transaction."""
    db.executemany("INSERT INTO revision VALUES (?, 1) ON CONFLICT DO UPDATE SET number = number + 1", [(one,) for one in topics])


def revisions(db: Db) -> dict[str, int]:
    """The counters by topic; what was never changed is not among them."""
    return dict(db.execute("SELECT topic, number FROM revision").fetchall())
