"""Opening the SQLite files and bringing them to the newest schema."""

import sqlite3
from datetime import UTC, datetime
from importlib import resources
from importlib.resources.abc import Traversable
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


def _steps(family: str) -> list[tuple[int, Traversable]]:
    return sorted((
        (int(file.name.removeprefix(f"{family}_").removesuffix(".sql")), file)
        for file in resources.files("bricola.store").joinpath("migrations").iterdir()
        if file.name.startswith(f"{family}_")
    ), key=lambda one: one[0])


def newest_schema(family: str) -> int:
    """The schema version that this program writes."""
    return _steps(family)[-1][0]


def _migrate(connection: sqlite3.Connection, path: Path, family: str) -> None:
    """Bring a store forward, a transaction a step. A copy of the store as it was is kept beside it."""
    steps = _steps(family)
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version > steps[-1][0]:
        raise ProblemError(Problem(
            "store.newer", "The store was written by a newer Bricola.", Kind.INTERNAL, place=str(path),
            expected=f"schema version {steps[-1][0]} or older", found=str(version),
            mend="Start the newer program, or restore an older copy.",
        ))
    if 0 < version < steps[-1][0]:
        _keep_copy(connection, path.with_name(f"{path.name}.schema-{version}"))
    for number, file in steps:
        if number > version:
            connection.executescript(f"BEGIN;\n{file.read_text()}\nPRAGMA user_version={number};\nCOMMIT;")


def _keep_copy(connection: sqlite3.Connection, copy: Path) -> None:
    """The store as it is before its schema changes, for going back to the older program."""
    new = copy.with_name(f"{copy.name}.new")
    new.unlink(missing_ok=True)
    target = sqlite3.connect(new)
    try:
        connection.backup(target)
    finally:
        target.close()
    new.replace(copy)


def timestamp(moment: datetime | None = None) -> str:
    """A moment as it is stored: ISO 8601 in UTC, whole milliseconds."""
    return (moment or datetime.now(UTC)).astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
