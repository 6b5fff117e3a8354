"""A simple type: a primitive narrowed by facets, with one reader and one checker made once.

Reading text and checking a value give the same verdict, since both end in `check`.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, time
from decimal import Decimal
from functools import cached_property

from bricola.core.problems import Problem, shown
from bricola.core.shapes.primitives import KEEPS_SPACE, PRIMITIVES, Primitive, Value


@dataclass(frozen=True)
class SimpleType:
    """A primitive with facets (W3C XML Schema Part 2, section 4.3).

    Lengths count characters, or bytes for base64Binary. `name` is set when callers see it as a named type.
    """

    base: str
    name: str = ""
    length: int | None = None
    min_length: int | None = None
    max_length: int | None = None
    pattern: str | None = None
    codes: tuple[str, ...] = ()
    digits: int | None = None
    fraction: int | None = None
    min: str | None = None
    max: str | None = None
    description: str = ""

    @cached_property
    def primitive(self) -> Primitive:
        return PRIMITIVES[self.base]

    @property
    def is_plain(self) -> bool:
        """Whether no facet narrows the primitive."""
        return self == SimpleType(self.base, name=self.name, description=self.description)

    @cached_property
    def rule(self) -> str:
        """The whole rule in words, for messages, forms and documentation."""
        if self.codes:
            listed = ", ".join(self.codes[:12])
            return f"one of {listed}" + (f" and {len(self.codes) - 12} more" if len(self.codes) > 12 else "")
        low = self.min if self.min is not None else self.primitive.lowest
        high = self.max if self.max is not None else self.primitive.highest
        if self.primitive.python is int and (low is not None or high is not None):
            text = "a whole number"
            narrowed = True
        else:
            text, narrowed = self.primitive.described, self.min is not None or self.max is not None
        parts = [text]
        if narrowed:
            if low is not None and high is not None:
                parts.append(f"from {low} to {high}")
            else:
                parts.append(f"from {low}" if low is not None else f"up to {high}")
        unit = "bytes" if self.base == "base64Binary" else "characters"
        if self.length is not None:
            parts.append(f"of exactly {self.length} {unit}")
        elif self.min_length and self.max_length:
            parts.append(f"of {self.min_length} to {self.max_length} {unit}")
        elif self.max_length is not None:
            parts.append(f"of at most {self.max_length} {unit}")
        elif self.min_length:
            parts.append(f"of at least {self.min_length} {unit}")
        if self.pattern:
            parts.append(f"in the form {self.pattern}")
        if self.digits is not None and self.fraction is not None:
            parts.append(f"with up to {self.digits} digits, {self.fraction} of them after the point")
        elif self.digits is not None:
            parts.append(f"with up to {self.digits} digits")
        elif self.fraction is not None:
            parts.append(f"with up to {self.fraction} digits after the point")
        return " ".join(parts)

    @cached_property
    def check(self) -> Callable[[Value], str]:
        """A function that takes a value of the right Python type and returns the code of the broken rule, or ''."""
        return _checker(self)

    def read(self, text: str) -> tuple[Value, Problem | None]:
        """The value of an element's text, or the problem with it (without a place)."""
        if self.base not in KEEPS_SPACE:
            text = text.strip(" \t\r\n")
        try:
            value = self.primitive.read(text)
        except (ValueError, OverflowError):
            return None, self._broken("value.type", text)
        code = self.check(value)
        return (None, self._broken(code, text)) if code else (value, None)

    def accept(self, value: object) -> tuple[Value, Problem | None]:
        """A value from JSON or from a backend, brought to this type; or the problem with it (without a place).

        Text is read as in a message; numbers and booleans are taken as they are when they fit the type.
        """
        python = self.primitive.python
        if isinstance(value, str) and python is not str:
            return self.read(value)
        if python is Decimal and isinstance(value, int | float) and not isinstance(value, bool):
            value = Decimal(repr(value))
        elif python is float and isinstance(value, int) and not isinstance(value, bool):
            value = float(value)
        if type(value) is not python:
            return None, self._broken("value.type", value)
        if python is str and self.base != "string":
            return self.read(str(value))
        code = self.check(value)
        return (None, self._broken(code, value)) if code else (value, None)

    def write(self, value: Value) -> str:
        """The lexical form of a value of this type, not escaped."""
        return self.primitive.write(value)

    def _broken(self, code: str, found: object) -> Problem:
        what = {
            "value.type": f"The value is not {self.primitive.described}.",
            "value.code": "The value is not in the code list.",
            "value.length": "The value has the wrong length.",
            "value.pattern": "The value does not have the required form.",
            "value.digits": "The value has too many digits.",
            "value.fraction": "The value has too many digits after the decimal point.",
            "value.range": "The value is out of range.",
        }[code]
        text = found if isinstance(found, str) else str(found)
        return Problem(code, what, expected=self.rule, found=shown(text) if text else "nothing")


