"""A pattern's tree in the notation of an engine.

Two engines know two notations. RE2 runs in linear time whatever the pattern; its counts end at 1,000, so larger ones are written as
several. Python's own engine backtracks; it gets only what cannot make it do so (see `is_plain`), and, as the fallback, what RE2 cannot
hold. Sets that no notation has, such as a subtraction, are worked out as ranges of code points.
"""

import unicodedata
from functools import lru_cache

from bricola.core.patterns.syntax import DOT, Chars, Choice, Node, Repeat, Sequence, inverted

_MOST_COUNT = 1000  # of RE2
_MOST_TEXT = 200_000  # characters of an expression for RE2; beyond them its program outgrows the memory that it may take
_TOP = 0x10FFFF
_RE_NAMES = {("Nd",): r"\d"}


class TooLargeError(ValueError):
    """The pattern has no expression that RE2 can hold."""


def is_plain(node: Node) -> bool:
    """Whether Python's engine runs it in linear time: single characters one after another, of which at most one has a count that
    varies. Then there is one way at most to divide a text among them."""
    parts = node.parts if isinstance(node, Sequence) else (node,)
    varying = 0
    for part in parts:
        if isinstance(part, Repeat):
            varying += part.least != part.most
            part = part.what
        if not isinstance(part, Chars) or part.but is not None or (part.categories and part.categories not in _RE_NAMES):
            return False
    return varying <= 1


def for_python(node: Node) -> str:
    """An expression for `re.fullmatch`."""
    if isinstance(node, Chars):
        if node.but is None and not node.categories:
            return _class(node.ranges, "", node.negated)
        if node.but is None and node.categories in _RE_NAMES:
            return _class(node.ranges, _RE_NAMES[node.categories], node.negated)
        return _class(ranges_of(node), "", False)
    if isinstance(node, Repeat):
        return f"(?:{for_python(node.what)}){{{node.least},{'' if node.most is None else node.most}}}"
    if isinstance(node, Sequence):
        return "".join(for_python(part) if not isinstance(part, Choice) else f"(?:{for_python(part)})" for part in node.parts)
    return "|".join(f"(?:{for_python(branch)})" for branch in node.branches)


def for_re2(node: Node) -> str:
    """An expression for RE2. Raises TooLargeError."""
    text = _re2(node)
    if len(text) > _MOST_TEXT:
        raise TooLargeError("the pattern is too large")
    return text


def _re2(node: Node) -> str:
    if isinstance(node, Chars):
        return _re2_class(node)
    if isinstance(node, Repeat):
        return _counted(f"(?:{_re2(node.what)})", node.least, node.most)
    if isinstance(node, Sequence):
        text = "".join(f"(?:{_re2(part)})" if isinstance(part, Choice) else _re2(part) for part in node.parts)
    else:
        text = "|".join(f"(?:{_re2(branch)})" for branch in node.branches)
    if len(text) > _MOST_TEXT:
        raise TooLargeError("the pattern is too large")
    return text


def _counted(one: str, least: int, most: int | None) -> str:
    """The counts are written out in portions, and nested ones as copies: RE2 multiplies nested counts and refuses products over 1,000."""
    if (least, most) == (1, 1):
        return one
    top = least if most is None else most
    if top > 1 and "{" in one.replace(r"\{", "").replace(r"\p{", "").replace(r"\x{", ""):
        if len(one) * top > _MOST_TEXT:
            raise TooLargeError("the pattern is too large")
        return one * least + (f"{one}*" if most is None else f"{one}?" * (most - least))
    if top <= _MOST_COUNT:
        return f"{one}{{{least},{'' if most is None else most}}}"
    if len(one) * (top // _MOST_COUNT + 2) > _MOST_TEXT or top > 100_000:
        raise TooLargeError("the pattern is too large")
    text = f"{one}{{{_MOST_COUNT}}}" * (least // _MOST_COUNT) + (f"{one}{{{least % _MOST_COUNT}}}" if least % _MOST_COUNT else "")
    if most is None:
        return f"{text}{one}*"
    rest = most - least
    return text + f"{one}{{0,{_MOST_COUNT}}}" * (rest // _MOST_COUNT) + (f"{one}{{0,{rest % _MOST_COUNT}}}" if rest % _MOST_COUNT else "")


def _re2_class(node: Chars) -> str:
    joined = [name for name in node.categories if "+" in name]
    simple = [name for name in node.categories if "+" not in name]
    hard = node.but is not None or any(name.lstrip("^") in ("C", "Cn") for name in simple)
    if node.categories == ("P", "Z", "C") and not hard:  # \w and \W
        return rf"[{'^' if node.negated else ''}\p{{P}}\p{{Z}}\p{{C}}]"
    if hard or (joined and node.negated):
        return _class(ranges_of(node), "", False)
    names = "".join(rf"\P{{{name[1:]}}}" if name[0] == "^" else rf"\p{{{name}}}" for name in simple)
    if not joined:
        return _class(node.ranges, names, node.negated)
    rest = [_class(node.ranges, names, False)] if node.ranges or names else []
    return f"(?:{'|'.join([*rest, *(_all_but(name) for name in joined)])})"


def _all_but(name: str) -> str:
    return "[^" + "".join(rf"\p{{{one}}}" for one in name[1:].split("+")) + "]"


def _class(ranges: tuple[tuple[int, int], ...], names: str, negated: bool) -> str:
    if not ranges and not names:
        return r"[^\x00-\U0010FFFF]" if not negated else r"[\s\S]"
    inner = "".join(_point(low) if low == high else f"{_point(low)}-{_point(high)}" for low, high in ranges)
    return f"[{'^' if negated else ''}{inner}{names}]"


def _point(code: int) -> str:
    """A code point inside a class, in what both engines read."""
    one = chr(code)
    if one.isalnum() and one.isascii():
        return one
    if code < 0x100:
        return f"\\x{code:02x}"
    return "\N{REPLACEMENT CHARACTER}" if 0xD800 <= code <= 0xDFFF else one  # no text in XML holds a surrogate


def ranges_of(node: Chars) -> tuple[tuple[int, int], ...]:
    """A set as ranges of code points."""
    found = list(node.ranges)
    for name in node.categories:
        negated, plain = name[0] == "^", tuple(name.lstrip("^").split("+"))
        inner = tuple(one for part in plain for one in _category(part))
        found += inverted(inner) if negated else inner
    if node.negated:
        found = inverted(tuple(found))
    if node.but is not None:
        outside = inverted(ranges_of(node.but))
        found = [(max(low, start), min(high, end)) for low, high in found for start, end in outside if max(low, start) <= min(high, end)]
    return tuple(inverted(tuple(inverted(tuple(found)))))


@lru_cache(1)
def _categories() -> dict[str, list[tuple[int, int]]]:
    found: dict[str, list[tuple[int, int]]] = {}
    start, current = 0, unicodedata.category("\0")
    for code in range(1, _TOP + 2):
        name = unicodedata.category(chr(code)) if code <= _TOP else ""
        if name != current:
            found.setdefault(current, []).append((start, code - 1))
            start, current = code, name
    return found


def _category(name: str) -> list[tuple[int, int]]:
    return [one for known, ranges in _categories().items() if known.startswith(name) for one in ranges]


__all__ = ["DOT", "TooLargeError", "for_python", "for_re2", "is_plain", "ranges_of"]
