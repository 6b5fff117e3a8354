"""A simple type: a primitive narrowed by facets, with one reader and one checker made once.

Reading text and checking a value give the same verdict, since both end in `check`.
"""

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, time
from decimal import Decimal
from functools import cached_property

from bricola.core.characters import outside_xml
from bricola.core.patterns.matcher import Pattern, compile_older, compile_pattern
from bricola.core.patterns.syntax import PatternError
from bricola.core.patterns.words import in_words
from bricola.core.problems import Problem, shown
from bricola.core.shapes.order import compile_bound, ordered
from bricola.core.shapes.primitives import ANY, BINARY_TYPES, PRIMITIVES, QNAMES, Primitive, Value


@dataclass(frozen=True)
class SimpleType:
    """A primitive with facets (W3C XML Schema Part 2, section 4.3), a list of one simple type, or a union of several.

    Lengths count characters, bytes of binary types, and items of a list. `name` is set when callers see it as a named type. What
    follows `description` is met in contracts of others only: `patterns` are those of the types that it derives from (all must fit, while
    the branches of one pattern are alternatives), `tag` is the expanded name of the type, and `derived` are those that may stand for it.
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
    above: str | None = None  # minExclusive
    below: str | None = None  # maxExclusive
    space: str = ""  # whiteSpace, where it is not that of the primitive
    patterns: tuple[str, ...] = ()
    item: "SimpleType | None" = None
    members: tuple["SimpleType", ...] = ()
    tag: str = ""
    derived: tuple["SimpleType", ...] = field(default=(), compare=False, repr=False)

    @cached_property
    def primitive(self) -> Primitive:
        if self.item is not None:
            return _list_of(self.item)
        if self.members:
            return _union_of(self.members)
        return PRIMITIVES[self.base]

    @property
    def is_plain(self) -> bool:
        """Whether no facet narrows the primitive."""
        return self == SimpleType(self.base, name=self.name, description=self.description, tag=self.tag)

    @property
    def holds_names(self) -> bool:
        """Whether its values are names whose prefixes are declared around them."""
        return self.base in QNAMES or any(one.holds_names for one in (*self.members, *((self.item,) if self.item else ())))

    @cached_property
    def rule(self) -> str:
        """The whole rule in words, for messages, forms and documentation."""
        if self.members and not self.codes:
            return ", or ".join(dict.fromkeys(one.rule for one in self.members))
        if self.codes:
            listed = ", ".join(self.codes[:12])
            return f"one of {listed}" + (f" and {len(self.codes) - 12} more" if len(self.codes) > 12 else "")
        low = self.min if self.min is not None else f"above {self.above}" if self.above is not None else self.primitive.lowest
        high = self.max if self.max is not None else f"below {self.below}" if self.below is not None else self.primitive.highest
        if self.primitive.python is int and (low is not None or high is not None):
            text = "a whole number"
            narrowed = True
        else:
            text = self.primitive.described
            narrowed = any(one is not None for one in (self.min, self.max, self.above, self.below))
        parts = [text]
        if narrowed:
            if low is not None and high is not None:
                parts.append(f"from {low} to {high}")
            else:
                parts.append(f"from {low}" if low is not None else f"up to {high}")
        unit = "items" if self.item is not None else "bytes" if self.base in BINARY_TYPES else "characters"
        if self.length is not None:
            parts.append(f"of exactly {self.length} {unit}")
        elif self.min_length and self.max_length:
            parts.append(f"of {self.min_length} to {self.max_length} {unit}")
        elif self.max_length is not None:
            parts.append(f"of at most {self.max_length} {unit}")
        elif self.min_length:
            parts.append(f"of at least {self.min_length} {unit}")
        forms = [one for one in (self.pattern, *self.patterns) if one]
        if forms:
            parts.append(f"in the form {' and '.join(_form(one) for one in forms)}")
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
        if self._judges_values:
            return _checker(self)
        return lambda value: self._check_written(value, self.primitive.write(value))

    def read(self, text: str) -> tuple[Value, Problem | None]:
        """The value of an element's text, or the problem with it (without a place)."""
        space = self.space or self.primitive.space
        if space == "collapse":
            text = text.strip(" \t\r\n")
            if self.primitive.python is str and not text.isalnum():
                text = _SPACES.sub(" ", text)
        elif space == "replace":
            text = _SPACE.sub(" ", text)
        try:
            value = self.primitive.read(text)
        except (ValueError, OverflowError):
            return None, self._broken("value.type", text)
        code = self.check(value) if self._judges_values else self._check_written(value, text)
        return (None, self._broken(code, text)) if code else (value, None)

    @cached_property
    def _judges_values(self) -> bool:
        """Whether values say all: a pattern over anything but text is about how it is written."""
        return self.primitive.python is str or (self.pattern is None and not self.patterns)

    def _check_written(self, value: Value, text: str) -> str:
        return self._check_value(value) or ("" if self.fits(text) else "value.pattern")

    @cached_property
    def fits(self) -> Callable[[str], bool]:
        """Whether a text is of all patterns."""
        found = [_pattern(one) for one in (*((self.pattern,) if self.pattern is not None else ()), *self.patterns)]
        if len(found) == 1:
            return found[0].matches
        return lambda text: all(one.matches(text) for one in found)

    @cached_property
    def _check_value(self) -> Callable[[Value], str]:
        return _checker(self)

    def accept(self, value: object) -> tuple[Value, Problem | None]:
        """A value from JSON or from a backend, brought to this type; or the problem with it (without a place).

        Text is read as in a message; numbers and booleans are taken as they are when they fit the type.
        """
        python = self.primitive.python
        if isinstance(value, str) and python is not str:
            return self.read(value)
        if self.item is not None and isinstance(value, list | tuple):
            return self._accept_items(value)
        if self.members:
            return self._accept_member(value)
        if python is Decimal and isinstance(value, int | float) and not isinstance(value, bool):
            value = Decimal(repr(value))
        elif python is float and isinstance(value, int | Decimal) and not isinstance(value, bool):
            value = _as_float(value)
        if type(value) is not python or (isinstance(value, Decimal) and not value.is_finite()):
            return None, self._broken("value.type", value)
        if isinstance(value, str) and (outside := outside_xml(value)):
            return None, self._broken("value.character", outside)
        if python is str and self.base not in ("string", ANY):
            return self.read(str(value))
        code = self.check(value)
        return (None, self._broken(code, value)) if code else (value, None)

    def _accept_items(self, given: Sequence[object]) -> tuple[Value, Problem | None]:
        assert self.item is not None
        values: list[Value] = []
        for one in given:
            value, problem = self.item.accept(one)
            if problem is not None:
                return None, problem
            values.append(value)
        code = self.check(values)
        return (None, self._broken(code, " ".join(map(str, given)))) if code else (values, None)

    def _accept_member(self, given: object) -> tuple[Value, Problem | None]:
        for one in self.members:
            value, problem = one.accept(given)
            if problem is None:
                code = self.check(value)
                return (None, self._broken(code, given)) if code else (value, None)
        return None, self._broken("value.type", given)

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
            "value.character": "The value has a character that XML cannot hold.",
        }[code]
        text = found if isinstance(found, str) else str(found)
        return Problem(code, what, expected=self.rule, found=shown(text) if text else "nothing")


