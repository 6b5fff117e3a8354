"""COBOL source text to words, each with its place.

The strategy: lines of the reference format are first made into logical lines (comments gone, continuations joined), which keep where
each of their pieces began; a regular expression then cuts a logical line into words. A word is no token yet: `:` and parentheses stand
alone, as COPY ... REPLACING compares them (ISO/IEC 1989, text words), and a word knows whether it was written right after the one
before. What belongs together, such as a PICTURE string, is put together again by whoever reads the words (`entries`).
No I/O: what COPY names is handed in (`copying`).
"""

import re
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from bricola.core.problems import Problem, ProblemError

SourceFormat = Literal["fixed", "free"]
WordKind = Literal["word", "literal", "period", "pseudo"]

_INDICATOR, _BEGIN, _END = 6, 7, 72  # columns 7, 8-72 of the fixed reference format, counted from 0
MAX_CHARACTERS = 4_000_000  # of one copybook with all that it copies: thirty thousand full lines are more than any record has


@dataclass(frozen=True, slots=True)
class Spot:
    """A place in a copybook: the copied member ("" for the copybook itself), line and column, both from 1."""

    member: str
    line: int
    column: int

    def __str__(self) -> str:
        return f"{self.member}, line {self.line}, column {self.column}" if self.member else f"line {self.line}, column {self.column}"


@dataclass(frozen=True, slots=True)
class Dialect:
    """What a copybook does not say and its program does: SPECIAL-NAMES, and how short a COMP-5 may be.

    Compilers of the mainframe give a COMP-5 two bytes at least; the one that our layouts are held against gives those of one or two
    digits a single byte.
    """

    currency: str = "$"
    decimal_comma: bool = False
    native_bytes: Literal[1, 2] = 1


@dataclass(frozen=True, slots=True)
class Word:
    """One text word. A literal keeps its quotes and prefix; `joined` says that nothing stood between it and the word before."""

    text: str
    kind: WordKind
    spot: Spot
    joined: bool = False


def wrong(
    spot: Spot,
    message: str,
    expected: str = "",
    found: str = "",
    mend: str = "",
    code: str = "copybook.syntax",
    choices: tuple[str, ...] = (),
) -> ProblemError:
    """What is wrong with a copybook, where, as the one error of this package."""
    return ProblemError(Problem(code, message, place=str(spot), expected=expected, found=found, mend=mend, choices=choices))


def guessed_format(text: str) -> SourceFormat:
    """The reference format that a text looks to be in: fixed unless some line cannot be.

    In a line of the fixed format columns 1-6 hold digits, one unbroken mark or nothing, and column 7 an indicator.
    """
    for line in text.splitlines():
        line = line.expandtabs(8).rstrip()
        area, indicator = line[:_INDICATOR], line[_INDICATOR:_BEGIN]
        if not line or (not area.strip() and indicator in ("", " ", "*", "/", "-", "D", "d", "$")):
            continue
        if line.lstrip().startswith(("*>", ">>")) or indicator not in ("", " ", "*", "/", "-", "D", "d") or " " in area.strip():
            return "free"
        if not area.isdigit() and (len(area.strip()) < _INDICATOR or not indicator):
            return "free"
    return "fixed"


@dataclass(slots=True)
class _Logical:
    """A logical line: its text, and where each of its pieces began (index into the text, line, column)."""

    text: str
    starts: list[int]
    places: list[tuple[int, int]]

    def place(self, index: int) -> tuple[int, int]:
        at = bisect_right(self.starts, index) - 1
        line, column = self.places[at]
        return line, column + index - self.starts[at]

    def add(self, text: str, line: int, column: int) -> None:
        self.starts.append(len(self.text))
        self.places.append((line, column))
        self.text += text


def words_of(text: str, source_format: SourceFormat, member: str = "") -> list[Word]:
    """The words of a copybook, comments and sequence numbers gone. Raises ProblemError with line and column."""
    if len(text) > MAX_CHARACTERS:
        raise wrong(
            Spot(member, 1, 1),
            "The copybook is larger than anything that is read here.",
            expected=f"at most {MAX_CHARACTERS} characters",
            found=str(len(text)),
            code="copybook.too-large",
        )
    found: list[Word] = []
    for logical in _logical_lines(text, source_format, member):
        found += _words(logical, member)
    return found


