"""Children written with their parent: loaded, compared by key, inserted in few statements, changed and removed."""

from collections.abc import Iterable, Mapping
from functools import partial
from typing import Any

from bricola.core.calls.trials import Trial
from bricola.core.kinds.objects.columns import column, utc_fields
from bricola.core.kinds.objects.conflicts import own_columns
from bricola.core.kinds.objects.shape import ResolvedChild
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Values
from bricola.core.sql.refusals import no_rows, writing_to
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import DatabaseTransaction
from bricola.core.sql.statements import table_name

_MOST_PARAMETERS = 2000  # of one INSERT; the smallest bound among the engines is far above


def same(one: Any, other: Any) -> bool:
    """Whether two values are equal to a database: moments by the instant, whatever the zone they are told in."""
    if one == other:
        return True
    zoned = getattr(one, "tzinfo", None) is not None, getattr(other, "tzinfo", None) is not None
    return False if zoned[0] == zoned[1] or one is None or other is None else _naive(one) == _naive(other)


def _naive(value: Any) -> Any:
    offset = value.utcoffset() if hasattr(value, "utcoffset") else None
    return (value - offset).replace(tzinfo=None) if offset is not None and hasattr(value, "year") else value


class WrittenChildren:
    """The children of one kind. What `read_only` says is loaded for the token and never written."""

    def __init__(self, child: ResolvedChild, hashed: bool) -> None:
        source, definition = child.source, child.source.definition
        self.name, self._item, self._child = child.child.name, child.item, child
        self._read_only = child.child.read_only
        self._loads = hashed or not self._read_only
        self._theirs = list(child.child.match)
        self._ours = list(child.child.match.values())
        elements = tuple(one for one in child.row.elements if not definition.field(one.name).parent)  # type: ignore[union-attr]
        self._to_values = compile_row(elements, utc_fields(source))
        self._keys = [one for one in definition.key if one not in child.child.match]
        self._writable = [one for one in own_columns(definition) if one not in child.child.match]
        self._made = [one for one in self._keys if one in definition.made_keys]  # the database makes it where it is not given
        self._defaulted = frozenset(one.name for one in definition.fields if one.database_default)
        self._kept = frozenset(self._made) - frozenset(self._writable)
        self._source = source
        self._sensitive = frozenset(one.name for one in definition.fields if one.sensitive)
        self._table, self._plain_table = table_name(definition.table), definition.table
        self._columns = {one.name: one.column_name for one in definition.fields}
        self._fields = {one.column_name.lower(): one.name for one in definition.fields if not one.parent}
        self._place = f"{self.name}/{self._item}"
        self._where = " AND ".join(f"{column(source, one)} = ?" for one in self._theirs)
        self._where_one = " AND ".join(f"{column(source, one)} = ?" for one in (*self._theirs, *self._keys))
        order = ", ".join(column(source, one) for one in definition.key)
        self._select = (
            f"SELECT {', '.join(column(source, one.name) for one in elements)} FROM {self._table} WHERE {self._where} ORDER BY {order}"
        )

    async def load(self, session: DatabaseTransaction, row: Values) -> None:
        """Attach the children as they are stored."""
        if self._loads:
            found = await session.rows(f"{self._select} LIMIT {self._child.child.at_most + 1}{session.lock_clause}", self._parent(row))
            row[self.name] = {self._item: [self._to_values(one) for one in found]}

    async def insert_all(self, session: DatabaseTransaction, parent: Values, trial: Trial | None) -> None:
        if not self._read_only and parent.get(self.name) is not None:
            items = parent[self.name].get(self._item, [])
            self._refuse_repeated(items)
            await self._insert(session, parent, items, trial)

    async def remove_all(self, session: DatabaseTransaction, row: Values, trial: Trial | None) -> None:
        if not self._read_only:
            with writing_to(self._plain_table, no_rows, self._fields, self.name, deletes=True):
                await session.write(f"DELETE FROM {self._table} WHERE {self._where}", self._parent(row))
            for one in row[self.name][self._item]:
                self._note(trial, "deleted", one, one, {})

    async def rewrite(self, session: DatabaseTransaction, row: Values, given: Values, trial: Trial | None) -> bool:
        """Make the children of a row as given; whether anything changed. Those that are not given are removed."""
        if self._read_only:
            return False
        items: list[Values] = given[self.name].get(self._item, [])
        self._refuse_repeated(items)
        stored = {self._key(one): one for one in row[self.name][self._item]}
        items = self._with_known_keys(items, stored)
        kept = {self._key(one) for one in items if self._key(one) in stored}
        gone = [one for key, one in stored.items() if key not in kept]
        for one in gone:
            with writing_to(self._plain_table, no_rows, self._fields, self.name, deletes=True):
                await session.write(f"DELETE FROM {self._table} WHERE {self._where_one}", [*self._parent(row), *self._key(one)])
            self._note(trial, "deleted", one, one, {})
        changed = 0
        for one in items:
            before = stored.get(self._key(one))
            if before is None:
                continue
            names = [name for name in self._writable if name not in self._keys and not same(one.get(name), before.get(name))
                     and not (name in self._defaulted and one.get(name) is None)]
            if names:
                changed += 1
                sets = ", ".join(f"{column(self._source, name)} = ?" for name in names)
                with writing_to(self._plain_table, partial(self._told, [one], names), self._fields, self._place):
                    await session.write(f"UPDATE {self._table} SET {sets} WHERE {self._where_one}",
                                        [*(one.get(name) for name in names), *self._parent(row), *self._key(one)])
                self._note(trial, "changed", one, {name: before.get(name) for name in names}, {name: one.get(name) for name in names})
        new = [one for one in items if self._key(one) not in stored]
        for one in new:
            if any(one.get(name) is not None for name in self._kept):
                raise ProblemError(Problem("children.unknown", f"There is none of the {self.name} with this key.", Kind.CONFLICT,
                                           place=f"{self.name}/{self._item}",
                                           found=shown(", ".join(str(one.get(key)) for key in self._keys)),
                                           mend="Leave the key out for a new one; the database makes it."))
        await self._insert(session, row, new, trial)
        return bool(gone or changed or new)

    async def _insert(self, session: DatabaseTransaction, parent: Values, items: Iterable[Values], trial: Trial | None) -> None:
        """Rows that have values for the same columns go in together; a column without a value keeps its default."""
        groups: dict[tuple[str, ...], list[Values]] = {}
        for one in items:
            groups.setdefault(tuple(name for name in self._writable if one.get(name) is not None), []).append(one)
        shared = self._parent(parent)
        for names, rows in groups.items():
            columns = ", ".join(column(self._source, name) for name in (*self._theirs, *names))
            width = len(self._theirs) + len(names)
            step = max(1, _MOST_PARAMETERS // width)
            for start in range(0, len(rows), step):
                part = rows[start:start + step]
                marks = ", ".join([f"({', '.join('?' * width)})"] * len(part))
                values = [value for one in part for value in (*shared, *(one[name] for name in names))]
                with writing_to(self._plain_table, partial(self._told, part, names), self._fields, self._place):
                    await session.write(f"INSERT INTO {self._table} ({columns}) VALUES {marks}", values)
                for one in part:
                    self._note(trial, "created", one, {}, {name: one[name] for name in names})

    def _told(self, rows: Iterable[Values], names: Iterable[str]) -> list[Values]:
        return [{self._columns[name]: one.get(name) for name in names} for one in rows]

    def _with_known_keys(self, items: list[Values], stored: Mapping[tuple[Any, ...], Values]) -> list[Values]:
        """Those that are given without the key that the database made, with the key of a stored one that says the same: it stays as it
        is, and is not taken away to be made anew under another key."""
        given = {self._key(one) for one in items}
        left = [one for key, one in stored.items() if key not in given]
        found = []
        for one in items:
            if any(one.get(name) is None for name in self._made):
                compared = [name for name in (*self._writable, *self._keys) if name not in self._made]
                twin = next((two for two in left if all(
                    same(one.get(name), two.get(name)) or (name in self._defaulted and one.get(name) is None) for name in compared)), None)
                if twin is not None:
                    left.remove(twin)
                    one = one | {name: twin[name] for name in self._keys}
            found.append(one)
        return found

    def _refuse_repeated(self, items: list[Values]) -> None:
        seen: set[tuple[Any, ...]] = set()
        for one in items:
            key = self._key(one)
            if self._keys and not self._made and key in seen:
                raise ProblemError(Problem("value.repeated-key", f"Two of the {self.name} have the same {' and '.join(self._keys)}.",
                                           place=f"{self.name}/{self._item}", found=shown(", ".join(str(value) for value in key)),
                                           mend="Leave one of them out."))
            seen.add(key)

    def _key(self, one: Values) -> tuple[Any, ...]:
        if self._made and any(one.get(name) is None for name in self._made):
            return (id(one),)  # a new one: its key is made when it is inserted
        return tuple(one.get(name) for name in self._keys)

    def _parent(self, row: Values) -> list[Any]:
        return [row[one] for one in self._ours]

    def _note(self, trial: Trial | None, action: str, one: Values, before: Values, after: Values) -> None:
        if trial is not None:
            key = {name: one.get(name) for name in self._keys}
            trial.note(f"{self.name}/{self._item}", action, key, before, after, self._sensitive)
