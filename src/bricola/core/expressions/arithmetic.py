"""What the functions of compiled expressions call: arithmetic that stays exact and bounded, loops that are counted, dates with durations.

`Budget` counts visits of list items, each weighed by how much is done with it. Where an expression uses up what it may do at once, it is
evaluated again with more, beside the event loop (`SpentError` says so); nothing in an expression changes anything, so that is safe.
"""

import calendar
import re
from collections.abc import Callable, Sequence
from datetime import date, datetime, time, timedelta
from decimal import (
    ROUND_CEILING,
    ROUND_FLOOR,
    ROUND_HALF_EVEN,
    ROUND_HALF_UP,
    ROUND_UP,
    Context,
    Decimal,
    DivisionByZero,
    Inexact,
    InvalidOperation,
    Overflow,
)
from decimal import ROUND_DOWN as ROUND_TO_ZERO
from functools import lru_cache
from typing import Any

MOST_LENGTH = 1_000_000  # characters of a text that an expression makes, and items of a list
MOST_DIGITS = 400
EXACT = Context(prec=MOST_DIGITS, traps=[Inexact, InvalidOperation, DivisionByZero, Overflow])
DIVIDING = Context(prec=28, rounding=ROUND_HALF_EVEN, traps=[InvalidOperation, DivisionByZero, Overflow])
_ROUNDING = {"half-even": ROUND_HALF_EVEN, "half-up": ROUND_HALF_UP, "up": ROUND_UP, "down": ROUND_TO_ZERO}
ROUNDINGS = tuple(_ROUNDING)
_MOST_INT = 10 ** MOST_DIGITS


class SpentError(Exception):
    """The visits that were allowed are used up."""


class FailedError(Exception):
    """An expression cannot give a value for these values. `expected` and `found` are for people."""

    def __init__(self, message: str, expected: str = "", found: str = "") -> None:
        super().__init__(message)
        self.message, self.expected, self.found = message, expected, found


class Budget:
    """How many visits are left; `late` says whether time is up, and is asked once a loop."""

    __slots__ = ("late", "left")

    def __init__(self, left: int, late: Callable[[], bool] | None = None) -> None:
        self.left = left
        self.late = late


def visit(budget: Budget, items: Sequence[Any], weight: int) -> Sequence[Any]:
    """A list that is about to be gone through."""
    budget.left -= len(items) * weight + 1
    if budget.left < 0 or (budget.late is not None and budget.late()):
        raise SpentError
    return items


# Numbers


def multiply(one: int, other: int) -> int:
    if one.bit_length() + other.bit_length() > 1400:
        raise FailedError("The product is too large.", f"at most {MOST_DIGITS} digits")
    return one * other


def divide(one: Decimal | int, other: Decimal | int) -> Decimal:
    if not other:
        raise FailedError("This divides by zero.", "a divisor other than 0", "0")
    return DIVIDING.divide(Decimal(one), Decimal(other))


def divide_floats(one: float, other: float) -> float:
    if not other:
        raise FailedError("This divides by zero.", "a divisor other than 0", "0")
    return one / other


def floor_divide(one: Any, other: Any) -> int:
    """Rounded down, for decimals too (Python's decimals round toward zero)."""
    if not other:
        raise FailedError("This divides by zero.", "a divisor other than 0", "0")
    if isinstance(one, int) and isinstance(other, int):
        return one // other
    return int(EXACT.divide_int(EXACT.subtract(Decimal(one), Decimal(modulo(one, other))), Decimal(other)))


def modulo(one: Any, other: Any) -> Any:
    """With the sign of the divisor, for decimals too."""
    if not other:
        raise FailedError("This divides by zero.", "a divisor other than 0", "0")
    if isinstance(one, int) and isinstance(other, int):
        return one % other
    rest = EXACT.remainder(Decimal(one), Decimal(other))
    return EXACT.add(rest, Decimal(other)) if rest and (rest < 0) is not (other < 0) else rest


def rounded(value: Decimal | int | float, places: int, how: str) -> Decimal:
    if abs(places) > 100:
        raise FailedError("That many places are not kept.", "up to 100", str(places))
    exact = Decimal(value) if not isinstance(value, float) else Decimal(repr(value))
    if not exact.is_finite():
        raise FailedError("This is no number that can be rounded.", "a finite number", str(value))
    # Through the context's method, since the process-wide context would refuse what has more than 28 digits.
    wide = Context(prec=MOST_DIGITS, rounding=_ROUNDING[how])
    result = exact.quantize(Decimal(1).scaleb(-max(places, 0)), context=wide) if places >= 0 else exact
    if places < 0:
        unit = Decimal(1).scaleb(-places)
        result = wide.multiply(wide.divide(exact, unit).to_integral_value(_ROUNDING[how]), unit)
    return result


