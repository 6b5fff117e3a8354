"""Sessions to PostgreSQL databases, for the pool: psycopg 3 on the event loop, so that no thread is needed."""

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable, Coroutine, Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from typing import Any, TypeVar

import psycopg
from psycopg import AsyncConnection, AsyncRawCursor
from psycopg.errors import (
    DeadlockDetected,
    InvalidAuthorizationSpecification,
    QueryCanceled,
    SerializationFailure,
)
from psycopg.pq import TransactionStatus

from bricola.adapters.addresses import host_and_port
from bricola.adapters.engines.postgresql.refusals import blamed, refusal
from bricola.adapters.engines.postgresql.texts import Texts
from bricola.adapters.engines.postgresql.types import type_of
from bricola.adapters.networks import Networks
from bricola.adapters.secrets import Secret, Secrets
from bricola.adapters.statements import (
    CHUNK,
    Bounds,
    given_up,
    in_utc,
    not_alone,
    refuse_null_bytes,
    sign_on_refused,
    statement_failed,
    too_slow,
    unreachable,
)
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import ProblemError
from bricola.core.shapes.primitives import lexical
from bricola.core.sql.refusals import Refusal, RefusedError
from bricola.core.sql.routines import Results
from bricola.core.sql.sessions import NO_LIMIT, DriverRow, GivenUpError, Work
from bricola.core.sql.tables import ColumnType
from bricola.core.sql.text import numbered

DEFAULT_PORT = 5432
_POWERS = ("SUPERUSER", "CREATEROLE", "CREATEDB", "REPLICATION", "BYPASSRLS")  # attributes of a role (documentation, chapter 22.2)
# What DISCARD ALL does (documentation), but for the prepared statements, on which the driver counts. Settings are those of `connect` again.
_FORGETTING = (b"SET SESSION AUTHORIZATION DEFAULT; RESET ALL; CLOSE ALL; UNLISTEN *; SELECT pg_advisory_unlock_all(); DISCARD TEMP;"
               b" DISCARD SEQUENCES")
_PROOFS = "scram-sha-256,none"  # libpq's word; a server that asks for nothing learns nothing
SSL_MODES = {"off": "disable", "encrypt": "require", "verify": "verify-full"}  # libpq's words for them
OLDEST_VERSION = 12  # whose statements psycopg 3.2 is tested with

Connection = AsyncConnection[Any]
T = TypeVar("T")

def bound(parameters: Sequence[Any]) -> list[Any]:
    """Values as text where the server should find the type itself: from the column that they meet."""
    return [value if value is None or value.__class__ in (str, int, bool, float, bytes) else _as_text(value) for value in parameters]


def _as_text(value: Any) -> str:
    return lexical(in_utc(value) if isinstance(value, datetime) else value)


@lru_cache(4096)
def _statement(sql: str) -> bytes:
    return numbered(sql, "$").encode()


