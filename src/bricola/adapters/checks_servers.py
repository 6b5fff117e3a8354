"""Checks of database servers: the stages of each protocol."""

import asyncio
import contextlib
import os
import socket
import ssl
import struct
from collections.abc import Sequence

import psycopg
import pymysql

from bricola.adapters import mariadb, postgres
from bricola.adapters.addresses import host_and_port
from bricola.adapters.secrets import Secret, Secrets
from bricola.adapters.stages import Probe, Skip, Step, fail, read_words, sample_failed
from bricola.core.definitions.model import Binding, Endpoint
from bricola.core.problems import ProblemError
from bricola.core.runtime.statements import table_name

_GREETING = 0.1  # seconds in which a server of another protocol shows itself
_SSL_REQUEST = struct.pack("!ii", 8, 80877103)  # PostgreSQL protocol 3, section 55.2.10
_TLS_FLAG = 0x0800  # CLIENT_SSL among the capabilities of a greeting (MariaDB client/server protocol, connection phase)


_MARIA_TABLE = "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = COALESCE(%s, DATABASE()) AND table_name = %s"


class ServerCheck:
    """What every server has: a name, an address, a handshake."""

    default_port = 0

    def __init__(self, binding: Binding, endpoint: Endpoint, secrets: Secrets, probes: Sequence[Probe]) -> None:
        self._binding = binding
        self._endpoint = endpoint
        self._secrets = secrets
        self._probes = probes
        self._host, self._port = "", 0

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._tls, self._signed_on, self._version, self._allowed, self._sample]

    async def _resolved(self) -> str:
        self._host, self._port = host_and_port(self._endpoint.address, self.default_port)
        try:
            found = await asyncio.get_running_loop().getaddrinfo(self._host, self._port, type=socket.SOCK_STREAM)
        except OSError as error:
            raise fail("resolved", f"The name {self._host} is not known.", "a name that resolves", str(error.strerror),
                        "Correct the address in the environment, or the name service.") from None
        return ", ".join(dict.fromkeys(str(one[4][0]) for one in found))

    async def _reachable(self) -> str:
        try:
            _, writer = await asyncio.open_connection(self._host, self._port)
        except OSError as error:
            raise fail("reachable", f"Nothing answers at {self._host}:{self._port}.", "a listening server",
                        os.strerror(error.errno) if error.errno else str(error),
                        "Start the server, or correct the port; look at firewalls in between.") from None
        writer.close()
        return f"{self._host}:{self._port}"

    async def close(self) -> None:
        raise NotImplementedError

    def _not_signed_on(self, words: str, refusal: bool) -> ProblemError:
        credential = self._binding.credential
        return fail("signed on", "The server refused the sign-on." if refusal else "The sign-on failed.",
                    f"a sign-on with the credential {credential}" if credential else "a sign-on without a credential", words,
                    f"Replace the secret: bricola credentials rotate {credential}" if credential and refusal
                    else "Name a credential in the environment." if refusal else "Look at the server's log.")

    def _tables(self) -> list[Probe]:
        """The probes of objects; a query tells of its tables only by failing."""
        return [one for one in self._probes if one.table]

    async def handshake(self, writer: asyncio.StreamWriter) -> None:
        """TLS as the binding asks for it. Raises ProblemError."""
        context = ssl.create_default_context()
        if self._binding.tls == "encrypt":
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        try:
            await writer.start_tls(context, server_hostname=self._host)
        except ssl.SSLCertVerificationError as error:
            raise fail("tls", "The server's certificate is not trusted.", "a valid certificate for its name",
                       error.verify_message, "Have the certificate renewed, or trust its issuer here.") from None
        except (ssl.SSLError, OSError) as error:
            raise fail("tls", "The TLS handshake failed.", "a handshake", str(error), "Look at the server's log.") from None

    async def _tls(self) -> str:
        raise NotImplementedError

    async def _signed_on(self) -> str:
        raise NotImplementedError

    async def _version(self) -> str:
        raise NotImplementedError

    async def _allowed(self) -> str:
        raise NotImplementedError

    async def _sample(self) -> str:
        raise NotImplementedError


class PostgresCheck(ServerCheck):
    """A PostgreSQL server."""

    default_port = postgres.DEFAULT_PORT

    _connection: postgres.Connection | None = None

    async def close(self) -> None:
        if self._connection is not None:
            await self._connection.close()

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
                raise fail("tls", "What answers is not a PostgreSQL server.", "S or N to a request for TLS",
                            repr(answer) if answer else "the connection closed", "Correct the address in the environment.")
            offered = answer == b"S"
            if self._binding.tls == "off":
                raise Skip(f"not asked for; the server {'offers' if offered else 'does not offer'} it")
            if not offered:
                raise fail("tls", "The server does not offer TLS.", f"TLS ({self._binding.tls})", "none",
                            "Switch TLS on at the server, or set 'tls: off' for this environment.")
            await self.handshake(writer)
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
        raise self._not_signed_on(words, refusal)

    async def _version(self) -> str:
        assert self._connection is not None  # an earlier stage opened it
        found = self._connection.info.server_version // 10000
        if found < postgres.OLDEST_VERSION:
            raise fail("version", "The server is too old.", f"PostgreSQL {postgres.OLDEST_VERSION} or newer", str(found),
                        "Renew the server.")
        return f"PostgreSQL {self._connection.info.parameter_status('server_version')}"

    async def _allowed(self) -> str:
        for probe in self._tables():
            rows = await self._ask(probe, "SELECT to_regclass($1) IS NOT NULL", [table_name(probe.table)])
            if not rows[0][0]:
                raise fail("allowed", f"There is no table {probe.table} that this user sees.", f"the table of {probe.object}",
                            mend="Correct 'table:' or 'database:', or the user's search path.")
            rows = await self._ask(probe, "SELECT has_table_privilege(to_regclass($1), 'SELECT')", [table_name(probe.table)])
            if not rows[0][0]:
                raise fail(
                    "allowed",
                    f"This user may not read {probe.table}.",
                    "the right SELECT",
                    "none",
                    f"Give it: GRANT SELECT ON {table_name(probe.table)} TO {self._connection.info.user if self._connection else ''}",
                )
        return f"may read {len(self._tables())} {'table' if len(self._tables()) == 1 else 'tables'}"

    async def _sample(self) -> str:
        for probe in self._probes:
            await self._ask(probe, probe.statement, [])
        return read_words(self._probes)

    async def _ask(self, probe: Probe, sql: str, parameters: list[str]) -> list[tuple[object, ...]]:
        assert self._connection is not None  # an earlier stage opened it
        try:
            return await (await self._connection.execute(sql.encode(), parameters)).fetchall()
        except psycopg.Error as error:
            raise sample_failed(probe, str(error).strip()) from None


