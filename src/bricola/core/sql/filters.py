"""Filters and orders as definitions say them: what finders of objects and queries share."""

from typing import Literal

from pydantic import Field as Described

from bricola.core.definitions.base import ElementName, Frozen, Line, NamedPart, Scalar

DESCENDING = " descending"  # after a field's name in an order


class Filter(NamedPart):
    """One input of a finder or query: compares a field with the value that the caller gives.

    `empty` takes a boolean: whether the field has no value; `one-of` takes a list. With `must_exist` a value that is the
    key of no row of the object that the field refers to is answered with NotFound, not with an empty list.
    """

    field: ElementName
    compare: Literal["equal", "differs", "contains", "starts", "from", "to", "above", "below", "one-of", "empty"] = "equal"
    required: bool = False
    must_exist: bool = False
    description: Line = ""
    sample: Scalar | None = None


class PageLimit(Frozen):
    """How many rows an answer holds when nothing is asked, and at most."""

    default: int = Described(20, ge=1)
    most: int = Described(200, ge=1, le=10_000)


def ordered_field(word: str) -> tuple[str, bool]:
    """The field that an entry of an order names, and whether it descends."""
    return word.removesuffix(DESCENDING), word.endswith(DESCENDING)
