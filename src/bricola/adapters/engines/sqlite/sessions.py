"""Sessions to SQLite databases, for the pool."""

import asyncio
import contextlib
import os
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

from bricola.adapters.engines.sqlite.refusals import blamed, refusal
from bricola.adapters.engines.sqlite.types import type_of
from bricola.adapters.folders import Folders, own_store
from bricola.adapters.statements import CHUNK, Bounds, held, in_utc, refuse_null_bytes, run_to_end, statement_failed, too_slow, unreachable
from bricola.core.definitions.engines.places import Endpoint, StatementLimits
from bricola.core.definitions.model import Binding
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import ProblemError
from bricola.core.shapes.primitives import lexical
from bricola.core.sql.refusals import Refusal, RefusedError, Why
from bricola.core.sql.sessions import NO_LIMIT, DriverRow, Work
from bricola.core.sql.tables import ColumnType
from bricola.core.sql.text import with_plain_names

_FILE_ERRORS = (sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CANTOPEN)
_TICK, _BUDGET = 2000, 10  # steps of SQLite's machine between two looks, and looks of a statement that runs at once: 1 to 2 ms
_VIEW = "bricola_looks"
_WAIT_SECONDS = 5.0  # for a lock that another writer holds, in the worker thread



T = TypeVar("T")


def bound(parameters: Sequence[Any]) -> list[Any]:
    """Values as SQLite takes them: text keeps the digits of a decimal, moments are in UTC."""
    return [value if value is None or value.__class__ in (str, int, bool, float, bytes) else _as_text(value) for value in parameters]


def _as_text(value: Any) -> str:
    return lexical(in_utc(value) if isinstance(value, datetime) else value)


@lru_cache(4096)
def _statement(sql: str) -> str:
    return with_plain_names(sql)


