"""Credentials: what Bricola presents to backends. Only sealed secrets come here; the key is elsewhere."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import datetime

from bricola.store.database import Db, timestamp


@dataclass(frozen=True)
class StoredVersion:
    """One version of a secret. Moments are ISO 8601 text in UTC, or None."""

    id: int
    credential: str
    user: str
    sealed: bytes
    certificate: str
    expires_at: str | None
    ends_at: str | None
    author: str
    created_at: str
    last_used_at: str | None


@dataclass(frozen=True)
class StoredCredential:
    """`versions` are the newest first."""

    name: str
    kind: str
    description: str
    created_at: str
    account: str  # whose it is
    cost: str  # of using it
    versions: tuple[StoredVersion, ...]


_VERSION = ("SELECT id, credential, user, sealed, certificate, expires_at, ends_at, author, created_at, last_used_at"
            " FROM credential_version")


def credentials(db: Db) -> list[StoredCredential]:
    versions: dict[str, list[StoredVersion]] = {}
    for row in db.execute(f"{_VERSION} ORDER BY id DESC"):
        versions.setdefault(row[1], []).append(StoredVersion(*row))
    rows = db.execute("SELECT name, kind, description, created_at, account, cost FROM credential ORDER BY name")
    return [StoredCredential(name, kind, description, at, account, cost, tuple(versions.get(name, ())))
            for name, kind, description, at, account, cost in rows]


def add_credential(db: Db, name: str, kind: str, description: str) -> bool:
    """Whether it was added; not when the name is taken."""
    return db.execute("INSERT INTO credential (name, kind, description, created_at) VALUES (?,?,?,?) ON CONFLICT DO NOTHING",
                      (name, kind, description, timestamp())).rowcount > 0


def describe(db: Db, name: str, description: str, account: str, cost: str) -> None:
    """What people say of a credential."""
    db.execute("UPDATE credential SET description = ?, account = ?, cost = ? WHERE name = ?", (description, account, cost, name))


def add_version(db: Db, credential: str, user: str, sealed: bytes, certificate: str, expires_at: str | None,
                author: str, older_end: datetime) -> None:
    """Add the newest version; older ones end at `older_end`, unless they end sooner already."""
    with db.transaction():
        end = timestamp(older_end)
        db.execute("UPDATE credential_version SET ends_at = ? WHERE credential = ? AND (ends_at IS NULL OR ends_at > ?)",
                   (end, credential, end))
        db.execute("INSERT INTO credential_version (credential, user, sealed, certificate, expires_at, author, created_at)"
                   " VALUES (?,?,?,?,?,?,?)", (credential, user, sealed, certificate, expires_at, author, timestamp()))


@dataclass(frozen=True)
class CredentialPlace:
    """Where a credential may be presented: an address (host and port) of an engine in an environment."""

    credential: str
    environment: str
    engine: str
    address: str


def places(db: Db) -> list[CredentialPlace]:
    rows = db.execute("SELECT credential, environment, engine, address FROM credential_place ORDER BY credential, environment, address")
    return [CredentialPlace(*row) for row in rows]


def add_places(db: Db, found: Iterable[CredentialPlace], author: str) -> None:
    with db.transaction():
        db.executemany("INSERT INTO credential_place (credential, environment, engine, address, author, at) VALUES (?,?,?,?,?,?)"
                       " ON CONFLICT DO NOTHING",
                       [(one.credential, one.environment, one.engine, one.address, author, timestamp()) for one in found])


def places_were_kept(db: Db) -> bool:
    """Whether places are kept since an earlier start; of credentials from before that, those where they are used then count."""
    return db.execute("SELECT 1 FROM fact WHERE name = 'credential-places'").fetchone() is not None


def keep_places(db: Db, found: Iterable[CredentialPlace]) -> None:
    with db.transaction():
        add_places(db, found, "upgrade")
        db.execute("INSERT INTO fact (name, value) VALUES ('credential-places', ?) ON CONFLICT DO NOTHING", (b"1",))


def remove_credential(db: Db, name: str) -> bool:
    db.execute("DELETE FROM credential_place WHERE credential = ?", (name,))
    return db.execute("DELETE FROM credential WHERE name = ?", (name,)).rowcount > 0


def note_uses(db: Db, uses: Iterable[tuple[str, str]]) -> None:
    """(moment, credential): the last successful sign-on, kept at the newest version."""
    with db.transaction():
        db.executemany("UPDATE credential_version SET last_used_at = ? WHERE id ="
                       " (SELECT MAX(id) FROM credential_version WHERE credential = ?)", list(uses))


def reseal(db: Db, again: Callable[[bytes], bytes]) -> int:
    """Seal every secret anew, all or none; answers how many."""
    with db.transaction():
        rows = db.execute("SELECT id, sealed FROM credential_version").fetchall()
        db.executemany("UPDATE credential_version SET sealed = ? WHERE id = ?", [(again(sealed), one) for one, sealed in rows])
        found = db.execute("SELECT value FROM fact WHERE name = 'sealing-check'").fetchone()
        if found:
            db.execute("UPDATE fact SET value = ? WHERE name = 'sealing-check'", (again(found[0]),))
    return len(rows)


def sealing_check(db: Db) -> bytes | None:
    row = db.execute("SELECT value FROM fact WHERE name = 'sealing-check'").fetchone()
    return row[0] if row else None


def keep_sealing_check(db: Db, value: bytes) -> None:
    db.execute("INSERT INTO fact (name, value) VALUES ('sealing-check', ?)", (value,))