def floor(value: Any) -> int:
    return int(_finite(value).to_integral_value(ROUND_FLOOR))


def ceiling(value: Any) -> int:
    return int(_finite(value).to_integral_value(ROUND_CEILING))


def _finite(value: Any) -> Decimal:
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    if not exact.is_finite():
        raise FailedError("This is no whole number.", "a finite number", str(value))
    if exact.adjusted() > MOST_DIGITS:
        raise FailedError("The number is too large.", f"at most {MOST_DIGITS} digits")
    return exact


def total(items: Sequence[Any]) -> Any:
    return sum(items)


def average(items: Sequence[Any]) -> Any:
    if not items:
        return None
    return sum(items) / len(items) if isinstance(items[0], float) else divide(sum(items), len(items))


def decimal_of(value: int | None) -> Decimal | None:
    return None if value is None else Decimal(value)


# Texts and lists


def fitting(text: str) -> str:
    if len(text) > MOST_LENGTH:
        raise FailedError("The text becomes too long.", f"at most {MOST_LENGTH} characters")
    return text


def joined(one: str, other: str) -> str:
    return fitting(one + other) if len(one) + len(other) > MOST_LENGTH else one + other


def chained(one: Sequence[Any], other: Sequence[Any]) -> list[Any]:
    if len(one) + len(other) > MOST_LENGTH:
        raise FailedError("The list becomes too long.", f"at most {MOST_LENGTH} items")
    return [*one, *other]


def join_texts(texts: Sequence[str], between: str) -> str:
    if sum(map(len, texts)) + len(between) * len(texts) > MOST_LENGTH:
        raise FailedError("The text becomes too long.", f"at most {MOST_LENGTH} characters")
    return between.join(texts)


def replace_text(text: str, old: str, new: str) -> str:
    if not old:
        return text
    if len(new) > len(old) and len(text) + text.count(old) * (len(new) - len(old)) > MOST_LENGTH:
        raise FailedError("The text becomes too long.", f"at most {MOST_LENGTH} characters")
    return text.replace(old, new)


def split(text: str, between: str) -> list[str]:
    return text.split(between) if between else [text]


def pad_left(text: str, length: int, fill: str) -> str:
    if length > MOST_LENGTH or len(fill) != 1:
        raise FailedError("The text cannot be filled up so.", f"one character, up to {MOST_LENGTH} times")
    return text.rjust(length, fill)


def pad_right(text: str, length: int, fill: str) -> str:
    return pad_left(text[::-1], length, fill)[::-1]


def at(items: Sequence[Any], index: int) -> Any:
    """The item there, None where there is none."""
    try:
        return items[index]
    except IndexError:
        return None


def find(table: dict[Any, Any], key: Any) -> Any:
    return table.get(key)


def first_of(*values: Any) -> Any:
    return next((one for one in values if one is not None), None)


def without_absent(values: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value is not None}


def flatten(lists: Sequence[Sequence[Any]]) -> list[Any]:
    return [one for part in lists for one in part]


def count_up(budget: Budget, first: int, last: int) -> list[int]:
    """The whole numbers from one to another."""
    size = max(0, last - first + 1)
    if size > MOST_LENGTH:
        raise FailedError("The list becomes too long.", f"at most {MOST_LENGTH} items", str(size))
    visit(budget, range(size), 1)
    return list(range(first, last + 1))


def distinct(items: Sequence[Any]) -> list[Any]:
    return list(dict.fromkeys(items))


Key = Callable[[Any], Any]


def grouped(items: Sequence[Any], key: Key) -> list[dict[str, Any]]:
    """In the order in which the keys come first."""
    found: dict[Any, list[Any]] = {}
    for item in items:
        found.setdefault(key(item), []).append(item)
    return [{"key": one, "items": inside} for one, inside in found.items()]


def indexed(items: Sequence[Any], key: Key) -> dict[Any, Any]:
    """The first item of each key."""
    found: dict[Any, Any] = {}
    for item in items:
        found.setdefault(key(item), item)
    return found


