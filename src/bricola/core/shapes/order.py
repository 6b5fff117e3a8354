"""The order of values that are kept as text: durations and parts of dates (XML Schema Part 2, sections 3.2.6.2 and 3.2.7.4).

A duration is months and seconds, and how long a month is depends on where it begins: one is shorter than another when it is shorter from
each of four moments that the standard names; two that only sometimes are cannot be ordered, and are out of each other's range. A part of
a date is the moment at which it begins; one with and one without time zone cannot be ordered, so that neither is out of a range that the
other bounds.
"""

import re
from collections.abc import Callable
from decimal import Decimal
from fractions import Fraction

_DURATION = re.compile(r"(-?)P(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?", re.ASCII)
_STARTS = ((1696, 9), (1697, 2), (1903, 3), (1903, 7))  # each on its first day
_PARTS = {
    "gYear": re.compile(r"(?P<year>-?\d+)(?P<zone>Z|[+-]\d\d:\d\d)?", re.ASCII),
    "gYearMonth": re.compile(r"(?P<year>-?\d{4,})-(?P<month>\d\d)(?P<zone>Z|[+-]\d\d:\d\d)?", re.ASCII),
    "gMonth": re.compile(r"--(?P<month>\d\d)(?P<zone>Z|[+-]\d\d:\d\d)?", re.ASCII),
    "gDay": re.compile(r"---(?P<day>\d\d)(?P<zone>Z|[+-]\d\d:\d\d)?", re.ASCII),
    "gMonthDay": re.compile(r"--(?P<month>\d\d)-(?P<day>\d\d)(?P<zone>Z|[+-]\d\d:\d\d)?", re.ASCII),
}
_DAY = 86_400
Within = Callable[[str], bool]


def ordered(base: str) -> bool:
    """Whether values of a built-in type are text that is ordered here."""
    return base == "duration" or base in _PARTS


def compile_bound(base: str, bound: str, is_low: bool, itself: bool) -> Within:
    """Whether a value lies on the right side of a bound, read once: not below it where it `is_low`, else not above; `itself` says whether
    the bound belongs to the range. Raises ValueError for a bound that is none."""
    return _duration_bound(bound, is_low, itself) if base == "duration" else _part_bound(base, bound, is_low, itself)


def _duration_bound(bound: str, is_low: bool, itself: bool) -> Within:
    edge = _lengths(bound)

    def within(text: str) -> bool:
        lengths = _lengths(text)
        if lengths == edge:
            return itself
        return all(one > other if is_low else one < other for one, other in zip(lengths, edge, strict=True))

    return within


def _part_bound(base: str, bound: str, is_low: bool, itself: bool) -> Within:
    edge, edge_zoned = _moment(base, bound)

    def within(text: str) -> bool:
        moment, zoned = _moment(base, text)
        if zoned is not edge_zoned:
            return True
        return itself if moment == edge else (moment > edge) is is_low

    return within


def _lengths(text: str) -> tuple[Fraction, ...]:
    """The seconds of a duration from each of the four moments."""
    found = _DURATION.fullmatch(text)
    if found is None:
        raise ValueError(text)
    sign, years, months, days, hours, minutes, seconds = found.groups()
    month_count = int(years or 0) * 12 + int(months or 0)
    rest = Fraction(int(days or 0) * _DAY + int(hours or 0) * 3600 + int(minutes or 0) * 60) + Fraction(Decimal(seconds or 0))
    factor = -1 if sign else 1
    return tuple(factor * rest + _DAY * (_days(year, month + factor * month_count) - _days(year, month)) for year, month in _STARTS)


def _moment(base: str, text: str) -> tuple[int, bool]:
    """The minutes since the year 0 at which a part of a date begins, and whether it says its zone."""
    found = _PARTS[base].fullmatch(text)
    if found is None:
        raise ValueError(text)
    parts = found.groupdict()
    day = _days(int(parts.get("year") or 1972), int(parts.get("month") or 1)) + int(parts.get("day") or 1) - 1
    zone = parts["zone"]
    offset = 0 if zone in (None, "Z") else (1 if zone[0] == "+" else -1) * (int(zone[1:3]) * 60 + int(zone[4:6]))
    return day * 1440 - offset, zone is not None


def _days(year: int, month: int) -> int:
    """The days from the year 0 to the first of a month, in the Gregorian calendar of any year; months may lie outside of 1 to 12."""
    year, month = year + (month - 1) // 12, (month - 1) % 12 + 1
    year -= month < 3  # a year from March, so that the leap day is its last
    return 365 * year + year // 4 - year // 100 + year // 400 + (153 * ((month - 3) % 12) + 2) // 5
