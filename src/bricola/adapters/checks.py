"""Testing the way to a backend, one stage after the other, so that the first that fails names the cause.

The stages: the name resolves, the address is reachable, TLS, signed on, version, allowed, a sample is read. What
does not apply to a kind of backend is skipped and says so; what comes after a failure is not tried.
"""

import asyncio
import os
import sqlite3
from collections.abc import Sequence
from pathlib import Path

from bricola.adapters import sqlite
from bricola.adapters.checks_servers import MariaCheck, PostgresCheck, ServerCheck
from bricola.adapters.checks_terminals import TerminalCheck
from bricola.adapters.secrets import Secrets
from bricola.adapters.stages import STAGES, Probe, Skip, Stage, Step, fail, read_words, run, sample_failed
from bricola.adapters.terminals import TerminalKind
from bricola.core.definitions.model import BackendDefinition, Binding, Endpoint


async def check_endpoint(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, secrets: Secrets, data: Path,
                         probes: Sequence[Probe], terminals: TerminalKind | None = None) -> list[Stage]:
    """All stages of one endpoint, in order. Never raises for what a backend does. `terminals` knows which devices are free."""
    checker: _Sqlite | ServerCheck
    if backend.engine == "sqlite":
        checker = _Sqlite(endpoint, data, probes)
    elif backend.is_terminal:
        checker = TerminalCheck(backend, binding, endpoint, secrets, probes, terminals)
    else:
        checker = (MariaCheck if backend.engine == "mariadb" else PostgresCheck)(binding, endpoint, secrets, probes)
    stages: list[Stage] = []
    failed = False
    try:
        for name, step in zip(STAGES, checker.steps(), strict=True):
            if failed:
                stages.append(Stage(name, "not tried"))
                continue
            stage = await run(name, step)
            failed = stage.outcome == "failed"
            stages.append(stage)
    finally:
        await checker.close()
    return stages


class _Sqlite:
    """A file: it exists, is a database, may be read and written."""

    def __init__(self, endpoint: Endpoint, data: Path, probes: Sequence[Probe]) -> None:
        self._path = data / endpoint.address
        self._probes = probes
        self._connection: sqlite3.Connection | None = None

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._tls, self._signed_on, self._version, self._allowed, self._sample]

    async def close(self) -> None:
        if self._connection is not None:
            self._connection.close()

    async def _resolved(self) -> str:
        if not self._path.is_file():
            raise fail("resolved", "There is no such file.", "an existing database file", str(self._path),
                        "Correct 'file:' in the environment, or put the database there; a file is never created.")
        return str(self._path)

    async def _reachable(self) -> str:
        try:
            self._connection = await asyncio.to_thread(sqlite.connect, self._path)
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
                self._connection.execute(probe.statement).fetchall()
            except sqlite3.Error as error:
                raise sample_failed(probe, str(error)) from None
        return read_words(self._probes)
