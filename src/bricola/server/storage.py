"""The stores of a running service, behind one thread, so that SQLite never holds up the event loop."""

import asyncio
import sqlite3
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from bricola.store.calls import CallWriter
from bricola.store.database import open_database

P = ParamSpec("P")
T = TypeVar("T")


class Storage:
    """`main(f, …)` and `calls(f, …)` run a store function with its connection, one at a time, in order."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._main = open_database(folder / "bricola.db", "main", durable=True)
        self.writer = CallWriter(folder / "calls.db")
        self._calls = open_database(folder / "calls.db", "calls", durable=False)
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="store")

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
        return await asyncio.get_running_loop().run_in_executor(self._thread, work)

    def close(self) -> None:
        self._thread.shutdown()
        self.writer.close()
        self._main.close()
        self._calls.close()
