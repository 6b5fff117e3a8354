"""The functions on texts, numbers, dates and codes. Each says how a call of it is checked and what Python it becomes."""

import ast
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from bricola.core.expressions import arithmetic
from bricola.core.expressions.checking import Checker, Function, Term
from bricola.core.expressions.types import (
    BOOLEAN,
    DATE,
    DECIMAL,
    DURATION,
    EXACT,
    FLOAT,
    MOMENT,
    NONE,
    NUMBERS,
    SIMPLE,
    TEXT,
    TIME,
    WHOLE,
    Of,
    Type,
)
from bricola.core.patterns.matcher import compile_pattern
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import shown
from bricola.core.shapes.primitives import PRIMITIVES

_CALENDAR = frozenset({Of.DATE, Of.MOMENT})
FUNCTIONS: dict[str, Function] = {}
Check = Callable[[Checker, ast.Call], Term | None]


def function(form: str, words: str, least: int, most: int | None = None) -> Callable[[Check], Check]:
    """Enter a check into the table, under the name that its form begins with."""

    def enter(check: Check) -> Check:
        name = form.partition("(")[0]
        FUNCTIONS[name] = Function(name, form, least, most if most is not None else least, check, words)
        return check

    return enter


def plain(form: str, words: str, takes: Iterable[frozenset[Of]], gives: Type, made: Callable[..., Any], optional: int = 0) -> None:
    """A function that takes values of given classes and becomes a call of a Python function. The last `optional` may be left out."""
    wanted = list(takes)

    def check(checker: Checker, node: ast.Call) -> Term | None:
        terms = arguments(checker, node, wanted)
        return Term(f"{checker.helper(made)}({', '.join(one.code for one in terms)})", gives) if terms is not None else None

    function(form, words, len(wanted) - optional, len(wanted))(check)


def arguments(checker: Checker, node: ast.Call, wanted: list[frozenset[Of]]) -> list[Term] | None:
    """The arguments, each there and of one of its classes."""
    terms: list[Term] = []
    for part, classes in zip(node.args, wanted, strict=False):
        term = checker.needed(part)
        if term is not None and term.type.of not in classes:
            mend = f"Write text({checker.source.part(part)[:40]})." if classes == TEXT_ONLY and term.type.of in SIMPLE else ""
            checker.mismatch(part, " or ".join(sorted(map(str, classes))), term, mend)
            term = None
        if term is not None:
            terms.append(term)
    return terms if len(terms) == min(len(node.args), len(wanted)) else None


TEXT_ONLY, _WHOLE, _EXACT, _NUMBERS = frozenset({Of.TEXT}), frozenset({Of.WHOLE}), EXACT, NUMBERS
_DATE, _DURATION, _MOMENT = frozenset({Of.DATE}), frozenset({Of.DURATION}), frozenset({Of.MOMENT})


def upper(text: str) -> str:
    return text.upper()


def lower(text: str) -> str:
    return text.lower()


def trim(text: str) -> str:
    return text.strip()


def contains(text: str, part: str) -> bool:
    return part in text


def starts_with(text: str, part: str) -> bool:
    return text.startswith(part)


def ends_with(text: str, part: str) -> bool:
    return text.endswith(part)


def year(day: date) -> int:
    return day.year


def month(day: date) -> int:
    return day.month


def day_number(day: date) -> int:
    return day.day


def weekday(day: date) -> int:
    return day.isoweekday()


def year_month(day: date) -> str:
    return day.strftime("%Y-%m")


