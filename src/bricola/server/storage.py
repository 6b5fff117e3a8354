"""The stores of a running service, behind one thread, so that SQLite never holds up the event loop."""

import asyncio
import sqlite3
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.store.calls import CallWriter
from bricola.store.database import open_database

P = ParamSpec("P")
T = TypeVar("T")


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


class Storage:
    """`main(f, …)` and `calls(f, …)` run a store function with its connection, one at a time, in order."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._main = open_database(folder / "bricola.db", "main", durable=True)
        self.writer = CallWriter(folder / "calls.db")
        self._calls = open_database(folder / "calls.db", "calls", durable=False)
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="store")

    def at_start(self, work: Callable[Concatenate[sqlite3.Connection, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """Before the service runs, on the caller's own thread."""
        return work(self._main, *args, **kwargs)

    async def main(self, work: Callable[Concatenate[sqlite3.Connection, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        return await self._run(lambda: work(self._main, *args, **kwargs))

    async def calls(self, work: Callable[Concatenate[sqlite3.Connection, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """Reads see every call that was answered before."""

        def flushed() -> T:
            self.writer.flush()
            return work(self._calls, *args, **kwargs)

        return await self._run(flushed)

    async def beside(self, work: Callable[[], T]) -> T:
        """Long work on connections of its own, after all that is pending was written."""
        await self._run(self.writer.flush)
        return await asyncio.to_thread(work)

    async def _run(self, work: Callable[[], T]) -> T:
        try:
            return await asyncio.get_running_loop().run_in_executor(self._thread, work)
        except sqlite3.OperationalError as error:
            raise ProblemError(_explain(error)) from None

    def close(self) -> None:
        self._thread.shutdown()
        self.writer.close()
        self._main.close()
        self._calls.close()
