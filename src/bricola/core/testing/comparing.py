"""Expectations, compiled against a contract: each is a check that a reply passes, or of which it says in what it differs."""

import itertools
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

from lxml import etree

from bricola.core.definitions.suites import Comparison, Expected
from bricola.core.expressions import compiling
from bricola.core.expressions.types import spoken, type_of
from bricola.core.messages.plain import from_plain
from bricola.core.patterns.matcher import compile_pattern
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import OperationShape, Record
from bricola.core.shapes.primitives import BINARY_TYPES
from bricola.core.shapes.simple import SimpleType
from bricola.core.testing.paths import ABSENT, Target, find_target, values_at
from bricola.core.testing.places import Scope, fill, places_in
from bricola.core.testing.replies import Seen
from bricola.core.testing.trees import tree_differences
from bricola.core.xml import parse_xml

_MOST_TOLD = 5  # items of one list that differ in the same way


def check_expected(operation: OperationShape, expected: Expected, place: str) -> Iterator[Problem]:
    """What an expectation says that the contract does not have."""
    record = _record_of(operation, expected)
    if record is None:
        yield Problem("test.fault", f"{operation.name} declares no fault {expected.fault}.", place=f"{place}, expects, fault",
                      expected=", ".join(one.name for one in operation.faults) or "none; name the code of a 'problem'",
                      found=shown(expected.fault))
        return
    for path, comparison in expected.values.items():
        where = f"{place}, expects, values, {path}"
        try:
            target = find_target(record, path, where)
            _check_comparison(target, comparison, where)
        except ProblemError as error:
            yield from error.problems
    for number, text in enumerate(expected.holds):
        try:
            _condition(record, text, f"{place}, expects, holds, {number + 1}")
        except ProblemError as error:
            yield from error.problems
        except compiling.UnjudgedError:
            pass
    if expected.xml and not list(places_in(expected.xml)):
        try:
            parse_xml(expected.xml.encode())
        except ProblemError as error:
            yield replace(error.problem, place=f"{place}, expects, xml")


def _record_of(operation: OperationShape, expected: Expected) -> Record | None:
    if not expected.fault:
        return operation.output
    return next((one.record for one in operation.faults if one.name == expected.fault), None)


def _check_comparison(target: Target, comparison: Comparison, place: str) -> None:
    """Raises ProblemError for what this value can never be held against."""
    kind = target.element.type
    said = set(comparison.model_dump(exclude_defaults=True))
    if said & {"count", "order"} and not target.is_list:
        raise ProblemError(Problem("test.comparison", "Only a list has a count and an order.", place=place,
                                   found="an item of one" if target.element.is_list else "one value"))
    if comparison.order and isinstance(kind, Record):
        if not comparison.by:
            raise ProblemError(Problem("test.comparison", "A list of records goes up or down by a field.", place=place, mend="Add 'by:'."))
        find_target(kind, comparison.by, f"{place}, by")
    if isinstance(kind, Record):
        if said & {"between", "matches", "contains"}:
            raise ProblemError(Problem("test.comparison", "This is a record, not a value.", place=place, mend="Name a part of it."))
        return
    for value in _values_of(comparison):
        if not list(places_in(value)):
            _typed(kind, value, place)
    if comparison.matches and not list(places_in(comparison.matches)):
        _pattern(comparison.matches, place)


def _values_of(comparison: Comparison) -> list[Any]:
    found = [one for one in (comparison.equal, comparison.unlike) if one is not None]
    items = [*comparison.one_of, *(comparison.between or ())]
    return [two for one in (*found, *items) for two in (one if isinstance(one, list | tuple) else (one,))]


def _typed(kind: SimpleType, value: Any, place: str) -> Any:
    """An expected value as one of the type. Raises ProblemError where nothing that is answered could be equal to it."""
    text = ("true" if value else "false") if isinstance(value, bool) else str(value)
    found, problem = kind.read(text)
    if problem is not None:
        raise ProblemError(replace(problem, code="test.value", message="No answer can have this value here.", place=place))
    return found