def _as_float(value: int | Decimal) -> object:
    """The double that is meant; what no double can be stays, and so is refused."""
    try:
        found = float(value)
    except OverflowError:
        return value
    return value if math.isinf(found) and not (isinstance(value, Decimal) and value.is_infinite()) else found


_SPACE, _SPACES = re.compile(r"[\t\r\n]"), re.compile(r"[ \t\r\n]+")


def _form(pattern: str) -> str:
    words = in_words(pattern)
    return f"{words} ({pattern})" if words and words != pattern else pattern


def _pattern(text: str) -> Pattern:
    try:
        return compile_pattern(text)
    except PatternError:
        return compile_older(text)  # of a release made when patterns were Python's


def _is_of(kind: SimpleType, value: Value) -> bool:
    """Whether a Python value is one of a type."""
    python = kind.primitive.python
    return (python is object or value.__class__ is python) and not kind.check(value)


def _list_of(item: SimpleType) -> Primitive:
    def read(text: str) -> list[Value]:
        values = []
        for word in text.split():
            value, problem = item.read(word)
            if problem is not None:
                raise ValueError(text)
            values.append(value)
        return values

    def write(value: Sequence[Value]) -> str:
        return " ".join(item.write(one) for one in value)

    return Primitive("list", list, read, write, f"a list, with spaces between, of {item.rule}", _sample_of(item))