def _checker(facets: SimpleType) -> Callable[[Value], str]:
    """Compose the checks that the facets ask for; most types need one or none."""
    checks: list[Callable[[Value], str]] = []
    primitive = facets.primitive
    if facets.codes:
        codes = frozenset(primitive.read(code) for code in facets.codes)
        checks.append(lambda v: "" if v in codes else "value.code")
    low, high = _bound(facets, facets.min, primitive.lowest), _bound(facets, facets.max, primitive.highest)
    if low is not None or high is not None:
        checks.append(_range_checker(primitive.python, low, high))
    if facets.length is not None or facets.min_length is not None or facets.max_length is not None:
        shortest = facets.length if facets.length is not None else facets.min_length or 0
        longest = facets.length if facets.length is not None else facets.max_length
        limit = longest if longest is not None else 2**62
        checks.append(lambda v: "" if shortest <= len(v) <= limit else "value.length")
    if facets.pattern is not None:
        matches = re.compile(facets.pattern).fullmatch
        checks.append(lambda v: "" if matches(v) else "value.pattern")
    if facets.digits is not None or facets.fraction is not None:
        checks.append(_digit_checker(facets.digits, facets.fraction))
    if not checks:
        return lambda _: ""
    if len(checks) == 1:
        return checks[0]
    if len(checks) == 2:
        first, second = checks
        return lambda v: first(v) or second(v)

    def all_checks(value: Value) -> str:
        for one in checks:
            if code := one(value):
                return code
        return ""

    return all_checks


def _bound(facets: SimpleType, text: str | None, built_in: int | None) -> Value:
    return facets.primitive.read(text) if text is not None else built_in


def _range_checker(python: type, low: Value, high: Value) -> Callable[[Value], str]:
    if python in (datetime, time):
        # One with and one without time zone cannot be ordered; such a bound says nothing about the value.
        def check_moment(value: Value) -> str:
            below = low is not None and (low.tzinfo is None) == (value.tzinfo is None) and value < low
            above = high is not None and (high.tzinfo is None) == (value.tzinfo is None) and value > high
            return "value.range" if below or above else ""

        return check_moment
    if low is None:
        return lambda v: "" if v <= high else "value.range"
    if high is None:
        return lambda v: "" if v >= low else "value.range"
    return lambda v: "" if low <= v <= high else "value.range"


def _digit_checker(digits: int | None, fraction: int | None) -> Callable[[Value], str]:
    # Most decimals come with exactly the places of their type; they are judged without being taken apart.
    unit = Decimal(1).scaleb(-(fraction or 0))
    ceiling = Decimal(10) ** (digits - (fraction or 0)) if digits is not None else Decimal("Infinity")
    floor = -ceiling

    def check(value: Value) -> str:
        if value.__class__ is Decimal and value.same_quantum(unit) and floor < value < ceiling:
            return ""
        if isinstance(value, int):
            return "value.digits" if digits is not None and len(str(abs(value))) > digits else ""
        _, numerals, exponent = value.as_tuple()
        while exponent < 0 and len(numerals) > 1 and numerals[-1] == 0:  # 1.50 is the value 1.5
            numerals, exponent = numerals[:-1], exponent + 1
        if numerals == (0,):
            return ""
        after = max(0, -exponent)
        total = max(len(numerals) + max(0, exponent), after)
        if fraction is not None and after > fraction:
            return "value.fraction"
        return "value.digits" if digits is not None and total > digits else ""

    return check
