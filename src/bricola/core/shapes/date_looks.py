"""How dates and times look in the texts of old systems: DD/MM/YY, YYYYMMDD, HHNNSS. D, M, Y, H, N and S are digits, all else itself."""

import re
from collections.abc import Callable
from datetime import date, time
from typing import Any

_LETTERS = re.compile(r"(D+|M+|Y+|H+|N+|S+)")
_PIVOT = 70  # two digits of a year: 00 to 69 are 20xx


def look_mistake(look: str) -> str:
    """What is wrong with the look of a date, or ''."""
    letters = [one[0] for one in _LETTERS.findall(look)]
    if not letters:
        return "it has none of the letters D, M, Y, H, N and S"
    if len(set(letters)) != len(letters):
        return "a letter stands in two places"
    if "Y" in letters and re.search(r"Y+", look)[0] not in ("YY", "YYYY"):  # type: ignore[index]
        return "a year has two or four letters"
    return ""


def whole_year(year: str) -> str:
    """Four digits of a year, of which the century may be left out."""
    return f"{19 if int(year) >= _PIVOT else 20}{year}" if len(year) == 2 else year


def look_pattern(look: str) -> re.Pattern[str]:
    """What a text of this look matches, its parts by their letters."""
    return re.compile("".join(rf"(?P<{part[0]}>\d{{{len(part)}}})" if _LETTERS.fullmatch(part) else re.escape(part)
                              for part in _LETTERS.split(look) if part), re.ASCII)


def look_reader(look: str, python: type) -> Callable[[str], str]:
    """A function from a text to the lexical form of a date, a time or a moment; other texts stay as they are."""
    pattern = look_pattern(look)

    def normal(text: str) -> str:
        found = pattern.fullmatch(text)
        if found is None:
            return text
        parts = {"D": "01", "M": "01", "Y": "2000", "H": "00", "N": "00", "S": "00"} | found.groupdict()
        parts["Y"] = whole_year(parts["Y"])
        day = f"{parts['Y']}-{parts['M']:0>2}-{parts['D']:0>2}"
        clock = f"{parts['H']:0>2}:{parts['N']:0>2}:{parts['S']:0>2}"
        return day if python is date else clock if python is time else f"{day}T{clock}"

    return normal


def written_by_look(value: Any, look: str) -> str:
    """A date, a time or a moment in this look."""
    return _LETTERS.sub(lambda one: _part(value, one[0]), look)


def _part(value: Any, letters: str) -> str:
    number = {"D": "day", "M": "month", "Y": "year", "H": "hour", "N": "minute", "S": "second"}[letters[0]]
    return f"{getattr(value, number):0{len(letters)}d}"[-len(letters):]
