"""Texts at and beyond the edges of a simple type: what each facet takes, and what it refuses (W3C XML Schema Part 2, section 4.3).

Every text that is called right is read by the type, and every one that is called wrong is refused by it; so a facet that a pattern makes
unreachable gives nothing.
"""

from collections.abc import Iterator
from decimal import Decimal
from random import Random

from bricola.core.messages.samples import smallest
from bricola.core.patterns.sample import samples_of
from bricola.core.patterns.syntax import PatternError
from bricola.core.shapes.primitives import ANY
from bricola.core.shapes.simple import SimpleType

Named = tuple[str, str]  # the rule, and a text
_LONGEST = 5_000  # characters that are made up for one value
_NOT_OF = {"boolean": "maybe", "date": "2026-13-45", "dateTime": "yesterday", "time": "25:61:00", "base64Binary": "?", "hexBinary": "?"}
_LETTERS = "abcdefghijklmnopqrstuvwxyzäöüßéçλж0123456789 -_.,'&<>"


def right_texts(kind: SimpleType) -> list[Named]:
    """Texts at the edges of what the type takes: each code, the least and the greatest value, the shortest and the longest text."""
    return _kept(kind, _edges(kind), True)


def wrong_texts(kind: SimpleType) -> list[Named]:
    """Texts just beyond them, and some of no such type."""
    return _kept(kind, _beyond(kind), False)


def _kept(kind: SimpleType, found: Iterator[Named], right: bool) -> list[Named]:
    kept: dict[str, str] = {}
    for rule, text in found:
        if text not in kept and (kind.read(text)[1] is None) is right:
            kept[text] = rule
    return [(rule, text) for text, rule in kept.items()]


def _edges(kind: SimpleType) -> Iterator[Named]:
    for code in kind.codes[:50]:
        yield "a code of the list", code
    if kind.codes or kind.base == ANY or kind.item is not None or kind.members:
        return
    if kind.primitive.python is bool:
        yield from (("true", "true"), ("false", "false"), ("1 for true", "1"))
    if kind.primitive.python is str:
        yield "empty", ""
        for rule, length in (("shortest", kind.length or kind.min_length), ("longest", kind.length or kind.max_length)):
            if length is not None and length <= _LONGEST:
                yield rule, _of_length(kind, length)
    yield from _numbers(kind, 0)
    for rule, text in (("least value", kind.min), ("greatest value", kind.max)):
        if text is not None:
            yield rule, text
    for pattern in (kind.pattern, *kind.patterns):
        for text in _texts_of(pattern)[:4]:
            yield "a text of the pattern", text


def _beyond(kind: SimpleType) -> Iterator[Named]:
    if kind.base == ANY or kind.members:
        return
    wrong = _NOT_OF.get(kind.base, "twelve" if kind.primitive.python in (int, float, Decimal) else "")
    if wrong:
        yield "wrong type", wrong
    if kind.primitive.python is int:
        yield "fraction in a whole number", "1.5"
    if kind.primitive.python is Decimal:
        yield "wrong type", "1,50"
    yield "empty", ""
    if kind.codes:
        yield "out of list", f"{kind.codes[0]}x" if kind.primitive.python is str else "999983"
        if kind.primitive.python is str and kind.codes[0].upper() not in kind.codes:
            yield "other letter case", kind.codes[0].upper()
    if kind.primitive.python is str and kind.item is None:
        shortest, longest = kind.length or kind.min_length, kind.length or kind.max_length
        if shortest and shortest <= _LONGEST:
            yield "too short", _of_length(kind, shortest - 1)
        if longest is not None and longest < _LONGEST:
            yield "too long", _of_length(kind, longest + 1)
        if kind.pattern is not None or kind.patterns:
            yield "wrong form", f"{smallest(kind)}#"
            yield "wrong form", "#"
    yield from _numbers(kind, 1)


def _numbers(kind: SimpleType, beyond: int) -> Iterator[Named]:
    """Numbers at (0) or beyond (1) the bounds and digits of a number."""
    python, primitive = kind.primitive.python, kind.primitive
    if python not in (int, Decimal):
        return
    step = Decimal(1) if python is int else Decimal(1).scaleb(-(kind.fraction if kind.fraction is not None else 2))
    for bound, sign, rule in ((kind.min if kind.min is not None else primitive.lowest, -1, "least value"),
                              (kind.max if kind.max is not None else primitive.highest, 1, "greatest value")):
        if bound is not None:
            yield rule if not beyond else f"beyond the {rule}", format(Decimal(bound) + beyond * sign * step, "f")
    for bound, sign in ((kind.above, 1), (kind.below, -1)):
        if bound is not None:
            yield ("beyond a bound" if beyond else "near a bound"), format(Decimal(bound) + (0 if beyond else sign * step), "f")
    if kind.fraction is not None and python is Decimal:
        low = Decimal(kind.min or kind.above or 0)
        yield ("too many places" if beyond else "all places"), format(low + Decimal("1").scaleb(-(kind.fraction + beyond)) + 1, "f")
    if kind.digits is not None:
        yield ("too many digits" if beyond else "all digits"), "9" * (kind.digits + beyond)  # of a whole number: places are not owed


def _of_length(kind: SimpleType, length: int) -> str:
    """A text of this length, of the pattern where one can be found."""
    for pattern in (kind.pattern, *kind.patterns):
        for text in _texts_of(pattern):
            if len(text) == length:
                return text
    return "x" * length


def _texts_of(pattern: str | None) -> list[str]:
    if not pattern:
        return []
    try:
        return list(dict.fromkeys(samples_of(pattern)))
    except PatternError:
        return []


def random_text(kind: SimpleType, random: Random) -> str:
    """Some text that the type takes; its smallest one where none is found."""
    for _ in range(20):
        text = _draw(kind, random)
        if kind.read(text)[1] is None:
            return text
    return smallest(kind)


def _draw(kind: SimpleType, random: Random) -> str:
    if kind.codes:
        return random.choice(kind.codes)
    python = kind.primitive.python
    if python is bool:
        return random.choice(("true", "false", "1", "0"))
    if python in (int, Decimal):
        low = Decimal(kind.min or kind.above or (kind.primitive.lowest if kind.primitive.lowest is not None else -1000))
        high = Decimal(kind.max or kind.below or (kind.primitive.highest if kind.primitive.highest is not None else low + 100_000))
        if kind.digits is not None:
            most = Decimal(10) ** (kind.digits - (kind.fraction or 0)) - 1
            low, high = max(low, -most), min(high, most)
        places = 0 if python is int else random.randint(0, kind.fraction if kind.fraction is not None else 4)
        drawn = low + (high - low) * Decimal(random.randrange(10**6)) / 10**6
        return format(round(drawn, places), "f")
    if python is str and kind.base == "string":
        found = [text for pattern in (kind.pattern, *kind.patterns) for text in _texts_of(pattern)]
        if found:
            return random.choice(found)
        shortest, longest = kind.length or kind.min_length or 0, kind.length or kind.max_length or 40
        return "".join(random.choices(_LETTERS, k=random.randint(shortest, max(shortest, min(longest, 200)))))
    return random.choice([text for _, text in right_texts(kind)] or [smallest(kind)])
