"""Texts of a screen as values, and values as texts to type: dates in the host's look, numbers with its signs, codes with a meaning."""

import re
from collections.abc import Callable
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from bricola.core.definitions.engines.terminals import TextForm
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.date_looks import look_pattern, look_reader, whole_year, written_by_look
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType

_NUMBER = re.compile(r"(?P<before>[+-]?)(?P<digits>[\d.,' ]+)(?P<after>-|CR|DB|\+)?")
_ROUND = re.compile(r"^\((.*)\)$")  # a negative number in brackets


def compile_reader(form: TextForm, element: Element, place: str) -> Callable[[str], Any]:
    """A function text -> value of the element's type; None for a blank one that may be left out. Raises ProblemError that
    names the place and what stands there."""
    kind = element.type
    assert isinstance(kind, SimpleType)  # the review of the flow saw to it
    plain, at_once, check = _normaliser(form, kind), _at_once(form, kind), kind.check
    needed, text_kind = element.least > 0, kind.primitive.python is str

    def read(text: str) -> Any:
        stripped = text.strip()
        if not stripped:
            if not needed:
                return None
            if not text_kind:
                raise ProblemError(_unread(place, kind.rule, "nothing"))
        value = at_once(stripped)
        if value is not None and not check(value):
            return value
        value, problem = kind.read(plain(stripped))
        if problem is not None:
            raise ProblemError(_unread(place, problem.expected, shown(stripped)))
        return value

    return read


def _at_once(form: TextForm, kind: SimpleType) -> Callable[[str], Any]:
    """A function text -> value for texts that look as they usually do, or None for all others: a list has hundreds of them."""
    python = kind.primitive.python
    if python is Decimal and not form.codes:
        thousands, point = (",", ".") if form.decimal == "point" else (".", ",")
        usual = re.compile(rf"\d{{1,3}}(?:{re.escape(thousands)}\d{{3}})*{re.escape(point)}\d+|\d+{re.escape(point)}\d+").fullmatch
        if point == ".":
            return lambda text: Decimal(text.replace(thousands, "")) if usual(text) else None
        return lambda text: Decimal(text.replace(thousands, "").replace(point, ".")) if usual(text) else None
    if python is date and form.dates and not form.codes:
        return _day_at_once(form.dates)
    if python is int and not form.codes:
        return lambda text: int(text) if text.isascii() and text.isdigit() else None
    if kind.base == "string":
        codes = form.codes
        return (lambda text: codes.get(text, text)) if codes else lambda text: text
    return lambda text: None


def _day_at_once(look: str) -> Callable[[str], date | None]:
    pattern = look_pattern(look)
    if not {"D", "M", "Y"} <= set(pattern.groupindex):
        return lambda text: None
    match, order = pattern.fullmatch, ("Y", "M", "D")

    def day(text: str) -> date | None:
        found = match(text)
        if found is None:
            return None
        year, month, number = found.group(*order)
        try:
            return date(int(whole_year(year)), int(month), int(number))
        except ValueError:
            return None  # told by the slower way

    return day


def _unread(place: str, expected: str, found: str) -> Problem:
    return Problem("screen.value", "What stands on the screen is not what this output takes.", Kind.BACKEND, place=place, expected=expected,
                   found=found, mend="The owner of the service corrects the place, its look, or the output's type.")


def _normaliser(form: TextForm, kind: SimpleType) -> Callable[[str], str]:
    """A function from the screen's text to the lexical form of the type."""
    steps: list[Callable[[str], str]] = []
    codes = form.codes
    if codes:
        steps.append(lambda text: codes.get(text, text))
    python = kind.primitive.python
    if form.dates and python in (date, datetime, time):
        steps.append(look_reader(form.dates, python))
    elif python in (int, float, Decimal):
        thousands, point = (",", ".") if form.decimal == "point" else (".", ",")
        steps.append(lambda text: _number(text, thousands, point))
    if not steps:
        return lambda text: text
    if len(steps) == 1:
        return steps[0]
    first, second = steps
    return lambda text: second(first(text))


def _number(text: str, thousands: str, point: str) -> str:
    inner = _ROUND.match(text)
    found = _NUMBER.fullmatch((inner[1] if inner else text).strip())
    if found is None:
        return text
    digits = found["digits"].replace(thousands, "").replace("'", "").replace(" ", "").replace(point, ".")
    negative = bool(inner) or found["before"] == "-" or (found["after"] or "") in ("-", "CR")
    return f"-{digits}" if negative else digits


def compile_writer(form: TextForm, kind: SimpleType) -> Callable[[Any], str]:
    """A function value -> the text to type."""
    back = {meaning: code for code, meaning in form.codes.items()}
    python = kind.primitive.python
    look = form.dates

    def write(value: Any) -> str:
        if look and python in (date, datetime, time):
            return written_by_look(value, look)
        text = kind.write(value)
        if python is Decimal and form.decimal == "comma":
            text = text.replace(".", ",")
        return back.get(text, text)

    return write
