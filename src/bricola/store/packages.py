"""Packages that are kept, and the definitions that came out of them."""

from collections.abc import Iterable
from typing import NamedTuple

from bricola.store.database import Db, timestamp


class StoredPackage(NamedTuple):
    name: str
    version: str
    made: str
    origin: str
    description: str
    kept_at: str
    author: str


class StoredPart(NamedTuple):
    """A definition that came out of a package; `digest` is that of its text as it was then."""

    kind: str
    name: str
    package: str
    version: str
    digest: str
    taken_at: str
    author: str


_COLUMNS = "name, version, made, origin, description, kept_at, author"


def packages(db: Db) -> list[StoredPackage]:
    """All that are kept, by name, the one kept last first."""
    return [StoredPackage(*row) for row in db.execute(f"SELECT {_COLUMNS} FROM package ORDER BY name, kept_at DESC, version DESC")]


def content(db: Db, name: str, version: str = "") -> bytes | None:
    """The zip of a package, of the version that was kept last without one; None when there is none."""
    row = db.execute("SELECT content FROM package WHERE name = ? AND (version = ? OR ? = '') ORDER BY kept_at DESC, version DESC LIMIT 1",
                     (name, version, version)).fetchone()
    return bytes(row[0]) if row is not None else None


def keep(db: Db, package: StoredPackage, zipped: bytes) -> None:
    """Keep one; the same version again takes its place."""
    db.execute(f"INSERT OR REPLACE INTO package ({_COLUMNS}, content) VALUES (?,?,?,?,?,?,?,?)", (*package, zipped))


def drop(db: Db, name: str, version: str) -> bool:
    return db.execute("DELETE FROM package WHERE name = ? AND version = ?", (name, version)).rowcount > 0


def parts(db: Db, package: str = "") -> list[StoredPart]:
    """The definitions that came out of packages, or of one."""
    rows = db.execute("SELECT kind, name, package, version, digest, taken_at, author FROM package_part WHERE package = ? OR ? = ''"
                      " ORDER BY kind, name", (package, package))
    return [StoredPart(*row) for row in rows]


def took(db: Db, found: Iterable[tuple[str, str, str]], package: str, version: str, author: str) -> None:
    """Note that definitions (kind, name, digest of the text) came out of a package."""
    now = timestamp()
    db.executemany("INSERT OR REPLACE INTO package_part (kind, name, package, version, digest, taken_at, author) VALUES (?,?,?,?,?,?,?)",
                   [(kind, name, package, version, digest, now, author) for kind, name, digest in found])
