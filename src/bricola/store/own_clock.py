"""Where the service's own clock stands."""

from bricola.store.database import Db


def stands(db: Db) -> float | None:
    """Seconds since 1970; None before it was first written down."""
    row = db.execute("SELECT seconds FROM own_clock").fetchone()
    return float(row[0]) if row is not None else None


def keep(db: Db, seconds: float) -> None:
    db.execute("INSERT OR REPLACE INTO own_clock VALUES (1, ?)", (seconds,))
