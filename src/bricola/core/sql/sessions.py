"""What handlers ask of a session to a database, and reading through a pool."""

from collections.abc import Callable, Coroutine, Mapping, Sequence
from typing import Any, Protocol, TypeVar

from bricola.core.calls.call import Call
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import ProblemError
from bricola.core.sql.refusals import Refusal
from bricola.core.sql.tables import ColumnType

_READ_ATTEMPTS = 3  # with a session each; the pool checks the others of an endpoint that lost one

T = TypeVar("T")
DriverRow = Sequence[Any]  # as a driver gives it, in the order of the statement's columns
NO_LIMIT = float("inf")


class DatabaseTransaction(Protocol):
    """What runs inside a transaction. Statements have a question mark for each parameter; parameters are Python values of
    the simple types. All raise SessionLostError when the connection broke, and ProblemError when the database refuses."""

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]: ...

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        """Answers how many rows it changed. Raises RefusedError for what the database does not allow, GivenUpError when
        the transaction may be tried again."""
        ...

    async def write_returning(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow]:
        """The same for a statement with RETURNING."""
        ...

    @property
    def lock_clause(self) -> str:
        """What makes a SELECT hold its row until the transaction ends; empty where the transaction itself does."""
        ...


Work = Callable[[DatabaseTransaction], Coroutine[Any, Any, T]]


class DatabaseSession(Protocol):
    """A session to a database; see DatabaseTransaction for statements and errors. `within` is the seconds that are left of the call;
    the bounds of the binding hold besides."""

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[DriverRow] | None:
        """The rows of a short indexed read, or None when it would have to wait or turns out to be long."""
        ...

    async def rows(self, sql: str, parameters: Sequence[Any], within: float = NO_LIMIT) -> list[DriverRow]: ...

    async def in_transaction(self, work: Work[T], within: float = NO_LIMIT) -> T:
        """Run `work` in one transaction: committed when it ends, rolled back when it raises. It may wait for nothing but
        the transaction, since some sessions run all of it in a thread of theirs. SessionLostError has `begun` False when
        nothing began. Between `begin` and `finish` it is a part of that transaction, and what it did is undone when it raises."""
        ...

    async def blamed(self, table: str, refusal: Refusal, values: Mapping[str, Any]) -> Sequence[str]:
        """The columns that a refusal is about, of one that does not tell them itself; asked outside of the transaction that it ended.
        `values` are those that were to be stored, by column. Empty where the database's catalogue does not tell either."""
        ...

    async def described(self, sql: str) -> Sequence[ColumnType | None]:
        """The type of each column that a statement without parameters gives; None where the database does not tell. Raises ProblemError
        where it does not take the statement."""
        ...

    async def prepared(self, sql: str, holding: bool = False) -> None:
        """Have a statement without parameters read by the database, which runs nothing of it; `holding` is for a SELECT whose rows are
        held. Raises RefusedError where it, or a right that it needs, is refused."""
        ...

    async def powers(self) -> Sequence[str]:
        """What the signed-on user may do beyond rows of tables, in the words of the backend: what makes an administrator's account."""
        ...

    async def begin(self, within: float = NO_LIMIT) -> None:
        """Begin a transaction that lasts until `finish`."""
        ...

    async def finish(self, commit: bool) -> None:
        """Commit it, or roll it back."""
        ...


DatabasePool = Pool[DatabaseSession]


class GivenUpError(ProblemError):
    """The database gave a transaction up in favour of another (a deadlock, a conflict of snapshots): nothing is stored,
    and it may be tried again."""


async def attempted(pool: Pool[Any], call: Call, work: Callable[[Any, float], Coroutine[Any, Any, T]]) -> T:
    """What `work` gives on a session, with the seconds that are left of the call. A session that turns out to be lost is replaced, so it is
    for what changes nothing."""
    attempt = 1
    while True:
        within = call.seconds_left(pool.now(), NO_LIMIT)
        session = pool.take(call) or await pool.borrow(call)
        broken = True
        try:
            found = await work(session, within)
            broken = False
            return found
        except SessionLostError:
            if attempt == _READ_ATTEMPTS:
                raise
            attempt += 1
            call.tried_again("the session was lost")
        except (ProblemError, DeclaredFaultError):
            broken = False  # refused by a backend that answers
            raise
        finally:
            pool.give_back(session, broken)


async def read(pool: DatabasePool, call: Call, sql: str, parameters: Sequence[Any], at_once: bool = False) -> list[DriverRow]:
    """The rows of a SELECT. A session that turns out to be lost is replaced: reading again changes nothing.

    `at_once` is for what an index should serve: it runs on the caller's own thread where the kind of session can."""
    if call.span is not None:
        call.note(sql)

    async def rows(session: DatabaseSession, within: float) -> list[DriverRow]:
        found = session.rows_at_once(sql, parameters) if at_once else None
        return await session.rows(sql, parameters, within) if found is None else found

    return await attempted(pool, call, rows)
