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
        """The item of these areas that has this name, or ends in this path. Raises ProblemError where there is none, or several."""
        wanted = name.upper().split(".")
        found = [(area, item) for area in areas for item in self.records[area].items() if item.name and _ends(item, wanted)]
        if len(found) > 1:
            raise ProblemError(Problem("program.item", "Several items have this name.", place=place, found=shown(name),
                                       choices=tuple(item.path for _, item in found), mend="Say more of its path."))
        if not found:
            names = tuple(one.name for area in areas for one in self.records[area].items() if one.name)
            raise ProblemError(Problem("program.item", "There is no such item in the areas.", place=place, found=shown(name.upper()),
                                       choices=names[:200]))
        return found[0]

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
        """The items that have a condition-name, with their areas."""
        for area, record in self.records.items():
            for item in record.items():
                if any(one.name == name.upper() for one in item.conditions):
                    yield area, item


def _ends(item: Item, wanted: Sequence[str]) -> bool:
    """Whether a path may be written so: its last name, with names that are above it in order."""
    names = item.path.split(".")
    if names[-1] != wanted[-1]:
        return False
    at = len(names) - 1
    for one in reversed(wanted[:-1]):
        at -= 1
        while at >= 0 and names[at] != one:
            at -= 1
        if at < 0:
            return False
    return True
