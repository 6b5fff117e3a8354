"""The clauses of an entry, each by a reader of its own: a table of clauses (`CLAUSES`) says which words begin one.

A reader takes what belongs to its clause and says what else it expected. What an entry says is kept as written; nothing is settled here.
"""

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from bricola.core.cobol.pictures import Picture
from bricola.core.cobol.source import Spot, Word, wrong

_NAME = re.compile(r"[A-Z0-9\u00c0-\uffff](?:[A-Z0-9_\u00c0-\uffff-]*[A-Z0-9_\u00c0-\uffff])?")

USAGES = {
    "DISPLAY": "display",
    "COMP": "binary",
    "COMPUTATIONAL": "binary",
    "BINARY": "binary",
    "COMP-4": "binary",
    "COMPUTATIONAL-4": "binary",
    "COMP-1": "float",
    "COMPUTATIONAL-1": "float",
    "COMP-2": "double",
    "COMPUTATIONAL-2": "double",
    "FLOAT-SHORT": "float",
    "FLOAT-LONG": "double",
    "COMP-3": "packed",
    "COMPUTATIONAL-3": "packed",
    "PACKED-DECIMAL": "packed",
    "COMP-5": "native",
    "COMPUTATIONAL-5": "native",
    "COMP-6": "unsigned-packed",
    "COMPUTATIONAL-6": "unsigned-packed",
    "NATIONAL": "national",
    "DISPLAY-1": "dbcs",
    "INDEX": "index",
    "POINTER": "pointer",
    "BINARY-CHAR": "char",
    "BINARY-SHORT": "short",
    "BINARY-LONG": "long",
    "BINARY-DOUBLE": "longlong",
}
_UNREAD_USAGES = (
    "COMP-X",
    "COMPUTATIONAL-X",
    "COMP-N",
    "PROCEDURE-POINTER",
    "FUNCTION-POINTER",
    "PROGRAM-POINTER",
    "OBJECT",
    "UTF-8",
    "FLOAT-DECIMAL-16",
    "FLOAT-DECIMAL-34",
    "FLOAT-EXTENDED",
)
FIGURATIVES = {
    "ZERO": "ZERO",
    "ZEROS": "ZERO",
    "ZEROES": "ZERO",
    "SPACE": "SPACE",
    "SPACES": "SPACE",
    "HIGH-VALUE": "HIGH-VALUE",
    "HIGH-VALUES": "HIGH-VALUE",
    "LOW-VALUE": "LOW-VALUE",
    "LOW-VALUES": "LOW-VALUE",
    "QUOTE": "QUOTE",
    "QUOTES": "QUOTE",
    "NULL": "LOW-VALUE",
    "NULLS": "LOW-VALUE",
}


@dataclass(frozen=True, slots=True)
class Literal:
    """A literal of VALUE: a text, a number as it was written, bytes in hexadecimal, or a figurative constant; `all` for ALL 'x'."""

    kind: str  # text, number, hex, figurative
    text: str
    all: bool = False


@dataclass(slots=True)
class Entry:
    """One data description entry, as written."""

    level: int
    name: str  # "" for FILLER and for what has no name
    spot: Spot
    picture: Picture | None = None
    picture_spot: Spot | None = None
    usage: str = ""
    usage_signed: bool | None = None  # BINARY-LONG UNSIGNED
    redefines: str = ""
    renames: tuple[str, str] | None = None
    sign: tuple[bool, bool] | None = None  # leading, separate
    sync: bool = False
    justified: bool = False
    blank_zero: bool = False
    occurs: tuple[int, int] | None = None
    depending: str = ""
    indexes: list[str] = field(default_factory=list)
    values: list[tuple[Literal, Literal | None]] = field(default_factory=list)
    spots: dict[str, Spot] = field(default_factory=dict)  # of the clauses, for what is found wrong later


class Reader:
    """Goes over the words of one entry."""

    def __init__(self, words: Sequence[Word]) -> None:
        self.words = words
        self.at = 0

    def peek(self) -> str:
        word = self.words[self.at] if self.at < len(self.words) else None
        return "" if word is None or word.kind != "word" else word.text.upper()

    def here(self) -> Spot:
        return self.words[min(self.at, len(self.words) - 1)].spot

    def more(self) -> bool:
        return self.at < len(self.words)

    def skip(self, *noise: str) -> bool:
        if self.peek() in noise:
            self.at += 1
            return True
        return False

    def run(self) -> Word:
        """The next word with all that is joined to it: a PICTURE, or a number with its sign."""
        first = self.words[self.at]
        self.at += 1
        parts = [first.text]
        while self.more() and self.words[self.at].joined and self.words[self.at].kind == "word":
            parts.append(self.words[self.at].text)
            self.at += 1
        return Word("".join(parts), first.kind, first.spot)

    def name(self, clause: str) -> str:
        if not self.more() or self.words[self.at].kind != "word":
            raise self.expected(clause, "the name of an item")
        word = self.run()
        name = word.text.upper()
        if not _NAME.fullmatch(name):
            raise wrong(
                word.spot, f"This is no name of an item, as {clause} needs one.", expected="letters, digits and hyphens", found=word.text
            )
        while self.peek() in ("OF", "IN") and self.at + 1 < len(self.words):  # a qualified name: the last part of it is looked for nearest
            self.at += 1
            self.run()
        return name

    def number(self, clause: str) -> int:
        if not self.more() or not self.words[self.at].text.isdecimal():
            raise self.expected(clause, "a whole number")
        return int(self.run().text)

    def expected(self, clause: str, what: str) -> Exception:
        found = self.words[self.at].text if self.more() else "the end of the entry"
        return wrong(self.here(), f"{clause} is not complete.", expected=what, found=found)


