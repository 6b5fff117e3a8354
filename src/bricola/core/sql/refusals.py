"""What a database refuses, and why: in one form for every engine, without the values that its own words would tell."""

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from bricola.core.problems import Kind, Problem, ProblemError

_OWNERS = "The people who run the service find the cause in the record of this call."
_MASK = "•••"
_AGAIN = "Correct the values and send it again; nothing was stored."


class Why(StrEnum):
    UNIQUE = "unique"
    FOREIGN = "foreign"
    CHECK = "check"
    REQUIRED = "required"
    RAISED = "raised"  # by a trigger or a function, in its author's words (RAISE, SIGNAL)
    VALUE = "value"  # a value that the column's type does not hold
    RIGHTS = "rights"
    MISSING = "missing"  # a table, a column or a function that is not there
    COMMITS = "commits"  # a routine that ends a transaction that is not its own
    STATEMENT = "statement"  # it does not understand the statement, or its types do not go together
    OTHER = "other"


_WORDS: Mapping[Why, tuple[str, str, Kind, str]] = {
    Why.UNIQUE: ("write.unique", "Another row has this value already.", Kind.CONFLICT, _AGAIN),
    Why.FOREIGN: ("write.foreign", "It refers to a row that does not exist, or rows refer to it.", Kind.CONFLICT, _AGAIN),
    Why.CHECK: ("write.check", "A rule of the table does not allow this value.", Kind.CONFLICT, _AGAIN),
    Why.REQUIRED: ("write.required", "The table needs a value that was not given.", Kind.CONFLICT, _AGAIN),
    Why.RAISED: ("write.raised", "A rule of the database does not allow this.", Kind.CONFLICT, _AGAIN),
    Why.VALUE: ("write.value", "The database cannot take one of these values.", Kind.INPUT,
                "Shorten it, or choose one in range; the owner of the service finds the column in the record of this call."),
    Why.RIGHTS: ("backend.rights", "The backend {0} does not let the service's user do this.", Kind.BACKEND, _OWNERS),
    Why.MISSING: ("backend.changed", "The backend {0} does not have what this operation asks for.", Kind.BACKEND, _OWNERS),
    Why.COMMITS: ("routine.commits", "The routine ends the transaction in which it is called.", Kind.BACKEND,
                  "The owner of the service says 'transaction: own' in its definition."),
    Why.STATEMENT: ("backend.statement", "The backend {0} does not understand what this operation asks.", Kind.BACKEND, _OWNERS),
    Why.OTHER: ("backend.failed", "The backend {0} did not answer the query.", Kind.BACKEND, _OWNERS),
}


@dataclass(frozen=True)
class Refusal:
    """`said` is the database's message for owners, cut to what holds no values; `columns` those that it names, `rule` the constraint.

    `words` are those of an author of triggers or functions, meant for people: they may tell values, and are told only where the object
    says so. `state` is the SQLSTATE (ISO/IEC 9075-2, 24.1), `number` an engine's own, 0 where it has none."""

    why: Why
    said: str
    columns: tuple[str, ...] = ()
    rule: str = ""
    words: str = ""
    state: str = ""
    number: int = 0


@dataclass(frozen=True)
class Written:
    """What a refused statement was about to do: to which table, with which values by column in each row, and how callers know those
    columns."""

    table: str
    rows: Callable[[], Sequence[Mapping[str, Any]]] = field(repr=False)  # asked for when something is refused, and else never made
    fields: Mapping[str, str] = field(repr=False)  # by column, in lower case
    place: str = ""  # of the element that the fields stand in
    deletes: bool = False

    def field_of(self, column: str) -> str:
        """The place of a column's field; '' for one that callers do not know."""
        name = self.fields.get(column.lower(), "")
        return f"{self.place}/{name}" if name and self.place else name


class RefusedError(ProblemError):
    """A database that answers has refused a statement. `at` is filled in by what made the statement."""

    def __init__(self, backend: str, refusal: Refusal) -> None:
        code, message, kind, mend = _WORDS[refusal.why]
        inner = f"{refusal.said} Columns: {', '.join(refusal.columns)}." if refusal.columns and refusal.columns[0] not in refusal.said \
            else refusal.said
        super().__init__(Problem(code, message.format(backend), kind, mend=mend, inner=inner))
        self.refusal = refusal
        self.at: Written | None = None


def without(words: str, secrets: Iterable[Any]) -> str:
    """Words of somebody else without these values, of which some may be None."""
    for value in sorted({str(one) for one in secrets if one is not None and str(one)}, key=len, reverse=True):
        words = words.replace(value, _MASK)
    return words


def no_rows() -> Sequence[Mapping[str, Any]]:
    return ()


@contextlib.contextmanager
def writing_to(
    table: str, rows: Callable[[], Sequence[Mapping[str, Any]]], fields: Mapping[str, str], place: str = "", deletes: bool = False
) -> Iterator[None]:
    """A refusal of a statement in here knows what the statement was about."""
    try:
        yield
    except RefusedError as error:
        if error.at is None:
            error.at = Written(table, rows, fields, place, deletes)
        raise