def sort_by(items: Sequence[Any], key: Key, descending: bool) -> list[Any]:
    """Equal ones stay in their order, descending too."""
    return sorted(items, key=key, reverse=descending)


# Dates and durations


@lru_cache(4096)
def parts_of(text: str) -> tuple[int, Decimal]:
    """Months and seconds of a duration (XML Schema Part 2, section 3.2.6)."""
    found = _DURATION.fullmatch(text)
    if found is None:
        raise FailedError("This is no duration.", "a duration like P1DT12H", text)
    sign, years, months, days, hours, minutes, seconds = found.groups()
    factor = -1 if sign else 1
    whole = int(days or 0) * 86_400 + int(hours or 0) * 3600 + int(minutes or 0) * 60
    return factor * (int(years or 0) * 12 + int(months or 0)), factor * (whole + Decimal(seconds or 0))


_MOST_UNITS = 10 ** 9
_DURATION = re.compile(r"(-?)P(?:(\d{1,9})Y)?(?:(\d{1,9})M)?(?:(\d{1,9})D)?(?:T(?:(\d{1,9})H)?(?:(\d{1,9})M)?(?:(\d{1,12}(?:\.\d+)?)S)?)?",
                       re.ASCII)


def duration(months: int, seconds: Decimal | int) -> str:
    """The text of a duration; both parts have one sign."""
    if months * seconds < 0:
        raise FailedError("Months and days of different signs make no duration.")
    sign = "-" if months < 0 or seconds < 0 else ""
    months, left = abs(months), abs(Decimal(seconds))
    days, left = divmod(left, 86_400)
    hours, left = divmod(left, 3600)
    minutes, left = divmod(left, 60)
    date_part = _unit(months // 12, "Y") + _unit(months % 12, "M") + _unit(days, "D")
    time_part = _unit(hours, "H") + _unit(minutes, "M") + _unit(left, "S")
    return f"{sign}P{date_part}{'T' + time_part if time_part else ''}" if date_part or time_part else "PT0S"


def _unit(value: Decimal | int, letter: str) -> str:
    return f"{format(Decimal(value).normalize(), 'f')}{letter}" if value else ""


def add_durations(one: str, other: str, sign: int) -> str:
    (months, seconds), (more, further) = parts_of(one), parts_of(other)
    return duration(months + sign * more, seconds + sign * further)


def shift(moment: Any, text: str, sign: int) -> Any:
    """A date or moment with a duration added (XML Schema Part 2, appendix E: a day that the month does not have becomes its last)."""
    months, seconds = parts_of(text)
    try:
        if months:
            at_month = moment.year * 12 + moment.month - 1 + sign * months
            year, month = at_month // 12, at_month % 12 + 1
            moment = moment.replace(year=year, month=month, day=min(moment.day, calendar.monthrange(year, month)[1]))
        if type(moment) is date and seconds % 86_400:
            raise FailedError("A date has no time of day that could be moved.", "days, months or years", text)
        return moment + timedelta(seconds=float(sign * seconds)) if seconds else moment
    except (OverflowError, ValueError, calendar.IllegalMonthError):
        raise FailedError("The date lies outside of the calendar.", "a year from 1 to 9999", text) from None


def between(later: date | datetime, earlier: date | datetime) -> str:
    """The time from one to the other."""
    return duration(0, seconds_between(earlier, later))


def seconds_between(earlier: Any, later: Any) -> Decimal:
    passed = later - earlier
    return Decimal(passed.days * 86_400 + passed.seconds) + Decimal(passed.microseconds) / 1_000_000


def days_between(earlier: date, later: date) -> int:
    return (later - earlier).days


def units(months: int, seconds: int) -> Callable[[int], str]:
    """A function that makes a duration of so many units."""

    def made(number: int) -> str:
        if abs(number) > _MOST_UNITS:
            raise FailedError("That is further than any calendar goes.", f"at most {_MOST_UNITS}", str(number))
        return duration(number * months, number * seconds)

    return made


def compare_durations(one: str, other: str) -> int:
    (months, seconds), (more, further) = parts_of(one), parts_of(other)
    left, right = (months, seconds), (more, further)
    if months == more or seconds == further:
        return (left > right) - (left < right)
    if (months > more) is (seconds > further):
        return 1 if months > more else -1
    raise FailedError("Months and days cannot be compared.", "durations in the same units", f"{one} and {other}")


def day_of(moment: datetime) -> date:
    return moment.date()


def clock_of(moment: datetime) -> time:
    return moment.timetz()
