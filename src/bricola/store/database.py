"""Opening the SQLite files and bringing them to the newest schema."""

import math
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Any

from bricola.core.problems import Kind, Problem, ProblemError

STORE_NUMBER = 0x6272636C  # written in the header of every store, so that copies are known too


class Db:
    """One connection to a store, as the functions of this package see it: statements and transactions, one user at a time.

    It may move between threads; its owner sees to it that one at a time uses it."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> sqlite3.Cursor:
        return self._connection.execute(sql, parameters)

    def executemany(self, sql: str, rows: Iterable[Sequence[Any]]) -> sqlite3.Cursor:
        return self._connection.executemany(sql, rows)

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All of the block or nothing. Inside another transaction the block is a part of that one."""
        if self._connection.in_transaction:
            yield
            return
        self._connection.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._connection.execute("COMMIT")
        except BaseException:
            if self._connection.in_transaction:  # a full disk ends it by itself
                self._connection.execute("ROLLBACK")
            raise

    @property
    def in_transaction(self) -> bool:
        return self._connection.in_transaction

    def interrupt(self) -> None:
        """Make what runs on it fail; from any thread."""
        self._connection.interrupt()

    def close(self) -> None:
        self._connection.close()


def open_database(path: Path, family: str, durable: bool) -> Db:
    """A connection with the schema of `family` ('main' or 'calls') at its newest version.

    Raises ProblemError when the file cannot be opened or comes from a newer program.
    """
    try:
        connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=5.0)
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute(f"PRAGMA synchronous={'FULL' if durable else 'NORMAL'}")
        connection.execute("PRAGMA foreign_keys=ON")
        connection.create_function("latency_bucket", 1, latency_bucket, deterministic=True)
        _migrate(connection, path, family)
        if connection.execute("PRAGMA application_id").fetchone()[0] != STORE_NUMBER:
            connection.execute(f"PRAGMA application_id={STORE_NUMBER}")
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")  # into the file itself, where a plain copy takes it along
    except sqlite3.Error as error:
        raise ProblemError(Problem(
            "store.open", "The store cannot be opened.", Kind.INTERNAL, place=str(path), found=str(error),
            mend="Check that the folder is writable and that the file is a Bricola store.",
        )) from None
    return Db(connection)


def open_reader(path: Path) -> Db:
    """A further connection to a store that is open, for reading beside whoever writes: it sees what was committed when its statement
    began, and waits for nobody (write-ahead log)."""
    address = f"{path.absolute().as_uri()}?mode=ro"
    connection = sqlite3.connect(address, uri=True, isolation_level=None, check_same_thread=False, timeout=5.0)
    connection.execute("PRAGMA query_only=ON")
    return Db(connection)


STEPS_PER_OCTAVE = 8  # of the buckets by which times are counted: each is at most 9 % wide


def latency_bucket(micros: int) -> int:
    """The bucket of a time: a logarithm to the base 2, in steps of an eighth."""
    return int(math.log2(max(1, micros)) * STEPS_PER_OCTAVE)


def bucket_micros(bucket: int) -> int:
    """The middle of a bucket, as a time."""
    return round(2 ** ((bucket + 0.5) / STEPS_PER_OCTAVE))


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
