"""Code pages of records: what a byte of text says, and how numbers are held where that code page is.

A code page of Python's registry (with those that the package `ebcdic` adds) of one byte for each character. It is of the mainframe's family
where the digits are F0 to F9, and of ASCII's where they are 30 to 39. Two bytes stand for themselves in either: 00 (LOW-VALUE) and FF
(HIGH-VALUE), the characters U+0000 and U+00FF; a page of EBCDIC that has the letter U+00FF elsewhere refuses it there, as two bytes
would come back as one.
"""

import codecs
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Literal

from bricola.core.code_pages import EBCDIC
from bricola.core.problems import Problem, ProblemError, shown

UNDEFINED = "\uffff"  # no character: what a byte is decoded to that a page does not define, and nothing else
_UNMAPPED = "\ufffe"  # what the tables of `codecs` take for undefined
USUAL = ("ascii", *EBCDIC, "latin-1", "cp850", "cp1252")


@dataclass(frozen=True)
class Alphabet:
    """A code page: `table` has the character of each byte, `encoding` the bytes of characters, `mainframe` says which family it is of."""

    name: str
    table: str
    encoding: Any
    mainframe: bool
    whole: bool  # whether every byte is a character

    def decode(self, data: bytes) -> str:
        return codecs.charmap_decode(data, "strict", self.table)[0]

    def encode(self, text: str) -> bytes:
        """Raises UnicodeEncodeError where the page has no such character."""
        return codecs.charmap_encode(text, "strict", self.encoding)[0]


@lru_cache(64)
def alphabet(code_page: str) -> Alphabet:
    """A code page by name. Raises ProblemError where there is none, or none of single bytes."""
    try:
        found = codecs.lookup(code_page)
        letters = [_letter(found, code) for code in range(256)]
    except (LookupError, ValueError, TypeError):
        letters = []
    digits = "".join(letters[0xF0:0xFA]) if letters else ""
    mainframe = digits == "0123456789"
    if not mainframe and "".join(letters[0x30:0x3A]) != "0123456789":
        raise ProblemError(
            Problem("codepage.unknown", "There is no such code page of single bytes here.", choices=USUAL, found=shown(code_page))
        )
    letters[0x00] = "\x00"
    if mainframe or found.name == "ascii":
        letters = [UNDEFINED if one == "\xff" else one for one in letters]
        letters[0xFF] = "\xff"
    table = "".join(letters)
    return Alphabet(code_page, table, codecs.charmap_build(table.replace(UNDEFINED, _UNMAPPED)), mainframe, UNDEFINED not in table)


def _letter(found: codecs.CodecInfo, code: int) -> str:
    try:
        letter, _ = found.decode(bytes((code,)))
    except UnicodeDecodeError:
        return UNDEFINED
    return letter if len(letter) == 1 else UNDEFINED


Order = Literal["big", "little"]
Floats = Literal["hexadecimal", "ieee"]
Signs = Literal["ascii", "translated"]
