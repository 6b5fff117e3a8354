"""The stores of a running service, on threads of their own, so that SQLite never holds up the event loop.

| thread | connection | what runs there |
| --- | --- | --- |
| writer | bricola.db | every change, one at a time, each a transaction |
| requests | bricola.db | request ids: a write must not begin before its id is on the disk, so nothing slow is in front of it |
| readers | bricola.db, read only, one each | lists and look-ups; they see what was committed and wait for nobody |
| call readers | calls.db, read only, one each | the call log, which may take its time |
| call-writer | calls.db | records in batches (see `store.calls`) |
"""

import asyncio
import sqlite3
import threading
from collections.abc import Callable
from concurrent.futures import Executor, ThreadPoolExecutor
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.pipeline import CallRecord
from bricola.store.calls import CallWriter
from bricola.store.database import Db, open_database, open_reader
from bricola.store.lock import FolderLock

P = ParamSpec("P")
T = TypeVar("T")
_READERS, _CALL_READERS = 3, 2

_CAUSES = {
    sqlite3.SQLITE_FULL: ("store.full", "The disk is full, so nothing was stored.", "Make room on the disk, then do it again."),
    sqlite3.SQLITE_BUSY: ("store.locked", "Another program holds the store, so nothing was stored.",
                          "End the other program (a copy or a shell that has the file open), then do it again."),
    sqlite3.SQLITE_READONLY: ("store.read-only", "The store may not be written, so nothing was stored.",
                              "Give the service the right to write to its data folder."),
}


def _explain(error: sqlite3.OperationalError) -> Problem:
    """What went wrong with the store, and that nothing was half done: every change is one transaction."""
    code, message, mend = _CAUSES.get(getattr(error, "sqlite_errorcode", 0) & 0xFF, (
        "store.failed", "The store does not answer as it should, so nothing was stored.", "Look at the disk and at the service's log."))
    return Problem(code, message, Kind.BUSY, mend=mend, inner=str(error))


class _Readers:
    """Threads that read one file, each with a connection of its own."""

    def __init__(self, file: Path, count: int, name: str) -> None:
        self._file, self._own = file, threading.local()
        self._open: list[Db] = []
        self._threads = ThreadPoolExecutor(count, thread_name_prefix=name)

    @property
    def threads(self) -> Executor:
        return self._threads

    def connection(self) -> Db:
        """Of the thread that asks."""
        found: Db | None = getattr(self._own, "connection", None)
        if found is None:
            found = self._own.connection = open_reader(self._file)
            self._open.append(found)
        return found

    def close(self) -> None:
        for one in self._open:
            one.interrupt()  # a list that nobody waits for any more must not hold up the end
        self._threads.shutdown()
        for one in self._open:
            one.close()


class Storage:
    """Runs store functions: `read` and `calls` beside everything, `write` and `request` one after the other, each in one transaction.

    `counted` is told of every call. The folder belongs to this process until `close`. Raises ProblemError when it is another's, or when
    a store cannot be opened."""

    def __init__(self, folder: Path, counted: Callable[[CallRecord], None] = lambda record: None) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.lock = FolderLock(folder)
        try:
            self._main = open_database(folder / "bricola.db", "main", durable=True)
            self._requests = open_database(folder / "bricola.db", "main", durable=True)
            self.writer = CallWriter(folder / "calls.db", counted)
        except BaseException:
            self.lock.release()
            raise
        self._main_readers = _Readers(folder / "bricola.db", _READERS, "store-reader")
        self._call_readers = _Readers(folder / "calls.db", _CALL_READERS, "call-reader")
        self._call_prune = open_database(folder / "calls.db", "calls", durable=False)
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="store")
        self._request_thread = ThreadPoolExecutor(1, thread_name_prefix="store-requests")
        self._prune_thread = ThreadPoolExecutor(1, thread_name_prefix="call-pruner")

    def at_start(self, work: Callable[Concatenate[Db, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """Before the service runs, on the caller's own thread."""
        with self._main.transaction():
            return work(self._main, *args, **kwargs)

    async def read(self, work: Callable[Concatenate[Db, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """Look something up in the main store."""
        readers = self._main_readers
        return await self._run(readers.threads, lambda: work(readers.connection(), *args, **kwargs))

    async def write(self, work: Callable[Concatenate[Db, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """One transaction on the main store, after those before it."""

        def transaction() -> T:
            with self._main.transaction():
                return work(self._main, *args, **kwargs)

        return await self._run(self._thread, transaction)

    async def request(self, work: Callable[Concatenate[Db, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """One transaction about request ids."""

        def transaction() -> T:
            with self._requests.transaction():
                return work(self._requests, *args, **kwargs)

        return await self._run(self._request_thread, transaction)

    async def calls(self, work: Callable[Concatenate[Db, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """Look something up in the call log: every call that was answered before is seen."""
        readers = self._call_readers

        def flushed() -> T:
            self.writer.flush()
            return work(readers.connection(), *args, **kwargs)

        return await self._run(readers.threads, flushed)

    async def prune_calls(self, work: Callable[Concatenate[Db, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """Remove from the call log."""

        def transaction() -> T:
            with self._call_prune.transaction():
                return work(self._call_prune, *args, **kwargs)

        return await self._run(self._prune_thread, transaction)

    async def beside(self, work: Callable[[], T]) -> T:
        """Long work on connections of its own, after all that is pending was written."""
        await asyncio.to_thread(self.writer.flush)
        return await asyncio.to_thread(work)

    async def _run(self, thread: Executor, work: Callable[[], T]) -> T:
        try:
            return await asyncio.get_running_loop().run_in_executor(thread, work)
        except sqlite3.OperationalError as error:
            raise ProblemError(_explain(error)) from None

    def close(self) -> None:
        for thread in (self._thread, self._request_thread, self._prune_thread):
            thread.shutdown()
        self._main_readers.close()
        self._call_readers.close()
        self.writer.close()
        for one in (self._main, self._requests, self._call_prune):
            one.close()
        self.lock.release()
