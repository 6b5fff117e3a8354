"""The staged check of a SQLite file."""

import asyncio
import os
import sqlite3
from collections.abc import Sequence
from pathlib import Path

from bricola.adapters.engines.sqlite import sessions
from bricola.adapters.folders import Folders
from bricola.adapters.stages import Skip, Step, fail, read_words, sample_failed
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.kinds.kind import Probe


class SqliteCheck:
    """A file: it exists, is a database, may be read and written."""

    def __init__(self, endpoint: Endpoint, folders: Folders, probes: Sequence[Probe]) -> None:
        self._file, self._folders = endpoint.address, folders
        self._path = Path()
        self._probes = probes
        self._connection: sqlite3.Connection | None = None

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._tls, self._signed_on, self._version, self._allowed, self._sample]

    async def close(self) -> None:
        if self._connection is not None:
            self._connection.close()

    async def _resolved(self) -> str:
        self._path = await asyncio.to_thread(self._folders.find, self._file)
        if not self._path.is_file():
            raise fail("resolved", "There is no such file.", "an existing database file", self._file,
                        "Correct 'file:' in the environment, or put the database there; a file is never created.")
        return self._file

    async def _reachable(self) -> str:
        try:
            self._connection = await asyncio.to_thread(sessions.connect, self._path, False, self._folders.store)
        except sqlite3.Error as error:
            raise fail("reachable", "The file cannot be opened as a database.", "a SQLite database", str(error),
                        "Check the rights of the file, and that it is the right one.") from None
        return "opened"

    async def _tls(self) -> str:
        raise Skip("a file has no connection")

    async def _signed_on(self) -> str:
        raise Skip("a file needs no sign-on")

    async def _version(self) -> str:
        return f"SQLite {sqlite3.sqlite_version}"

    async def _allowed(self) -> str:
        if not os.access(self._path, os.W_OK):
            raise fail("allowed", "The file may be read only.", "read and write", "read", "Change the rights of the file.")
        return "read and write"

    async def _sample(self) -> str:
        return await asyncio.to_thread(self._read)

    def _read(self) -> str:
        assert self._connection is not None  # an earlier stage opened it
        for probe in self._probes:
            try:
                self._connection.execute(probe.sample).fetchall()
            except sqlite3.Error as error:
                raise sample_failed(probe, str(error)) from None
        return read_words(self._probes)
