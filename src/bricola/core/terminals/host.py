"""What the simulated hosts of both families share: the parts of a screen, and what a person did at it."""

from dataclasses import dataclass, field
from typing import NamedTuple


@dataclass(frozen=True)
class Pressed:
    """A key with the cursor and the modified fields: position -> text. Positions count from 0."""

    key: str
    cursor: int = 0
    fields: dict[int, str] = field(default_factory=dict)


class Part(NamedTuple):
    """A piece of a screen: text at a row and column (both from 1), behind an attribute that stands before it. A tuple, since a host makes
    dozens for every screen."""

    row: int
    column: int
    text: str = ""
    protected: bool = True
    numeric: bool = False
    hidden: bool = False
    intensified: bool = False
    modified: bool = False
    length: int = 0  # of an input: the attribute that ends it stands behind
    cursor: bool = False
    colour: str = ""  # blue, red, pink, green, turquoise, yellow, white; '' leaves it to the terminal
    monocase: bool = False  # of a 5250's input
