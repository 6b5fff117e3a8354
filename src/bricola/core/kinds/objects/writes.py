"""Handlers of the operations that write an object: create, update, save, delete; each in one transaction.

A write that says which change token it read is refused when somebody wrote in between; the row is held from the look at
it until the commit, so of two writers at once one wins and the other is told. A trial runs everything and rolls it back.
"""

import itertools
from collections.abc import Awaitable, Callable, Iterable, Sequence
from functools import partial
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.objects.change_tokens import compile_hash
from bricola.core.kinds.objects.children import WrittenChildren, same
from bricola.core.kinds.objects.columns import column, utc_fields
from bricola.core.kinds.objects.conflicts import Conflicts, own_columns
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, ResolvedObject
from bricola.core.kinds.objects.write_probes import taken
from bricola.core.kinds.objects.write_shape import CLEAR
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Values
from bricola.core.sql.listing import item_name
from bricola.core.sql.marks import Marks
from bricola.core.sql.moments import refuse_zoned
from bricola.core.sql.refusals import RefusedError, Why, no_rows, writing_to
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import DatabasePool, DatabaseSession, DatabaseTransaction, DriverRow
from bricola.core.sql.statements import quoted, table_name
from bricola.core.sql.writing import in_transaction

_FIRST_TOKEN = 1

Work = Callable[[DatabaseTransaction, Call, Values], Awaitable[Values]]


def compile_write(operation: ResolvedOperation, source: ResolvedObject, pool: DatabasePool, requests: str = "") -> Handler:
    """The handler of a writing operation on the pool of its backend. `requests` names the table for marks, if there is one."""
    conflicts = Conflicts(source, operation.shape.name, operation.verb, operation.shape.faults)
    table = _Table(source, conflicts, operation.verb, taken(operation))
    marks = Marks(requests) if requests else None
    work: Work = {"create": table.create, "update": table.update, "save": table.save, "delete": table.delete}[operation.verb]

    clear = _clear_name(operation)

    async def write(call: Call, given: Values) -> Values:
        if clear in given:
            given = _cleared(given, clear)

        async def refused(error: RefusedError, session: DatabaseSession, last: bool) -> None:
            own = error.refusal.why is Why.UNIQUE and error.at is not None and not error.at.place
            if own and await table.exists(session, given):  # two at once may have looked and found nothing
                if table.verb == "create":
                    raise conflicts.existing(given) from None
                if table.verb == "save" and not last:
                    return  # now it is there to be changed
            raise await conflicts.explain(error, session, given) from None

        return await in_transaction(pool, call, lambda inside: work(inside, call, given), marks, refused)

    return write


def _clear_name(operation: ResolvedOperation) -> str:
    """The input that names fields to empty; '' where there is none."""
    fields = {one.name for one in operation.source.row.elements}
    return next((one.name for one in operation.shape.input.elements if one.name.startswith(CLEAR) and one.name not in fields), "")


def _cleared(given: Values, clear: str) -> Values:
    """The inputs with None for the fields that are to be emptied. Raises ProblemError for one that is given a value too."""
    names = given[clear]
    both = [name for name in names if given.get(name) is not None]
    if both:
        raise ProblemError(*(Problem("update.clear", f"{name} is given a value, and is to be emptied.", place=name,
                                     mend=f"Leave out {name}, or its name in {clear}.") for name in both))
    return {name: value for name, value in given.items() if name != clear} | dict.fromkeys(names)


