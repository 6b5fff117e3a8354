"""COPY, REPLACING and REPLACE: the text that a compiler would see, as words.

The strategy: words are compared as the standard compares text words (ISO/IEC 1989, COPY statement): letters of either case are equal,
blanks between words do not count. What is replaced begins and ends where a word does, or at a colon or parenthesis, so that `:TAG:`
is found inside of `:TAG:-NAME` and `X` is not found inside of `XX`. LEADING and TRAILING look at the ends of words.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from bricola.core.cobol.source import SourceFormat, Spot, Word, guessed_format, words_of, wrong

_MARKS = (":", "(", ")")
_DEEPEST = 20  # copied within copied; a member that copies itself is found before that
_MOST_WORDS = 2_000_000


@dataclass(frozen=True, slots=True)
class Replacement:
    """One `a BY b`: what is looked for, what stands there instead, and whether only the beginning or end of words is."""

    wanted: tuple[str, ...]
    given: tuple[Word, ...]
    part: Literal["", "LEADING", "TRAILING"] = ""


@dataclass(frozen=True, slots=True)
class Library:
    """The members that COPY may name, by name without ending, in upper case."""

    members: Mapping[str, str]
    source_format: SourceFormat | None

    @classmethod
    def of(cls, members: Mapping[str, str], source_format: SourceFormat | None) -> "Library":
        return cls({_bare(name): text for name, text in members.items()}, source_format)

    def words(self, name: str, spot: Spot) -> list[Word]:
        bare = _bare(name)
        if bare not in self.members:
            raise wrong(
                spot,
                f"COPY names {bare}, which was not handed in.",
                found=bare,
                code="copybook.member",
                choices=tuple(sorted(self.members)),
                mend="" if self.members else f"Hand in the copybook {bare} beside this one.",
            )
        text = self.members[bare]
        return words_of(text, self.source_format or guessed_format(text), bare)


def _bare(name: str) -> str:
    name = name.strip("'\"").replace("\\", "/").rsplit("/", 1)[-1]
    head, dot, end = name.rpartition(".")
    return (head if dot and head and len(end) <= 4 else name).upper()


def expanded(words: Sequence[Word], library: Library, within: tuple[str, ...] = ()) -> list[Word]:
    """The words with every COPY, REPLACE and EXEC SQL INCLUDE done. Raises ProblemError where one cannot be."""
    done: list[Word] = []
    replacing: list[Replacement] = []  # of a REPLACE statement, until the next
    pending = 0  # from where in `done` it has not been applied yet
    at = 0
    while at < len(words):
        word = words[at]
        name = word.text.upper() if word.kind == "word" and not word.joined else ""
        if name == "COPY":
            copied, at = _copy(words, at, library, within)
            done += copied
        elif name == "REPLACE":
            done[pending:] = replaced(done[pending:], replacing)
            replacing, at = _replace(words, at)
            pending = len(done)
        elif name == "EXEC":
            included, at = _exec(words, at, library, within)
            done += included
        else:
            done.append(word)
            at += 1
        if len(done) > _MOST_WORDS:
            raise wrong(
                word.spot, "With all that it copies the copybook is larger than anything that is read here.", code="copybook.too-large"
            )
    done[pending:] = replaced(done[pending:], replacing)
    return done


def _copy(words: Sequence[Word], at: int, library: Library, within: tuple[str, ...]) -> tuple[list[Word], int]:
    copy = words[at]
    at += 1
    member = _take(words, at, copy, "the name of what is copied")
    at += 1
    if at < len(words) and words[at].text.upper() in ("OF", "IN"):
        _take(words, at + 1, words[at], "the name of a library")
        at += 2
    replacing: list[Replacement] = []
    while at < len(words) and words[at].kind != "period":
        clause = words[at].text.upper()
        if clause in ("SUPPRESS", "PRINTING"):
            at += 1
        elif clause == "REPLACING":
            replacing, at = _pairs(words, at + 1)
        else:
            raise wrong(words[at].spot, "COPY does not go on like this.", expected="REPLACING or a period", found=words[at].text)
    if at >= len(words):
        raise wrong(copy.spot, "This COPY has no end.", expected="a period")
    name = _bare(member.text)
    if name in within or len(within) >= _DEEPEST:
        raise wrong(member.spot, f"{name} copies itself.", found=" in ".join((name, *reversed(within))), code="copybook.member")
    inner = expanded(library.words(name, member.spot), library, (*within, name))
    return replaced(inner, replacing), at + 1


def _exec(words: Sequence[Word], at: int, library: Library, within: tuple[str, ...]) -> tuple[list[Word], int]:
    """EXEC SQL INCLUDE is a COPY; what else stands in EXEC ... END-EXEC (the DECLARE of a table) lays nothing out."""
    end = next((i for i in range(at, len(words)) if words[i].text.upper() == "END-EXEC"), None)
    if end is None:
        raise wrong(words[at].spot, "This EXEC has no end.", expected="END-EXEC")
    inside = [one.text.upper() for one in words[at:end]]
    after = end + 1
    if after < len(words) and words[after].kind == "period":
        after += 1
    if inside[1:3] == ["SQL", "INCLUDE"] and len(inside) == 4:
        name = _bare(words[at + 3].text)
        if name in within:
            raise wrong(words[at + 3].spot, f"{name} copies itself.", code="copybook.member")
        return expanded(library.words(name, words[at + 3].spot), library, (*within, name)), after
    return [], after


def _replace(words: Sequence[Word], at: int) -> tuple[list[Replacement], int]:
    start = words[at]
    at += 1
    if at + 1 < len(words) and words[at].text.upper() == "OFF" and words[at + 1].kind == "period":
        return [], at + 2
    replacing, at = _pairs(words, at)
    if at >= len(words) or words[at].kind != "period":
        raise wrong(start.spot, "This REPLACE has no end.", expected="a period")
    return replacing, at + 1


def _pairs(words: Sequence[Word], at: int) -> tuple[list[Replacement], int]:
    pairs: list[Replacement] = []
    while at < len(words) and words[at].kind != "period":
        begun = words[at]
        part: Literal["", "LEADING", "TRAILING"] = ""
        if begun.text.upper() == "LEADING":
            part, at = "LEADING", at + 1
        elif begun.text.upper() == "TRAILING":
            part, at = "TRAILING", at + 1
        wanted, at = _operand(words, at, begun)
        by = _take(words, at, begun, "BY")
        if by.text.upper() != "BY":
            raise wrong(by.spot, "A replacement says what stands there instead.", expected="BY", found=by.text)
        given, at = _operand(words, at + 1, by)
        if not wanted:
            raise wrong(begun.spot, "Nothing cannot be replaced.", expected="words between == and ==")
        pairs.append(Replacement(tuple(one.text.upper() for one in wanted), tuple(given), part))
    if not pairs:
        raise wrong(words[at - 1].spot, "REPLACING says nothing to replace.", expected="==old== BY ==new==")
    return pairs, at


def _operand(words: Sequence[Word], at: int, before: Word) -> tuple[list[Word], int]:
    first = _take(words, at, before, "==old text== or a word")
    if first.kind != "pseudo":
        found = [first]
        at += 1
        while at + 1 < len(words) and words[at].text.upper() in ("OF", "IN"):  # a qualified name
            found += words[at : at + 2]
            at += 2
        while at < len(words) and words[at].joined and words[at].kind == "word":  # a name with a subscript
            found.append(words[at])
            at += 1
        return found, at
    end = next((i for i in range(at + 1, len(words)) if words[i].kind == "pseudo"), None)
    if end is None:
        raise wrong(first.spot, "This pseudo-text has no end.", expected="==")
    inside = list(words[at + 1 : end])
    if inside:
        inside[0] = replace(inside[0], joined=False)
    return inside, end + 1


def _take(words: Sequence[Word], at: int, before: Word, expected: str) -> Word:
    if at >= len(words) or words[at].kind == "period":
        raise wrong(before.spot, f"After {before.text} something is missing.", expected=expected)
    return words[at]


def replacements_of(pairs: Mapping[str, str]) -> list[Replacement]:
    """Replacements that were handed in as texts, with or without the == of pseudo-text."""
    made = []
    for wanted, given in pairs.items():
        sought = words_of(_inside(wanted), "free", "replacing")
        if not sought:
            raise wrong(Spot("replacing", 1, 1), "Nothing cannot be replaced.", expected="the text that is replaced")
        made.append(Replacement(tuple(one.text.upper() for one in sought), tuple(words_of(_inside(given), "free", "replacing"))))
    return made


def _inside(text: str) -> str:
    text = text.strip()
    return text[2:-2] if len(text) >= 4 and text.startswith("==") and text.endswith("==") else text


def replaced(words: Sequence[Word], replacing: Sequence[Replacement]) -> list[Word]:
    """The words after all replacements, of which the first that fits is done at each place. What was put in is not looked at again."""
    if not replacing:
        return list(words)
    done: list[Word] = []
    at = 0
    glued = False  # the word before was replaced by nothing: what was joined to it begins a word now
    while at < len(words):
        for one in replacing:
            length = _fits(words, at, one)
            if length:
                given = _put(words, at, one)
                done += given
                glued = not given and not words[at].joined
                at += length
                break
        else:
            done.append(replace(words[at], joined=False) if glued and words[at].joined else words[at])
            glued = False
            at += 1
    return done


def _fits(words: Sequence[Word], at: int, one: Replacement) -> int:
    """How many words from here on a replacement takes away; 0 where it does not fit."""
    count = len(one.wanted)
    if one.part:
        text = words[at].text.upper()
        fits = words[at].kind == "word" and (text.startswith(one.wanted[0]) if one.part == "LEADING" else text.endswith(one.wanted[0]))
        return int(fits and count == 1)
    if at + count > len(words) or any(words[at + i].text.upper() != one.wanted[i] for i in range(count)):
        return 0
    before_ends = not words[at].joined or one.wanted[0] in _MARKS or words[at - 1].text in _MARKS
    after_begins = (
        at + count == len(words)
        or not words[at + count].joined
        or one.wanted[-1] in _MARKS
        or words[at + count].text in _MARKS
        or words[at + count].kind == "period"
    )
    return count if before_ends and after_begins else 0


def _put(words: Sequence[Word], at: int, one: Replacement) -> list[Word]:
    old = words[at]
    if one.part:
        new = "".join(word.text for word in one.given)
        cut = len(one.wanted[0])
        text = new + old.text[cut:] if one.part == "LEADING" else old.text[:-cut] + new
        return [replace(old, text=text)] if text else []
    return [replace(word, spot=old.spot, joined=old.joined if index == 0 else word.joined) for index, word in enumerate(one.given)]
