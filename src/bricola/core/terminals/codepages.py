"""Code pages of terminal hosts: what a byte shows, and whether a text can be typed at all."""

import codecs
from functools import lru_cache
from typing import Any

from bricola.core.code_pages import EBCDIC as CODE_PAGES
from bricola.core.problems import Problem, ProblemError, shown


@lru_cache(32)
def displayed(code_page: str) -> str:
    """A string of 256: what each byte shows. Control bytes and FF show a blank, DUP an asterisk, FM a semicolon."""
    if code_page not in CODE_PAGES:
        raise ProblemError(Problem("codepage.unknown", "There is no such code page here.", choices=tuple(CODE_PAGES),
                                   found=shown(code_page)))
    letters = [bytes((code,)).decode(code_page) if 0x40 <= code < 0xFF else " " for code in range(256)]
    letters[0x1C], letters[0x1E] = "*", ";"
    return "".join(one if one.isprintable() else " " for one in letters)


def decode(codes: bytes | bytearray, code_page: str) -> str:
    """What bytes show, one character each."""
    return codecs.charmap_decode(codes, "strict", displayed(code_page))[0]


@lru_cache(32)
def _typed(code_page: str) -> Any:
    """The table of `codecs.charmap_encode`: the first byte that shows a letter, and the blank only by its own byte."""
    seen: set[str] = set()
    letters = []
    for code, letter in enumerate(displayed(code_page)):
        usable = code >= 0x40 and letter not in seen and (letter != " " or code == 0x40)
        seen |= {letter} if usable else set()
        letters.append(letter if usable else "\ufffe")  # which is no character
    return codecs.charmap_build("".join(letters))


def encode(text: str, code_page: str, place: str = "") -> bytes:
    """A text as the host takes it. Raises ProblemError that names every character that the code page lacks, before
    anything is typed."""
    table = _typed(code_page)
    try:
        return codecs.charmap_encode(text, "strict", table)[0]
    except UnicodeEncodeError:
        missing = [letter for letter in dict.fromkeys(text) if not _has(letter, table)]
    raise ProblemError(*(Problem("codepage.character", f"The host's code page {code_page} has no {shown(letter)}.", place=place,
                                 expected=f"characters of {code_page}", found=f"U+{ord(letter):04X}", mend="Use another character.")
                         for letter in missing))


def _has(letter: str, table: Any) -> bool:
    try:
        codecs.charmap_encode(letter, "strict", table)
    except UnicodeEncodeError:
        return False
    return True
