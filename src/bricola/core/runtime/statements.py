"""The parts of SQL statements. Every part is built from names in a definition, quoted; what a caller sends is only ever bound."""

import base64
import binascii
import json
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from bricola.core.definitions.objects import Filter, ordered_field
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.runtime.databases import Values
from bricola.core.shapes.model import Element
from bricola.core.shapes.objects import ResolvedObject
from bricola.core.shapes.simple import SimpleType

_SELF = "t"  # the object's own table, where others are joined to it
_SIGNS = {"equal": "=", "differs": "<>", "from": ">=", "to": "<=", "above": ">", "below": "<"}


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def table_name(name: str) -> str:
    """A table, with its schema before a dot."""
    return ".".join(quoted(part) for part in name.split("."))


def column(source: ResolvedObject, field: str) -> str:
    """The column of a field in the object's own table."""
    found = source.definition.field(field)
    assert found is not None  # resolving has checked every reference
    return quoted(found.column_name)


def columns_of(source: ResolvedObject) -> dict[str, str]:
    """What each field is in a SELECT of the object with its parents."""
    joined = bool(source.definition.parents)
    return {one.name: f"{quoted(one.parent or _SELF)}.{quoted(one.column_name)}" if joined else quoted(one.column_name)
            for one in source.definition.fields}


def from_clause(source: ResolvedObject) -> str:
    definition = source.definition
    text = table_name(definition.table)
    if not definition.parents:
        return text
    text += f" AS {quoted(_SELF)}"
    for parent in definition.parents:
        on = " AND ".join(
            f"{quoted(parent.name)}.{quoted(theirs)} = {quoted(_SELF)}.{column(source, mine)}" for mine, theirs in parent.on.items()
        )
        text += f" LEFT JOIN {table_name(parent.table)} AS {quoted(parent.name)} ON {on}"
    return text


def utc_fields(source: ResolvedObject) -> frozenset[str]:
    return frozenset(one.name for one in source.definition.fields if one.zone == "utc")


Condition = tuple[str, Callable[[Any], list[Any]]]  # a clause, and the parameters that a value makes of it
Clauses = Callable[[Any], tuple[str, list[Any]]]


def comparison(expression: str, one: Filter, element: Element, engine: str) -> Clauses:
    """A function from a filter's value to its clause with its parameters."""
    mark = "?"
    if engine == "sqlite" and isinstance(element.type, SimpleType) and element.type.primitive.python is Decimal:
        mark = "CAST(? AS NUMERIC)"  # an expression has no affinity by which SQLite would compare text as a number
    if one.compare in ("contains", "starts"):
        lead, clause = "%" if one.compare == "contains" else "", f"LOWER({expression}) LIKE ? ESCAPE '!'"
        return lambda value: (clause, [f"{lead}{_literal(value).lower()}%"])
    if one.compare == "empty":
        return lambda value: (f"{expression} IS {'' if value else 'NOT '}NULL", [])
    if one.compare == "one-of":
        return lambda value: (f"{expression} IN ({', '.join([mark] * len(value))})", list(value))
    if one.compare == "differs":
        return lambda value: (f"({expression} <> {mark} OR {expression} IS NULL)", [value])
    clause = f"{expression} {_SIGNS[one.compare]} {mark}"
    return lambda value: (clause, [value])


def _literal(text: str) -> str:
    for special in "!%_":
        text = text.replace(special, "!" + special)
    return text


class Where:
    """The clauses that a call makes: of the filters whose values are there."""

    def __init__(self, tests: Sequence[tuple[str, Clauses]]) -> None:
        self._tests = tests

    def clauses(self, given: Values) -> tuple[list[str], list[Any]]:
        clauses: list[str] = []
        parameters: list[Any] = []
        for name, make in self._tests:
            value = given.get(name)
            if value is not None and value != []:
                clause, bound = make(value)
                clauses.append(clause)
                parameters += bound
        return clauses, parameters


@dataclass(frozen=True)
class _Part:
    expression: str
    descending: bool
    nullable: bool
    name: str
    kind: SimpleType