plain("upper(text)", "in capital letters", [TEXT_ONLY], TEXT, upper)
plain("lower(text)", "in small letters", [TEXT_ONLY], TEXT, lower)
plain("trim(text)", "without spaces at its ends", [TEXT_ONLY], TEXT, trim)
plain("contains(text, part)", "whether the part stands in it", [TEXT_ONLY, TEXT_ONLY], BOOLEAN, contains)
plain("starts_with(text, part)", "whether it begins so", [TEXT_ONLY, TEXT_ONLY], BOOLEAN, starts_with)
plain("ends_with(text, part)", "whether it ends so", [TEXT_ONLY, TEXT_ONLY], BOOLEAN, ends_with)
plain("replace(text, old, new)", "with every `old` become `new`", [TEXT_ONLY, TEXT_ONLY, TEXT_ONLY], TEXT, arithmetic.replace_text)
plain("split(text, between)", "the texts between", [TEXT_ONLY, TEXT_ONLY], Type(Of.LIST, item=TEXT, least=1), arithmetic.split)
plain("pad_left(text, length, fill)", "filled up on its left", [TEXT_ONLY, _WHOLE, TEXT_ONLY], TEXT, arithmetic.pad_left)
plain("pad_right(text, length, fill)", "filled up on its right", [TEXT_ONLY, _WHOLE, TEXT_ONLY], TEXT, arithmetic.pad_right)
plain("floor(number)", "the whole number below", [_NUMBERS], WHOLE, arithmetic.floor)
plain("ceiling(number)", "the whole number above", [_NUMBERS], WHOLE, arithmetic.ceiling)
plain("year(date)", "its year", [_CALENDAR], Type(Of.WHOLE, digits=(4, 0)), year)
plain("month(date)", "its month, 1 to 12", [_CALENDAR], Type(Of.WHOLE, digits=(2, 0)), month)
plain("day(date)", "its day of the month", [_CALENDAR], Type(Of.WHOLE, digits=(2, 0)), day_number)
plain("weekday(date)", "1 for Monday to 7 for Sunday", [_CALENDAR], Type(Of.WHOLE, digits=(1, 0)), weekday)
plain("year_month(date)", "its month as text, like 2026-09", [_CALENDAR], Type(Of.TEXT, length=7), year_month)
plain("days_between(earlier, later)", "whole days between two dates", [_DATE, _DATE], Type(Of.WHOLE, digits=(7, 0)),
      arithmetic.days_between)
plain("seconds_between(earlier, later)", "seconds between two moments", [_MOMENT, _MOMENT], Type(Of.DECIMAL, digits=(12, 6)),
      arithmetic.seconds_between)
for _name, _months, _seconds in (("years", 12, 0), ("months", 1, 0), ("weeks", 0, 604_800), ("days", 0, 86_400), ("hours", 0, 3600),
                                 ("minutes", 0, 60), ("seconds", 0, 1)):
    _made = arithmetic.units(_months, _seconds)
    _made.__name__ = _name
    plain(f"{_name}(number)", f"a duration of so many {_name}", [_WHOLE], DURATION, _made)


@function("length(text)", "how many characters", 1)
def _length(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [TEXT_ONLY])
    return Term(f"{checker.constant(len)}({terms[0].code})", Type(Of.WHOLE, digits=(7, 0))) if terms else None


@function("text(value)", "as it stands in a message", 1)
def _text(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [SIMPLE - {Of.UNION}])
    return Term(checker.as_text(terms[0]), Type(Of.TEXT, codes=terms[0].type.codes)) if terms else None


@function("matches(text, pattern)", "whether all of it has this form (a pattern of XML Schema)", 2)
def _matches(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [TEXT_ONLY, TEXT_ONLY])
    if terms is None:
        return None
    text = constant_of(checker, node.args[1], terms[1])
    if text is None:
        return None
    try:
        pattern = compile_pattern(text)
    except PatternError as error:
        checker.wrong(node.args[1], "pattern", f"The pattern cannot be read: {error}.", found=shown(text))
        return None
    return Term(f"{checker.constant(pattern)}.matches({terms[0].code})", BOOLEAN)


def constant_of(checker: Checker, node: ast.expr, term: Term) -> Any:
    """The value of an argument that is written out; None, with a problem, where it is worked out."""
    if term.type.constant is NONE:
        checker.wrong(node, "constant", "This is written out, since it is made ready when the workflow is deployed.", "a value in quotes")
        return None
    return term.type.constant


