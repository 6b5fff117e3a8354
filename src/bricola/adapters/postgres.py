"""Sessions to PostgreSQL databases, for the pool: psycopg 3 on the event loop, so that no thread is needed."""

import asyncio
import contextlib
from collections.abc import AsyncIterator, Sequence
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit

import psycopg
from psycopg import AsyncConnection, AsyncRawCursor
from psycopg.errors import CheckViolation, ForeignKeyViolation, InvalidAuthorizationSpecification, NotNullViolation, UniqueViolation
from psycopg.pq import TransactionStatus

from bricola.adapters.secrets import Secret, Secrets
from bricola.adapters.sqlite import statement_failed, unreachable
from bricola.core.definitions.model import Binding, Endpoint
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.objects import ConstraintError, Row
from bricola.core.runtime.sessions import SessionLostError

DEFAULT_PORT = 5432
SSL_MODES = {"off": "disable", "encrypt": "require", "verify": "verify-full"}  # libpq's words for them
OLDEST_VERSION = 12  # whose statements psycopg 3.2 is tested with

Connection = AsyncConnection[Any]
_CONSTRAINTS = ((UniqueViolation, "unique"), (ForeignKeyViolation, "foreign"), (CheckViolation, "check"), (NotNullViolation, "required"))


class PostgresSession:
    """One connection in autocommit mode."""

    def __init__(self, name: str, connection: Connection, user: str) -> None:
        self._name = name
        self.connection = connection
        self.user = user

    @property
    def sound(self) -> bool:
        return not self.connection.closed and not self.connection.broken

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[Row] | None:
        """Never: what goes over a socket is waited for."""
        return None

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[Row]:
        try:
            async with self.connection.cursor() as cursor:
                await cursor.execute(numbered(sql).encode(), parameters)
                return await cursor.fetchall()
        except asyncio.CancelledError:
            with contextlib.suppress(psycopg.Error):
                await self.connection.cancel_safe(timeout=1.0)
            raise
        except psycopg.Error as error:
            problem = statement_failed(self._name, error)
            if not self.sound:
                raise SessionLostError(problem, begun=True) from None
            raise ProblemError(problem) from None


    @property
    def lock_clause(self) -> str:
        return " FOR UPDATE"

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        try:
            async with self.connection.cursor() as cursor:
                await cursor.execute(numbered(sql).encode(), parameters)
                return cursor.rowcount
        except psycopg.IntegrityError as error:
            constraint = next((word for kind, word in _CONSTRAINTS if isinstance(error, kind)), "check")
            raise ConstraintError(constraint, statement_failed(self._name, error)) from None
        except psycopg.Error as error:
            problem = statement_failed(self._name, error)
            if not self.sound:
                raise SessionLostError(problem, begun=True) from None
            raise ProblemError(problem) from None

    @contextlib.asynccontextmanager
    async def transaction(self) -> AsyncIterator[None]:
        try:
            await self.connection.execute(b"BEGIN")
        except psycopg.Error as error:
            raise SessionLostError(statement_failed(self._name, error), begun=False) from None
        try:
            yield
            await self.write("COMMIT", ())
        except BaseException:
            with contextlib.suppress(psycopg.Error):
                await self.connection.rollback()
            raise


@lru_cache(4096)
def numbered(sql: str) -> str:
    """`?` as `$1`, `$2`, …, outside of quoted names."""
    pieces: list[str] = []
    count, quoted = 0, False
    for one in sql:
        if one == '"':
            quoted = not quoted
        if one == "?" and not quoted:
            count += 1
            pieces.append(f"${count}")
        else:
            pieces.append(one)
    return "".join(pieces)


def host_and_port(address: str) -> tuple[str, int]:
    """Of `host:port`; the port may be left out, an IPv6 address stands in brackets. Raises ProblemError."""
    try:
        parts = urlsplit(f"//{address}")
        host, port = parts.hostname or "", parts.port or DEFAULT_PORT
    except ValueError:
        host, port = "", 0
    if not host or "/" in address or "@" in address:
        raise ProblemError(Problem("endpoint.address", "This is not an address.", place=address,
                                   expected="host:port, like db-north.larkmere.example:5432"))
    return host, port


class PostgresKind:
    """How the pool handles PostgreSQL sessions of one binding."""

    def __init__(self, name: str, binding: Binding, secrets: Secrets) -> None:
        self._name = name
        self._binding = binding
        self._secrets = secrets
        self._cutting: set[asyncio.Task[None]] = set()

    async def open(self, endpoint: Endpoint) -> PostgresSession:
        """Signs on with the newest secret; with an older one while a rotation overlaps. Raises ProblemError."""
        known = self._secrets.secrets(self._binding.credential) if self._binding.credential else [Secret("password")]
        refused: psycopg.Error | None = None
        for secret in known:
            try:
                connection = await connect(self._binding, endpoint, secret)
            except psycopg.OperationalError as error:
                if not is_refusal(error):
                    raise unreachable(self._name, said(error)) from None
                refused = error
                continue
            except psycopg.Error as error:
                raise unreachable(self._name, said(error)) from None
            if self._binding.credential:
                self._secrets.used(self._binding.credential)
            return PostgresSession(self._name, connection, secret.user)
        raise ProblemError(Problem(
            "backend.sign-on", f"The backend {self._name} refused Bricola's sign-on.", Kind.BACKEND,
            mend="The people who run the service replace the credential.",
            inner=f"{endpoint.address}, credential {self._binding.credential or 'none'}: {said(refused) if refused else 'no secret'}"))

    def is_sound(self, session: PostgresSession) -> bool:
        return session.sound

    def is_clean(self, session: PostgresSession) -> bool:
        return session.sound and session.connection.info.transaction_status is TransactionStatus.IDLE

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


async def connect(binding: Binding, endpoint: Endpoint, secret: Secret) -> Connection:
    """One connection with its statements not in transactions. Raises psycopg.Error."""
    host, port = host_and_port(endpoint.address)
    return await AsyncConnection.connect(
        host=host, port=port, dbname=binding.database or None, user=secret.user or None, password=secret.value or None,
        sslmode=SSL_MODES[binding.tls], connect_timeout=int(max(2, binding.pool.connect_timeout)), autocommit=True,
        application_name="bricola", cursor_factory=AsyncRawCursor)
