"""Reading a pattern: the grammar of XML Schema 1.0 Part 2, appendix F, into a small tree.

Strategy: recursive descent, one function per production, over an index into the text. What other dialects have and this one lacks
(anchors, look-around, back references, lazy counts) is no part of the grammar: `^` and `$` stand for themselves, the rest is refused with
its position. Depth and length are bounded, since the tree is walked by recursion.
"""

from dataclasses import dataclass, field

from bricola.core.patterns.blocks import BLOCKS

MOST_LENGTH = 10_000  # characters of a pattern; published ones stay below 2,000
MOST_DEPTH = 60

_CATEGORIES = frozenset(
    "L Lu Ll Lt Lm Lo M Mn Mc Me N Nd Nl No P Pc Pd Ps Pe Pi Pf Po Z Zs Zl Zp S Sm Sc Sk So C Cc Cf Co Cn".split())  # noqa: SIM905
_SINGLE = {"n": "\n", "r": "\r", "t": "\t", **{one: one for one in "\\|.-^?*+{}()[]$/"}}
_META = frozenset("?*+()|[]{}\\.")
_TOP = 0x10FFFF


@dataclass(frozen=True)
class Chars:
    """A set of characters: ranges of code points, and categories ("Nd", or "^Nd" for all others); `but` are taken out again."""

    ranges: tuple[tuple[int, int], ...] = ()
    categories: tuple[str, ...] = ()
    negated: bool = False
    but: "Chars | None" = None


@dataclass(frozen=True)
class Repeat:
    what: "Node"
    least: int
    most: int | None


@dataclass(frozen=True)
class Sequence:
    parts: tuple["Node", ...]


@dataclass(frozen=True)
class Choice:
    branches: tuple["Node", ...]


Node = Chars | Repeat | Sequence | Choice


class PatternError(ValueError):
    """The text is no pattern; the message says what and where."""


# NameStartChar and NameChar of XML 1.0 (fifth edition, productions 4 and 4a).
_NAME_START = ((0x3A, 0x3A), (0x41, 0x5A), (0x5F, 0x5F), (0x61, 0x7A), (0xC0, 0xD6), (0xD8, 0xF6), (0xF8, 0x2FF), (0x370, 0x37D),
               (0x37F, 0x1FFF), (0x200C, 0x200D), (0x2070, 0x218F), (0x2C00, 0x2FEF), (0x3001, 0xD7FF), (0xF900, 0xFDCF), (0xFDF0, 0xFFFD),
               (0x10000, 0xEFFFF))
_NAME = ((0x2D, 0x2E), (0x30, 0x39), (0xB7, 0xB7), (0x300, 0x36F), (0x203F, 0x2040))
_SPACE = ((0x9, 0xA), (0xD, 0xD), (0x20, 0x20))
_MULTI = {
    "s": Chars(_SPACE), "i": Chars(_NAME_START), "c": Chars(_NAME_START + _NAME), "d": Chars(categories=("Nd",)),
    "w": Chars(categories=("P", "Z", "C"), negated=True),
}
DOT = Chars(((0xA, 0xA), (0xD, 0xD)), negated=True)


def read_pattern(text: str) -> Node:
    """The tree of a pattern. Raises PatternError."""
    if len(text) > MOST_LENGTH:
        raise PatternError(f"it is longer than {MOST_LENGTH} characters")
    reader = _Reader(text)
    tree = reader.choice(0)
    if reader.at < len(text):
        reader.fail("a closing bracket without an opening one" if text[reader.at] == ")" else "a character that needs a backslash")
    return tree


