"""The staged check of a MariaDB server."""

import asyncio
import contextlib
from collections.abc import Sequence

import pymysql

from bricola.adapters.engines.mariadb import connecting
from bricola.adapters.secrets import Secret
from bricola.adapters.servers import ServerCheck
from bricola.adapters.stages import Skip, allowed_words, fail, no_routine, read_words, sample_failed
from bricola.core.kinds.kind import Probe

_TLS_FLAG = 0x0800  # CLIENT_SSL among the capabilities of a greeting (MariaDB client/server protocol, connection phase)
_ROUTINE = ("SELECT COUNT(*) FROM information_schema.routines WHERE routine_schema = COALESCE(%s, DATABASE()) AND routine_name = %s")
_TABLE = "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = COALESCE(%s, DATABASE()) AND table_name = %s"


class MariaCheck(ServerCheck):
    """A MariaDB server."""

    default_port = connecting.DEFAULT_PORT
    _connection: connecting.Connection | None = None
    _user = ""

    async def close(self) -> None:
        if self._connection is not None:
            await asyncio.to_thread(self._connection.close)

    async def _tls(self) -> str:
        """Also the first sign that such a server is there at all: it greets, and the greeting tells what it offers."""
        reader, writer = await asyncio.open_connection(self._at, self._port)
        try:
            greeting = b""
            with contextlib.suppress(TimeoutError, asyncio.IncompleteReadError):
                async with asyncio.timeout(2.0):
                    length = int.from_bytes((await reader.readexactly(4))[:3], "little")
                    greeting = await reader.readexactly(min(length, 512))
        finally:
            writer.close()
        if greeting[:1] == b"\xff":
            raise fail("tls", "The server refuses connections from here.", "a greeting", f"error {int.from_bytes(greeting[1:3], 'little')}",
                       "Look at the server's log.")
        after_version = greeting.find(b"\0") + 1
        flags = greeting[after_version + 13:after_version + 15]
        if greeting[:1] != b"\x0a" or len(flags) < 2:
            raise fail("tls", "What answers is not a MariaDB server.", "its greeting", "another protocol" if greeting else "nothing",
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
                self._connection = await asyncio.to_thread(connecting.connect, self._binding, self._endpoint, secret, self._networks)
            except (pymysql.Error, OSError) as error:
                words, refusal = connecting.said(error), connecting.is_refusal(error)
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
        if tuple(int(one) for one in numbers[:2]) < connecting.OLDEST_VERSION:
            raise fail("version", "The server is too old.", f"MariaDB {'.'.join(map(str, connecting.OLDEST_VERSION))} or newer", told,
                       "Renew the server.")
        return f"MariaDB {'.'.join(numbers)}"

    async def _allowed(self) -> str:
        for probe in self._tables():
            rows = await self._ask(probe, _TABLE, [probe.table.rpartition(".")[0] or None, probe.table.rpartition(".")[2]])
            if not rows[0][0]:
                raise fail("allowed", f"There is no table {probe.table} that this user may see.", f"the table of {probe.object}",
                           mend=f"Correct 'table:' or 'database:', or give the right: GRANT SELECT ON {probe.table} TO {self._user}")
        for probe in self._routines():
            rows = await self._ask(probe, _ROUTINE, [probe.calls.rpartition(".")[0] or None, probe.calls.rpartition(".")[2]])
            if not rows[0][0]:
                raise no_routine(probe.calls)
        return allowed_words("see", len(self._tables()), self._probes)

    async def _sample(self) -> str:
        for probe in self._probes:
            if probe.sample:
                await self._ask(probe, probe.sample.replace("%", "%%"), [])
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
            raise sample_failed(probe, connecting.said(error)) from None
