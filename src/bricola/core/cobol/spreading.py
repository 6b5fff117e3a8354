"""A record byte by byte: each item that has a value of its own, where it lies in just these bytes, and what stands there.

For people who look at bytes: nothing is refused, every item says itself whether it can be read.
"""

from collections.abc import Iterator
from decimal import Decimal
from typing import NotRequired

from pydantic import ConfigDict, with_config
from typing_extensions import TypedDict

from bricola.core.cobol.fields import Reader, Ways, reader_of
from bricola.core.cobol.floats import NotHeldError
from bricola.core.cobol.items import Item, Record
from bricola.core.cobol.making import place_of

MOST_ROWS = 5000


@with_config(ConfigDict(extra="forbid"))
class Spread(TypedDict):
    """One occurrence of an item: its path with the numbers of occurrences, its line in the copybook, where it lies, and its value, or why
    there is none. `view` says that it lies over another item."""

    path: str
    line: int
    offset: int
    length: int
    value: NotRequired[str]
    problem: NotRequired[str]
    view: NotRequired[bool]


def spread(record: Record, ways: Ways, data: bytes, slides: bool = True) -> list[Spread]:
    """Every occurrence of every item with a PICTURE, in order; those that lie behind the end of the bytes say so. At most MOST_ROWS."""
    return _Spreading(ways, data, slides).all(record)


class _Spreading:
    def __init__(self, ways: Ways, data: bytes, slides: bool) -> None:
        self.ways, self.data, self.slides = ways, data, slides
        self.counts: dict[int, int] = {}
        self.readers: dict[int, Reader] = {}

    def all(self, record: Record) -> list[Spread]:
        rows: list[Spread] = []
        for row in self._item(record.item, 0, (), False, [0]):
            rows.append(row)
            if len(rows) == MOST_ROWS:
                break
        return rows

    def _item(self, item: Item, at: int, indexes: tuple[int, ...], view: bool, end: list[int]) -> Iterator[Spread]:
        """All occurrences of an item; `end` is told where it ends."""
        times = 1
        if item.occurs:
            least, most = item.occurs
            times = most if item.depending is None else max(least, min(most, self.counts.get(id(item.depending), least)))
        for number in range(1, times + 1):
            where = (*indexes, number) if item.occurs else indexes
            if item.children:
                yield from self._group(item, at, where, view, end)
                at = end[0]
            else:
                yield self._value(item, at, where, view)
                at += item.length
        if item.occurs and not (self.slides and item.varying):
            at += (item.occurs[1] - times) * item.length
        end[0] = at

    def _group(self, item: Item, at: int, indexes: tuple[int, ...], view: bool, end: list[int]) -> Iterator[Spread]:
        here, last = at, item.offset
        begins: dict[int, int] = {}
        for child in item.children:
            if child.redefines is not None:
                yield from self._item(child, begins[id(child.redefines)], indexes, True, [0])
                last = max(last, child.offset + child.total)
                here = max(here, begins[id(child.redefines)] + child.total)
                continue
            here += child.offset - last
            begins[id(child)] = here
            inner = [here]
            yield from self._item(child, here, indexes, view, inner)
            here, last = inner[0], child.offset + child.total
        end[0] = here + item.offset + item.length - last

    def _value(self, item: Item, at: int, indexes: tuple[int, ...], view: bool) -> Spread:
        row = Spread(
            path=place_of(item, indexes) if item.name else f"{place_of(item, indexes)}.FILLER",
            line=item.spot.line,
            offset=at,
            length=item.length,
        )
        if view:
            row["view"] = True
        raw = self.data[at : at + item.length]
        if len(raw) < item.length:
            row["problem"] = "behind the end of these bytes"
            return row
        try:
            value = self.readers.setdefault(id(item), reader_of(item, self.ways))(raw)
        except NotHeldError as reason:
            row["problem"] = str(reason)
            return row
        if isinstance(value, Decimal):
            self.counts[id(item)] = int(value)
        row["value"] = format(value, "f") if isinstance(value, Decimal) else value.replace("\x00", "\N{SYMBOL FOR NULL}")
        return row
