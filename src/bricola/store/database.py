"""Opening the SQLite files and bringing them to the newest schema."""

import sqlite3
from datetime import UTC, datetime
from importlib import resources
from pathlib import Path

from bricola.core.problems import Kind, Problem, ProblemError


def open_database(path: Path, family: str, durable: bool) -> sqlite3.Connection:
    """A connection with the schema of `family` ('main' or 'calls') at its newest version.

    The connection may move between threads; its owner sees to it that one at a time uses it.
    Raises ProblemError when the file cannot be opened or comes from a newer program.
    """
    try:
        connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=5.0)
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute(f"PRAGMA synchronous={'FULL' if durable else 'NORMAL'}")
        connection.execute("PRAGMA foreign_keys=ON")
        _migrate(connection, path, family)
    except sqlite3.Error as error:
        raise ProblemError(Problem(
            "store.open", "The store cannot be opened.", Kind.INTERNAL, place=str(path), found=str(error),
            mend="Check that the folder is writable and that the file is a Bricola store.",
        )) from None
    return connection


def _migrate(connection: sqlite3.Connection, path: Path, family: str) -> None:
    steps = sorted(
        (int(file.name.removeprefix(f"{family}_").removesuffix(".sql")), file)
        for file in resources.files("bricola.store").joinpath("migrations").iterdir()
        if file.name.startswith(f"{family}_")
    )
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version > steps[-1][0]:
        raise ProblemError(Problem(
            "store.newer", "The store was written by a newer Bricola.", Kind.INTERNAL, place=str(path),
            expected=f"schema version {steps[-1][0]} or older", found=str(version),
            mend="Start the newer program, or restore an older copy.",
        ))
    for number, file in steps:
        if number > version:
            connection.executescript(f"BEGIN;\n{file.read_text()}\nPRAGMA user_version={number};\nCOMMIT;")


def timestamp(moment: datetime | None = None) -> str:
    """A moment as it is stored: ISO 8601 in UTC, whole milliseconds."""
    return (moment or datetime.now(UTC)).astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
