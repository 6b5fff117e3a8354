"""PICTURE character-strings: category, digits, scale and size.

The strategy: the string is opened (`9(3)` is `999`), and the table of symbols says what each may do; categories follow from which symbols
occur, in the order that ISO/IEC 1989 lists them. Nothing is known here of USAGE, so sizes are those of USAGE DISPLAY.
"""

import re
from dataclasses import dataclass
from typing import Literal

from bricola.core.cobol.source import Dialect, Spot, wrong

Category = Literal[
    "alphabetic", "alphanumeric", "alphanumeric-edited", "numeric", "numeric-edited", "national", "national-edited", "dbcs", "floating"
]

MAX_DIGITS = 38  # of one number; compilers end at 18, 31 or 38
MAX_SIZE = 16_777_215  # characters of one item

_REPEATED = re.compile(r"([^()\s])(?:\((\d+)\))?")
_SYMBOLS = frozenset("ABEGNPSVXZ9/,.+-*$0")
_NUMBERS = frozenset("9SVP")


@dataclass(frozen=True, slots=True)
class Picture:
    """What a PICTURE says.

    `digits` counts the positions of digits, P among them, as compilers do; `stored` those that take room; `scale` the digits after the
    point (negative where P stands on the right); `size` the characters in USAGE DISPLAY without a separate sign.
    """

    text: str
    category: Category
    size: int
    digits: int = 0
    scale: int = 0
    signed: bool = False

    @property
    def stored(self) -> int:
        """Digits that take room."""
        return self.size if self.category == "numeric" else self.digits


def picture_of(text: str, spot: Spot, dialect: Dialect) -> Picture:
    """A PICTURE understood. Raises ProblemError with the place where it cannot be."""
    upper, currency = text.upper(), dialect.currency
    opened: list[tuple[str, int]] = []
    at = 0
    while at < len(upper):
        match = _REPEATED.match(upper, at)
        if match is None or match[1] in "()":
            raise _bad(text, spot, "a symbol, and in parentheses how often", upper[at : at + 8])
        count = int(match[2]) if match[2] is not None else 1
        if not 0 < count <= MAX_SIZE:
            raise _bad(text, spot, f"a count of 1 to {MAX_SIZE}", match[0])
        opened.append((match[1], count))
        at = match.end()
    symbols = "".join(symbol for symbol, _ in opened)
    bad = next((one for one in symbols if one not in _SYMBOLS and one not in ("C", "R", "D") and one != currency.upper()), None)
    if bad is not None:
        raise _bad(text, spot, "one of A B E G N P S V X Z 9 0 / , . + - * $ CR DB", bad)
    if sum(count for _, count in opened) > MAX_SIZE:
        raise _bad(text, spot, f"at most {MAX_SIZE} characters", text)
    if re.fullmatch(r"[+-]?[9]*[.V]?[9]*E[+-]9+", symbols) and "9" in symbols.split("E")[0]:
        size = sum(count for symbol, count in opened if symbol != "V")
        return Picture(upper, "floating", size)
    if set(symbols) <= _NUMBERS and "9" in symbols:
        return _numeric(upper, opened, spot)
    kinds = set(symbols)
    if ("9" in kinds | set("") and kinds <= set("AX9B0/") and kinds & set("AX")) or (kinds <= set("AXB0/") and kinds & set("AX")):
        size = sum(count for _, count in opened)
        category: Category = "alphanumeric-edited" if kinds & set("B0/") else "alphabetic" if kinds == {"A"} else "alphanumeric"
        return Picture(upper, category, size)
    if "N" in kinds and kinds <= set("NB0/"):
        return Picture(upper, "national-edited" if kinds != {"N"} else "national", sum(count for _, count in opened))
    if "G" in kinds and kinds <= set("GB"):
        return Picture(upper, "dbcs", sum(count for _, count in opened))
    return _edited(upper, opened, symbols, spot, currency.upper(), "," if dialect.decimal_comma else ".")


def _bad(text: str, spot: Spot, expected: str, found: str) -> Exception:
    return wrong(spot, f"The PICTURE {text} cannot be understood.", expected=expected, found=found, code="copybook.picture")


def _numeric(text: str, opened: list[tuple[str, int]], spot: Spot) -> Picture:
    symbols = "".join(symbol for symbol, _ in opened)
    if (
        symbols.count("S") > 1
        or "S" in symbols[1:]
        or any(count > 1 for symbol, count in opened if symbol in "SV")
        or symbols.count("V") > 1
    ):
        raise _bad(text, spot, "S at most once and first, V at most once", text)
    flat = re.sub(r"(.)\1*", r"\1", symbols.removeprefix("S"))  # 9P, P9, 9V9 ...: which runs follow which
    if flat not in ("9", "9V", "V9", "9V9", "9P", "9PV", "P9", "VP9"):
        raise _bad(text, spot, "digits with V between them, or P at one end", text)
    stored = sum(count for symbol, count in opened if symbol == "9")
    places = sum(count for symbol, count in opened if symbol == "P")
    if flat in ("9P", "9PV"):
        scale = -places
    elif flat in ("P9", "VP9"):
        scale = places + stored
    else:
        after = symbols.find("V")
        scale = 0 if after < 0 else sum(count for symbol, count in opened[after + 1 :] if symbol == "9")
    if stored + places > MAX_DIGITS:
        raise _bad(text, spot, f"at most {MAX_DIGITS} digits", str(stored + places))
    return Picture(text, "numeric", stored, digits=stored + places, scale=scale, signed=symbols.startswith("S"))


def _edited(text: str, opened: list[tuple[str, int]], symbols: str, spot: Spot, currency: str, point: str) -> Picture:
    """A numeric-edited item: held as text, so what counts is its size; digits and scale are told where they are plain."""
    ends = re.sub(r"(CR|DB)$", "", symbols)
    if set(ends) & set("CRDAXNGES") - {currency} or not set(ends) & {"9", "Z", "*", "+", "-", currency}:
        raise _bad(text, spot, "the symbols of one category: numeric, edited, or text", text)
    if ends.count(point) + ends.count("V") > 1:
        raise _bad(text, spot, f"one {point} or V", text)
    size = sum(count for symbol, count in opened if symbol not in "VP")
    whole, fraction, seen = 0, 0, False
    floating = {one for one in ("+", "-", currency) if sum(count for symbol, count in opened if symbol == one) > 1}
    for symbol, count in opened:
        seen = seen or symbol in (point, "V")
        if symbol in ("9", "Z", "*") or symbol in floating:
            whole, fraction = (whole, fraction + count) if seen else (whole + count, fraction)
    whole -= len(floating)  # the first of a floating string is no digit
    signed = bool(set(ends) & {"+", "-"}) or ends != symbols
    return Picture(text, "numeric-edited", size, digits=max(0, whole) + fraction, scale=fraction, signed=signed)
