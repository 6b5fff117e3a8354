"""A screen as an immutable value: what a person would see and could type into."""

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

COLOURS = {0xF1: "blue", 0xF2: "red", 0xF3: "pink", 0xF4: "green", 0xF5: "turquoise", 0xF6: "yellow", 0xF7: "white"}
HIGHLIGHTS = {0xF1: "blink", 0xF2: "reverse", 0xF4: "underscore", 0xF8: "intensify"}


class Field(NamedTuple):
    """One field; a tuple, since every record of a host makes dozens of them. `start` is the position after its attribute, counted from
    0; it may go on past the end of the screen."""

    start: int
    length: int
    protected: bool
    numeric: bool
    hidden: bool
    intensified: bool
    modified: bool
    colour: str = ""
    highlight: str = ""
    accepts: str = ""  # of an input: letters, digits or signed; '' takes what its other marks allow
    monocase: bool = False  # small letters become capitals

    @property
    def skipped(self) -> bool:
        """Whether the cursor jumps over it: protected and numeric."""
        return self.protected and self.numeric


@dataclass(frozen=True)
class Screen:
    """`characters` are rows times columns; `cursor` counts from 0; `locked` says that the keyboard takes nothing."""

    rows: int
    columns: int
    characters: str
    fields: tuple[Field, ...]
    cursor: int
    locked: bool
    alarm: bool = False
    refused: bool = False  # the host told an input error; Reset opens the keyboard and takes the message away

    @property
    def settled(self) -> bool:
        """Whether it is a person's turn: the keyboard is open, or an input error waits to be read."""
        return not self.locked or self.refused

    @property
    def formatted(self) -> bool:
        return bool(self.fields)

    @cached_property
    def lines(self) -> tuple[str, ...]:
        """The rows as text, of the screen's width."""
        return tuple(self.characters[start:start + self.columns] for start in range(0, len(self.characters), self.columns))

    def position(self, row: int, column: int) -> int:
        """The position of a row and a column, both counted from 1."""
        return (row - 1) * self.columns + column - 1

    def text(self, start: int, length: int) -> str:
        """Characters from a position on, past the end of the screen from its beginning."""
        size = len(self.characters)
        whole = self.characters[start:start + length]
        return whole + self.characters[:length - len(whole)] if start + length > size else whole

    def text_of(self, field: Field) -> str:
        return self.text(field.start, field.length)

    def field_at(self, position: int) -> Field | None:
        """The field that a position is in; None on an attribute and where there are no fields."""
        size = len(self.characters)
        return next((one for one in self.fields if (position - one.start) % size < one.length), None)

    @property
    def inputs(self) -> tuple[Field, ...]:
        return tuple(one for one in self.fields if not one.protected)