def no_clause(reader: Reader, entry: Entry, clause: str) -> Exception:
    word = reader.words[reader.at]
    name = entry.name or "FILLER"
    if clause in _UNREAD_USAGES:
        return wrong(word.spot, f"USAGE {clause} of {name} is not read here.", found=clause, choices=tuple(USAGES), code="copybook.usage")
    if word.text.isdecimal() and len(word.text) <= 2:
        return wrong(
            word.spot,
            f"The entry of {name} does not end before the next begins.",
            expected="a period before this",
            found=word.text,
            code="copybook.period",
        )
    return wrong(
        word.spot,
        f"This is no clause of a data description entry ({name}).",
        expected="a clause, or a period before this",
        found=word.text,
        code="copybook.clause",
        choices=tuple(sorted(set(CLAUSES) - {"IS"})) if word.kind == "word" else (),
    )


def _usage(reader: Reader, entry: Entry, clause: str) -> None:
    if clause == "USAGE":
        reader.skip("IS")
        clause = reader.peek()
        if clause not in USAGES:
            raise no_clause(reader, entry, clause) if clause in _UNREAD_USAGES else reader.expected("USAGE", "a usage, such as COMP-3")
        reader.at += 1
    if entry.usage:
        raise wrong(
            reader.words[reader.at - 1].spot, f"The USAGE of {entry.name or 'FILLER'} is said twice.", found=clause, code="copybook.clause"
        )
    entry.usage = USAGES[clause]
    reader.skip("NATIVE")
    if clause.startswith("BINARY-"):
        entry.usage_signed = not reader.skip("UNSIGNED")
        reader.skip("SIGNED")


def _sign(reader: Reader, entry: Entry, clause: str) -> None:
    if clause == "SIGN":
        reader.skip("IS")
        clause = reader.peek()
        if clause not in ("LEADING", "TRAILING"):
            raise reader.expected("SIGN", "LEADING or TRAILING")
        reader.at += 1
    separate = reader.skip("SEPARATE")
    if separate:
        reader.skip("CHARACTER")
    entry.sign = (clause == "LEADING", separate)


def _redefines(reader: Reader, entry: Entry, clause: str) -> None:
    entry.redefines = reader.name("REDEFINES")


def _renames(reader: Reader, entry: Entry, clause: str) -> None:
    first = reader.name("RENAMES")
    last = reader.name("THRU") if reader.skip("THRU", "THROUGH") else first
    entry.renames = (first, last)


def _occurs(reader: Reader, entry: Entry, clause: str) -> None:
    spot = reader.here() if reader.more() else entry.spot
    least = most = reader.number("OCCURS")
    ranged = reader.skip("TO")
    if ranged:
        if reader.peek() == "UNBOUNDED":
            raise wrong(
                reader.here(),
                "A table without bound cannot be laid out.",
                expected="how many there are at most",
                found="UNBOUNDED",
                code="copybook.occurs",
            )
        most = reader.number("TO")
    reader.skip("TIMES")
    while reader.more():
        if reader.skip("DEPENDING"):
            reader.skip("ON")
            entry.depending = reader.name("DEPENDING ON")
        elif reader.peek() in ("ASCENDING", "DESCENDING"):
            reader.at += 1
            reader.skip("KEY")
            reader.skip("IS", "ARE")
            _names(reader, "KEY")
        elif reader.skip("INDEXED"):
            reader.skip("BY")
            entry.indexes = _names(reader, "INDEXED BY")
        else:
            break
    if entry.depending and not ranged:
        least = 1  # IBM's short form, OCCURS 5 DEPENDING ON
    if most < max(1, least) or (ranged and not entry.depending and least != most):
        raise wrong(
            spot,
            f"The table {entry.name or 'FILLER'} cannot have these bounds.",
            code="copybook.occurs",
            expected="OCCURS n TIMES, or OCCURS n TO m DEPENDING ON an item with n not above m",
            found=f"{least} TO {most}",
        )
    entry.occurs = (least if entry.depending else most, most)


