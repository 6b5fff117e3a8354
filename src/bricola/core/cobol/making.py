"""What the functions of a layout are made from: places, keys, chosen views, names for what the written source uses (see `codec`)."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal

from bricola.core.cobol.fields import EXACT, Ways, initial_bytes, reader_of, sign_table, writer_of
from bricola.core.cobol.floats import NotHeldError
from bricola.core.cobol.items import Item, Record
from bricola.core.problems import Problem, ProblemError

TableFollows = Literal["slides", "stays"]
Views = Mapping[str, str | Sequence[str]]


class Unusual(Exception):  # noqa: N818 - it is no error: the careful way reads the record
    """Something that the fast way does not read."""


@dataclass(slots=True)
class At:
    """Where the walk is: a number of bytes behind a variable ("" for the beginning of the record)."""

    base: str
    shift: int

    def __str__(self) -> str:
        return f"{self.base} + {self.shift}" if self.base and self.shift else self.base or str(self.shift)

    def plus(self, more: int) -> "At":
        return At(self.base, self.shift + more)


def refused(code: str, message: str, place: str, expected: str = "", found: str = "", mend: str = "") -> ProblemError:
    return ProblemError(Problem(code, message, place=place, expected=expected, found=found, mend=mend))


def names_of(items: Sequence[Item]) -> dict[int, str]:
    """The key of each item among those that stand beside it: its name, with a number where the name was there already."""
    keys: dict[int, str] = {}
    groups = [one for one in items if one.children and (one.name or one.parent is None)]
    for scope in ([one for one in items if one.parent is None], *[_beside(one) for one in groups]):
        seen: dict[str, int] = {}
        for item in scope:
            seen[item.name] = seen.get(item.name, 0) + 1
            keys[id(item)] = item.name if seen[item.name] == 1 else f"{item.name}-{seen[item.name]}"
    return keys


def _beside(group: Item) -> list[Item]:
    found: list[Item] = []
    for child in group.children:
        if child.name:
            found.append(child)
        elif child.children:
            found += _beside(child)
    return found


def chosen_views(record: Record, views: Views) -> dict[int, list[Item]]:
    """Which of the alternatives hold, by redefined item. Raises ProblemError for names that are none."""
    chosen: dict[int, list[Item]] = {}
    for name, wanted in views.items():
        targets = [one for one in record.items() if one.name == name.upper() and one.views()]
        if not targets:
            raise ProblemError(
                Problem(
                    "copybook.view",
                    "This item has no views.",
                    place=name,
                    found=name,
                    choices=tuple(one.name for one in record.items() if one.views() and one.name),
                )
            )
        for target in targets:
            sets = [target, *target.views()]
            chosen[id(target)] = []
            for one in [wanted] if isinstance(wanted, str) else wanted:
                fits = [view for view in sets if one.upper() in _called(view)]
                if not fits:
                    raise ProblemError(
                        Problem(
                            "copybook.view",
                            f"{name} has no such view.",
                            place=name,
                            found=one,
                            choices=tuple(_called(view)[0] for view in sets),
                        )
                    )
                chosen[id(target)].append(fits[0])
    return chosen


def _called(view: Item) -> list[str]:
    """What a view may be called: its name, or that of an item in it where it has none."""
    if view.name:
        return [view.name]
    inside = [one.name for one in view.walk() if one.name]
    return [f"FILLER/{name}" for name in inside] + inside + ["FILLER"]


class Maker:
    """What the walks share: names for what the written source uses, and what is known of the layout."""

    def __init__(
        self,
        record: Record,
        ways: Ways,
        table_follows: TableFollows,
        chosen: Mapping[int, list[Item]],
        absent: bool,
        initial: bool,
        wanted: Callable[[Item], bool],
    ) -> None:
        self.record, self.ways, self.chosen, self.wanted = record, ways, chosen, wanted
        self.absent, self.initial = absent, initial
        self.slides = table_follows == "slides"
        self.items = record.items()
        self.keys = names_of(self.items)
        self.counts = {id(one.depending) for one in self.items if one.depending is not None}
        self.names: dict[str, Any] = {
            "D": Decimal,
            "SC": EXACT.scaleb,
            "Unusual": Unusual,
            "NotHeld": NotHeldError,
            "careful_read": careful_read,
            "count_read": count_read,
            "ended": ended,
        }
        self._numbers: dict[int, int] = {}
        signs = sign_table(ways)
        self.names["LD"] = [signs[code][1] if code in signs else "x" for code in range(256)]
        self.names["SN"] = [signs[code][0] if code in signs else "" for code in range(256)]
        plus, minus = (0x4E, 0x60) if ways.alphabet.mainframe else (0x2B, 0x2D)
        self.names["SS"] = {plus: "", minus: "-"}
        self.names["PS"] = {"c": "", "d": "-", "f": ""}
        self.names["PU"] = {"f": ""}
        self.names["page"] = ways.alphabet.decode

    def number(self, item: Item) -> int:
        """A number for an item, for the names of its reader, its writer and its variables."""
        if id(item) not in self._numbers:
            self._numbers[id(item)] = len(self._numbers)
        return self._numbers[id(item)]

    def reader(self, item: Item) -> str:
        name = f"R{self.number(item)}"
        self.names.setdefault(name, reader_of(item, self.ways))
        return name

    def writer(self, item: Item) -> str:
        name = f"W{self.number(item)}"
        self.names.setdefault(name, writer_of(item, self.ways))
        return name

    def constant(self, prefix: str, value: Any) -> str:
        name = f"{prefix}{len(self.names)}"
        self.names[name] = value
        return name

    def initially(self, item: Item) -> bytes:
        return initial_bytes(item, self.ways)

    def needed(self, item: Item) -> bool:
        """Whether anything of an item is read: wanted, or a count of occurrences."""
        return any(id(one) in self.counts or (not one.children and self.wanted(one) and bool(one.name)) for one in item.walk())

    def views_of(self, item: Item) -> list[Item] | None:
        """The alternatives that hold for a redefined item; None where nothing was said."""
        return self.chosen.get(id(item))


def place_of(item: Item, indexes: Sequence[int]) -> str:
    """The path of an item with the numbers of the occurrences that it is in, from 1."""
    parts: list[str] = []
    at: Item | None = item
    left = list(indexes)
    while at is not None:
        index = f"[{left.pop()}]" if at.occurs and left else ""
        if at.name or index:
            parts.append(f"{at.name or 'FILLER'}{index}")
        at = at.parent
    return ".".join(reversed(parts))


def careful_read(read: Callable[[bytes], Any], item: Item, data: bytes, at: int, indexes: Sequence[int], absent: bool) -> Any:
    """One value, or the problem that names it; None for a number that is none where these are left out."""
    raw = data[at : at + item.length]
    if len(raw) < item.length:
        raise too_short(place_of(item, indexes), at + item.length, len(data))
    try:
        return read(raw)
    except NotHeldError as reason:
        if absent and item.kind not in ("text", "text-edited", "number-edited", "national"):
            return None
        raise refused(
            "record.value",
            f"The bytes at offset {at} cannot be read: {reason}.",
            place_of(item, indexes),
            expected=item.picture or item.kind,
            found=raw[:32].hex(" ") + ("…" if len(raw) > 32 else ""),
            mend="Is it the copybook, the code page and the view of these bytes?",
        ) from None


def count_read(count: Any, table: Item, indexes: Sequence[int]) -> int:
    """How many occurrences there are, within the bounds of the table."""
    assert table.occurs is not None
    least, most = table.occurs
    if count is None or not least <= count <= most:
        assert table.depending is not None
        raise refused(
            "record.occurs",
            f"{table.depending.name} does not count the occurrences of {table.name or 'FILLER'}.",
            place_of(table, indexes),
            expected=f"{least} to {most}",
            found="no number" if count is None else str(count),
        )
    return int(count)


def too_short(place: str, needed: int, length: int) -> ProblemError:
    return refused("record.short", "The record ends too early.", place, expected=f"at least {needed} bytes", found=f"{length} bytes")


def ended(record: Item, end: int, most: int, length: int) -> None:
    """Whether a record ends where its contents say. Behind a table that is not full there may be what is left of the area.

    Raises ProblemError for a record that is shorter than its contents or longer than the layout.
    """
    if length < end:
        raise too_short(record.name, end, length)
    if length > most:
        raise refused(
            "record.long", "The record is longer than its layout.", record.name, expected=f"at most {most} bytes", found=f"{length} bytes"
        )
