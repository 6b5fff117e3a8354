"""Where the items that a definition names lie: in which area, and by which keys in its values."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from bricola.core.cobol.items import Item, Record
from bricola.core.cobol.making import names_of
from bricola.core.problems import Problem, ProblemError, shown

RETURN_CODE = "RETURN-CODE"  # the register by which a program ends, unless an item is called so


@dataclass(frozen=True)
class Areas:
    """The records of the areas by the names of these, with the keys of their items."""

    records: Mapping[str, Record]
    keys: Mapping[int, str]

    @classmethod
    def of(cls, records: Mapping[str, Record]) -> "Areas":
        keys: dict[int, str] = {}
        for record in records.values():
            keys |= names_of(record.items())
        return cls(records, keys)

    def find(self, name: str, place: str, areas: Sequence[str]) -> tuple[str, Item]:
        """The item of these areas that has this name, or ends in this path, before which the name of its area may stand (two areas may be
        laid out alike): REQUEST.TOLL-AREA.TRQ-LOCK. Raises ProblemError where there is none, or several."""
        wanted = name.upper().split(".")
        found = [(area, item) for area in areas for item in self.records[area].items() if item.name and _ends(item, wanted, area)]
        if len(found) > 1:
            raise ProblemError(Problem("program.item", "Several items have this name.", place=place, found=shown(name),
                                       choices=tuple(self.path(area, item) for area, item in found), mend="Say more of its path."))
        if not found:
            names = tuple(one.name for area in areas for one in self.records[area].items() if one.name)
            raise ProblemError(Problem("program.item", "There is no such item in the areas.", place=place, found=shown(name.upper()),
                                       choices=names[:200]))
        return found[0]

    def path(self, area: str, item: Item) -> str:
        """The whole path of an item, after the name of its area where another has the same."""
        alike = sum(1 for record in self.records.values() for one in record.items() if one.path == item.path)
        return f"{area.upper()}.{item.path}" if alike > 1 else item.path

    def area_of(self, item: Item) -> str:
        """The area that an item lies in."""
        return next(area for area, record in self.records.items() if any(one is item for one in record.items()))

    def inside(self, group: Item, name: str, place: str) -> Item:
        """An item of a group by its name or path. Raises ProblemError."""
        wanted = name.upper().split(".")
        found = [item for item in group.walk() if item is not group and item.name and _ends(item, wanted)]
        if len(found) != 1:
            words = "Several items have this name." if found else "There is no such item in this group."
            names = [one.path for one in found] or [one.name for one in group.walk() if one.name and one is not group]
            raise ProblemError(Problem("program.item", words, place=place, found=shown(name.upper()), choices=tuple(names)))
        return found[0]

    def way(self, item: Item, top: Item | None, place: str) -> tuple[str, ...]:
        """The keys from the values of `top` (None: of the record) to those of an item. Raises ProblemError where a table stands between:
        which of its occurrences is meant would be nobody's choice."""
        keys: list[str] = []
        at: Item | None = item
        while at is not None and at is not top:
            if at is not item and at.occurs:
                raise ProblemError(Problem("program.table", f"{item.name} is in the table {at.name or 'FILLER'}.", place=place,
                                           mend=f"Map the table: an input or output that repeats, with {item.name} in its 'fields'."))
            if at.name and at.parent is not None:
                keys.append(self.keys[id(at)])
            at = at.parent
        return tuple(reversed(keys))

    def condition(self, name: str) -> Iterator[tuple[str, Item]]:
        """The items that have a condition-name, with their areas. Before it names may stand in which its item lies."""
        *above, wanted = name.upper().split(".")
        for area, record in self.records.items():
            for item in record.items():
                if any(one.name == wanted for one in item.conditions) and _in_order(_names(item, area), above):
                    yield area, item


def _ends(item: Item, wanted: Sequence[str], area: str = "") -> bool:
    """Whether a path may be written so: the item's own name, with names that are above it in order, the area outermost."""
    *above, name = wanted
    return item.name == name and _in_order(_names(item, area)[:-1], above)


def _names(item: Item, area: str) -> list[str]:
    return [area.upper(), *item.path.split(".")]


def _in_order(names: Sequence[str], wanted: Sequence[str]) -> bool:
    """Whether all that is wanted is among the names, in the same order."""
    rest = iter(names)
    return all(one in rest for one in wanted)
