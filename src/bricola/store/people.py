"""Users with their sessions, and callers with their tokens. Secrets are stored as digests only."""

import json
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from bricola.store.database import Db, timestamp


@dataclass(frozen=True)
class StoredUser:
    name: str
    role: str
    password_hash: str
    created_at: str


@dataclass(frozen=True)
class StoredToken:
    """A caller's token, of which only the digest and its first characters are known."""

    prefix: str
    digest: bytes
    created_at: str
    expires_at: str | None
    last_used_at: str | None


@dataclass(frozen=True)
class StoredCaller:
    """`networks` empty means from anywhere; limits of None mean none. `tokens` are the oldest first."""

    name: str
    description: str
    created_at: str
    networks: tuple[str, ...]
    per_minute: int | None
    parallel: int | None
    roles: tuple[str, ...]
    tokens: tuple[StoredToken, ...]


def count_users(db: Db) -> int:
    return int(db.execute("SELECT COUNT(*) FROM user").fetchone()[0])


def find_user(db: Db, name: str) -> StoredUser | None:
    row = db.execute("SELECT name, role, password_hash, created_at FROM user WHERE name = ?", (name,)).fetchone()
    return StoredUser(*row) if row else None


def users(db: Db) -> list[StoredUser]:
    return [StoredUser(*row) for row in db.execute("SELECT name, role, password_hash, created_at FROM user ORDER BY name")]


def add_user(db: Db, name: str, role: str, password_hash: str, only_first: bool = False) -> bool:
    """Whether the user was added; not when the name is taken, or when `only_first` and there is one already."""
    with db.transaction():
        if only_first and count_users(db):
            return False
        return db.execute(
            "INSERT INTO user (name, role, password_hash, created_at) VALUES (?,?,?,?) ON CONFLICT DO NOTHING",
            (name, role, password_hash, timestamp()),
        ).rowcount > 0


def add_session(db: Db, digest: bytes, user: str, label: str, expires: datetime) -> None:
    with db.transaction():
        db.execute("DELETE FROM user_session WHERE expires_at < ?", (timestamp(),))
        db.execute(
            "INSERT INTO user_session (digest, user, label, created_at, expires_at) VALUES (?,?,?,?,?)",
            (digest, user, label, timestamp(), timestamp(expires)),
        )


def session_user(db: Db, digest: bytes) -> StoredUser | None:
    """The user of a session that has not expired."""
    row = db.execute(
        "SELECT user.name, role, password_hash, user.created_at FROM user_session JOIN user ON user.name = user"
        " WHERE digest = ? AND expires_at > ?", (digest, timestamp()),
    ).fetchone()
    return StoredUser(*row) if row else None


def set_role(db: Db, name: str, role: str) -> bool:
    return db.execute("UPDATE user SET role = ? WHERE name = ?", (role, name)).rowcount > 0


def set_password(db: Db, name: str, password_hash: str) -> bool:
    """A new password ends every session of the user."""
    with db.transaction():
        db.execute("DELETE FROM user_session WHERE user = ?", (name,))
        return db.execute("UPDATE user SET password_hash = ? WHERE name = ?", (password_hash, name)).rowcount > 0


def remove_user(db: Db, name: str) -> bool:
    return db.execute("DELETE FROM user WHERE name = ?", (name,)).rowcount > 0


def user_sessions(db: Db, name: str) -> list[tuple[str, str, str, str]]:
    """(number, label, created at, expires at) of a user's sessions; the number is the digest's beginning."""
    rows = db.execute("SELECT lower(substr(hex(digest), 1, 12)), label, created_at, expires_at FROM user_session"
                      " WHERE user = ? AND expires_at > ? ORDER BY created_at", (name, timestamp()))
    return list(rows)


def end_session_by_number(db: Db, name: str, number: str) -> bool:
    return db.execute("DELETE FROM user_session WHERE user = ? AND lower(substr(hex(digest), 1, 12)) = ?",
                      (name, number)).rowcount > 0


