"""Releases and deployments."""

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from bricola.store.database import timestamp


@dataclass(frozen=True)
class StoredRelease:
    """`bundle` is the canonical text of everything in the release, by path."""

    service: str
    number: int
    digest: str
    notes: str
    author: str
    at: str
    bundle: dict[str, str]


@dataclass(frozen=True)
class StoredDeployment:
    environment: str
    service: str
    release: int
    author: str
    at: str
    ended_at: str | None
    ended_by: str | None


_RELEASE = "SELECT service, number, digest, notes, author, at, bundle FROM release"
_DEPLOYMENT = "SELECT environment, service, release, author, at, ended_at, ended_by FROM deployment"


def _release(row: tuple[Any, ...]) -> StoredRelease:
    service, number, digest, notes, author, at, bundle = row
    return StoredRelease(service, number, digest, notes, author, at, json.loads(bundle))


def releases(db: sqlite3.Connection, service: str | None = None) -> list[StoredRelease]:
    """The releases of one service, or of all; the newest first."""
    where, parameters = (" WHERE service = ?", (service,)) if service is not None else ("", ())
    return [_release(row) for row in db.execute(f"{_RELEASE}{where} ORDER BY service, number DESC", parameters)]


def newest_releases(db: sqlite3.Connection) -> dict[str, tuple[int, str]]:
    """For every service that has releases: the number and digest of the newest."""
    rows = db.execute("SELECT service, MAX(number), digest FROM release GROUP BY service")
    return {service: (number, digest) for service, number, digest in rows}


def find_release(db: sqlite3.Connection, service: str, number: int) -> StoredRelease | None:
    row = db.execute(f"{_RELEASE} WHERE service = ? AND number = ?", (service, number)).fetchone()
    return _release(row) if row else None


def add_release(db: sqlite3.Connection, service: str, digest: str, bundle: dict[str, str], notes: str,
                author: str) -> int:
    """Store a release under the service's next number, which is returned."""
    with db:
        db.execute("BEGIN IMMEDIATE")
        number: int = db.execute(
            "SELECT COALESCE(MAX(number), 0) + 1 FROM release WHERE service = ?", (service,)
        ).fetchone()[0]
        db.execute(
            "INSERT INTO release (service, number, digest, bundle, notes, author, at) VALUES (?,?,?,?,?,?,?)",
            (service, number, digest, json.dumps(bundle, ensure_ascii=False), notes, author, timestamp()),
        )
    return number


def deployments(db: sqlite3.Connection, in_force: bool = False, service: str | None = None,
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


def release_in_force(db: sqlite3.Connection, environment: str, service: str) -> int | None:
    """The release that is deployed there now."""
    row = db.execute(
        "SELECT release FROM deployment WHERE environment = ? AND service = ? AND ended_at IS NULL", (environment, service)
    ).fetchone()
    return row[0] if row else None


def start_deployment(db: sqlite3.Connection, environment: str, service: str, release: int, author: str) -> None:
    """End what is in force there and put the release in its place, in one transaction."""
    with db:
        db.execute("BEGIN IMMEDIATE")
        _end(db, environment, service, author)
        db.execute(
            "INSERT INTO deployment (environment, service, release, author, at) VALUES (?,?,?,?,?)",
            (environment, service, release, author, timestamp()),
        )


def end_deployment(db: sqlite3.Connection, environment: str, service: str, author: str) -> bool:
    """Whether there was one to end."""
    with db:
        return _end(db, environment, service, author)


def _end(db: sqlite3.Connection, environment: str, service: str, author: str) -> bool:
    return db.execute(
        "UPDATE deployment SET ended_at = ?, ended_by = ? WHERE environment = ? AND service = ? AND ended_at IS NULL",
        (timestamp(), author, environment, service),
    ).rowcount > 0
