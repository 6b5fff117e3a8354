"""What stands against a write, as the faults that the contract declares: which field, and why."""

import contextlib
from collections.abc import Iterable, Sequence
from dataclasses import replace

from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, ResolvedObject
from bricola.core.kinds.objects.write_shape import NOT_ALLOWED
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import FaultShape, Record, Values
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.listing import item_name
from bricola.core.sql.refusals import RefusedError, Why, Written, without
from bricola.core.sql.sessions import DatabaseSession

_RULES = (Why.CHECK, Why.REQUIRED, Why.RAISED)
_MOST_TOLD = 80  # characters of a value
_ROWS_TRIED = 100  # of a statement that stores many, to find which it was


class Conflicts:
    """The faults of one writing operation. `declared` are those that its contract has."""

    def __init__(self, source: ResolvedObject, operation: str, verb: str, declared: Sequence[FaultShape]) -> None:
        definition = source.definition
        self._operation, self._verb = operation, verb
        self._declared = frozenset(one.name for one in declared)
        self._reasons = frozenset(_reasons(declared))
        self._keys = definition.key
        self._label = item_name(source.row)
        self._tells = definition.messages == "from-database"
        self._sensitive = [one.name for one in definition.fields if one.sensitive]
        self._below = [(one.child.name, one.item, [two.name for two in one.source.definition.fields if two.sensitive])
                       for one in source.children]

    def words(self, given: Values) -> str:
        return " and ".join(f"{key} {given[key]}" for key in self._keys if given.get(key) is not None)

    def not_found(self, given: Values) -> DeclaredFaultError:
        return self._fault("NotFound", f"There is no {self._label} with {self.words(given)}.", given)

    def existing(self, given: Values) -> DeclaredFaultError:
        return self._fault("AlreadyExists", f"There is a {self._label} with {self.words(given)} already.", given, {"field": self._keys[0]})

    def stale(self, given: Values, token: str) -> DeclaredFaultError:
        return self._fault("Conflict", f"The {self._label} with {self.words(given)} was written since it was read.", given,
                           {"reason": "stale", CHANGE_TOKEN: token})

    async def explain(self, error: RefusedError, session: DatabaseSession, given: Values) -> Exception:
        """What the database's refusal means here; asked after the transaction was rolled back."""
        refusal, at = error.refusal, error.at
        if at is None:
            return error
        columns, row = await _located(error, at, session)
        field = next((found for one in columns if (found := at.field_of(one))), "")
        about = {"field": field} if field else {}
        if refusal.why is Why.UNIQUE and "Conflict" in self._declared:
            words = f"Another {self._label} has this {field or 'value'} already."
            if "AlreadyExists" in self._declared and not at.place:
                return self._fault("AlreadyExists", words, given, about)
            return self._fault("Conflict", words, given, {"reason": "duplicate", **about})
        if refusal.why is Why.FOREIGN and "Conflict" in self._declared:
            return self._reference(at, field, columns, row, given)
        if refusal.why in _RULES and NOT_ALLOWED in self._reasons:
            return self._fault("Conflict", self._rule(error, field, given), given, {"reason": NOT_ALLOWED, **about})
        problem = replace(error.problem, place=f"{self._operation}/{field}" if field else self._operation,
                          inner=_for_owners(error, columns, self._hidden(refusal.words, given)))
        if refusal.why is Why.RAISED and self._tells:
            problem = replace(problem, message=self._hidden(refusal.words, given))
        if refusal.why is Why.VALUE and field:
            problem = replace(problem, message=f"The database cannot take this value of {field}.", expected=_holds(error),
                              mend="Shorten it, or choose one in range.")
        return ProblemError(problem)

    def _reference(self, at: Written, field: str, columns: Sequence[str], row: Values, given: Values) -> Exception:
        if at.deletes:
            words = f"Other rows refer to the {self._label} with {self.words(given)}." if not at.place else \
                f"Other rows refer to one of the {at.place} that is to be taken away."
            return self._fault("Conflict", words, given, {"reason": "still-referenced", **({"field": at.place} if at.place else {})})
        column = next((one for one in columns if at.field_of(one)), "")
        value = next((value for name, value in row.items() if name.lower() == column.lower()), None) if column else None
        name = field.rpartition("/")[2]
        told = "a row" if value is None or name in self._hidden_names() else str(value)[:_MOST_TOLD]
        words = f"{field} refers to {told}, which does not exist." if field else "It refers to a row that does not exist."
        return self._fault("Conflict", words, given, {"reason": "missing-parent", **({"field": field} if field else {})})

    def _rule(self, error: RefusedError, field: str, given: Values) -> str:
        refusal = error.refusal
        if refusal.why is Why.RAISED:
            return self._hidden(refusal.words, given) if self._tells else "A rule of the database does not allow this."
        if refusal.why is Why.REQUIRED:
            return f"The table needs a value for {field}." if field else "The table needs a value that was not given."
        rule = f"The rule {refusal.rule} of the table" if refusal.rule else "A rule of the table"
        return f"{rule} does not allow this value of {field}." if field else f"{rule} does not allow these values."

    def _hidden_names(self) -> frozenset[str]:
        return frozenset((*self._sensitive, *(name for _, _, names in self._below for name in names)))

    def _hidden(self, words: str, given: Values) -> str:
        """Words of somebody else without the sensitive values that were sent."""
        secret = [given.get(name) for name in self._sensitive]
        for child, item, names in self._below:
            secret += [row.get(name) for row in (given.get(child) or {}).get(item, ()) for name in names]
        return without(words, secret)

    def _fault(self, name: str, message: str, given: Values, more: Values | None = None) -> DeclaredFaultError:
        keys = {key: given[key] for key in self._keys if given.get(key) is not None}
        return DeclaredFaultError(name, message, {"message": message, **keys, **(more or {})})


async def _located(error: RefusedError, at: Written, session: DatabaseSession) -> tuple[Sequence[str], Values]:
    """The columns that a refusal is about, and the row in which they stand, as far as the database tells."""
    columns: Sequence[str] = error.refusal.columns
    rows = at.rows()
    only = dict(rows[0]) if len(rows) == 1 else {}
    if any(at.field_of(one) for one in columns):
        return columns, only
    with contextlib.suppress(ProblemError):  # that it was refused is told in any case
        for row in rows[:_ROWS_TRIED] or ({},):
            found = await session.blamed(at.table, error.refusal, row)
            if found:
                return found, dict(row)
    return columns, only


def _reasons(declared: Iterable[FaultShape]) -> Iterable[str]:
    for fault in declared:
        if fault.name == "Conflict" and isinstance(fault.record, Record):
            yield from (str(code) for one in fault.record.elements if one.name == "reason" and isinstance(one.type, SimpleType)
                        for code in one.type.codes)


def _holds(error: RefusedError) -> str:
    return f"what {error.refusal.rule} takes" if error.refusal.rule else "a value that its column holds"


def _for_owners(error: RefusedError, columns: Sequence[str], words: str) -> str:
    at = error.at
    told = [error.refusal.said.strip()]
    if words:
        told.append(f"It says: {words}")
    if at is not None:
        told.append(f"Table {at.table}{f', column {chr(44).join(columns)}' if columns else ''}.")
    return " ".join(told)


def own_columns(definition: ObjectDefinition) -> list[str]:
    """The fields that a write can fill."""
    return [one.name for one in definition.fields if one.writable]