def _logical_lines(text: str, source_format: SourceFormat, member: str) -> Iterator[_Logical]:
    """Lines without comments; a continuation is part of the line that it continues."""
    fixed = source_format == "fixed"
    held: _Logical | None = None
    for number, raw in enumerate(re.split(r"\r\n|[\n\r\x0b\x0c\x1a\x85]", text), 1):  # a form feed ends a line in listings
        line = raw.expandtabs(8)
        directive = re.match(r"\s*(?:>>|\$SET\s)\s*SOURCE\s*(?:FORMAT)?\s*(?:IS\s+)?\(?\s*[\"']?(FREE|FIXED)", line, re.IGNORECASE)
        if directive:
            fixed = directive[1].upper() == "FIXED"
            continue
        if fixed:
            indicator, body, column = line[_INDICATOR:_BEGIN], line[_BEGIN:_END], _BEGIN + 1
            if indicator in ("*", "/", "D", "d", "$") or not body.strip():
                continue
            if indicator == "-":
                held = _continued(held, body, Spot(member, number, column))
                continue
            if indicator not in ("", " "):
                raise wrong(
                    Spot(member, number, _BEGIN),
                    "There is no such indicator in column 7 of the fixed format.",
                    expected="a blank, *, /, D or -",
                    found=f'"{indicator}"',
                    mend="Is the copybook in the free format? Say so.",
                    code="copybook.indicator",
                )
        else:
            body, column = line, 1
            if not body.strip() or body[0] == "*" or re.match(r"\s*>>\s*D\b", body, re.IGNORECASE):
                continue
        comment = _comment(body)
        body = body if comment is None else body[:comment]
        if not body.strip() or re.fullmatch(r"\s*(?:EJECT|SKIP[123]|TITLE\s+(?:'[^']*'|\"[^\"]*\"))\s*\.?\s*", body, re.IGNORECASE):
            continue
        if held is not None and not fixed and re.search(r"['\"]-\s*$", held.text):  # a free literal that goes on: its quote, then a hyphen
            held.text = re.sub(r"['\"]-\s*$", "", held.text)
            rest = body.lstrip()
            held.add(rest[1:], number, len(body) - len(rest) + 2)
            continue
        if held is not None:
            yield held
        held = _Logical(body if fixed else body + " ", [0], [(number, column)])
    if held is not None:
        yield held


def _comment(body: str) -> int | None:
    """Where an inline comment (`*>`) begins, outside of literals."""
    if "*>" not in body:
        return None
    quote = ""
    for index, letter in enumerate(body):
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif body.startswith("*>", index):
            return index
    return None


def _continued(held: _Logical | None, body: str, spot: Spot) -> _Logical:
    if held is None:
        raise wrong(spot, "This line continues another, and there is none before it.", code="copybook.continuation")
    rest = body.lstrip()
    indent = len(body) - len(rest)
    quote = _open_quote(held.text)
    if quote:  # the literal runs to column 72, blanks too, and goes on after the quote
        if not rest.startswith(quote):
            raise wrong(
                Spot(spot.member, spot.line, spot.column + indent),
                "A literal that is continued goes on after its quote.",
                expected=quote,
                found=rest[:1],
                code="copybook.continuation",
            )
        started = held.starts[-1]
        held.text = held.text.ljust(started + _END - _BEGIN - (held.places[-1][1] - _BEGIN - 1))
        held.add(rest[1:], spot.line, spot.column + indent + 1)
    else:
        held.text = held.text.rstrip()
        held.add(rest, spot.line, spot.column + indent)
    return held


def _open_quote(text: str) -> str:
    quote = ""
    for letter in text:
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
    return quote


_WORD = re.compile(
    r"""(?P<space>(?:\s|[,;](?=\s|$))+)
      |(?P<literal>[XxNnGgZzBb]{0,2}(?:'(?:[^']|'')*'|"(?:[^"]|"")*"))
      |(?P<pseudo>==)
      |(?P<period>\.(?=\s|$))
      |(?P<mark>[:()])
      |(?P<word>(?:[^\s:()'"=.,;]|=(?!=)|[.,;](?!\s|$))+)""",
    re.VERBOSE,
)


def _words(logical: _Logical, member: str) -> Iterator[Word]:
    text, at, joined = logical.text, 0, False
    while at < len(text):
        match = _WORD.match(text, at)
        if match is None:
            raise wrong(
                Spot(member, *logical.place(at)),
                "A literal has no end.",
                expected=f"a closing {text[at]}",
                found=text[at : at + 20].rstrip(),
                code="copybook.literal",
            )
        kind = match.lastgroup
        if kind == "space":
            joined = False
        else:
            named: WordKind = "literal" if kind == "literal" else "pseudo" if kind == "pseudo" else "period" if kind == "period" else "word"
            yield Word(match.group(), named, Spot(member, *logical.place(at)), joined)
            joined = True
        at = match.end()