class MariaCheck(ServerCheck):
    """A MariaDB server."""

    default_port = mariadb.DEFAULT_PORT
    _connection: mariadb.Connection | None = None
    _user = ""

    async def close(self) -> None:
        if self._connection is not None:
            await asyncio.to_thread(self._connection.close)

    async def _tls(self) -> str:
        """Also the first sign that such a server is there at all: it greets, and the greeting tells what it offers."""
        reader, writer = await asyncio.open_connection(self._host, self._port)
        try:
            greeting = b""
            with contextlib.suppress(TimeoutError, asyncio.IncompleteReadError):
                async with asyncio.timeout(2.0):
                    length = int.from_bytes((await reader.readexactly(4))[:3], "little")
                    greeting = await reader.readexactly(min(length, 512))
        finally:
            writer.close()
        if greeting[:1] == b"\xff":
            raise fail("tls", "The server refuses connections from here.", "a greeting", greeting[3:].decode("utf-8", "replace"),
                       "Look at the server's log.")
        after_version = greeting.find(b"\0") + 1
        flags = greeting[after_version + 13:after_version + 15]
        if greeting[:1] != b"\x0a" or len(flags) < 2:
            raise fail("tls", "What answers is not a MariaDB server.", "its greeting", repr(greeting[:40]) if greeting else "nothing",
                       "Correct the address in the environment.")
        offered = bool(int.from_bytes(flags, "little") & _TLS_FLAG)
        if self._binding.tls == "off":
            raise Skip(f"not asked for; the server {'offers' if offered else 'does not offer'} it")
        if not offered:
            raise fail("tls", "The server does not offer TLS.", f"TLS ({self._binding.tls})", "none",
                       "Switch TLS on at the server, or set 'tls: off' for this environment.")
        return "offered; the handshake is part of the sign-on"

    async def _signed_on(self) -> str:
        credential = self._binding.credential
        known = self._secrets.secrets(credential) if credential else [Secret("password")]
        words, refusal = "no secret", True
        for secret in known:
            try:
                self._connection = await asyncio.to_thread(mariadb.connect, self._binding, self._endpoint, secret)
            except (pymysql.Error, OSError) as error:
                words, refusal = mariadb.said(error), mariadb.is_refusal(error)
                continue
            self._user = secret.user
            return f"as {secret.user or 'the default user'}"
        raise self._not_signed_on(words, refusal)

    async def _version(self) -> str:
        assert self._connection is not None  # an earlier stage opened it
        told = str(self._connection.get_server_info())
        numbers = told.removeprefix("5.5.5-").partition("-")[0].split(".")
        if "mariadb" not in told.lower():
            raise fail("version", "The server is not MariaDB.", "MariaDB", told, "Correct 'engine:' of the backend, or the address.")
        if tuple(int(one) for one in numbers[:2]) < mariadb.OLDEST_VERSION:
            raise fail("version", "The server is too old.", f"MariaDB {'.'.join(map(str, mariadb.OLDEST_VERSION))} or newer", told,
                       "Renew the server.")
        return f"MariaDB {'.'.join(numbers)}"

    async def _allowed(self) -> str:
        for probe in self._tables():
            rows = await self._ask(probe, _MARIA_TABLE, [probe.table.rpartition(".")[0] or None, probe.table.rpartition(".")[2]])
            if not rows[0][0]:
                raise fail("allowed", f"There is no table {probe.table} that this user may see.", f"the table of {probe.object}",
                           mend=f"Correct 'table:' or 'database:', or give the right: GRANT SELECT ON {probe.table} TO {self._user}")
        return f"may see {len(self._tables())} {'table' if len(self._tables()) == 1 else 'tables'}"

    async def _sample(self) -> str:
        for probe in self._probes:
            await self._ask(probe, probe.statement.replace("%", "%%"), [])
        return read_words(self._probes)

    async def _ask(self, probe: Probe, sql: str, parameters: Sequence[str | None]) -> Sequence[Sequence[object]]:
        connection = self._connection
        assert connection is not None  # an earlier stage opened it

        def ask() -> Sequence[Sequence[object]]:
            with connection.cursor() as cursor:
                cursor.execute(sql, parameters)
                return list(cursor.fetchall())

        try:
            return await asyncio.to_thread(ask)
        except pymysql.Error as error:
            raise sample_failed(probe, mariadb.said(error)) from None