class _Table:
    """The statements of one object, made once. Names are quoted; what a caller sends is only ever bound."""

    def __init__(self, source: ResolvedObject, conflicts: Conflicts, verb: str, taken: frozenset[str]) -> None:
        definition = source.definition
        self._source, self._conflicts, self.verb = source, conflicts, verb
        self._name = item_name(source.row)
        self._keys = definition.key
        own = tuple(one for one in source.fields if not definition.field(one.name).parent)  # type: ignore[union-attr]
        columns = [column(source, one.name) for one in own]
        elements = own
        if definition.token_column:
            columns.append(quoted(definition.token_column))
            elements += (source.row.elements[-1],)
        self._to_values = compile_row(elements, utc_fields(source))
        self._table, self._plain_table = table_name(definition.table), definition.table
        self._columns = {one.name: one.column_name for one in definition.fields}
        self._fields = {one.column_name.lower(): one.name for one in definition.fields if not one.parent}
        self._where = " AND ".join(f"{column(source, key)} = ?" for key in definition.key)
        self._select = f"SELECT {', '.join(columns)} FROM {self._table} WHERE {self._where}"
        self._token = quoted(definition.token_column) if definition.token_column else ""
        self._hash = compile_hash(source) if definition.hashed else None
        self._writable = [name for name in own_columns(definition) if name in taken]
        self._sensitive = frozenset(one.name for one in definition.fields if one.sensitive)
        self._may_be_made, self._kept = definition.made_keys, frozenset(definition.key) - set(own_columns(definition))
        self._defaulted = frozenset(one.name for one in definition.fields if one.database_default)
        elements_of, utc = {one.name: one for one in own}, utc_fields(source)
        self._made = {  # for each part of the key that may be left to the database: what is asked for, and how it is read
            names: (", ".join(column(source, one) for one in names), compile_row(tuple(elements_of[one] for one in names), utc))
            for count in range(1, len(self._may_be_made) + 1) for names in itertools.combinations(self._may_be_made, count)}
        self._local = [one.name for one in definition.fields if one.zone == "local" and one.name in self._writable]
        self._families = [WrittenChildren(one, self._hash is not None) for one in source.children]

    async def create(self, session: DatabaseTransaction, call: Call, given: Values) -> Values:
        if await self.exists(session, given):
            raise self._conflicts.existing(given)
        return await self._insert(session, call, given)

    async def exists(self, session: DatabaseTransaction | DatabaseSession, given: Values) -> bool:
        """Without a lock: on a row that is not there, some engines lock the gap, and two who create would lock each other out."""
        return not self._unmade(given) and bool(await session.rows(self._select, self._key_values(given)))

    def _unmade(self, given: Values) -> list[str]:
        """The parts of the key that are left to the database."""
        return [name for name in self._may_be_made if given.get(name) is None]

    async def update(self, session: DatabaseTransaction, call: Call, given: Values) -> Values:
        row = await self._found(session, given)
        self._check_token(row, given)
        fields = [name for name in self._writable if name in given and name not in self._keys]
        changed = [name for name in fields if not same(given[name], row.get(name))]
        changed += await self._rewrite(session, call, row, given)
        if not changed:
            return self._key(given) | self._token_of(row) | {"changedField": []}
        after = await self._change(session, call, row, given, changed)
        return self._key(given) | self._token_of(after) | {"changedField": changed}

    async def save(self, session: DatabaseTransaction, call: Call, given: Values) -> Values:
        row = await self._find(session, given) if not self._unmade(given) else None
        if row is None:
            if any(given.get(name) is not None for name in self._kept):
                raise self._conflicts.not_found(given)
            return await self._insert(session, call, given) | {"outcome": "created"}
        if given.get(CHANGE_TOKEN) is not None:
            self._check_token(row, given)
        changed = [name for name in self._writable if name not in self._keys and not same(given.get(name), row.get(name))
                   and not (name in self._defaulted and given.get(name) is None)]
        changed += await self._rewrite(session, call, row, given)
        if not changed:
            return self._key(given) | self._token_of(row) | {"outcome": "unchanged"}
        after = await self._change(session, call, row, given, changed)
        return self._key(given) | self._token_of(after) | {"outcome": "updated"}

    async def delete(self, session: DatabaseTransaction, call: Call, given: Values) -> Values:
        row = await self._found(session, given)
        self._check_token(row, given)
        for family in self._families:
            await family.remove_all(session, row, call.trial)
        with writing_to(self._plain_table, no_rows, self._fields, deletes=True):
            await session.write(f"DELETE FROM {self._table} WHERE {self._where}", self._key_values(given))
        self._note(call, "deleted", given, row, {})
        return self._key(given)

    async def _find(self, session: DatabaseTransaction, given: Values) -> Values | None:
        rows: Sequence[DriverRow] = await session.rows(self._select + session.lock_clause, self._key_values(given))
        if not rows:
            return None
        row = self._to_values(rows[0])
        for family in self._families:
            await family.load(session, row)
        if self._hash is not None:
            row[CHANGE_TOKEN] = self._hash(row)
        return row

    async def _found(self, session: DatabaseTransaction, given: Values) -> Values:
        row = await self._find(session, given)
        if row is None:
            raise self._conflicts.not_found(given)
        return row

    async def _insert(self, session: DatabaseTransaction, call: Call, given: Values) -> Values:
        refuse_zoned(self._local, given)
        names = [name for name in self._writable if given.get(name) is not None]
        columns = [column(self._source, name) for name in names]
        values = [given[name] for name in names]
        if self._token:
            columns.append(self._token)
            values.append(_FIRST_TOKEN)
        into = f"({', '.join(columns)}) VALUES ({', '.join('?' * len(values))})" if columns else "DEFAULT VALUES"
        sql = f"INSERT INTO {self._table} {into}"
        key, unmade = self._key(given), self._unmade(given)
        with writing_to(self._plain_table, partial(self._told, given, names), self._fields):
            if unmade:  # the database makes a part of the key
                returning, read = self._made[tuple(unmade)]
                key |= read((await session.write_returning(f"{sql} RETURNING {returning}", values))[0])
            else:
                await session.write(sql, values)
        whole = given | key
        self._note(call, "created", whole, {}, {name: given[name] for name in names})
        for family in self._families:
            await family.insert_all(session, whole, call.trial)
        key = {one: whole[one] for one in self._keys}
        if self._hash is not None:  # of what the database made of it, defaults and triggers included
            return key | self._token_of(await self._found(session, whole))
        return key | ({CHANGE_TOKEN: str(_FIRST_TOKEN)} if self._token else {})

    async def _rewrite(self, session: DatabaseTransaction, call: Call, row: Values, given: Values) -> list[str]:
        """Make the children as given, of the kinds that are given; the names of those that changed."""
        return [family.name for family in self._families
                if given.get(family.name) is not None and await family.rewrite(session, row, given, call.trial)]

    async def _change(self, session: DatabaseTransaction, call: Call, row: Values, given: Values, changed: list[str]) -> Values:
        refuse_zoned(self._local, given)
        fields = [name for name in changed if name in self._writable]
        parts = [f"{column(self._source, name)} = ?" for name in fields]
        if self._token:
            parts.append(f"{self._token} = {self._token} + 1")
        if parts:
            with writing_to(self._plain_table, partial(self._told, given, fields), self._fields):
                await session.write(f"UPDATE {self._table} SET {', '.join(parts)} WHERE {self._where}",
                                    [*(given.get(name) for name in fields), *self._key_values(given)])
        self._note(call, "changed", given, {name: row.get(name) for name in fields}, {name: given.get(name) for name in fields})
        if self._hash is not None:
            return await self._found(session, given)
        return row | ({CHANGE_TOKEN: str(int(row[CHANGE_TOKEN]) + 1)} if self._token else {})

    def _told(self, given: Values, names: Iterable[str]) -> list[Values]:
        return [{self._columns[name]: given.get(name) for name in names}]

    def _note(self, call: Call, action: str, given: Values, before: Values, after: Values) -> None:
        if call.trial is not None:
            before = {name: value for name, value in before.items() if not isinstance(value, dict) and name != CHANGE_TOKEN}
            call.trial.note(self._name, action, {key: given.get(key) for key in self._keys}, before, after, self._sensitive)

    def _key_values(self, given: Values) -> list[Any]:
        return [given[key] for key in self._keys]

    def _key(self, given: Values) -> Values:
        return {key: given[key] for key in self._keys if key in given}

    def _token_of(self, row: Values) -> Values:
        return {CHANGE_TOKEN: row[CHANGE_TOKEN]} if self._source.tokened else {}

    def _check_token(self, row: Values, given: Values) -> None:
        if self._source.tokened and given.get(CHANGE_TOKEN) != row[CHANGE_TOKEN]:
            raise self._conflicts.stale(given, row[CHANGE_TOKEN])
