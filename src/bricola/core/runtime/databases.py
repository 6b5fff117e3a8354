"""What handlers ask of a session to a database, and reading through a pool."""

from collections.abc import Awaitable, Callable, Coroutine, Sequence
from typing import Any, Protocol, TypeVar

from bricola.core.problems import Problem, ProblemError
from bricola.core.runtime.pool import Pool
from bricola.core.runtime.sessions import SessionLostError

_READ_ATTEMPTS = 3  # with a session each; the pool checks the others of an endpoint that lost one

T = TypeVar("T")
Values = dict[str, Any]
Handler = Callable[[Values], Awaitable[Values]]
Row = Sequence[Any]


class DatabaseTransaction(Protocol):
    """What runs inside a transaction. Statements have a question mark for each parameter; parameters are Python values of
    the simple types. All raise SessionLostError when the connection broke, and ProblemError when the database refuses."""

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[Row]: ...

    async def write(self, sql: str, parameters: Sequence[Any]) -> int:
        """Answers how many rows it changed. Raises ConstraintError for what a rule of the table forbids, GivenUpError when
        the transaction may be tried again."""
        ...

    async def write_returning(self, sql: str, parameters: Sequence[Any]) -> list[Row]:
        """The same for a statement with RETURNING."""
        ...

    @property
    def lock_clause(self) -> str:
        """What makes a SELECT hold its row until the transaction ends; empty where the transaction itself does."""
        ...


Work = Callable[[DatabaseTransaction], Coroutine[Any, Any, T]]


class DatabaseSession(Protocol):
    """A session to a database; see DatabaseTransaction for statements and errors."""

    def rows_at_once(self, sql: str, parameters: Sequence[Any]) -> list[Row] | None:
        """The rows of a short indexed read, or None when it would have to wait or turns out to be long."""
        ...

    async def rows(self, sql: str, parameters: Sequence[Any]) -> list[Row]: ...

    async def in_transaction(self, work: Work[T]) -> T:
        """Run `work` in one transaction: committed when it ends, rolled back when it raises. It may wait for nothing but
        the transaction, since some sessions run all of it in a thread of theirs. SessionLostError has `begun` False when
        nothing began."""
        ...


DatabasePool = Pool[DatabaseSession]


class ConstraintError(ProblemError):
    """A rule of the table forbids a write. `constraint` is unique, foreign, check or required; `columns` are those that
    the rule is about, where the database tells."""

    def __init__(self, constraint: str, problem: Problem, columns: Sequence[str] = ()) -> None:
        super().__init__(problem)
        self.constraint = constraint
        self.columns = tuple(columns)


class GivenUpError(ProblemError):
    """The database gave a transaction up in favour of another (a deadlock, a conflict of snapshots): nothing is stored,
    and it may be tried again."""


async def read(pool: DatabasePool, sql: str, parameters: Sequence[Any], at_once: bool = False) -> list[Row]:
    """The rows of a SELECT. A session that turns out to be lost is replaced: reading again changes nothing.

    `at_once` is for what an index should serve: it runs on the caller's own thread where the kind of session can."""
    attempt = 1
    while True:
        session = pool.take() or await pool.borrow()
        broken = True
        try:
            rows = session.rows_at_once(sql, parameters) if at_once else None
            if rows is None:
                rows = await session.rows(sql, parameters)
            broken = False
            return rows
        except SessionLostError:
            if attempt == _READ_ATTEMPTS:
                raise
            attempt += 1
        except ProblemError:
            broken = False  # refused by a backend that answers
            raise
        finally:
            pool.give_back(session, broken)
