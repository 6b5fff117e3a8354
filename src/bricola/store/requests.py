"""Requests that carried an id: what began, and what was answered."""


from bricola.core.calls.idempotency import Remembered, RequestKey
from bricola.store.database import Db

_WHERE = "environment = ? AND service = ? AND operation = ? AND caller = ? AND id = ?"


def begin(db: Db, key: RequestKey, digest: str, call: str, at: float, expires: float) -> Remembered | None:
    """Write down that a request begins; what is known of it when it is known already and not too old."""
    with db.transaction():
        row = db.execute(f"SELECT digest, call, answer FROM request WHERE {_WHERE} AND expires > ?", (*key, at)).fetchone()
        if row is not None:
            return Remembered(*row)
        db.execute("INSERT OR REPLACE INTO request VALUES (?, ?, ?, ?, ?, ?, ?, '', ?, ?)", (*key, digest, call, at, expires))
    return None


def finish(db: Db, key: RequestKey, answer: str) -> None:
    db.execute(f"UPDATE request SET answer = ? WHERE {_WHERE}", (answer, *key))


def forget(db: Db, key: RequestKey) -> None:
    db.execute(f"DELETE FROM request WHERE {_WHERE} AND answer = ''", key)


def prune(db: Db, now: float) -> None:
    """Drop what is too old to be repeated."""
    db.execute("DELETE FROM request WHERE expires <= ?", (now,))
