"""Marks of requests in a table of the backend, in the same transaction as a write: both are there, or neither."""

from bricola.core.jobs.marks import RequestMark
from bricola.core.problems import Problem
from bricola.core.shapes.model import Values
from bricola.core.sql.refusals import RefusedError, Why
from bricola.core.sql.sessions import DatabaseTransaction, GivenUpError
from bricola.core.sql.statements import table_name

BEGAN = "request.began"


def mark_statements(table: str) -> list[str]:
    """What is sent for marks, without values."""
    name = table_name(table)
    return [f"SELECT answer FROM {name} WHERE 1 = 0", f"DELETE FROM {name} WHERE expires < 0",
            f"INSERT INTO {name} (id, expires, answer) VALUES (NULL, NULL, NULL)"]


class Marks:
    """The table of one backend."""

    def __init__(self, table: str) -> None:
        self._table = table_name(table)

    async def find(self, session: DatabaseTransaction, mark: RequestMark) -> Values | None:
        """The answer of a write that was committed before its caller, or the service, was gone. It is always looked for: what the service
        itself remembers of a request may have been lost, set back, or kept by another."""
        rows = await session.rows(f"SELECT answer FROM {self._table} WHERE id = ?", [mark.id])
        return mark.read(rows[0][0]) if rows else None

    async def leave(self, session: DatabaseTransaction, mark: RequestMark, answer: Values) -> None:
        """Raises GivenUpError when the mark has come there since it was looked for: a transaction that the backend was still committing
        when its client was gone. The next look finds it."""
        await session.write(f"DELETE FROM {self._table} WHERE expires < ?", [int(mark.at)])
        try:
            await session.write(f"INSERT INTO {self._table} (id, expires, answer) VALUES (?, ?, ?)",
                                [mark.id, int(mark.expires), mark.answer(answer)])
        except RefusedError as error:
            if error.refusal.why is not Why.UNIQUE:
                raise
            raise GivenUpError(Problem(BEGAN, "The same request was stored meanwhile.", inner=error.problem.inner)) from None