class Keyset:
    """Paging by the values of the last row (keyset paging): each page begins where an index says, however far it is.

    Rows without a value come last. `mark` keeps the positions of one finder from another.
    """

    def __init__(self, order: Sequence[str], columns: Mapping[str, str], elements: Mapping[str, Element], engine: str, mark: str) -> None:
        self._parts: list[_Part] = []
        for word in order:
            name, descending = ordered_field(word)
            element = elements[name]
            assert isinstance(element.type, SimpleType)  # fields are simple
            self._parts.append(_Part(columns[name], descending, not element.least, name, element.type))
        self._mark = mark
        directions = {one.descending for one in self._parts}
        # MariaDB finds a place in an index by the long form, the others by comparing rows.
        self._short = engine != "mariadb" and len(directions) == 1 and not any(one.nullable for one in self._parts)
        self._sign = "<" if True in directions else ">"

    def order_by(self, fixed: Collection[str] = ()) -> str:
        """The clause that orders rows; without the fields that are `fixed`, on which some engines would sort in vain."""
        parts = []
        for one in [part for part in self._parts if part.name not in fixed] or self._parts:
            if one.nullable:
                parts.append(f"({one.expression} IS NULL)")
            parts.append(one.expression + (" DESC" if one.descending else ""))
        return " ORDER BY " + ", ".join(parts)

    def beyond(self, text: str, place: str, fixed: Collection[str] = ()) -> tuple[str, list[Any]]:
        """The clause for what follows a position. `fixed` names fields that have one value in all rows: an index finds its
        place only when they are not compared again. Raises ProblemError for anything that this operation did not give."""
        pairs = [(part, value) for part, value in zip(self._parts, self._read(text, place), strict=True) if part.name not in fixed]
        parts, values = [part for part, _ in pairs], [value for _, value in pairs]
        if self._short and parts:
            names = ", ".join(one.expression for one in parts)
            return f"({names}) {self._sign} ({', '.join('?' * len(values))})", values
        choices: list[str] = []
        parameters: list[Any] = []
        for index, (part, value) in enumerate(pairs):
            if value is None:
                continue  # nothing comes after what has no value
            clauses, bound = [], []
            for before, same in zip(parts[:index], values, strict=False):
                clauses.append(f"{before.expression} IS NULL" if same is None else f"{before.expression} = ?")
                bound += [] if same is None else [same]
            past = f"{part.expression} {'<' if part.descending else '>'} ?"
            clauses.append(f"({past} OR {part.expression} IS NULL)" if part.nullable else past)
            choices.append(" AND ".join(clauses))
            parameters += [*bound, value]
        return "(" + " OR ".join(f"({one})" for one in choices) + ")" if choices else "1 = 0", parameters

    def page(self, name: str, found: list[Values], more: bool) -> Values:
        """The answer of one page: its rows, whether more follow, and where to go on."""
        answer: Values = {name: found, "more": more}
        if more:
            answer["after"] = self.position(found[-1])
        return answer

    def position(self, row: Values) -> str:
        """Where a page ended, for the caller to hand back: opaque, but no secret."""
        values = [None if row.get(one.name) is None else one.kind.write(row[one.name]) for one in self._parts]
        return base64.urlsafe_b64encode(json.dumps([self._mark, *values], separators=(",", ":")).encode()).decode()

    def _read(self, text: str, place: str) -> list[Any]:
        try:
            made_by, *words = json.loads(base64.b64decode(text, altchars=b"-_", validate=True))
            if made_by == self._mark and len(words) == len(self._parts):
                return [None if word is None and part.nullable else part.kind.primitive.read(word)
                          for word, part in zip(words, self._parts, strict=True)]
        except (binascii.Error, ValueError, TypeError, RecursionError, AttributeError, OverflowError):
            pass
        raise ProblemError(Problem("value.position", "This is not a position that this operation gave.", place=place,
                                   expected="the value of after from the answer before", found=shown(text),
                                   mend="Leave it out to begin at the first row."))
