"""The staged check of a PostgreSQL server."""

import asyncio
import contextlib
import struct

import psycopg

from bricola.adapters.engines.postgresql import sessions
from bricola.adapters.secrets import Secret
from bricola.adapters.servers import ServerCheck
from bricola.adapters.stages import Skip, allowed_words, fail, no_routine, read_words, sample_failed
from bricola.core.kinds.kind import Probe
from bricola.core.sql.statements import table_name

_GREETING = 0.1  # seconds in which a server of another protocol shows itself
_ROUTINE = ("SELECT count(*) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.proname = $1"
            " AND n.nspname = CASE WHEN $2 = '' THEN current_schema() ELSE $2 END AND has_function_privilege(p.oid, 'EXECUTE')")
_SSL_REQUEST = struct.pack("!ii", 8, 80877103)  # PostgreSQL protocol 3, section 55.2.10


class PostgresCheck(ServerCheck):
    """A PostgreSQL server."""

    default_port = sessions.DEFAULT_PORT

    _connection: sessions.Connection | None = None

    async def close(self) -> None:
        if self._connection is not None:
            await self._connection.close()

    async def _tls(self) -> str:
        """Also the first sign that a PostgreSQL server is there at all: it answers S or N to a request for TLS."""
        reader, writer = await asyncio.open_connection(self._at, self._port)
        try:
            writer.write(_SSL_REQUEST)
            answer = await reader.read(64)
            with contextlib.suppress(TimeoutError):  # other protocols greet with more, some of them with an S
                async with asyncio.timeout(_GREETING):
                    answer += await reader.read(64)
            if answer not in (b"S", b"N"):
                raise fail("tls", "What answers is not a PostgreSQL server.", "S or N to a request for TLS",
                            "another protocol" if answer else "the connection closed", "Correct the address in the environment.")
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
                self._connection = await sessions.connect(self._binding, self._endpoint, secret, self._networks)
            except psycopg.Error as error:
                words, refusal = sessions.said(error), sessions.is_refusal(error)
                continue
            return f"as {secret.user or 'the default user'}"
        raise self._not_signed_on(words, refusal)

    async def _version(self) -> str:
        assert self._connection is not None  # an earlier stage opened it
        found = self._connection.info.server_version // 10000
        if found < sessions.OLDEST_VERSION:
            raise fail("version", "The server is too old.", f"PostgreSQL {sessions.OLDEST_VERSION} or newer", str(found),
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
        for probe in self._routines():
            schema, _, name = probe.calls.rpartition(".")
            rows = await self._ask(probe, _ROUTINE, [name, schema])
            if not rows[0][0]:
                raise no_routine(probe.calls)
        return allowed_words("read", len(self._tables()), self._probes)

    async def _sample(self) -> str:
        for probe in self._probes:
            if probe.sample:
                await self._ask(probe, probe.sample, [])
        return read_words(self._probes)

    async def _ask(self, probe: Probe, sql: str, parameters: list[str]) -> list[tuple[object, ...]]:
        assert self._connection is not None  # an earlier stage opened it
        try:
            return await (await self._connection.execute(sql.encode(), parameters)).fetchall()
        except psycopg.Error as error:
            raise sample_failed(probe, str(error).strip()) from None
