"""Items of records: what is known of each when a copybook has been laid out (see `layout`)."""

from collections.abc import Iterator
from dataclasses import dataclass, field

from bricola.core.cobol.clauses import Literal
from bricola.core.cobol.source import Spot


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition-name (level 88): the values, and ranges of values, for which it holds."""

    name: str
    values: tuple[tuple[Literal, Literal | None], ...]


@dataclass(slots=True, eq=False)
class Item:
    """One item of a record. Offsets and lengths are in bytes, at the full length of every table; `length` is of one occurrence.

    `kind` is `group`, `text`, `text-edited`, `number-edited`, `zoned`, `packed`, `unsigned-packed`, `binary`, `float`, `double`, `national`
    or `bytes` (what is not read as a value: pointers and double-byte text).
    """

    level: int
    name: str
    spot: Spot
    kind: str
    picture: str = ""
    length: int = 0
    offset: int = 0
    digits: int = 0
    stored: int = 0  # digits that take room
    scale: int = 0
    signed: bool = False
    leading: bool = False
    separate: bool = False
    native: bool = False  # COMP-5: the machine's own order, all that its bytes can hold
    index: bool = False
    justified: bool = False
    blank_zero: bool = False
    sync: bool = False
    occurs: tuple[int, int] | None = None
    depending: "Item | None" = None
    redefines: "Item | None" = None
    parent: "Item | None" = None
    children: list["Item"] = field(default_factory=list)
    conditions: list[Condition] = field(default_factory=list)
    values: tuple[tuple[Literal, Literal | None], ...] = ()

    @property
    def total(self) -> int:
        """Bytes of all occurrences."""
        return self.length * (self.occurs[1] if self.occurs else 1)

    @property
    def varying(self) -> bool:
        """Whether its length depends on the contents."""
        return self.depending is not None or any(child.varying for child in self.children)

    @property
    def path(self) -> str:
        """Names from the record down, groups without a name left out."""
        above = self.parent.path if self.parent else ""
        return f"{above}.{self.name}" if above and self.name else self.name or above

    def walk(self) -> Iterator["Item"]:
        """This item and all below it, as written."""
        yield self
        for child in self.children:
            yield from child.walk()

    def views(self) -> list["Item"]:
        """Items beside it that lie over it, as written."""
        return [] if self.parent is None else [one for one in self.parent.children if one.redefines is self]


@dataclass(frozen=True, slots=True)
class Renaming:
    """A 66: a name for what runs from one item to another."""

    name: str
    offset: int
    length: int
    item: Item | None  # the one item that it is, or None for the text of several


@dataclass(frozen=True, slots=True)
class Record:
    """A level 01 or 77 with what is in it."""

    item: Item
    renamings: tuple[Renaming, ...] = ()

    @property
    def name(self) -> str:
        return self.item.name

    @property
    def length(self) -> int:
        """Bytes with every table full."""
        return self.item.length

    def items(self) -> list[Item]:
        return list(self.item.walk())