def _pattern(text: str, place: str) -> Callable[[str], bool]:
    try:
        return compile_pattern(text).matches
    except PatternError as error:
        raise ProblemError(Problem("test.pattern", f"The pattern cannot be read: {error}.", place=place, found=shown(text))) from None


def _condition(record: Record, text: str, place: str) -> compiling.Compiled:
    return compiling.compile_condition(text, {spoken(one.name): type_of(one) for one in record.slots}, place)


def judge(operation: OperationShape, expected: Expected, seen: Seen, scope: Scope,
          stored: Mapping[str, Any] | None = None) -> list[Problem]:
    """In what a reply differs from what is expected; nothing when it is as expected. `stored` is the answer beside what it came from, where
    that was asked."""
    found: list[Problem] = []
    if not expected.unchecked:
        found += [replace(one, code=one.code or "reply", message=f"The answer is not what the contract promises: {one.message}")
                  for one in seen.against]
    wrong = _outcome(expected, seen, scope)
    if wrong is not None:
        return [wrong, *found]
    if expected.status is not None and seen.status != expected.status:
        found.append(Problem("test.status", "The status is another.", place="status", expected=str(expected.status),
                             found=str(seen.status)))
    if expected.within is not None and seen.seconds > expected.within:
        found.append(Problem("test.time", "It took longer than it may.", place="time", expected=f"at most {expected.within:g} s",
                             found=f"{seen.seconds:.3f} s"))
    record = _record_of(operation, expected)
    values = seen.answer if seen.fault is None else seen.fault.parts
    if record is not None and values is not None:
        try:
            found += [one for path,
                      comparison in expected.values.items() for one in _compare(record, path, comparison, values, scope, stored)]
            found += _conditions(record, expected.holds, values)
        except ProblemError as error:
            found += error.problems
    if expected.xml:
        found += _same_tree(expected, seen, scope)
    if expected.equals_source:
        found += _beside(stored)
    return found


def _outcome(expected: Expected, seen: Seen, scope: Scope) -> Problem | None:
    """Whether it was answered, or failed, in the way that is expected."""
    if expected.answered:
        if seen.fault is None:
            return None
        first = seen.fault.problems[0] if seen.fault.problems else None
        return Problem("test.outcome", "It was not answered.", place=first.place if first is not None else "", expected="an answer",
                       found=seen.fault.summary, mend=first.mend if first is not None else "")
    fault = seen.fault
    if expected.fault:
        if fault is not None and fault.name == expected.fault:
            return None
        return Problem("test.outcome", f"The fault {expected.fault} did not come.", expected=expected.words, found=seen.summary)
    code = str(fill(expected.problem, scope))
    problems = fault.problems if fault is not None else ()
    same = [one for one in problems if one.code == code or one.code.startswith(f"{code}.")]
    if not same:
        return Problem("test.outcome", f"The problem {code} did not come.", expected=expected.words, found=seen.summary)
    if expected.place:
        wanted = str(fill(expected.place, scope))
        if not any(_is_at(one.place, wanted) for one in same):
            return Problem("test.problem-place", "The problem is at another place.", place=wanted, expected=wanted,
                           found=", ".join(one.place or "no place" for one in same))
    return None


def _is_at(place: str, wanted: str) -> bool:
    """Whether a place of a problem is the one that is meant, written from its beginning or from its end."""
    return place == wanted or place.endswith((f"/{wanted}", f".{wanted}")) or place.replace("/", ".").endswith(f".{wanted}")


def _compare(record: Record, path: str, comparison: Comparison, values: Mapping[str, Any], scope: Scope,
             stored: Mapping[str, Any] | None) -> Iterator[Problem]:
    target = find_target(record, path, path)
    comparison = Comparison.model_validate(fill(comparison.model_dump(exclude_defaults=True), scope))
    told = 0
    for place, value in values_at(target.steps, values):
        items: Sequence[tuple[str, Any]]
        if target.is_list:
            items = [(f"{place}[{number}]", one) for number, one in enumerate(value)] if isinstance(value, list) else []
            yield from _of_list(target, comparison, place, value if isinstance(value, list) else [])
        else:
            items = [(place, value)]
        for at, one in items:
            problem = _of_value(target, comparison, at, one, stored)
            if problem is not None and told < _MOST_TOLD:
                told += 1
                yield problem


