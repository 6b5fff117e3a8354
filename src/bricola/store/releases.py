"""Releases and deployments."""

import json
from dataclasses import dataclass
from typing import Any

from bricola.store.database import Db, timestamp


@dataclass(frozen=True)
class ReleaseNote:
    """What is known of a release without opening it."""

    service: str
    number: int
    digest: str
    notes: str
    author: str
    at: str
    version: int  # the service's major version
    consent: str  # why a breaking change was let through; '' where none was needed
    form: int  # of its contract and messages


@dataclass(frozen=True)
class StoredRelease(ReleaseNote):
    """`bundle` is the canonical text of everything in the release, by path; `contract` what callers get, with its address marked."""

    bundle: dict[str, str]
    contract: str


@dataclass(frozen=True)
class StoredDeployment:
    """`share` is the percentage of calls that this release answers while it is in force."""

    environment: str
    service: str
    version: int
    release: int
    share: int
    how: str
    reason: str
    author: str
    at: str
    ended_at: str | None
    ended_by: str | None


@dataclass(frozen=True)
class StoredRetirement:
    environment: str
    service: str
    version: int
    ends_at: str
    words: str
    author: str
    at: str


_NOTE = "SELECT service, number, digest, notes, author, at, version, consent, form FROM release"
_RELEASE = "SELECT service, number, digest, notes, author, at, version, consent, form, bundle, contract FROM release"
_DEPLOYMENT = ("SELECT environment, service, version, release, share, how, reason, author, at, ended_at, ended_by"
               " FROM deployment")
_PLACE = "environment = ? AND service = ? AND version = ?"


def _release(row: tuple[Any, ...]) -> StoredRelease:
    service, number, digest, notes, author, at, version, consent, form, bundle, contract = row
    return StoredRelease(service, number, digest, notes, author, at, version, consent, form, json.loads(bundle), contract)


def releases(db: Db, service: str | None = None) -> list[ReleaseNote]:
    """The releases of one service, or of all, without what is in them; the newest first."""
    where, parameters = (" WHERE service = ?", (service,)) if service is not None else ("", ())
    rows = db.execute(f"{_NOTE}{where} ORDER BY service, number DESC", parameters)
    return [ReleaseNote(*row) for row in rows]


def keep_contract(db: Db, service: str, number: int, contract: str) -> None:
    """Store the contract of a release from before contracts were stored."""
    with db.transaction():
        db.execute("UPDATE release SET contract = ? WHERE service = ? AND number = ? AND contract = ''", (contract, service, number))


def without_contract(db: Db) -> list[tuple[str, int]]:
    """The releases whose contracts are not stored yet."""
    return list(db.execute("SELECT service, number FROM release WHERE contract = '' ORDER BY service, number"))


def newest_releases(db: Db) -> dict[str, tuple[int, str]]:
    """For every service that has releases: the number and digest of the newest."""
    rows = db.execute("SELECT service, MAX(number), digest FROM release GROUP BY service")
    return {service: (number, digest) for service, number, digest in rows}


def find_release(db: Db, service: str, number: int | None = None) -> StoredRelease | None:
    """A release by its number, or the newest one."""
    if number is None:
        row = db.execute(f"{_RELEASE} WHERE service = ? ORDER BY number DESC LIMIT 1", (service,)).fetchone()
    else:
        row = db.execute(f"{_RELEASE} WHERE service = ? AND number = ?", (service, number)).fetchone()
    return _release(row) if row else None


def newest_of_version(db: Db, service: str, version: int) -> StoredRelease | None:
    """The newest release of a major version."""
    row = db.execute(f"{_RELEASE} WHERE service = ? AND version = ? ORDER BY number DESC LIMIT 1", (service, version)).fetchone()
    return _release(row) if row else None


def newest_served(db: Db, service: str, version: int) -> StoredRelease | None:
    """The newest release of a major version that was ever deployed anywhere: only such a one can have callers."""
    row = db.execute(f"{_RELEASE} WHERE service = ?1 AND version = ?2 AND number IN (SELECT release FROM deployment WHERE service = ?1)"
                     " ORDER BY number DESC LIMIT 1", (service, version)).fetchone()
    return _release(row) if row else None


def add_release(db: Db, service: str, digest: str, bundle: dict[str, str], notes: str, author: str,
                version: int = 1, consent: str = "", form: int = 1, contract: str = "") -> int:
    """Store a release under the service's next number, which is returned."""
    with db.transaction():
        number: int = db.execute(
            "SELECT COALESCE(MAX(number), 0) + 1 FROM release WHERE service = ?", (service,)
        ).fetchone()[0]
        db.execute(
            "INSERT INTO release (service, number, digest, bundle, notes, author, at, version, consent, form, contract)"
            " VALUES (?,?,?,?,?,?,?,?,?,?,?)",
            (service, number, digest, json.dumps(bundle, ensure_ascii=False), notes, author, timestamp(), version, consent, form,
             contract),
        )
    return number


