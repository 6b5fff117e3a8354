"""Definitions as revisions: nothing is overwritten, a draft is the newest one."""

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass

from bricola.store.database import timestamp


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


def drafts(db: sqlite3.Connection) -> list[StoredDefinition]:
    """The newest revision of every definition, by path."""
    return [StoredDefinition(*row) for row in db.execute(_NEWEST + " ORDER BY path")]


def add_revisions(db: sqlite3.Connection, changes: Iterable[tuple[str, str, str, str]], author: str) -> None:
    """Add (kind, name, path, text) revisions, all or none; an empty text removes the definition."""
    now = timestamp()
    with db:
        db.execute("BEGIN IMMEDIATE")
        db.executemany(
            "INSERT INTO definition_revision (kind, name, path, text, author, at) VALUES (?,?,?,?,?,?)",
            [(*change, author, now) for change in changes],
        )