def end_session(db: Db, digest: bytes) -> None:
    db.execute("DELETE FROM user_session WHERE digest = ?", (digest,))


def callers(db: Db) -> list[StoredCaller]:
    roles: dict[str, list[str]] = {}
    for caller, role in db.execute("SELECT caller, role FROM caller_role ORDER BY role"):
        roles.setdefault(caller, []).append(role)
    tokens: dict[str, list[StoredToken]] = {}
    for caller, *token in db.execute("SELECT caller, prefix, digest, created_at, expires_at, last_used_at"
                                     " FROM caller_token ORDER BY created_at"):
        tokens.setdefault(caller, []).append(StoredToken(*token))
    rows = db.execute("SELECT name, description, created_at, networks, per_minute, parallel FROM caller ORDER BY name")
    return [StoredCaller(name, description, at, tuple(json.loads(networks)), per_minute, parallel,
                         tuple(roles.get(name, ())), tuple(tokens.get(name, ())))
            for name, description, at, networks, per_minute, parallel in rows]


def save_caller(db: Db, name: str, description: str, roles: Iterable[str], networks: Iterable[str] = (),
                per_minute: int | None = None, parallel: int | None = None) -> None:
    """Add a caller, or replace all that is known of an existing one but its tokens."""
    with db.transaction():
        db.execute(
            "INSERT INTO caller (name, description, created_at, networks, per_minute, parallel) VALUES (?,?,?,?,?,?)"
            " ON CONFLICT (name) DO UPDATE SET description = excluded.description, networks = excluded.networks,"
            " per_minute = excluded.per_minute, parallel = excluded.parallel",
            (name, description, timestamp(), json.dumps(list(networks)), per_minute, parallel),
        )
        db.execute("DELETE FROM caller_role WHERE caller = ?", (name,))
        db.executemany("INSERT INTO caller_role (caller, role) VALUES (?,?)", [(name, role) for role in sorted(set(roles))])


def remove_caller(db: Db, name: str) -> bool:
    return db.execute("DELETE FROM caller WHERE name = ?", (name,)).rowcount > 0


def add_token(db: Db, caller: str, digest: bytes, prefix: str, expires_at: str | None = None,
              older_end: datetime | None = None) -> None:
    """Add a token; with `older_end` the caller's other tokens end then, unless they end sooner."""
    with db.transaction():
        if older_end is not None:
            end = timestamp(older_end)
            db.execute("UPDATE caller_token SET expires_at = ? WHERE caller = ? AND (expires_at IS NULL OR expires_at > ?)",
                       (end, caller, end))
        db.execute(
            "INSERT INTO caller_token (digest, caller, prefix, created_at, expires_at) VALUES (?,?,?,?,?)",
            (digest, caller, prefix, timestamp(), expires_at),
        )


def revoke_tokens(db: Db, caller: str, prefix: str) -> int:
    """How many tokens with this prefix were revoked."""
    with db.transaction():
        db.execute("INSERT OR REPLACE INTO revoked_token SELECT digest, caller, prefix, ? FROM caller_token"
                   " WHERE caller = ? AND prefix = ?", (timestamp(), caller, prefix))
        return db.execute("DELETE FROM caller_token WHERE caller = ? AND prefix = ?", (caller, prefix)).rowcount


def revoked_tokens(db: Db) -> list[tuple[bytes, str]]:
    """(digest, caller) of every token that was revoked."""
    return [(bytes(digest), caller) for digest, caller in db.execute("SELECT digest, caller FROM revoked_token")]


def note_token_uses(db: Db, uses: Iterable[tuple[str, bytes]]) -> None:
    """(moment, digest) of the last call with each token."""
    with db.transaction():
        db.executemany("UPDATE caller_token SET last_used_at = ? WHERE digest = ?", list(uses))
