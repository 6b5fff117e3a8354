"""Handlers of the operations that write one row: create, update, save, delete; each in one transaction.

The change token is a whole number in a column that every write raises by one. A write that says which token it read is
refused when somebody wrote in between; the row is held from the look at it until the commit, so of two writers at once
one wins and the other is told.
"""

from collections.abc import Awaitable, Callable, Sequence
from typing import Any

from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.objects import ConstraintError, DatabaseSession, Handler, Row, Values, bindable, column, quoted, selection
from bricola.core.runtime.pool import Pool
from bricola.core.runtime.sessions import SessionLostError
from bricola.core.shapes.resolve import ResolvedOperation
from bricola.core.shapes.writing import CHANGE_TOKEN, item_name

_ATTEMPTS = 3  # to begin a transaction, each on another session; what has begun is never tried again
_FIRST_TOKEN = 1
_REASONS = {
    "unique": "Another row has this value already.",
    "foreign": "It refers to a row that does not exist, or rows refer to it.",
    "check": "A rule of the table does not allow this value.",
    "required": "The table needs a value that was not given.",
}

Work = Callable[[DatabaseSession, Values], Awaitable[Values]]


def compile_write(operation: ResolvedOperation, pool: Pool[DatabaseSession]) -> Handler:
    """The handler of a writing operation on the pool of its backend."""
    table = _Table(operation)
    work: Work = {"create": table.create, "update": table.update, "save": table.save, "delete": table.delete}[operation.verb]
    fixed, nested = operation.fixed, item_name(operation.row) if operation.verb in ("create", "save") else ""

    async def write(values: Values) -> Values:
        given = fixed | (values[nested] if nested else values)
        return await _in_transaction(pool, table, work, given, operation)

    return write


async def _in_transaction(pool: Pool[DatabaseSession], table: "_Table", work: Work, given: Values, operation: ResolvedOperation) -> Values:
    attempt = 1
    while True:
        session = pool.take() or await pool.borrow()
        broken = True
        try:
            async with session.transaction():
                answer = await work(session, given)
            broken = False
            return answer
        except SessionLostError as error:
            if error.begun or attempt == _ATTEMPTS:
                raise
            attempt += 1
        except ConstraintError as error:
            broken = False
            if error.constraint == "unique":  # two at once may have looked and found nothing
                await table.refuse_existing(session, given)
            raise ProblemError(Problem(f"write.{error.constraint}", _REASONS[error.constraint], Kind.CONFLICT,
                                       place=operation.shape.name,
                                       mend="Correct the values and send it again; nothing was stored.",
                                       inner=error.problem.inner)) from None
        except (ProblemError, DeclaredFaultError):
            broken = False
            raise
        finally:
            pool.give_back(session, broken)


