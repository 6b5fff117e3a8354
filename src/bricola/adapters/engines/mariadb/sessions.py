"""Sessions to MariaDB databases, for the pool: PyMySQL, one worker thread each.

PyMySQL because it is plain Python, widely used and tested against every MariaDB that is maintained; the vendor's own
connector needs a C library on each machine, and the other pure driver does not promise to know MariaDB. It has no
asyncio; a thread for each session keeps the event loop free, as for SQLite.

The session speaks standard SQL: names in double quotes, strict types, UTC.
"""

import asyncio
import contextlib
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from functools import lru_cache, partial
from typing import Any, TypeVar

import pymysql
from pymysql.constants import ER
from pymysql.cursors import SSCursor

from bricola.adapters.engines.mariadb.connecting import Connection, connect, forget, is_refusal, said
from bricola.adapters.engines.mariadb.refusals import blamed, refusal
from bricola.adapters.engines.mariadb.types import type_of
from bricola.adapters.networks import Networks
from bricola.adapters.secrets import Secret, Secrets
from bricola.adapters.statements import (
    CHUNK,
    Bounds,
    given_up,
    in_utc,
    not_alone,
    refuse_null_bytes,
    run_to_end,
    sign_on_refused,
    statement_failed,
    too_slow,
    unreachable,
)
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import ProblemError
from bricola.core.sql.refusals import Refusal, RefusedError
from bricola.core.sql.routines import Results
from bricola.core.sql.sessions import NO_LIMIT, DriverRow, GivenUpError, Work
from bricola.core.sql.tables import ColumnType
from bricola.core.sql.text import numbered

_POWERS = frozenset(("SUPER", "CREATE USER", "SHUTDOWN", "RELOAD", "FILE", "PROCESS"))  # on everything

T = TypeVar("T")
_STATEMENT_TIMEOUT, _INTERRUPTED, _READ_ONLY = 1969, 1317, 1792
_GIVEN_UP = (ER.LOCK_DEADLOCK, ER.LOCK_WAIT_TIMEOUT, 1020)
_LOST = (2006, 2013, 2055, 0, ER.SERVER_SHUTDOWN, ER.CON_COUNT_ERROR)


def bound(parameters: Sequence[Any]) -> list[Any]:
    """Moments in UTC without a zone, as DATETIME holds them."""
    return [in_utc(value).replace(tzinfo=None) if isinstance(value, datetime) else value for value in parameters]


@lru_cache(4096)
def _statement(sql: str) -> str:
    return numbered(sql, "%s")


