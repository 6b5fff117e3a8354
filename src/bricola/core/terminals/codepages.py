"""Code pages of terminal hosts: what a byte shows, and whether a text can be typed at all."""

from functools import lru_cache

import ebcdic  # type: ignore[import-untyped]  # registers the code pages that Python lacks

from bricola.core.problems import Problem, ProblemError, shown

CODE_PAGES = (
    "cp037",
    "cp273",
    "cp277",
    "cp278",
    "cp280",
    "cp284",
    "cp285",
    "cp297",
    "cp500",
    "cp871",
    "cp1047",
    "cp1140",
    "cp1141",
    "cp1142",
    "cp1143",
    "cp1144",
    "cp1145",
    "cp1146",
    "cp1147",
    "cp1148",
    "cp1149",
)
_REGISTERED = ebcdic.codec_names


@lru_cache(32)
def displayed(code_page: str) -> str:
    """A string of 256: what each byte shows. Control bytes and FF show a blank, DUP an asterisk, FM a semicolon."""
    if code_page not in CODE_PAGES:
        raise ProblemError(Problem("codepage.unknown", "There is no such code page here.", expected=f"one of {', '.join(CODE_PAGES)}",
                                   found=shown(code_page)))
    letters = [bytes((code,)).decode(code_page) if 0x40 <= code < 0xFF else " " for code in range(256)]
    letters[0x1C], letters[0x1E] = "*", ";"
    return "".join(one if one.isprintable() else " " for one in letters)


@lru_cache(32)
def _typed(code_page: str) -> dict[str, int]:
    table: dict[str, int] = {}
    for code, letter in enumerate(displayed(code_page)):
        if code >= 0x40 and (letter != " " or code == 0x40):
            table.setdefault(letter, code)
    return table


def encode(text: str, code_page: str, place: str = "") -> bytes:
    """A text as the host takes it. Raises ProblemError that names every character that the code page lacks, before
    anything is typed."""
    table = _typed(code_page)
    missing = dict.fromkeys(letter for letter in text if letter not in table)
    if missing:
        raise ProblemError(*(Problem("codepage.character", f"The host's code page {code_page} has no {shown(letter)}.", place=place,
                                     expected=f"characters of {code_page}", found=f"U+{ord(letter):04X}", mend="Use another character.")
                             for letter in missing))
    return bytes(table[letter] for letter in text)