def _of_list(target: Target, comparison: Comparison, place: str, items: list[Any]) -> Iterator[Problem]:
    if comparison.count is not None:
        low, high = comparison.count if isinstance(comparison.count, tuple) else (int(comparison.count),) * 2
        if not low <= len(items) <= high:
            yield Problem("test.count", "The list has another number of items.", place=place,
                          expected=str(low) if low == high else f"{low} to {high}", found=str(len(items)))
    if comparison.present and not items:
        yield Problem("test.present", "The list has no items.", place=place, expected="at least one", found="none")
    if comparison.absent and items:
        yield Problem("test.absent", "The list has items.", place=place, expected="none", found=str(len(items)))
    if comparison.order:
        yield from _ordered(target, comparison, place, items)


def _ordered(target: Target, comparison: Comparison, place: str, items: list[Any]) -> Iterator[Problem]:
    kind, keys = target.element.type, items
    if isinstance(kind, Record):
        by = find_target(kind, comparison.by, place)
        kind = by.element.type
        keys = [next((value for _, value in values_at(by.steps, one)), ABSENT) for one in items]
    if isinstance(kind, Record):
        return
    read = [_read(kind, one) for one in keys]
    for number, (one, other) in enumerate(itertools.pairwise(read)):
        if one is ABSENT or other is ABSENT:
            continue
        if (one > other) if comparison.order == "up" else (one < other):
            yield Problem("test.order", f"The list does not go {comparison.order}.", place=f"{place}[{number + 1}]",
                          expected=f"nothing {'below' if comparison.order == 'up' else 'above'} {shown(keys[number])}",
                          found=shown(keys[number + 1]))
            return


def _of_value(target: Target, comparison: Comparison, place: str, value: Any, stored: Mapping[str, Any] | None) -> Problem | None:
    """The first in which one value differs."""
    if target.is_list and (comparison.present or comparison.absent):
        return None
    if value is ABSENT:
        if comparison.absent or set(comparison.model_dump(exclude_defaults=True)) <= {"count", "order", "by"}:
            return None
        return Problem("test.absent", "The value is missing.", place=place, expected=_wanted(comparison), found="nothing")
    if comparison.absent:
        return Problem("test.present", "The value should not be there.", place=place, expected="nothing", found=_show(value))
    if comparison.source:
        problem = _sourced(place, stored)
        if problem is not None:
            return problem
    kind = target.element.type
    if isinstance(kind, Record):
        if comparison.equal is not None and value != comparison.equal:
            return Problem("test.value", "The record is another.", place=place, expected=_show(comparison.equal), found=_show(value))
        return None
    return _of_simple(kind, comparison, place, value)


def _of_simple(kind: SimpleType, comparison: Comparison, place: str, value: Any) -> Problem | None:
    found, text = _read(kind, value), _text(value)

    def wrong(message: str) -> Problem:
        return Problem("test.value", message, place=place, expected=_wanted(comparison), found=shown(text))

    if comparison.equal is not None and found != _typed(kind, comparison.equal, place):
        return wrong("The value is another.")
    if comparison.unlike is not None and found == _typed(kind, comparison.unlike, place):
        return wrong("The value is the one that it should not be.")
    if comparison.one_of and found not in [_typed(kind, one, place) for one in comparison.one_of]:
        return wrong("The value is none of these.")
    if comparison.between is not None:
        low, high = (_typed(kind, one, place) for one in comparison.between)
        if not low <= found <= high:
            return wrong("The value lies outside.")
    if comparison.matches and not _pattern(comparison.matches, place)(text):
        return wrong("The value has another form.")
    if comparison.contains and comparison.contains not in text:
        return wrong("The value does not have this in it.")
    return None