def _union_of(members: tuple[SimpleType, ...]) -> Primitive:
    def read(text: str) -> Value:
        for one in members:
            value, problem = one.read(text)
            if problem is None:
                return value
        raise ValueError(text)

    def write(value: Value) -> str:
        fitting = next((one for one in members if _is_of(one, value)), members[0])
        return fitting.write(value)

    return Primitive("union", object, read, write, ", or ".join(dict.fromkeys(one.rule for one in members)), _sample_of(members[0]),
                     space="preserve")


def _sample_of(kind: SimpleType) -> str:
    return kind.codes[0] if kind.codes else kind.primitive.sample


def _checker(facets: SimpleType) -> Callable[[Value], str]:
    """Compose the checks that the facets ask for; most types need one or none."""
    checks: list[Callable[[Value], str]] = []
    primitive = facets.primitive
    if facets.members:
        checks.append(lambda v: "" if any(_is_of(one, v) for one in facets.members) else "value.type")
    if facets.item is not None:
        item = facets.item
        checks.append(lambda v: next((code for one in v if (code := "" if _is_of(item, one) else "value.type")), ""))
    if facets.codes:
        listed = [primitive.read(code) for code in facets.codes]
        codes = listed if primitive.python in (list, object) else frozenset(listed)
        checks.append(lambda v: "" if v in codes else "value.code")
    if ordered(facets.base):
        checks += _text_range_checkers(facets)
    else:
        low, high = _bound(facets, facets.min, primitive.lowest), _bound(facets, facets.max, primitive.highest)
        if low is not None or high is not None:
            checks.append(_range_checker(primitive.python, low, high))
        above, below = _bound(facets, facets.above, None), _bound(facets, facets.below, None)
        if above is not None or below is not None:
            within = _range_checker(primitive.python, above, below)
            checks.append(lambda v: "value.range" if v in (above, below) else within(v))
    if facets.length is not None or facets.min_length is not None or facets.max_length is not None:
        shortest = facets.length if facets.length is not None else facets.min_length or 0
        longest = facets.length if facets.length is not None else facets.max_length
        limit = longest if longest is not None else 2**62
        checks.append(lambda v: "" if shortest <= len(v) <= limit else "value.length")
    if primitive.python is str and (facets.pattern is not None or facets.patterns):
        fits = facets.fits  # after the lengths: what is too long is never looked at
        checks.append(lambda v: "" if fits(v) else "value.pattern")
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


def _text_range_checkers(facets: SimpleType) -> list[Callable[[Value], str]]:
    """Of durations and parts of dates, which are kept as they are written."""
    bounds = ((facets.min, True, True), (facets.above, True, False), (facets.max, False, True), (facets.below, False, False))
    return [_text_range_checker(compile_bound(facets.base, bound, is_low, itself)) for bound, is_low, itself in bounds if bound is not None]


def _text_range_checker(within: Callable[[str], bool]) -> Callable[[Value], str]:
    return lambda value: "" if within(value) else "value.range"


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
        if not value.is_finite():
            return "value.type"
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