@dataclass
class _Reader:
    text: str
    at: int = field(default=0)

    def fail(self, what: str) -> None:
        found = f" ({self.text[self.at]})" if self.at < len(self.text) else ""
        raise PatternError(f"{what} at character {self.at + 1}{found}")

    def peek(self) -> str:
        return self.text[self.at] if self.at < len(self.text) else ""

    def take(self) -> str:
        one = self.peek()
        if not one:
            self.fail("the pattern ends too early")
        self.at += 1
        return one

    def choice(self, depth: int) -> Node:
        if depth > MOST_DEPTH:
            self.fail(f"brackets more than {MOST_DEPTH} deep")
        branches = [self.branch(depth)]
        while self.peek() == "|":
            self.at += 1
            branches.append(self.branch(depth))
        return branches[0] if len(branches) == 1 else Choice(tuple(branches))

    def branch(self, depth: int) -> Node:
        parts: list[Node] = []
        while (one := self.peek()) and one not in "|)":
            part = self.atom(depth)
            parts.append(self.counted(part))
        return parts[0] if len(parts) == 1 else Sequence(tuple(parts))

    def atom(self, depth: int) -> Node:
        one = self.take()
        if one == "(":
            if self.peek() == "?":
                self.fail("brackets with a question mark, which XML Schema does not have,")
            inner = self.choice(depth + 1)
            if self.peek() != ")":
                self.fail("an opening bracket is not closed")
            self.at += 1
            return inner
        if one == "[":
            return self.group()
        if one == "\\":
            return self.escape()
        if one == ".":
            return DOT
        if one in _META:
            self.at -= 1
            self.fail("a count without anything before it" if one in "?*+{" else "a character that needs a backslash")
        return Chars(((ord(one), ord(one)),))

    def counted(self, what: Node) -> Node:
        one = self.peek()
        if not one or one not in "?*+{":
            return what
        self.at += 1
        least, most = {"?": (0, 1), "*": (0, None), "+": (1, None)}.get(one) or self.count()
        if self.peek() and self.peek() in "?*+{":
            self.fail("a second count")
        return Repeat(what, least, most)

    def count(self) -> tuple[int, int | None]:
        least = self.number()
        if self.peek() == "}":
            self.at += 1
            return least, least
        if self.take() != ",":
            self.at -= 1
            self.fail("a count must be {n}, {n,} or {n,m}; this one is not,")
        most = None if self.peek() == "}" else self.number()
        if self.take() != "}":
            self.at -= 1
            self.fail("a count is not closed")
        if most is not None and most < least:
            self.fail(f"a count from {least} to {most}")
        return least, most

    def number(self) -> int:
        start = self.at
        while self.peek().isascii() and self.peek().isdigit():
            self.at += 1
        if start == self.at or self.at - start > 9:
            self.fail("a count without a number, or one of more than nine digits,")
        return int(self.text[start:self.at])

    def escape(self) -> Chars:
        one = self.take()
        if one in _SINGLE:
            return Chars(((ord(_SINGLE[one]), ord(_SINGLE[one])),))
        if one in "pP":
            return self.property(one == "P")
        if one.lower() in _MULTI:
            known = _MULTI[one.lower()]
            return known if one.islower() else Chars(known.ranges, known.categories, not known.negated)
        self.at -= 1
        self.fail("an escape that XML Schema does not have")
        raise AssertionError

    def property(self, negated: bool) -> Chars:
        end = self.text.find("}", self.at)
        if self.peek() != "{" or end < 0:
            self.fail("a property without its name in curly brackets")
        name = self.text[self.at + 1:end]
        self.at = end + 1
        if name.startswith("Is"):
            block = BLOCKS.get(name[2:].replace(" ", "").lower())
            if block is None:
                self.fail(f"there is no block {name[:40]}; the name ends")
            return Chars((block,), negated=negated)  # type: ignore[arg-type]
        if name not in _CATEGORIES:
            self.fail(f"there is no category {name[:40]}; the name ends")
        return Chars(categories=(name,), negated=negated)

    def group(self) -> Chars:
        """A character class: what stands between square brackets."""
        negated = self.peek() == "^"
        self.at += negated
        ranges: list[tuple[int, int]] = []
        categories: list[str] = []
        but: Chars | None = None
        first = True
        while True:
            one = self.take()
            if one == "]" and not first:
                break
            if one == "-" and self.peek() == "[" and not first:
                self.at += 1
                but = self.group()
                if self.take() != "]":
                    self.at -= 1
                    self.fail("something stands after what is taken out of a class")
                break
            low = self.member(one, categories, ranges)
            first = False
            if low is None:
                continue
            if self.peek() == "-" and self.text[self.at + 1:self.at + 2] not in ("]", "[", ""):
                self.at += 1
                high = self.member(self.take(), categories, ranges)
                if high is None or high < low:
                    self.fail("a range that runs backwards, or to no single character,")
                    raise AssertionError
                ranges.append((low, high))
            else:
                ranges.append((low, low))
        return Chars(tuple(ranges), tuple(categories), negated, but)

    def member(self, one: str, categories: list[str], ranges: list[tuple[int, int]]) -> int | None:
        """The code point of a single character; None for an escape that stands for several, which is added."""
        if one == "[":
            self.at -= 1
            self.fail("a square bracket that needs a backslash")
        if one != "\\":
            return ord(one)
        known = self.escape()
        if len(known.ranges) == 1 and known.ranges[0][0] == known.ranges[0][1] and not known.negated and not known.categories:
            return known.ranges[0][0]
        if known.negated and known.ranges:
            ranges += inverted(known.ranges)
        else:
            ranges += known.ranges
        if known.negated and len(known.categories) > 1:  # \w: everything but these
            categories.append("^" + "+".join(known.categories))
        else:
            categories += [f"^{name}" if known.negated else name for name in known.categories]
        return None


def inverted(ranges: tuple[tuple[int, int], ...]) -> list[tuple[int, int]]:
    """All code points that are in none of the ranges."""
    free: list[tuple[int, int]] = []
    start = 0
    for low, high in sorted(ranges):
        if low > start:
            free.append((start, low - 1))
        start = max(start, high + 1)
    if start <= _TOP:
        free.append((start, _TOP))
    return free