def _wanted(comparison: Comparison) -> str:
    said = comparison.model_dump(exclude_defaults=True)
    words = {"equal": "{}", "unlike": "not {}", "one_of": "one of {}", "between": "between {}", "matches": "the form {}",
             "contains": "{} in it", "absent": "nothing", "present": "a value", "source": "what is stored"}
    return ", ".join(words[name].format(_show(value)) for name, value in said.items() if name in words)


def _show(value: Any) -> str:
    if isinstance(value, list | tuple):
        return " and ".join(_show(one) for one in value) if len(value) == 2 else ", ".join(_show(one) for one in value)
    return shown(_text(value), 200)


def _text(value: Any) -> str:
    return ("true" if value else "false") if isinstance(value, bool) else str(value)


def _read(kind: SimpleType, value: Any) -> Any:
    """A value of an answer in JSON as one that can be compared."""
    if value is ABSENT or value is None:
        return ABSENT
    found, problem = kind.accept(value)
    if problem is not None:  # told already, where the answer was held against the contract
        return value
    return found.normalize() if isinstance(found, Decimal) and not found.is_zero() and kind.base not in BINARY_TYPES else found


def _conditions(record: Record, texts: Sequence[str], values: Mapping[str, Any]) -> Iterator[Problem]:
    problems: list[Problem] = []
    typed = from_plain(record, values, record.name, problems)
    names = {spoken(one.name): typed.get(one.name, [] if one.is_list else None) for one in record.slots}
    for text in texts:
        condition = _condition(record, text, "holds")
        try:
            holds = condition.value(names)
        except ProblemError as error:
            yield replace(error.problem, place=text)
            continue
        if not holds:
            used = [one for one in dict.fromkeys(re.findall(r"[A-Za-z_]\w*", text)) if one in values]
            yield Problem("test.condition", "The condition does not hold.", place=text, expected="true",
                          found=", ".join(f"{name} = {_show(values[name])}" for name in used)[:300] or "false")


def _same_tree(expected: Expected, seen: Seen, scope: Scope) -> list[Problem]:
    if seen.payload is None:
        return [Problem("test.xml", "There is no element to compare.", expected="an element in the body of the envelope",
                        found=seen.summary)]
    try:
        wanted = parse_xml(str(fill(expected.xml, scope, in_xml=True)).encode())
    except ProblemError as error:
        return [replace(error.problem, place="expects, xml")]
    body = next((one for one in wanted.iter() if isinstance(one.tag, str) and etree.QName(one).localname == "Body"), None)
    if body is not None and len(body):
        wanted = body[0]
    return list(tree_differences(wanted, seen.payload, expected.but))


def _beside(stored: Mapping[str, Any] | None) -> Iterator[Problem]:
    if stored is None:
        yield Problem("test.source", "The answer could not be held beside what is stored.", expected="an operation on a table")
        return
    if stored["equal"]:
        return
    for row in stored["rows"]:
        if not row["found"] and not stored["deleted"]:
            yield Problem("test.source", f"No row {row['key']} is stored in {stored['table']}.", place=row["key"])
        for one in row["fields"]:
            if one["equal"] is False:
                yield Problem("test.source", "The value is not what is stored.", place=f"{row['key']}, {one['field']}",
                              expected=f"{shown(one['stored'] or '')} in {stored['table']}.{one['column']}",
                              found=shown(one["reply"] or ""))
    if stored["ordered"] is False:
        yield Problem("test.source", "The rows stand in another order than in the database.")


def _sourced(place: str, stored: Mapping[str, Any] | None) -> Problem | None:
    if stored is None:
        return Problem("test.source", "The answer could not be held beside what is stored.", place=place)
    name, row = place.rpartition(".")[2], re.search(r"\[(\d+)\]", place)
    rows = stored["rows"]
    number = int(row[1]) if row is not None else 0
    fields = rows[number]["fields"] if number < len(rows) else []
    one = next((one for one in fields if one["field"] == name), None)
    if one is None:
        return Problem("test.source", "This value does not come from a column that can be read.", place=place)
    if one["equal"] is False:
        return Problem("test.source", "The value is not what is stored.", place=place, expected=shown(one["stored"] or ""),
                       found=shown(one["reply"] or ""))
    return None
