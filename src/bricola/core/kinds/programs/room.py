"""What a type lets in that an item does not hold, and what would keep it out; and the type that holds just what an item does."""

from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from bricola.core.cobol.items import Item
from bricola.core.kinds.programs.values import NUMBERS
from bricola.core.shapes.model import Record
from bricola.core.shapes.simple import SimpleType

_TEXTS = ("text", "text-edited", "number-edited", "national")


def most_of(item: Item) -> Decimal:
    """The largest number that an item holds."""
    if item.kind == "binary" and item.native:
        return Decimal(2 ** (item.length * 8 - item.signed) - 1).scaleb(-item.scale)
    return Decimal(10 ** item.stored - 1).scaleb(-item.scale)


def lets_in(kind: SimpleType | Record, item: Item) -> Iterator[tuple[str, str, str]]:
    """The facet that is missing, its value, and what comes in without it."""
    if not isinstance(kind, SimpleType) or kind.codes:
        return
    python = kind.primitive.python
    if item.kind in _TEXTS and python is str:
        length = item.length // 2 if item.kind == "national" else item.length
        longest = kind.length if kind.length is not None else kind.max_length
        if (longest is None or longest > length) and kind.pattern is None:
            yield "max_length", str(length), "longer texts"
    elif item.kind in NUMBERS and item.kind not in ("float", "double") and python in (int, Decimal):
        most = most_of(item)
        high = _bound(kind.max if kind.max is not None else kind.primitive.highest)
        low = _bound(kind.min if kind.min is not None else kind.primitive.lowest)
        if high is None or high > most:
            yield "max", format(most, "f"), "larger numbers"
        if not item.signed and (low is None or low < 0):
            yield "min", "0", "negative numbers"
        elif item.signed and (low is None or low < -most):
            yield "min", format(-most, "f"), "lower numbers"
        if python is Decimal and (kind.fraction is None or kind.fraction > max(0, item.scale)):
            yield "fraction", str(max(0, item.scale)), "more decimals"


def _bound(text: Any) -> Decimal | None:
    return None if text is None else Decimal(str(text))
