"""Testing the way to a backend, one stage after the other, so that the first that fails names the cause.

The stages: the name resolves, the address is reachable, TLS, signed on, version, allowed, a sample is read. What
does not apply to a kind of backend is skipped and says so; what comes after a failure is not tried.
"""

import asyncio
import contextlib
import os
import socket
import sqlite3
import ssl
import struct
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import psycopg

from bricola.adapters import postgres, sqlite
from bricola.adapters.secrets import Secret, Secrets
from bricola.core.definitions.model import Binding, Endpoint
from bricola.core.problems import Kind, Problem, ProblemError

STAGES = ("resolved", "reachable", "tls", "signed on", "version", "allowed", "sample read")
_SECONDS = 5.0  # for each stage
_GREETING = 0.1  # seconds in which a server of another protocol shows itself
_SSL_REQUEST = struct.pack("!ii", 8, 80877103)  # PostgreSQL protocol 3, section 55.2.10


@dataclass(frozen=True)
class Probe:
    """What is read to see whether Bricola may: the object's name, its table and a statement for one row."""

    object: str
    table: str
    statement: str


@dataclass(frozen=True)
class Stage:
    """One stage's outcome: passed, failed, skipped (does not apply) or not tried."""

    stage: str
    outcome: str
    detail: str = ""
    ms: float = 0.0
    problem: Problem | None = None


class _Skip(Exception):  # noqa: N818 — no error: the stage does not apply
    """This stage does not apply, for the reason in words."""


Step = Callable[[], Awaitable[str]]


async def check_endpoint(engine: str, binding: Binding, endpoint: Endpoint, secrets: Secrets, data: Path,
                         probes: Sequence[Probe]) -> list[Stage]:
    """All stages of one endpoint, in order. Never raises for what a backend does."""
    checker = _Sqlite(endpoint, data, probes) if engine == "sqlite" else _Postgres(binding, endpoint, secrets, probes)
    stages: list[Stage] = []
    failed = False
    try:
        for name, step in zip(STAGES, checker.steps(), strict=True):
            if failed:
                stages.append(Stage(name, "not tried"))
                continue
            stage = await _run(name, step)
            failed = stage.outcome == "failed"
            stages.append(stage)
    finally:
        await checker.close()
    return stages


async def _run(name: str, step: Step) -> Stage:
    began = time.perf_counter()

    def took() -> float:
        return round((time.perf_counter() - began) * 1000, 2)

    try:
        async with asyncio.timeout(_SECONDS):
            detail = await step()
    except _Skip as reason:
        return Stage(name, "skipped", str(reason))
    except ProblemError as error:
        return Stage(name, "failed", error.problem.message, took(), error.problem)
    except TimeoutError:
        problem = _failed(name, "Nothing came back in time.", f"an answer within {_SECONDS:g} s", "",
                          "Look whether the backend is overloaded or a firewall swallows the answer.")
        return Stage(name, "failed", problem.message, took(), problem)
    return Stage(name, "passed", detail, took())


def _failed(stage: str, message: str, expected: str, found: str, mend: str) -> Problem:
    return Problem(f"check.{stage.replace(' ', '-')}", message, Kind.BACKEND, expected=expected, found=found, mend=mend)


def _fail(stage: str, message: str, expected: str = "", found: str = "", mend: str = "") -> ProblemError:
    return ProblemError(_failed(stage, message, expected, found, mend))


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
            raise _fail("resolved", "There is no such file.", "an existing database file", str(self._path),
                        "Correct 'file:' in the environment, or put the database there; a file is never created.")
        return str(self._path)

    async def _reachable(self) -> str:
        try:
            self._connection = await asyncio.to_thread(sqlite.connect, self._path)
        except sqlite3.Error as error:
            raise _fail("reachable", "The file cannot be opened as a database.", "a SQLite database", str(error),
                        "Check the rights of the file, and that it is the right one.") from None
        return "opened"

    async def _tls(self) -> str:
        raise _Skip("a file has no connection")

    async def _signed_on(self) -> str:
        raise _Skip("a file needs no sign-on")

    async def _version(self) -> str:
        return f"SQLite {sqlite3.sqlite_version}"

    async def _allowed(self) -> str:
        if not os.access(self._path, os.W_OK):
            raise _fail("allowed", "The file may be read only.", "read and write", "read", "Change the rights of the file.")
        return "read and write"

    async def _sample(self) -> str:
        return await asyncio.to_thread(self._read)

    def _read(self) -> str:
        assert self._connection is not None  # an earlier stage opened it
        for probe in self._probes:
            try:
                self._connection.execute(probe.statement).fetchall()
            except sqlite3.Error as error:
                raise _sample_failed(probe, str(error)) from None
        return _read_words(self._probes)


