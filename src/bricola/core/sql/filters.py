"""Filters and orders as definitions say them: what finders of objects and queries share."""

from typing import Annotated, Literal

from pydantic import Field as Described

from bricola.core.definitions.base import ElementName, Frozen, Line, NamedPart, Refers, Scalar

DESCENDING = " descending"  # after a field's name in an order


class Filter(NamedPart):
    """One input of a finder or query: compares a field with the value that the caller gives.

    `empty` takes a boolean: whether the field has no value; `one-of` takes a list. With `must_exist` a value that is the
    key of no row of the object that the field refers to is answered with NotFound, not with an empty list.
    """

    field: Annotated[ElementName, Refers(".fields", ".columns")]
    """What it compares."""
    compare: Literal["equal", "differs", "contains", "starts", "from", "to", "above", "below", "one-of", "empty"] = "equal"
    """How."""
    required: bool = False
    """Whether the caller has to give it."""
    must_exist: bool = False
    """Whether a key that is nowhere is a fault, not an empty list."""
    description: Line = ""
    """What it means, for callers."""
    sample: Scalar | None = None
    """A value for samples."""


class PageLimit(Frozen):
    """How many rows an answer holds when nothing is asked, and at most."""

    default: int = Described(20, ge=1)
    """Rows of an answer when nothing is asked."""
    most: int = Described(200, ge=1, le=10_000)
    """The most rows of an answer."""


def ordered_field(word: str) -> tuple[str, bool]:
    """The field that an entry of an order names, and whether it descends."""
    return word.removesuffix(DESCENDING), word.endswith(DESCENDING)