class SqliteSession:
    """One connection with one worker thread. Short reads may run on the caller's thread: see `rows_at_once`."""

    def __init__(self, name: str, connection: sqlite3.Connection, worker: ThreadPoolExecutor, limits: StatementLimits) -> None:
        self._name = name
        self._limits = limits
        self.connection = connection
        self.worker = worker
        self.sound = True
        self._budget = -1  # ticks that a statement may still take; below zero: any number
        connection.set_progress_handler(self._tick, _TICK)

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow] | None:
        """A read by key costs some 10 µs here and 100 µs through a thread; a page by an index gains as much, since each
        step of a statement in a thread lets the interpreter go and must get it back. None when the database is locked,
        or when the statement turns out to be long: it is stopped after a millisecond or two."""
        self._budget = _BUDGET
        try:
            rows = self.connection.execute(_statement(sql), bound(parameters)).fetchall()
        except sqlite3.OperationalError as error:
            if error.sqlite_errorcode in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_INTERRUPT):
                return None
            raise self._failed(error) from None
        except (sqlite3.Error, OverflowError) as error:
            raise self._failed(error) from None
        finally:
            self._budget = -1
        if len(rows) > 1:
            Bounds(self._name, self._limits).add(rows)
        return rows

    def _tick(self) -> bool:
        """Called by SQLite every so many steps; true stops the statement."""
        if self._budget < 0:
            return False
        self._budget -= 1
        return self._budget < 0

    async def rows(self, sql: str, parameters: Sequence[Any], within: float = NO_LIMIT) -> list[DriverRow]:
        """Run in the worker. A call that is given up, or that takes too long, interrupts its statement, so that the
        session is free again."""
        return await self._in_worker(lambda: self.rows_waiting(sql, parameters), within)

    async def _in_worker(self, work: Callable[[], T], within: float) -> T:
        running = asyncio.get_running_loop().run_in_executor(self.worker, work)
        try:
            async with asyncio.timeout(min(self._limits.seconds, within)):
                return await asyncio.shield(running)
        except TimeoutError:
            await self._give_up(running)
            raise too_slow(self._name, self._limits, within) from None
        except asyncio.CancelledError:
            await self._give_up(running)
            raise

    async def _give_up(self, work: "asyncio.Future[Any]") -> None:
        """Interrupt until the worker is free: a statement that has not begun yet cannot be interrupted."""
        while not work.done():
            self.connection.interrupt()
            await asyncio.wait([work], timeout=0.05)
        work.exception()  # looked at: it is of the interruption

    async def described(self, sql: str) -> Sequence[ColumnType | None]:
        """By a view of this connection alone: only of such a one does the engine tell the declared types of columns."""
        return await self._in_worker(lambda: self._described(sql), NO_LIMIT)

    def _described(self, sql: str) -> list[ColumnType | None]:
        self.rows_waiting(sql, ())
        try:
            self.connection.execute(f"CREATE TEMP VIEW {_VIEW} AS {_statement(sql)}")
            try:
                told = self.connection.execute(f"SELECT type FROM pragma_table_xinfo('{_VIEW}')").fetchall()
            finally:
                self.connection.execute(f"DROP VIEW temp.{_VIEW}")
        except sqlite3.Error as error:
            raise self._failed(error) from None
        return [type_of(one) for one, in told]

    async def prepared(self, sql: str, holding: bool = False) -> None:
        """By EXPLAIN, and a look at the file: the engine says only when it writes that it may not."""
        if not holding:
            await self._in_worker(lambda: self._prepared(sql), NO_LIMIT)

    def _prepared(self, sql: str) -> None:
        self.rows_waiting(f"EXPLAIN {sql}", ())
        path = self.connection.execute("SELECT file FROM pragma_database_list WHERE name = 'main'").fetchone()[0]
        if path and not (os.access(path, os.W_OK) and os.access(os.path.dirname(path), os.W_OK)):
            raise RefusedError(self._name, Refusal(Why.RIGHTS, "the file or its folder may not be written"))

    async def powers(self) -> Sequence[str]:
        """None: a file has no users."""
        return ()

    async def in_transaction(self, work: Work[T], within: float = NO_LIMIT) -> T:
        """All of it in the worker, one hop a transaction. It holds the file from the start, so that nothing that was
        looked at can change before the commit."""
        return await self._in_worker(lambda: self._transaction(work), within)

    def _transaction(self, work: Work[T]) -> T:
        inside = self.connection.in_transaction  # one that is kept over several steps
        self.write("SAVEPOINT step" if inside else "BEGIN IMMEDIATE", ())
        try:
            result = run_to_end(work(_Inside(self)))
            self.write("RELEASE step" if inside else "COMMIT", ())
        except BaseException:
            if inside and self.connection.in_transaction:
                self.connection.execute("ROLLBACK TO step")
                self.connection.execute("RELEASE step")
            else:
                self.connection.rollback()
            raise
        return result

    async def begin(self, within: float = NO_LIMIT) -> None:
        await self._in_worker(lambda: self.write("BEGIN IMMEDIATE", ()), within)

    async def finish(self, commit: bool) -> None:
        if commit:
            await self._in_worker(lambda: self.write("COMMIT", ()), NO_LIMIT)
        else:
            await self._in_worker(self.connection.rollback, NO_LIMIT)

    def write(self, sql: str, parameters: Sequence[Any]) -> int:
        return self._changing(lambda: self.connection.execute(_statement(sql), bound(parameters)).rowcount, parameters)

    def write_returning(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        return self._changing(lambda: self.connection.execute(_statement(sql), bound(parameters)).fetchall(), parameters)

    def _changing(self, work: Callable[[], T], parameters: Sequence[Any]) -> T:
        refuse_null_bytes(parameters)
        try:
            self.connection.execute(f"PRAGMA busy_timeout={int(_WAIT_SECONDS * 1000)}")
            try:
                return work()
            finally:
                self.connection.execute("PRAGMA busy_timeout=0")
        except (sqlite3.Error, OverflowError) as error:
            raise self._failed(error) from None

    def rows_waiting(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        try:
            self.connection.execute(f"PRAGMA busy_timeout={int(_WAIT_SECONDS * 1000)}")
            try:
                cursor = self.connection.execute(_statement(sql), bound(parameters))
                bounds = Bounds(self._name, self._limits)
                while part := cursor.fetchmany(CHUNK):
                    bounds.add(part)
                return bounds.rows
            finally:
                self.connection.execute("PRAGMA busy_timeout=0")
        except (sqlite3.Error, OverflowError) as error:
            raise self._failed(error) from None

    def _failed(self, error: Exception) -> ProblemError:
        # The low byte is the primary code: an I/O error, a damaged file, a file that is gone.
        if (getattr(error, "sqlite_errorcode", 0) & 0xFF) in _FILE_ERRORS:
            self.sound = False
            return SessionLostError(statement_failed(self._name, str(error)), begun=True)
        if (getattr(error, "sqlite_errorcode", 0) & 0xFF) in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
            return ProblemError(held(self._name, str(error)))
        return RefusedError(self._name, refusal(error))

    async def blamed(self, table: str, refused: Refusal, values: Mapping[str, Any]) -> Sequence[str]:
        return await blamed(self, table, refused, values)


class _Inside:
    """A transaction, on the worker's own thread: nothing in it waits."""

    lock_clause = ""  # the transaction itself holds the whole file

    def __init__(self, session: SqliteSession) -> None:
        self._session = session

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        return self._session.rows_waiting(sql, parameters)

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        return self._session.write(sql, parameters)

    async def write_returning(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        return self._session.write_returning(sql, parameters)


class SqliteKind:
    """How the pool handles SQLite sessions. `name` is the backend's; an endpoint's address is a file in `folders`."""

    def __init__(self, name: str, folders: Folders, binding: Binding | None = None) -> None:
        self._name = name
        self._folders = folders
        self._limits = binding.limits if binding is not None else StatementLimits()
        self._read_only = binding is not None and binding.read_only

    async def open(self, endpoint: Endpoint) -> SqliteSession:
        """Raises ProblemError when the file is missing or is no database; a missing file is never created."""
        path = await asyncio.to_thread(self._folders.find, endpoint.address)
        worker = ThreadPoolExecutor(1, thread_name_prefix=f"sqlite-{self._name}")
        try:
            connection = await asyncio.get_running_loop().run_in_executor(worker, connect, path, self._read_only, self._folders.store)
        except sqlite3.Error as error:
            worker.shutdown(wait=False)
            raise unreachable(self._name, f"{path}: {error}") from None
        except ProblemError:
            worker.shutdown(wait=False)
            raise
        return SqliteSession(self._name, connection, worker, self._limits)

    def is_sound(self, session: SqliteSession) -> bool:
        return session.sound

    def is_clean(self, session: SqliteSession) -> bool:
        return session.sound and not session.connection.in_transaction

    async def check(self, session: SqliteSession) -> bool:
        try:
            await session.rows("SELECT COUNT(*) FROM sqlite_schema", [])
        except ProblemError:
            return False
        return session.sound

    async def reset(self, session: SqliteSession) -> bool:
        if session.sound and session.connection.in_transaction:
            await asyncio.get_running_loop().run_in_executor(session.worker, session.connection.rollback)
        return session.sound

    async def close(self, session: SqliteSession) -> None:
        with contextlib.suppress(RuntimeError):  # closed before
            await asyncio.get_running_loop().run_in_executor(session.worker, session.connection.close)
        session.worker.shutdown(wait=False)

    def cut(self, session: SqliteSession) -> None:
        session.connection.interrupt()

    def identity(self, session: SqliteSession) -> str:
        return ""

    async def most_sessions(self, session: SqliteSession) -> int | None:
        return None


def connect(path: Path, read_only: bool = False, store: int = 0) -> sqlite3.Connection:
    """Open an existing database and read its schema, so that what is no database is told now. Raises sqlite3.Error, and ProblemError for
    one with the application number `store`."""
    uri = f"{path.absolute().as_uri()}?mode={'ro' if read_only else 'rw'}"
    # A writer that commits in this very moment is waited for, or a backend that is sound would be told to be gone. Afterwards nothing
    # waits: what runs at once must not, and the worker says so for itself.
    connection = sqlite3.connect(uri, uri=True, isolation_level=None, check_same_thread=False, timeout=_WAIT_SECONDS)
    try:
        connection.execute("PRAGMA foreign_keys=ON")
        connection.execute("SELECT COUNT(*) FROM sqlite_schema").fetchone()
        if store and connection.execute("PRAGMA application_id").fetchone()[0] == store:
            raise own_store(path.name)
        connection.execute("PRAGMA busy_timeout=0")
    except (sqlite3.Error, ProblemError):
        connection.close()
        raise
    return connection
