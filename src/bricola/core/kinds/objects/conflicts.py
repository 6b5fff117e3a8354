"""What stands against a write, as the faults that the contract declares: which field, and why."""

from collections.abc import Mapping, Sequence
from typing import Any

from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.reads import Existence
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, ResolvedObject
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Values
from bricola.core.sql.listing import item_name
from bricola.core.sql.sessions import ConstraintError, DatabaseSession

_REASONS = {
    "unique": "Another row has this value already.",
    "foreign": "It refers to a row that does not exist, or rows refer to it.",
    "check": "A rule of the table does not allow this value.",
    "required": "The table needs a value that was not given.",
}


class Conflicts:
    """The faults of one writing operation. `declared` are the names that its contract has."""

    def __init__(self, source: ResolvedObject, operation: str, verb: str, declared: Sequence[str]) -> None:
        definition = source.definition
        self._operation, self._verb, self._declared = operation, verb, frozenset(declared)
        self._keys = definition.key
        self._label = item_name(source.row)
        self._fields = {one.column_name.lower(): one.name for one in definition.fields if not one.parent}
        self._existence: Mapping[str, Existence] = {field: Existence(other) for field, other in source.references.items()}
        self._children: list[tuple[str, str, Mapping[str, Existence], frozenset[str]]] = [
            (
                one.child.name,
                one.item,
                {field: Existence(other) for field, other in one.source.references.items()},
                frozenset(one.child.match),
            )
            for one in source.children
        ]

    def words(self, given: Values) -> str:
        return " and ".join(f"{key} {given[key]}" for key in self._keys if given.get(key) is not None)

    def not_found(self, given: Values) -> DeclaredFaultError:
        return self._fault("NotFound", f"There is no {self._label} with {self.words(given)}.", given)

    def existing(self, given: Values) -> DeclaredFaultError:
        return self._fault("AlreadyExists", f"There is a {self._label} with {self.words(given)} already.", given, {"field": self._keys[0]})

    def stale(self, given: Values, token: str) -> DeclaredFaultError:
        return self._fault("Conflict", f"The {self._label} with {self.words(given)} was written since it was read.", given,
                           {"reason": "stale", CHANGE_TOKEN: token})

    async def explain(self, error: ConstraintError, session: DatabaseSession, given: Values) -> Exception:
        """What a rule of the database means here; asked after the transaction was rolled back."""
        field = next((self._fields[one.lower()] for one in error.columns if one.lower() in self._fields), "")
        if error.constraint == "unique" and "Conflict" in self._declared:
            about = {"field": field} if field else {}
            words = f"Another {self._label} has this {field or 'value'} already."
            if "AlreadyExists" in self._declared:
                return self._fault("AlreadyExists", words, given, about)
            return self._fault("Conflict", words, given, {"reason": "duplicate", **about})
        if error.constraint == "foreign" and "Conflict" in self._declared:
            if self._verb == "delete":
                words = f"Other rows refer to the {self._label} with {self.words(given)}."
                return self._fault("Conflict", words, given, {"reason": "still-referenced"})
            missing = await self._missing_parent(session, given)
            if missing is not None:
                name, value = missing
                words = f"{name} refers to {value}, which does not exist."
                return self._fault("Conflict", words, given, {"reason": "missing-parent", "field": name})
        return ProblemError(Problem(f"write.{error.constraint}", _REASONS[error.constraint], Kind.CONFLICT,
                                    place=f"{self._operation}/{field}" if field else self._operation,
                                    mend="Correct the values and send it again; nothing was stored.", inner=error.problem.inner))

    async def _missing_parent(self, session: DatabaseSession, given: Values) -> tuple[str, Any] | None:
        for name, existence in self._existence.items():
            if given.get(name) is not None and not await existence.holds(session, given[name]):
                return name, given[name]
        for child, item, references, shared in self._children:
            for row in (given.get(child) or {}).get(item, ()):
                for name, existence in references.items():
                    if name not in shared and row.get(name) is not None and not await existence.holds(session, row[name]):
                        return f"{child}/{name}", row[name]
        return None

    def _fault(self, name: str, message: str, given: Values, more: Values | None = None) -> DeclaredFaultError:
        keys = {key: given[key] for key in self._keys if given.get(key) is not None}
        return DeclaredFaultError(name, message, {"message": message, **keys, **(more or {})})


def own_columns(definition: ObjectDefinition) -> list[str]:
    """The fields that a write can fill."""
    return [one.name for one in definition.fields if one.writable]
