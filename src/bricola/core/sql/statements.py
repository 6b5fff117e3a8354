"""The parts of SQL statements. Every part is built from names in a definition, quoted; what a caller sends is only ever bound."""

import base64
import binascii
import json
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from bricola.core.definitions.engines.engine import Dialect
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Values
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.filters import Filter, ordered_field

_SIGNS = {"equal": "=", "differs": "<>", "from": ">=", "to": "<=", "above": ">", "below": "<"}


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def table_name(name: str) -> str:
    """A table, with its schema before a dot."""
    return ".".join(quoted(part) for part in name.split("."))


Clauses = Callable[[Any], tuple[str, list[Any]]]


def comparison(expression: str, one: Filter, element: Element, dialect: Dialect) -> Clauses:
    """A function from a filter's value to its clause with its parameters."""
    mark = placeholder(element, dialect)
    if one.compare in ("contains", "starts"):
        lead, clause = "%" if one.compare == "contains" else "", f"LOWER({expression}) LIKE ? ESCAPE '!'"
        return lambda value: (clause, [f"{lead}{like_literal(value).lower()}%"])
    if one.compare == "empty":
        return lambda value: (f"{expression} IS {'' if value else 'NOT '}NULL", [])
    if one.compare == "one-of":
        return lambda value: (f"{expression} IN ({', '.join([mark] * len(value))})", list(value))
    if one.compare == "differs":
        return lambda value: (f"({expression} <> {mark} OR {expression} IS NULL)", [value])
    clause = f"{expression} {_SIGNS[one.compare]} {mark}"
    return lambda value: (clause, [value])


def like_literal(text: str) -> str:
    """A text as it stands in a pattern of LIKE with ESCAPE '!'."""
    for special in "!%_":
        text = text.replace(special, "!" + special)
    return text


def placeholder(element: Element, dialect: Dialect) -> str:
    """The mark of a parameter that is compared with an expression of the element's type."""
    is_decimal = isinstance(element.type, SimpleType) and element.type.primitive.python is Decimal
    return "CAST(? AS NUMERIC)" if is_decimal and dialect.casts_decimals else "?"


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

    def __init__(self, order: Sequence[str], columns: Mapping[str, str], elements: Mapping[str, Element], dialect: Dialect,
                 mark: str) -> None:
        self._parts: list[_Part] = []
        for word in order:
            name, descending = ordered_field(word)
            element = elements[name]
            assert isinstance(element.type, SimpleType)  # fields are simple
            self._parts.append(_Part(columns[name], descending, not element.least, name, element.type))
        self._mark = mark
        directions = {one.descending for one in self._parts}
        self._short = dialect.compares_rows and len(directions) == 1 and not any(one.nullable for one in self._parts)
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
        """Where a page ended, for the caller to hand back: opaque, but no secret. Raises ProblemError for a stored value of another type
        than the contract's, after which no page could go on."""
        for one in self._parts:
            value = row.get(one.name)
            if value is not None and value.__class__ is not one.kind.primitive.python:
                raise ProblemError(Problem("answer.invalid",
                                           f"The next page cannot go on from a stored {one.name} that is no {one.kind.base}.",
                                           Kind.BACKEND, place=one.name, expected=one.kind.rule,
                                           mend="Correct the data in the backend, or the type of the field."))
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