def deployments(db: Db, in_force: bool = False, service: str | None = None,
                limit: int = 200) -> list[StoredDeployment]:
    """Deployments, the newest first; with `in_force` only those that are live now."""
    clauses = ["ended_at IS NULL"] if in_force else []
    parameters: list[object] = []
    if service is not None:
        clauses.append("service = ?")
        parameters.append(service)
    where = f" WHERE {' AND '.join(clauses)}" if clauses else ""
    rows = db.execute(f"{_DEPLOYMENT}{where} ORDER BY id DESC LIMIT ?", (*parameters, limit))
    return [StoredDeployment(*row) for row in rows]


def in_force(db: Db, environment: str, service: str, version: int) -> list[StoredDeployment]:
    """What is deployed at one place now: the oldest first, two while they share the calls."""
    rows = db.execute(f"{_DEPLOYMENT} WHERE {_PLACE} AND ended_at IS NULL ORDER BY id", (environment, service, version))
    return [StoredDeployment(*row) for row in rows]


def last_before(db: Db, environment: str, service: str, version: int, release: int) -> int | None:
    """The release that was brought to a place before the one that is there; rolling back twice goes back twice."""
    forward = f"SELECT MAX(id) FROM deployment WHERE {_PLACE} AND release = ? AND how <> 'roll back'"
    row = db.execute(f"SELECT release FROM deployment WHERE {_PLACE} AND release <> ? AND how <> 'roll back' AND id < ({forward})"
                     " ORDER BY id DESC LIMIT 1",
                     (environment, service, version, release, environment, service, version, release)).fetchone()
    return row[0] if row else None


def start_deployment(db: Db, environment: str, service: str, version: int, release: int, author: str,
                     share: int = 100, how: str = "deploy", reason: str = "") -> None:
    """Put a release in force, in one transaction: instead of what is there, or beside it for a share of the calls."""
    place = (environment, service, version)
    with db.transaction():
        if share == 100:
            _end(db, *place, author)
        else:
            _end(db, *place, author, "release = ?", release)
            db.execute(f"UPDATE deployment SET share = ? WHERE {_PLACE} AND ended_at IS NULL", (100 - share, *place))
        db.execute(
            "INSERT INTO deployment (environment, service, version, release, share, how, reason, author, at)"
            " VALUES (?,?,?,?,?,?,?,?,?)", (*place, release, share, how, reason, author, timestamp()),
        )


def keep_only(db: Db, environment: str, service: str, version: int, release: int, author: str) -> None:
    """End what shares the calls with a release; that one answers all again."""
    with db.transaction():
        _end(db, environment, service, version, author, "release <> ?", release)
        db.execute(f"UPDATE deployment SET share = 100 WHERE {_PLACE} AND ended_at IS NULL", (environment, service, version))


def end_deployment(db: Db, environment: str, service: str, version: int, author: str) -> bool:
    """Whether there was one to end."""
    with db.transaction():
        return _end(db, environment, service, version, author)


def _end(db: Db, environment: str, service: str, version: int, author: str, only: str = "1",
         *parameters: object) -> bool:
    return db.execute(
        f"UPDATE deployment SET ended_at = ?, ended_by = ? WHERE {_PLACE} AND ended_at IS NULL AND {only}",
        (timestamp(), author, environment, service, version, *parameters),
    ).rowcount > 0


def retirement(db: Db, environment: str, service: str, version: int) -> StoredRetirement | None:
    row = db.execute("SELECT environment, service, version, ends_at, words, author, at FROM retirement"
                     f" WHERE {_PLACE}", (environment, service, version)).fetchone()
    return StoredRetirement(*row) if row else None


def retirements(db: Db) -> list[StoredRetirement]:
    rows = db.execute("SELECT environment, service, version, ends_at, words, author, at FROM retirement")
    return [StoredRetirement(*row) for row in rows]


def save_retirement(db: Db, environment: str, service: str, version: int, ends_at: str, words: str,
                    author: str) -> None:
    db.execute("INSERT INTO retirement (environment, service, version, ends_at, words, author, at) VALUES (?,?,?,?,?,?,?)"
               " ON CONFLICT DO UPDATE SET ends_at = excluded.ends_at, words = excluded.words, author = excluded.author,"
               " at = excluded.at", (environment, service, version, ends_at, words, author, timestamp()))


def remove_retirement(db: Db, environment: str, service: str, version: int) -> bool:
    return db.execute(f"DELETE FROM retirement WHERE {_PLACE}", (environment, service, version)).rowcount > 0