class MariaSession:
    """One connection in autocommit mode, with one worker thread."""

    def __init__(self, name: str, connection: Connection, worker: ThreadPoolExecutor, user: str, binding: Binding,
                 again: Callable[[], Connection]) -> None:
        self._name, self._limits, self._again = name, binding.limits, again
        self.connection, self.worker, self.user = connection, worker, user
        self.sound = True
        self.open_transaction = False
        self.keeps = self.given_up = False  # whether a transaction lasts over several steps, and is lost
        self.stained = False  # whether a routine may have left something behind: variables, settings, temporary tables, locks

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow] | None:
        """Never: what goes over a socket is waited for."""
        return None

    async def rows(self, sql: str, parameters: Sequence[Any], within: float = NO_LIMIT) -> list[DriverRow]:
        refuse_null_bytes(parameters)
        return await self._in_worker(lambda: self.fetch(sql, parameters), within)

    async def described(self, sql: str) -> Sequence[ColumnType | None]:
        return await self._in_worker(lambda: self._described(sql))

    def _described(self, sql: str) -> list[ColumnType | None]:
        with self.connection.cursor() as cursor:
            cursor.execute(_statement(sql))
            return [type_of(one) for one in cursor._result.fields]  # the cursor's own description leaves the character set out

    async def prepared(self, sql: str, holding: bool = False) -> None:
        """PREPARE looks at the rights, too; EXPLAIN would ask for a further one on views."""
        text = sql + (_Inside.lock_clause if holding else "")
        await self._in_worker(lambda: self._prepared(text))

    def _prepared(self, sql: str) -> None:
        with self.connection.cursor() as cursor:
            cursor.execute("PREPARE bricola_looks FROM %s", [sql])
            cursor.execute("DEALLOCATE PREPARE bricola_looks")

    async def powers(self) -> Sequence[str]:
        """A user sees its own privileges only, so those of nobody else are among them."""
        held = {str(row[0]) for row in await self.rows("SELECT privilege_type FROM information_schema.user_privileges", [])}
        return sorted(held & _POWERS)

    async def in_transaction(self, work: Work[T], within: float = NO_LIMIT) -> T:
        """All of it in the worker, one hop a transaction."""
        return await self._in_worker(lambda: self._transaction(work, self.connection.begin), within)

    async def reading(self, work: Work[T], within: float = NO_LIMIT) -> T:
        return await self._in_worker(lambda: self._transaction(work, self._begin_reading), within)

    def _begin_reading(self) -> None:
        with self.connection.cursor() as cursor:
            cursor.execute("START TRANSACTION READ ONLY")

    async def alone(self, work: Work[T], within: float = NO_LIMIT) -> T:
        if self.keeps:
            raise not_alone(self._name)
        return await self._in_worker(lambda: run_to_end(work(_Inside(self))), within)

    def _transaction(self, work: Work[T], begin: Callable[[], None]) -> T:
        if self.keeps:
            return self._as_step(work)
        try:
            begin()
        except (pymysql.Error, OSError) as error:
            raise SessionLostError(statement_failed(self._name, said(error)), begun=False) from None
        self.open_transaction = True
        try:
            result = run_to_end(work(_Inside(self)))
            self.connection.commit()
        except BaseException:
            with contextlib.suppress(pymysql.Error, OSError):
                self.connection.rollback()
                self.open_transaction = False
            raise
        self.open_transaction = False
        return result

    def _as_step(self, work: Work[T]) -> T:
        """A part of the transaction that is kept; what it did is undone when it fails."""
        self.change("SAVEPOINT step", ())
        try:
            result = run_to_end(work(_Inside(self)))
            self.change("RELEASE SAVEPOINT step", ())
        except GivenUpError:  # the server has rolled all of it back
            self.given_up = True
            raise given_up(self._name) from None
        except BaseException:
            with contextlib.suppress(pymysql.Error, OSError):
                self.change("ROLLBACK TO SAVEPOINT step", ())
            raise
        return result

    async def begin(self, within: float = NO_LIMIT) -> None:
        await self._in_worker(self.connection.begin, within)
        self.keeps = self.open_transaction = True
        self.given_up = False

    async def finish(self, commit: bool) -> None:
        self.keeps = False
        await self._in_worker(self.connection.commit if commit and not self.given_up else self.connection.rollback)
        self.open_transaction = False
        if commit and self.given_up:
            raise given_up(self._name)

    def change(self, sql: str, parameters: Sequence[Any]) -> tuple[int, list[DriverRow]]:
        """Rows changed, and rows returned; on the worker's thread."""
        refuse_null_bytes(parameters)
        with self.connection.cursor() as cursor:
            cursor.execute(_statement(sql), bound(parameters))
            return cursor.rowcount, list(cursor.fetchall())

    async def _in_worker(self, work: Callable[[], T], within: float = NO_LIMIT) -> T:
        """The server itself ends what takes longer than the binding allows; what is left of the call may be less."""
        running = asyncio.get_running_loop().run_in_executor(self.worker, self.guarded, work)
        try:
            async with asyncio.timeout(within if within < self._limits.seconds else None):
                return await asyncio.shield(running)
        except TimeoutError:
            await asyncio.to_thread(self.kill)
            await asyncio.wait([running])
            running.exception()
            raise too_slow(self._name, self._limits, within) from None
        except asyncio.CancelledError:
            if not running.done():
                await asyncio.to_thread(self.kill)
                await asyncio.wait([running])
            running.exception()
            raise

    def kill(self) -> None:
        """End what runs on this session, by a connection beside it: the protocol has no other way."""
        with contextlib.suppress(pymysql.Error, OSError), contextlib.closing(self._again()) as beside, beside.cursor() as cursor:
            cursor.execute(f"KILL QUERY {int(self.connection.thread_id())}")

    def guarded(self, work: Callable[[], T]) -> T:
        try:
            return work()
        except pymysql.Error as error:
            raise self._failed(error) from None
        except OSError as error:
            self.sound = False
            raise SessionLostError(statement_failed(self._name, said(error)), begun=True) from None

    def fetch(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        bounds = Bounds(self._name, self._limits)
        with self.connection.cursor(SSCursor) as cursor:
            cursor.execute(_statement(sql), bound(parameters))
            while part := cursor.fetchmany(CHUNK):
                bounds.add(part)
        return bounds.rows

    def results(self, sql: str, parameters: Sequence[Any]) -> list[Results]:
        """Of a CALL: each result, and last what says that it is done, which has no columns."""
        refuse_null_bytes(parameters)
        found: list[Results] = []
        self.stained = True
        with self.connection.cursor(SSCursor) as cursor:
            cursor.execute(_statement(sql), bound(parameters))
            while True:
                if cursor.description:
                    fields = cursor._result.fields  # the cursor's own description leaves the character set out
                    bounds = Bounds(self._name, self._limits)
                    while part := cursor.fetchmany(CHUNK):
                        bounds.add(part)
                    found.append(Results(tuple(one[0] for one in cursor.description), bounds.rows, partial(_types, fields)))
                if not cursor.nextset():
                    return found

    def _failed(self, error: pymysql.Error) -> ProblemError:
        code = error.args[0] if error.args and isinstance(error.args[0], int) else 0
        if code in _GIVEN_UP:
            return GivenUpError(statement_failed(self._name, said(error)))
        if code in (_STATEMENT_TIMEOUT, _INTERRUPTED):
            return too_slow(self._name, self._limits)
        if code in _LOST or not self.connection.open:
            self.sound = False
            return SessionLostError(statement_failed(self._name, said(error)), begun=True)
        return RefusedError(self._name, refusal(code & 0xFFFF, said(error), getattr(error, "sqlstate", None) or ""))

    async def blamed(self, table: str, refused: Refusal, values: Mapping[str, Any]) -> Sequence[str]:
        return await blamed(self, table, refused, values)


class _Inside:
    """A transaction, on the worker's own thread: nothing in it waits."""

    lock_clause = " FOR UPDATE"

    def __init__(self, session: MariaSession) -> None:
        self._session = session

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        refuse_null_bytes(parameters)
        return self._session.guarded(lambda: self._session.fetch(sql, parameters))

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        return self._session.guarded(lambda: self._session.change(sql, parameters))[0]

    async def write_returning(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        return self._session.guarded(lambda: self._session.change(sql, parameters))[1]

    async def results(self, sql: str, parameters: Sequence[Any]) -> list[Results]:
        return self._session.guarded(lambda: self._session.results(sql, parameters))

    async def ended(self) -> bool:
        return not (await self.rows("SELECT @@in_transaction", ()))[0][0]


def _types(fields: Sequence[Any]) -> list[ColumnType | None]:
    return [type_of(one) for one in fields]


class MariaKind:
    """How the pool handles MariaDB sessions of one binding."""

    def __init__(self, name: str, binding: Binding, secrets: Secrets, networks: Networks) -> None:
        self._name, self._binding, self._secrets, self._networks = name, binding, secrets, networks

    async def open(self, endpoint: Endpoint) -> MariaSession:
        """Signs on with the newest secret; with an older one while a rotation overlaps. Raises ProblemError."""
        known = self._secrets.secrets(self._binding.credential) if self._binding.credential else [Secret("password")]
        refused = "no secret"
        for secret in known:
            worker = ThreadPoolExecutor(1, thread_name_prefix=f"mariadb-{self._name}")
            try:
                connection = await asyncio.get_running_loop().run_in_executor(worker, connect, self._binding, endpoint, secret,
                                                                                self._networks)
            except (pymysql.Error, OSError) as error:
                worker.shutdown(wait=False)
                if not is_refusal(error):
                    raise unreachable(self._name, said(error)) from None
                refused = said(error)
                continue
            except ProblemError:
                worker.shutdown(wait=False)
                raise
            if self._binding.credential:
                self._secrets.used(self._binding.credential)
            again = self._again(endpoint, secret)
            return MariaSession(self._name, connection, worker, secret.user, self._binding, again)
        raise sign_on_refused(self._name, f"{endpoint.address}, credential {self._binding.credential or 'none'}: {refused}")

    def _again(self, endpoint: Endpoint, secret: Secret) -> Callable[[], Connection]:
        return lambda: connect(self._binding, endpoint, secret, self._networks)

    def is_sound(self, session: MariaSession) -> bool:
        return session.sound and session.connection.open

    def is_clean(self, session: MariaSession) -> bool:
        return self.is_sound(session) and not session.open_transaction and not session.stained

    async def check(self, session: MariaSession) -> bool:
        try:
            await session.rows("SELECT 1", [])
        except ProblemError:
            return False
        return self.is_sound(session)

    async def reset(self, session: MariaSession) -> bool:
        try:
            async with asyncio.timeout(5.0):
                anew = partial(forget, session.connection, self._binding) if session.stained else session.connection.rollback
                await session._in_worker(anew)
                session.stained = False
        except (ProblemError, TimeoutError):
            return False
        session.open_transaction = False
        return self.is_sound(session)

    async def close(self, session: MariaSession) -> None:
        def close() -> None:
            with contextlib.suppress(pymysql.Error, OSError):
                session.connection.close()

        with contextlib.suppress(RuntimeError):  # closed before
            await asyncio.get_running_loop().run_in_executor(session.worker, close)
        session.worker.shutdown(wait=False)

    def cut(self, session: MariaSession) -> None:
        asyncio.get_running_loop().run_in_executor(None, session.kill)

    def identity(self, session: MariaSession) -> str:
        return session.user

    async def most_sessions(self, session: MariaSession) -> int | None:
        try:
            rows = await session.rows("SELECT @@max_connections", [])
        except ProblemError:
            return None
        return int(rows[0][0])
