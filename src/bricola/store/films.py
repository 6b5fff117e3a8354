"""Films of screen flows, and the last check of each in each environment."""

import json
import zlib
from dataclasses import dataclass
from typing import Any

from bricola.store.database import Db, timestamp

_MOST_CONTENT = 64_000_000  # bytes of one film's JSON


@dataclass(frozen=True)
class StoredFilm:
    flow: str
    environment: str
    at: str
    author: str
    content: dict[str, Any]


def keep_film(db: Db, flow: str, environment: str, author: str, content: dict[str, Any]) -> None:
    """The newest film of a flow; the one before is gone, and what was found by it."""
    with db.transaction():
        db.execute("INSERT OR REPLACE INTO film VALUES (?, ?, ?, ?, ?)",
                   (flow, environment, timestamp(), author, zlib.compress(json.dumps(content, ensure_ascii=False).encode())))
        db.execute("DELETE FROM film_check WHERE flow = ?", (flow,))


def films(db: Db) -> list[StoredFilm]:
    rows = db.execute("SELECT flow, environment, at, author, content FROM film ORDER BY flow")
    return [StoredFilm(flow, environment, at, author, json.loads(_opened(content))) for flow, environment, at, author, content in rows]


def _opened(content: bytes) -> bytes:
    return zlib.decompressobj().decompress(content, _MOST_CONTENT)


def keep_check(db: Db, flow: str, environment: str, outcome: dict[str, Any]) -> None:
    db.execute(
        "INSERT OR REPLACE INTO film_check VALUES (?, ?, ?, ?)", (flow, environment, timestamp(), json.dumps(outcome, ensure_ascii=False))
    )


def checks(db: Db) -> list[dict[str, Any]]:
    """The last check of each flow in each environment."""
    rows = db.execute("SELECT flow, environment, at, outcome FROM film_check ORDER BY flow, environment")
    return [{"flow": flow, "environment": environment, "at": at, **json.loads(outcome)} for flow, environment, at, outcome in rows]