class PostgresSession:
    """One connection in autocommit mode."""

    def __init__(self, name: str, connection: Connection, user: str, binding: Binding) -> None:
        self._name = name
        self._limits = binding.limits
        self.connection = connection
        self.user = user
        self._stepping = False
        self.keeps = self.given_up = False  # whether a transaction lasts over several steps, and is lost
        self.stained = False  # whether a routine may have left something behind: settings, temporary tables, locks, a role

    @property
    def sound(self) -> bool:
        return not self.connection.closed and not self.connection.broken

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow] | None:
        """Never: what goes over a socket is waited for."""
        return None

    async def rows(self, sql: str, parameters: Sequence[Any], within: float = NO_LIMIT) -> list[DriverRow]:
        """The server itself ends what takes longer than the binding allows; what is left of the call may be less."""
        try:
            async with asyncio.timeout(within if within < self._limits.seconds else None):
                if self.keeps and not self._stepping:
                    return await self._as_step(lambda: self._rows(sql, parameters), within)
                return await self._rows(sql, parameters)
        except TimeoutError:
            raise too_slow(self._name, self._limits, within) from None

    async def _rows(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        refuse_null_bytes(parameters)
        try:
            async with self.connection.cursor() as cursor:
                bounds = Bounds(self._name, self._limits)
                part: list[DriverRow] = []
                async for row in cursor.stream(_statement(sql), bound(parameters), size=CHUNK):
                    part.append(row)
                    if len(part) == CHUNK:
                        bounds.add(part)
                        part = []
                bounds.add(part)
                return bounds.rows
        except asyncio.CancelledError:
            with contextlib.suppress(psycopg.Error):
                await self.connection.cancel_safe(timeout=1.0)
            raise
        except psycopg.Error as error:
            raise self._failed(error, parameters) from None

    @property
    def lock_clause(self) -> str:
        return " FOR UPDATE"

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        async with self._writing(sql, parameters) as cursor:
            return int(cursor.rowcount)

    async def write_returning(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        async with self._writing(sql, parameters) as cursor:
            rows: list[DriverRow] = await cursor.fetchall()
            return rows

    @contextlib.asynccontextmanager
    async def _writing(self, sql: str, parameters: Sequence[Any]) -> AsyncIterator[Any]:
        refuse_null_bytes(parameters)
        try:
            async with self.connection.cursor() as cursor:
                await cursor.execute(_statement(sql), bound(parameters))
                yield cursor
        except psycopg.Error as error:
            raise self._failed(error, parameters) from None

    def _failed(self, error: psycopg.Error, parameters: Sequence[Any]) -> ProblemError:
        if not self.sound:
            return SessionLostError(statement_failed(self._name, said(error)), begun=True)
        if isinstance(error, SerializationFailure | DeadlockDetected):
            return GivenUpError(statement_failed(self._name, said(error)))
        return too_slow(self._name, self._limits) if isinstance(error, QueryCanceled) else RefusedError(
            self._name, refusal(error, bool(parameters)))

    async def blamed(self, table: str, refused: Refusal, values: Mapping[str, Any]) -> Sequence[str]:
        return await blamed(self, table, refused, values)

    async def described(self, sql: str) -> Sequence[ColumnType | None]:
        async with self._writing(sql, ()) as cursor:
            return [type_of(one.type_code, one.type_display) for one in cursor.description or ()]

    async def prepared(self, sql: str, holding: bool = False) -> None:
        """By EXPLAIN, which looks at the rights, too; PREPARE leaves those to the execution (documentation, chapter 14.1)."""
        async with self._writing(f"EXPLAIN {sql}{self.lock_clause if holding else ''}", ()):
            pass

    async def powers(self) -> Sequence[str]:
        [row] = await self.rows("SELECT rolsuper, rolcreaterole, rolcreatedb, rolreplication, rolbypassrls FROM pg_roles"
                                " WHERE rolname = current_user", [])
        return [word for word, held in zip(_POWERS, row, strict=True) if held]

    async def results(self, sql: str, parameters: Sequence[Any]) -> list[Results]:
        """Not as they come: of a result without rows the driver would not tell the columns. The statement says how many it wants."""
        self.stained = True
        async with self._writing(sql, parameters) as cursor:
            columns, bounds = cursor.description or (), Bounds(self._name, self._limits)
            if columns:
                bounds.add(await cursor.fetchall())
            names = tuple(one.name for one in columns)
            return [Results(names, bounds.rows, lambda: [type_of(one.type_code, one.type_display) for one in columns])]

    async def ended(self) -> bool:
        return self.connection.info.transaction_status is TransactionStatus.IDLE

    async def in_transaction(self, work: Work[T], within: float = NO_LIMIT) -> T:
        return await self._in_transaction(work, within, b"BEGIN")

    async def reading(self, work: Work[T], within: float = NO_LIMIT) -> T:
        return await self._in_transaction(work, within, b"BEGIN READ ONLY")

    async def alone(self, work: Work[T], within: float = NO_LIMIT) -> T:
        if self.keeps:
            raise not_alone(self._name)
        try:
            async with asyncio.timeout(within if within < self._limits.seconds else None):
                return await work(self)
        except TimeoutError:
            raise too_slow(self._name, self._limits, within) from None

    async def _in_transaction(self, work: Work[T], within: float, begin: bytes) -> T:
        if self.keeps:
            return await self._as_step(lambda: work(self), within)
        try:
            await self.connection.execute(begin)
        except psycopg.Error as error:
            raise SessionLostError(statement_failed(self._name, said(error)), begun=False) from None
        try:
            async with asyncio.timeout(within if within < self._limits.seconds else None):
                result = await work(self)
                await self.write("COMMIT", ())
        except BaseException as error:
            with contextlib.suppress(psycopg.Error):
                await self.connection.rollback()
            if isinstance(error, TimeoutError):
                raise too_slow(self._name, self._limits, within) from None
            raise
        return result

    async def _as_step(self, work: Callable[[], Coroutine[Any, Any, T]], within: float) -> T:
        """A part of the transaction that is kept: a failure in it must not spoil what stands before it, as it would with this engine."""
        await self.write("SAVEPOINT step", ())
        self._stepping = True
        try:
            async with asyncio.timeout(within if within < self._limits.seconds else None):
                result = await work()
                await self.write("RELEASE SAVEPOINT step", ())
        except BaseException as error:
            with contextlib.suppress(psycopg.Error, ProblemError):
                await self.write("ROLLBACK TO SAVEPOINT step", ())
            if isinstance(error, GivenUpError):
                self.given_up = True
                raise given_up(self._name) from None
            if isinstance(error, TimeoutError):
                raise too_slow(self._name, self._limits, within) from None
            raise
        finally:
            self._stepping = False
        return result

    async def begin(self, within: float = NO_LIMIT) -> None:
        await self.write("BEGIN", ())
        self.keeps, self.given_up = True, False

    async def finish(self, commit: bool) -> None:
        self.keeps = False
        if commit and self.given_up:
            await self.write("ROLLBACK", ())
            raise given_up(self._name)
        await self.write("COMMIT" if commit else "ROLLBACK", ())


class PostgresKind:
    """How the pool handles PostgreSQL sessions of one binding."""

    def __init__(self, name: str, binding: Binding, secrets: Secrets, networks: Networks) -> None:
        self._name = name
        self._networks = networks
        self._binding = binding
        self._secrets = secrets
        self._cutting: set[asyncio.Task[None]] = set()

    async def open(self, endpoint: Endpoint) -> PostgresSession:
        """Signs on with the newest secret; with an older one while a rotation overlaps. Raises ProblemError."""
        known = self._secrets.secrets(self._binding.credential) if self._binding.credential else [Secret("password")]
        refused: psycopg.Error | None = None
        for secret in known:
            try:
                connection = await connect(self._binding, endpoint, secret, self._networks)
            except psycopg.OperationalError as error:
                if not is_refusal(error):
                    raise unreachable(self._name, said(error)) from None
                refused = error
                continue
            except psycopg.Error as error:
                raise unreachable(self._name, said(error)) from None
            if self._binding.credential:
                self._secrets.used(self._binding.credential)
            return PostgresSession(self._name, connection, secret.user, self._binding)
        raise sign_on_refused(self._name, f"{endpoint.address}, credential {self._binding.credential or 'none'}: "
                                          f"{said(refused) if refused else 'no secret'}")

    def is_sound(self, session: PostgresSession) -> bool:
        return session.sound

    def is_clean(self, session: PostgresSession) -> bool:
        return session.sound and not session.stained and session.connection.info.transaction_status is TransactionStatus.IDLE

    async def check(self, session: PostgresSession) -> bool:
        try:
            await session.rows("SELECT 1", [])
        except ProblemError:
            return False
        return session.sound

    async def reset(self, session: PostgresSession) -> bool:
        try:
            async with asyncio.timeout(5.0):
                await session.connection.rollback()
                if session.stained:
                    await session.connection.execute(_FORGETTING)
                    session.stained = False
        except (psycopg.Error, TimeoutError):
            return False
        return self.is_clean(session)

    async def close(self, session: PostgresSession) -> None:
        with contextlib.suppress(psycopg.Error):
            await session.connection.close()

    def cut(self, session: PostgresSession) -> None:
        async def cancel() -> None:
            with contextlib.suppress(psycopg.Error):
                await session.connection.cancel_safe(timeout=2.0)

        task = asyncio.get_running_loop().create_task(cancel())
        self._cutting.add(task)
        task.add_done_callback(self._cutting.discard)

    def identity(self, session: PostgresSession) -> str:
        return session.user

    async def most_sessions(self, session: PostgresSession) -> int | None:
        """What the server allows in all, less what it keeps for its own administrators."""
        try:
            rows = await session.rows("SELECT current_setting('max_connections')::int"
                                      " - current_setting('superuser_reserved_connections')::int", [])
        except ProblemError:
            return None
        return int(rows[0][0])


def said(error: psycopg.Error) -> str:
    """What libpq says, without its questions on further lines."""
    return str(error).strip().split("\n")[0].removeprefix("connection failed: ")


def is_refusal(error: psycopg.Error) -> bool:
    """Whether the server answered and said no to the sign-on (SQLSTATE class 28)."""
    text = str(error)
    return isinstance(error, InvalidAuthorizationSpecification) or "authentication failed" in text \
        or "no pg_hba.conf entry" in text or "no password supplied" in text


async def connect(binding: Binding, endpoint: Endpoint, secret: Secret, networks: Networks) -> Connection:
    """One connection with its statements not in transactions. Raises psycopg.Error, and ProblemError where it may not connect."""
    host, port = host_and_port(endpoint.address, DEFAULT_PORT)
    addresses = await networks.find(host, port)
    weak = binding.password_as == "asked" or binding.tls == "verify"
    return await AsyncConnection.connect(
        host=",".join([host] * len(addresses)), hostaddr=",".join(addresses), port=port, require_auth=None if weak else _PROOFS,
        dbname=binding.database or None, user=secret.user or None, password=secret.value or None,
        sslmode=SSL_MODES[binding.tls], connect_timeout=int(max(2, binding.pool.connect_timeout)), autocommit=True,
        application_name="bricola", cursor_factory=AsyncRawCursor, context=Texts(), options=_options(binding))


def _options(binding: Binding) -> str:
    """Settings of the session, in force from its first statement."""
    settings = {"statement_timeout": f"{int(binding.limits.seconds * 1000)}", "TimeZone": "UTC",
                "default_transaction_read_only": "on" if binding.read_only else "off"}
    return " ".join(f"-c {name}={value}" for name, value in settings.items())
