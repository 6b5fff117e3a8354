"""The statements that call a procedure or a function, in the two ways in which engines take what comes out.

| `Dialect.routines` | arguments | what comes out |
| --- | --- | --- |
| named | by name, each cast to the type that the parameter has there | as one row of the statement; rows of a cursor are fetched |
| variables | by their order | through variables of the session, which a second statement reads; rows as results of the call |

All is made once for a routine; only which of the optional arguments are there differs from call to call.
"""

import re
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.sql.routines import CURSOR, Form, Results, RoutineTransaction, Way
from bricola.core.sql.statements import quoted, table_name

_KEPT = 256  # statements of one routine, one for each choice of optional arguments that callers make
UNNAMED = "$"  # begins the name that a parameter without one is given here: $1, $2, …

# Without a length these words mean one of a single character or bit (ISO/IEC 9075-2, 6.1), and a cast would cut what is longer.
_WITHOUT_LENGTH = {"character": "bpchar", "char": "bpchar", "bit": '"bit"', "national character": "bpchar"}
_LENGTH = re.compile(r"\s*\(\s*\d+\s*(?:,\s*\d+\s*)?\)")


@dataclass(frozen=True)
class Argument:
    """A parameter as a call sees it."""

    name: str
    way: Way
    declared: str
    optional: bool = False

    @property
    def passed(self) -> bool:
        return self.way in ("in", "in-out")

    @property
    def comes_out(self) -> bool:
        return self.way != "in"


@dataclass(frozen=True)
class Signature:
    """What is called. `gives_rows` says that a function gives rows of its own, and nothing else: no values, and no cursors. `most` is how
    many rows of each result are wanted."""

    name: str
    form: Form
    arguments: tuple[Argument, ...]
    gives_rows: bool
    most: int


class Called(NamedTuple):
    """What came out: the values of the parameters that do, in their order, and the rows, result by result."""

    values: list[Any]
    sets: list[Results]


# Calls a routine with values by parameter. Raises RefusedError, and ProblemError for an optional argument that cannot be left out alone.
Calling = Callable[[RoutineTransaction, Mapping[str, Any]], Awaitable[Called]]


def by_names(signature: Signature) -> Calling:
    statement = lru_cache(_KEPT)(lambda given: _named(signature, given))
    outs = [one for one in signature.arguments if one.comes_out]

    async def call(inside: RoutineTransaction, given: Mapping[str, Any]) -> Called:
        sql, names = statement(frozenset(given))
        results = await inside.results(sql, [given[one] for one in names])
        found = results[0] if results else Results((), [], lambda: ())
        if signature.gives_rows:
            return Called([], [found])
        values = list(found.rows[0])[:len(outs)] if found.rows and outs else []
        cursors = [value for row in found.rows for one, value in zip(outs, row, strict=False) if one.declared == CURSOR]
        return Called(values, [await _fetched(inside, one, signature.most) for one in cursors if one is not None])

    return call


async def _fetched(inside: RoutineTransaction, cursor: str, most: int) -> Results:
    return (await inside.results(f"FETCH FORWARD {most} FROM {quoted(cursor)}", []))[0]


def _named(signature: Signature, given: frozenset[str]) -> tuple[str, tuple[str, ...]]:
    """The statement, and the parameters whose values it takes, in order."""
    texts, names = [], []
    by_order = any(one.passed and one.name.startswith(UNNAMED) for one in signature.arguments)
    passed = _left_out(signature, given) if by_order else [
        one for one in signature.arguments if one.way != "returns" and not (one.optional and one.name not in given)]
    for one in passed:
        if one.way == "out" and signature.form == "function":
            continue  # what a function gives is no argument of it
        value = "?" if one.passed and one.name in given else "NULL"
        text = f"CAST({value} AS {_type(one.declared)})"
        texts.append(text if by_order else f"{quoted(one.name)} => {text}")
        names += [one.name] if value == "?" else []
    called = f"{table_name(signature.name)}({', '.join(texts)})"
    if signature.form == "procedure":
        return f"CALL {called}", tuple(names)
    limit = f" LIMIT {signature.most}" if signature.gives_rows else ""
    return f"SELECT * FROM {called}{limit}", tuple(names)


def _type(declared: str) -> str:
    """The type of a cast that keeps every value: a length would cut it, where the database's own look at it would refuse."""
    bare = _LENGTH.sub("", declared).strip()
    return _WITHOUT_LENGTH.get(bare.lower(), bare)


def by_variables(signature: Signature) -> Calling:
    statements = lru_cache(_KEPT)(lambda given: _by_variables(signature, given))
    is_function = signature.form == "function"

    async def call(inside: RoutineTransaction, given: Mapping[str, Any]) -> Called:
        calls, names_in, before, names_before, after = statements(frozenset(given))
        if before:
            await inside.write(before, [given.get(one) for one in names_before])
        sets = await inside.results(calls, [given[one] for one in names_in])
        if is_function:
            return Called(list(sets[0].rows[0]), [])
        return Called(list((await inside.rows(after, []))[0]) if after else [], sets)

    return call


def _by_variables(signature: Signature, given: frozenset[str]) -> tuple[str, tuple[str, ...], str, tuple[str, ...], str]:
    """The call with the parameters that it takes; what sets variables before, with those it takes; and what reads them afterwards."""
    texts, names, before, kept = [], [], [], []
    for number, one in enumerate(_left_out(signature, given), 1):
        variable = f"@bricola_{number}"
        if one.way == "in":
            texts.append("?" if one.name in given else "NULL")
            names += [one.name] if one.name in given else []
            continue
        texts.append(variable)
        before += [(one.name, f"{variable} = ?")] if one.way == "in-out" else []
        # A variable holds each number as exactly as it can, and a single-precision one would come back with digits of its own.
        kept.append(f"CAST({variable} AS FLOAT)" if one.declared.lower().startswith("float") else variable)
    sets = f"SET {', '.join(text for _, text in before)}" if before else ""
    reads = f"SELECT {', '.join(kept)}" if kept else ""
    verb = "CALL" if signature.form == "procedure" else "SELECT"
    return f"{verb} {table_name(signature.name)}({', '.join(texts)})", tuple(names), sets, tuple(name for name, _ in before), reads


def _left_out(signature: Signature, given: frozenset[str]) -> list[Argument]:
    """The arguments without the optional ones at the end that are not there: of those that go by their order, no other can be left out."""
    found = [one for one in signature.arguments if one.way != "returns"]
    while found and found[-1].optional and found[-1].name not in given:
        found.pop()
    missing = next((one for one in found if one.optional and one.name not in given), None)
    if missing is not None:
        raise ProblemError(Problem("routine.position", f"{missing.name} of {signature.name} can be left out only with all after it.",
                                   Kind.INPUT, mend="Give it, too; arguments of this routine go by their order."))
    return found


CALLINGS: Mapping[str, Callable[[Signature], Calling]] = {"named": by_names, "variables": by_variables}