class _Table:
    """The statements of one object, made once. Names are quoted; what a caller sends is only ever bound."""

    def __init__(self, operation: ResolvedOperation) -> None:
        definition = operation.object
        self._definition = definition
        self._creates = operation.verb == "create"
        self._name = item_name(operation.row)
        self._keys = definition.key
        select, self._to_values = selection(definition, operation.row)
        where = " AND ".join(f"{column(definition, key)} = ?" for key in definition.key)
        self._select = f"{select} WHERE {where}"
        self._table = quoted(definition.table)
        self._where = where
        self._token = quoted(definition.change_token) if definition.change_token else ""
        self._writable = [one.name for one in definition.fields if not one.read_only]

    async def create(self, session: DatabaseSession, given: Values) -> Values:
        if await self._find(session, given) is not None:
            raise self._already(given)
        await self._insert(session, given)
        return self._key(given) | self._new_token(None)

    async def refuse_existing(self, session: DatabaseSession, given: Values) -> None:
        """After a create was rolled back: whether it was for the key."""
        if self._creates and await self._find(session, given) is not None:
            raise self._already(given)

    async def update(self, session: DatabaseSession, given: Values) -> Values:
        row = await self._found(session, given)
        self._check_token(row, given)
        fields = [name for name in self._writable if name in given and name not in self._keys]
        changed = [name for name in fields if given[name] != row.get(name)]
        if not changed:
            return self._key(given) | self._token_of(row) | {"changedField": []}
        await self._change(session, given, changed)
        return self._key(given) | self._new_token(row) | {"changedField": changed}

    async def save(self, session: DatabaseSession, given: Values) -> Values:
        row = await self._find(session, given)
        if row is None:
            await self._insert(session, given)
            return self._key(given) | self._new_token(None) | {"outcome": "created"}
        if given.get(CHANGE_TOKEN) is not None:
            self._check_token(row, given)
        changed = [name for name in self._writable if name not in self._keys and given.get(name) != row.get(name)]
        if not changed:
            return self._key(given) | self._token_of(row) | {"outcome": "unchanged"}
        await self._change(session, given, changed)
        return self._key(given) | self._new_token(row) | {"outcome": "updated"}

    async def delete(self, session: DatabaseSession, given: Values) -> Values:
        self._check_token(await self._found(session, given), given)
        await session.write(f"DELETE FROM {self._table} WHERE {self._where}", self._key_values(given))
        return self._key(given)

    async def _find(self, session: DatabaseSession, given: Values) -> Values | None:
        rows: Sequence[Row] = await session.rows(self._select + session.lock_clause, self._key_values(given))
        return self._to_values(rows[0]) if rows else None

    async def _found(self, session: DatabaseSession, given: Values) -> Values:
        row = await self._find(session, given)
        if row is None:
            raise self._fault("NotFound", f"There is no {self._name} with {self._words(given)}.", given)
        return row

    async def _insert(self, session: DatabaseSession, given: Values) -> None:
        names = [name for name in self._writable if given.get(name) is not None]
        columns = [column(self._definition, name) for name in names]
        values = [bindable(given[name]) for name in names]
        if self._token:
            columns.append(self._token)
            values.append(_FIRST_TOKEN)
        await session.write(f"INSERT INTO {self._table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(values))})", values)

    async def _change(self, session: DatabaseSession, given: Values, changed: list[str]) -> None:
        parts = [f"{column(self._definition, name)} = ?" for name in changed]
        values = [bindable(given.get(name)) for name in changed]
        if self._token:
            parts.append(f"{self._token} = {self._token} + 1")
        await session.write(f"UPDATE {self._table} SET {', '.join(parts)} WHERE {self._where}", values + self._key_values(given))

    def _key_values(self, given: Values) -> list[Any]:
        return [bindable(given[key]) for key in self._keys]

    def _key(self, given: Values) -> Values:
        return {key: given[key] for key in self._keys}

    def _words(self, given: Values) -> str:
        return " and ".join(f"{key} {given[key]}" for key in self._keys)

    def _token_of(self, row: Values) -> Values:
        return {CHANGE_TOKEN: row[CHANGE_TOKEN]} if self._token else {}

    def _new_token(self, row: Values | None) -> Values:
        return {CHANGE_TOKEN: str(int(row[CHANGE_TOKEN]) + 1 if row is not None else _FIRST_TOKEN)} if self._token else {}

    def _check_token(self, row: Values, given: Values) -> None:
        if self._token and given[CHANGE_TOKEN] != row[CHANGE_TOKEN]:
            message = f"The {self._name} with {self._words(given)} was written since it was read."
            raise self._fault("Conflict", message, given, self._token_of(row))

    def _already(self, given: Values) -> DeclaredFaultError:
        return self._fault("AlreadyExists", f"There is a {self._name} with {self._words(given)} already.", given)

    def _fault(self, name: str, message: str, given: Values, more: Values | None = None) -> DeclaredFaultError:
        return DeclaredFaultError(name, message, {"message": message, **self._key(given), **(more or {})})
