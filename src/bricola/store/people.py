"""Users with their sessions, and callers with their tokens. Secrets are stored as digests only."""

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from bricola.store.database import timestamp


@dataclass(frozen=True)
class StoredUser:
    name: str
    role: str
    password_hash: str
    created_at: str


@dataclass(frozen=True)
class StoredCaller:
    """`tokens` are (prefix, created at)."""

    name: str
    description: str
    created_at: str
    roles: tuple[str, ...]
    tokens: tuple[tuple[str, str], ...]


def count_users(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT COUNT(*) FROM user").fetchone()[0])


def find_user(db: sqlite3.Connection, name: str) -> StoredUser | None:
    row = db.execute("SELECT name, role, password_hash, created_at FROM user WHERE name = ?", (name,)).fetchone()
    return StoredUser(*row) if row else None


def users(db: sqlite3.Connection) -> list[StoredUser]:
    return [StoredUser(*row) for row in db.execute("SELECT name, role, password_hash, created_at FROM user ORDER BY name")]


def add_user(db: sqlite3.Connection, name: str, role: str, password_hash: str, only_first: bool = False) -> bool:
    """Whether the user was added; not when the name is taken, or when `only_first` and there is one already."""
    with db:
        db.execute("BEGIN IMMEDIATE")
        if only_first and count_users(db):
            return False
        return db.execute(
            "INSERT INTO user (name, role, password_hash, created_at) VALUES (?,?,?,?) ON CONFLICT DO NOTHING",
            (name, role, password_hash, timestamp()),
        ).rowcount > 0


def add_session(db: sqlite3.Connection, digest: bytes, user: str, label: str, expires: datetime) -> None:
    with db:
        db.execute("DELETE FROM user_session WHERE expires_at < ?", (timestamp(),))
        db.execute(
            "INSERT INTO user_session (digest, user, label, created_at, expires_at) VALUES (?,?,?,?,?)",
            (digest, user, label, timestamp(), timestamp(expires)),
        )


def session_user(db: sqlite3.Connection, digest: bytes) -> StoredUser | None:
    """The user of a session that has not expired."""
    row = db.execute(
        "SELECT user.name, role, password_hash, user.created_at FROM user_session JOIN user ON user.name = user"
        " WHERE digest = ? AND expires_at > ?", (digest, timestamp()),
    ).fetchone()
    return StoredUser(*row) if row else None


def end_session(db: sqlite3.Connection, digest: bytes) -> None:
    db.execute("DELETE FROM user_session WHERE digest = ?", (digest,))


def callers(db: sqlite3.Connection) -> list[StoredCaller]:
    roles: dict[str, list[str]] = {}
    for caller, role in db.execute("SELECT caller, role FROM caller_role ORDER BY role"):
        roles.setdefault(caller, []).append(role)
    tokens: dict[str, list[tuple[str, str]]] = {}
    for caller, prefix, at in db.execute("SELECT caller, prefix, created_at FROM caller_token ORDER BY created_at"):
        tokens.setdefault(caller, []).append((prefix, at))
    rows = db.execute("SELECT name, description, created_at FROM caller ORDER BY name")
    return [StoredCaller(name, description, at, tuple(roles.get(name, ())), tuple(tokens.get(name, ())))
            for name, description, at in rows]


def caller_digests(db: sqlite3.Connection) -> list[tuple[bytes, str]]:
    """(token digest, caller) of every token that is accepted."""
    return list(db.execute("SELECT digest, caller FROM caller_token"))


def save_caller(db: sqlite3.Connection, name: str, description: str, roles: Iterable[str]) -> None:
    """Add a caller, or replace the description and roles of an existing one."""
    with db:
        db.execute("BEGIN IMMEDIATE")
        db.execute(
            "INSERT INTO caller (name, description, created_at) VALUES (?,?,?)"
            " ON CONFLICT (name) DO UPDATE SET description = excluded.description", (name, description, timestamp()),
        )
        db.execute("DELETE FROM caller_role WHERE caller = ?", (name,))
        db.executemany("INSERT INTO caller_role (caller, role) VALUES (?,?)", [(name, role) for role in sorted(set(roles))])


def add_token(db: sqlite3.Connection, caller: str, digest: bytes, prefix: str) -> None:
    with db:
        db.execute(
            "INSERT INTO caller_token (digest, caller, prefix, created_at) VALUES (?,?,?,?)",
            (digest, caller, prefix, timestamp()),
        )


def revoke_tokens(db: sqlite3.Connection, caller: str, prefix: str) -> int:
    """How many tokens with this prefix were revoked."""
    with db:
        return db.execute("DELETE FROM caller_token WHERE caller = ? AND prefix = ?", (caller, prefix)).rowcount