def _same_class(checker: Checker, node: ast.Call, made: Callable[..., Any]) -> Term | None:
    terms = arguments(checker, node, [_NUMBERS])
    if not terms:
        return None
    one = terms[0]
    return Term(f"{checker.constant(made)}({one.code})", Type(one.type.of, digits=one.type.digits))


@function("abs(number)", "without its sign", 1)
def _abs(checker: Checker, node: ast.Call) -> Term | None:
    return _same_class(checker, node, abs)


@function('round(number, places, "half-even")', "to so many places; a half goes to the even neighbour, or half-up, up, down", 1, 3)
def _round(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [_NUMBERS, _WHOLE, TEXT_ONLY])
    if terms is None:
        return None
    how = constant_of(checker, node.args[2], terms[2]) if len(terms) > 2 else "half-even"
    if how is None:
        return None
    if how not in arithmetic.ROUNDINGS:
        checker.wrong(node.args[2], "argument", "There is no such way to round.", f"one of {', '.join(arithmetic.ROUNDINGS)}")
        return None
    places = terms[1].code if len(terms) > 1 else "0"
    kept = terms[1].type.constant if len(terms) > 1 else 0
    before = terms[0].type.digits
    digits = (before[0] + 1, kept) if before is not None and kept is not NONE and 0 <= kept <= 20 else None
    return Term(f"{checker.helper(arithmetic.rounded)}({terms[0].code}, {places}, {how!r})", Type(Of.DECIMAL, digits=digits))


def _converted(checker: Checker, node: ast.Call, gives: Type, reads: str, takes: dict[Of, Callable[[Term], str]]) -> Term | None:
    """A conversion to a class: of text by the built-in type `reads`, of others by `takes`."""
    terms = arguments(checker, node, [frozenset({Of.TEXT, gives.of, *takes})])
    if not terms:
        return None
    one = terms[0]
    if one.type.of is gives.of:
        return one
    if one.type.of in takes:
        return Term(takes[one.type.of](one), gives)
    primitive = PRIMITIVES[reads]
    if one.type.constant is not NONE:
        try:
            value = primitive.read(one.type.constant.strip())
        except ValueError:
            checker.wrong(node.args[0], "value", f"This is not {primitive.described}.", primitive.described, shown(one.type.constant))
            return None
        return Term(checker.constant(value), replace(gives, constant=value))
    return Term(f"{checker.helper(_reader(reads))}({one.code})", gives)


def _reader(name: str) -> Callable[[str], Any]:
    made = _READERS.get(name)
    if made is None:
        primitive = PRIMITIVES[name]

        def made(text: str) -> Any:
            try:
                return primitive.read(text.strip())
            except (ValueError, OverflowError):
                raise arithmetic.FailedError(f"This is not {primitive.described}.", primitive.described, shown(text)) from None

        made.__name__ = f"read_{name}"
        _READERS[name] = made
    return made


_READERS: dict[str, Callable[[str], Any]] = {}


def whole_of(value: Any) -> int:
    """A number that is whole as such."""
    result = arithmetic.floor(value)
    if result != value:
        raise arithmetic.FailedError("This is not a whole number.", "a whole number; or round it, floor(), ceiling()", str(value))
    return result


def decimal_of_float(value: float) -> Decimal:
    found = Decimal(repr(value))
    if not found.is_finite():
        raise arithmetic.FailedError("This is no decimal number.", "a finite number", str(value))
    return found


def midnight(day: date) -> datetime:
    return datetime(day.year, day.month, day.day)


@function("whole(value)", "a whole number of a text, or of a number that is whole", 1)
def _whole(checker: Checker, node: ast.Call) -> Term | None:
    def number(term: Term) -> str:
        return f"{checker.helper(whole_of)}({term.code})"

    return _converted(checker, node, WHOLE, "integer", {Of.DECIMAL: number, Of.FLOAT: number})


@function("decimal(value)", "an exact number", 1)
def _decimal(checker: Checker, node: ast.Call) -> Term | None:
    return _converted(checker, node, DECIMAL, "decimal", {
        Of.WHOLE: checker.exact, Of.FLOAT: lambda term: f"{checker.helper(decimal_of_float)}({term.code})"})