def _names(reader: Reader, clause: str) -> list[str]:
    names = [reader.name(clause)]
    while (
        reader.more()
        and reader.words[reader.at].kind == "word"
        and reader.peek() not in CLAUSES
        and reader.peek() not in ("DEPENDING", "ASCENDING", "DESCENDING", "INDEXED")
        and not reader.peek().isdecimal()
    ):
        names.append(reader.name(clause))
    return names


def _value(reader: Reader, entry: Entry, clause: str) -> None:
    reader.skip("IS", "ARE")
    while reader.more() and not (entry.values and reader.peek() in CLAUSES and reader.peek() not in FIGURATIVES):
        if reader.peek() in ("WHEN", "FALSE"):  # of SET ... TO FALSE: no value that the condition holds for
            reader.skip("WHEN")
            reader.skip("SET")
            reader.skip("TO")
            reader.skip("FALSE")
            reader.skip("IS")
            _literal(reader)
            continue
        low = _literal(reader)
        high = _literal(reader) if reader.skip("THRU", "THROUGH") else None
        entry.values.append((low, high))
    if not entry.values:
        raise reader.expected("VALUE", "a literal")


def _literal(reader: Reader) -> Literal:
    whole = reader.skip("ALL")
    if not reader.more():
        raise reader.expected("VALUE", "a literal")
    word = reader.words[reader.at]
    if word.kind == "literal":
        reader.at += 1
        return _quoted(word, whole)
    name = reader.peek()
    if name in FIGURATIVES:
        reader.at += 1
        return Literal("figurative", FIGURATIVES[name], True)
    text = reader.run()
    if not re.fullmatch(r"[+-]?(?:\d+[.,]?\d*|[.,]\d+)(?:[Ee][+-]?\d+)?", text.text):
        raise wrong(
            text.spot,
            "This is no literal.",
            expected="a number, a text in quotes, or a figurative constant",
            found=text.text,
            code="copybook.literal",
        )
    return Literal("number", text.text.replace(",", "."), whole)


def _quoted(word: Word, whole: bool) -> Literal:
    at = next(i for i, letter in enumerate(word.text) if letter in "'\"")
    prefix, quote = word.text[:at].upper(), word.text[at]
    text = word.text[at + 1 : -1].replace(quote * 2, quote)
    if prefix in ("X", "NX"):
        if not re.fullmatch(r"(?:[0-9A-Fa-f]{2})+", text):
            raise wrong(word.spot, "A hexadecimal literal has two digits 0-9 A-F for each byte.", found=word.text, code="copybook.literal")
        return Literal("hex", text.upper(), whole)
    return Literal("text", text + ("\x00" if prefix == "Z" else ""), whole)


def _flag(name: str, *noise: str) -> Callable[[Reader, Entry, str], None]:
    def read(reader: Reader, entry: Entry, clause: str) -> None:
        setattr(entry, name, True)
        reader.skip(*noise)

    return read


def _blank(reader: Reader, entry: Entry, clause: str) -> None:
    reader.skip("WHEN")
    if not reader.skip("ZERO", "ZEROS", "ZEROES"):
        raise reader.expected("BLANK WHEN ZERO", "ZERO")
    entry.blank_zero = True


def _nothing(reader: Reader, entry: Entry, clause: str) -> None:
    """What says nothing about the layout: EXTERNAL, GLOBAL, VOLATILE, and IS before them."""
    if clause == "EXTERNAL" and reader.skip("AS"):
        reader.at += 1


def _group_usage(reader: Reader, entry: Entry, clause: str) -> None:
    reader.skip("IS")
    if not reader.skip("NATIONAL"):
        raise reader.expected("GROUP-USAGE", "NATIONAL")
    entry.usage = "national"


CLAUSES: dict[str, Callable[[Reader, Entry, str], None]] = {
    "PIC": _nothing,
    "PICTURE": _nothing,  # read where they are met, as they need the currency sign
    "USAGE": _usage,
    **dict.fromkeys(USAGES, _usage),
    "SIGN": _sign,
    "LEADING": _sign,
    "TRAILING": _sign,
    "SYNC": _flag("sync", "LEFT", "RIGHT"),
    "SYNCHRONIZED": _flag("sync", "LEFT", "RIGHT"),
    "JUST": _flag("justified", "RIGHT"),
    "JUSTIFIED": _flag("justified", "RIGHT"),
    "BLANK": _blank,
    "OCCURS": _occurs,
    "REDEFINES": _redefines,
    "RENAMES": _renames,
    "VALUE": _value,
    "VALUES": _value,
    "EXTERNAL": _nothing,
    "GLOBAL": _nothing,
    "VOLATILE": _nothing,
    "IS": _nothing,
    "GROUP-USAGE": _group_usage,
}
SAME = {
    "PIC": "PICTURE",
    "VALUES": "VALUE",
    "SYNCHRONIZED": "SYNC",
    "JUSTIFIED": "JUST",
    "LEADING": "SIGN",
    "TRAILING": "SIGN",
    **dict.fromkeys(USAGES, "USAGE"),
}