class _Postgres:
    """A server: every stage that the protocol has."""

    def __init__(self, binding: Binding, endpoint: Endpoint, secrets: Secrets, probes: Sequence[Probe]) -> None:
        self._binding = binding
        self._endpoint = endpoint
        self._secrets = secrets
        self._probes = probes
        self._host, self._port = "", 0
        self._connection: postgres.Connection | None = None

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._tls, self._signed_on, self._version, self._allowed, self._sample]

    async def close(self) -> None:
        if self._connection is not None:
            await self._connection.close()

    async def _resolved(self) -> str:
        self._host, self._port = postgres.host_and_port(self._endpoint.address)
        try:
            found = await asyncio.get_running_loop().getaddrinfo(self._host, self._port, type=socket.SOCK_STREAM)
        except OSError as error:
            raise _fail("resolved", f"The name {self._host} is not known.", "a name that resolves", str(error.strerror),
                        "Correct the address in the environment, or the name service.") from None
        return ", ".join(dict.fromkeys(str(one[4][0]) for one in found))

    async def _reachable(self) -> str:
        try:
            _, writer = await asyncio.open_connection(self._host, self._port)
        except OSError as error:
            raise _fail("reachable", f"Nothing answers at {self._host}:{self._port}.", "a listening server",
                        os.strerror(error.errno) if error.errno else str(error),
                        "Start the server, or correct the port; look at firewalls in between.") from None
        writer.close()
        return f"{self._host}:{self._port}"

    async def _tls(self) -> str:
        """Also the first sign that a PostgreSQL server is there at all: it answers S or N to a request for TLS."""
        reader, writer = await asyncio.open_connection(self._host, self._port)
        try:
            writer.write(_SSL_REQUEST)
            answer = await reader.read(64)
            with contextlib.suppress(TimeoutError):  # other protocols greet with more, some of them with an S
                async with asyncio.timeout(_GREETING):
                    answer += await reader.read(64)
            if answer not in (b"S", b"N"):
                raise _fail("tls", "What answers is not a PostgreSQL server.", "S or N to a request for TLS",
                            repr(answer) if answer else "the connection closed", "Correct the address in the environment.")
            offered = answer == b"S"
            if self._binding.tls == "off":
                raise _Skip(f"not asked for; the server {'offers' if offered else 'does not offer'} it")
            if not offered:
                raise _fail("tls", "The server does not offer TLS.", f"TLS ({self._binding.tls})", "none",
                            "Switch TLS on at the server, or set 'tls: off' for this environment.")
            context = ssl.create_default_context()
            if self._binding.tls == "encrypt":
                context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
            try:
                await writer.start_tls(context, server_hostname=self._host)
            except ssl.SSLCertVerificationError as error:
                raise _fail("tls", "The server's certificate is not trusted.", "a valid certificate for its name",
                            error.verify_message, "Have the certificate renewed, or trust its issuer here.") from None
            except (ssl.SSLError, OSError) as error:
                raise _fail("tls", "The TLS handshake failed.", "a handshake", str(error), "Look at the server's log.") from None
            return str(writer.get_extra_info("ssl_object").version())
        finally:
            writer.close()

    async def _signed_on(self) -> str:
        credential = self._binding.credential
        known = self._secrets.secrets(credential) if credential else [Secret("password")]
        for secret in known:
            try:
                self._connection = await postgres.connect(self._binding, self._endpoint, secret)
            except psycopg.Error as error:
                words, refusal = postgres.said(error), postgres.is_refusal(error)
                continue
            return f"as {secret.user or 'the default user'}"
        raise _fail("signed on", "The server refused the sign-on." if refusal else "The sign-on failed.",
                    f"a sign-on with the credential {credential}" if credential else "a sign-on without a credential", words,
                    f"Replace the secret: bricola credentials rotate {credential}" if credential and refusal
                    else "Name a credential in the environment." if refusal else "Look at the server's log.")

    async def _version(self) -> str:
        assert self._connection is not None  # an earlier stage opened it
        found = self._connection.info.server_version // 10000
        if found < postgres.OLDEST_VERSION:
            raise _fail("version", "The server is too old.", f"PostgreSQL {postgres.OLDEST_VERSION} or newer", str(found),
                        "Renew the server.")
        return f"PostgreSQL {self._connection.info.parameter_status('server_version')}"

    async def _allowed(self) -> str:
        for probe in self._probes:
            rows = await self._ask(probe, "SELECT to_regclass($1) IS NOT NULL", [f'"{probe.table}"'])
            if not rows[0][0]:
                raise _fail("allowed", f"There is no table {probe.table} that this user sees.", f"the table of {probe.object}",
                            mend="Correct 'table:' or 'database:', or the user's search path.")
            rows = await self._ask(probe, "SELECT has_table_privilege(to_regclass($1), 'SELECT')", [f'"{probe.table}"'])
            if not rows[0][0]:
                raise _fail("allowed", f"This user may not read {probe.table}.", "the right SELECT", "none",
                            f'Give it: GRANT SELECT ON "{probe.table}" TO {self._connection.info.user if self._connection else ""}')
        return f"may read {len(self._probes)} {'table' if len(self._probes) == 1 else 'tables'}"

    async def _sample(self) -> str:
        for probe in self._probes:
            await self._ask(probe, probe.statement, [])
        return _read_words(self._probes)

    async def _ask(self, probe: Probe, sql: str, parameters: list[str]) -> list[tuple[object, ...]]:
        assert self._connection is not None  # an earlier stage opened it
        try:
            return await (await self._connection.execute(sql.encode(), parameters)).fetchall()
        except psycopg.Error as error:
            raise _sample_failed(probe, str(error).strip()) from None


def _sample_failed(probe: Probe, found: str) -> ProblemError:
    return _fail("sample read", f"The object {probe.object} cannot be read.", f"the columns of {probe.object} in {probe.table}",
                 found, "Correct 'table:' and 'column:' in the object, or the database.")


def _read_words(probes: Sequence[Probe]) -> str:
    return ", ".join(dict.fromkeys(one.object for one in probes)) or "nothing is published from it yet"