@function("float(value)", "a floating-point number", 1)
def _float(checker: Checker, node: ast.Call) -> Term | None:
    def number(term: Term) -> str:
        return f"{checker.constant(float)}({term.code})"

    return _converted(checker, node, FLOAT, "double", {Of.WHOLE: number, Of.DECIMAL: number})


@function("date(value)", "the day of a moment, or of a text like 2026-11-24", 1)
def _date(checker: Checker, node: ast.Call) -> Term | None:
    return _converted(checker, node, DATE, "date", {Of.MOMENT: lambda term: f"{checker.helper(arithmetic.day_of)}({term.code})"})


@function("time(value)", "the time of day of a moment, or of a text like 06:30:00", 1)
def _time(checker: Checker, node: ast.Call) -> Term | None:
    return _converted(checker, node, TIME, "time", {Of.MOMENT: lambda term: f"{checker.helper(arithmetic.clock_of)}({term.code})"})


@function("moment(value)", "of a text like 2026-11-24T06:30:00Z, or the beginning of a day", 1)
def _moment(checker: Checker, node: ast.Call) -> Term | None:
    return _converted(checker, node, MOMENT, "dateTime", {Of.DATE: lambda term: f"{checker.helper(midnight)}({term.code})"})


@function("duration(text)", "of a text like P1DT12H", 1)
def _duration(checker: Checker, node: ast.Call) -> Term | None:
    return _converted(checker, node, DURATION, "duration", {})


def clock_time(moment: time) -> time:
    return moment.replace(tzinfo=None)


plain("without_zone(time)", "a time of day without its zone", [frozenset({Of.TIME})], TIME, clock_time)


@function("coalesce(value, …, value)", "the first that is not absent", 2, 10)
def _coalesce(checker: Checker, node: ast.Call) -> Term | None:
    terms = [checker.term(one) for one in node.args]
    found = [one for one in terms if one is not None]
    if len(found) < len(terms):
        return None
    whole = found[0]
    for part, one in zip(node.args[1:], found[1:], strict=True):
        both = checker.either(part, whole._replace(type=whole.type.present if whole.type.of is not Of.NOTHING else whole.type), one)
        if both is None:
            return None
        kind = both[2].present if not one.type.optional else both[2].absent
        whole = Term(f"{checker.helper(arithmetic.first_of)}({both[0]}, {both[1]})", kind)
    return whole


@function('recode(text, {"from": "to", …}, rest)', "a code in another list of codes; absent without one, or the rest", 2, 3)
def _recode(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [TEXT_ONLY])
    table = node.args[1]
    if not isinstance(table, ast.Dict):
        checker.wrong(table, "argument", "The codes are written out.", '{"from": "to"}')
        return None
    pairs: dict[str, str] = {}
    for key, value in zip(table.keys, table.values, strict=True):
        if not isinstance(key, ast.Constant) or not isinstance(key.value, str) or not isinstance(value, ast.Constant) \
                or not isinstance(value.value, str):
            checker.wrong(key or value, "argument", "Codes are texts, written out.", '{"from": "to"}')
            return None
        pairs[key.value] = value.value
    if terms is None:
        return None
    codes = terms[0].type.codes
    for key in table.keys:
        if codes and isinstance(key, ast.Constant) and key.value not in codes:
            checker.wrong(key, "code", "The value is not in the code list.", f"one of {', '.join(codes[:12])}", shown(key.value))
            return None
    whole = bool(codes) and set(codes) <= set(pairs)
    made = Term(f"{checker.constant(pairs)}.get({terms[0].code})",
                Type(Of.TEXT, not whole, codes=tuple(dict.fromkeys(pairs.values()))))
    if len(node.args) == 2 or whole:
        return made
    rest = checker.term(node.args[2])
    if rest is None:
        return None
    both = checker.either(node.args[2], made._replace(type=made.type.present), rest)
    return Term(f"{checker.helper(arithmetic.first_of)}({both[0]}, {both[1]})", both[2]) if both is not None else None
