"""Definitions as revisions: nothing is overwritten, a draft is the newest one."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from bricola.store.database import Db, timestamp


@dataclass(frozen=True)
class StoredDefinition:
    kind: str
    name: str
    path: str
    text: str
    revision: int
    author: str
    at: str


_NEWEST = """
    SELECT kind, name, path, text, id, author, at FROM definition_revision AS one
    WHERE id = (SELECT MAX(id) FROM definition_revision WHERE kind = one.kind AND name = one.name) AND text <> ''
"""


def drafts(db: Db) -> list[StoredDefinition]:
    """The newest revision of every definition, by path."""
    return [StoredDefinition(*row) for row in db.execute(_NEWEST + " ORDER BY path")]


def add_revisions(db: Db, changes: Iterable[tuple[str, str, str, str]], author: str,
                  based_on: Mapping[tuple[str, str], int] | None = None) -> list[StoredDefinition]:
    """Add (kind, name, path, text) revisions, all or none; an empty text removes the definition.

    `based_on` says from which revision the author started, 0 for none. When somebody saved one of them in between,
    nothing is stored and the newer revisions are returned."""
    now = timestamp()
    with db.transaction():
        newer = []
        for kind, name, *_ in (changes := list(changes)):
            base = (based_on or {}).get((kind, name))
            if base is None:
                continue
            row = db.execute("SELECT kind, name, path, text, id, author, at FROM definition_revision"
                             " WHERE kind = ? AND name = ? ORDER BY id DESC LIMIT 1", (kind, name)).fetchone()
            current = StoredDefinition(*row) if row else None
            if current is not None and current.revision != base and not (base == 0 and not current.text):
                newer.append(current)
        if newer:
            return newer
        db.executemany(
            "INSERT INTO definition_revision (kind, name, path, text, author, at) VALUES (?,?,?,?,?,?)",
            [(*change, author, now) for change in changes],
        )
    return []


def revisions(db: Db, kind: str, name: str, limit: int = 50) -> list[StoredDefinition]:
    """The revisions of one definition, the newest first; an empty text means that it was removed."""
    rows = db.execute("SELECT kind, name, path, text, id, author, at FROM definition_revision"
                      " WHERE kind = ? AND name = ? ORDER BY id DESC LIMIT ?", (kind, name, limit))
    return [StoredDefinition(*row) for row in rows]


def revision_text(db: Db, revision: int) -> str:
    """The text of a revision; '' when it removed the definition or is unknown."""
    row = db.execute("SELECT text FROM definition_revision WHERE id = ?", (revision,)).fetchone()
    return row[0] if row else ""
