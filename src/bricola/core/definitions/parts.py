"""Types and the parts that have one: fields, parameters, columns."""

from typing import Annotated, ClassVar

from pydantic import Field as Described
from pydantic import StringConstraints

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, NamedPart, NamedParts, Refers, Scalar

Language = Annotated[str, StringConstraints(pattern=r"^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$")]  # RFC 5646
Label = str | dict[Language, str]  # for people: one, or one for each language


def label_texts(label: Label) -> tuple[tuple[str, str], ...]:
    """The label's texts with their languages; one without a language has an empty one."""
    if isinstance(label, str):
        return (("", label),) if label else ()
    return tuple(label.items())


class Facets(Frozen):
    """What narrows a type; the names follow W3C XML Schema Part 2, section 4.3, in plain words."""

    length: int | None = Described(None, ge=0)
    """How many characters exactly."""
    min_length: int | None = Described(None, ge=0)
    """The fewest characters."""
    max_length: int | None = Described(None, ge=0)
    """The most characters."""
    pattern: str | None = None
    """A regular expression that the whole text matches."""
    codes: tuple[Scalar, ...] = ()
    """The only values that there are."""
    digits: int | None = Described(None, ge=1)
    """The most digits of a number, those after the point included."""
    fraction: int | None = Described(None, ge=0)
    """The most digits after the point."""
    min: Scalar | None = None
    """The least value."""
    max: Scalar | None = None
    """The greatest value."""


class _Based(Definition):
    name: ElementName
    """What fields name it by."""
    base: Annotated[str, Refers("primitive", "type")]
    """The type that it narrows."""
    description: Line = ""
    """What it is, for callers."""


class TypeDefinition(Facets, _Based):
    """A named simple type, used by fields of any object or record: `type: Registration`."""

    kind: ClassVar[str] = "type"


class _Typed(NamedPart):
    type: Annotated[str, Refers("primitive", "type", "record")]
    """A primitive, a type of yours, or a record."""


class TypedPart(Facets, _Typed):
    """Something with a name and a type: a primitive, a named type, or a record."""

    label: Label = ""
    """What people call it."""
    description: Line = ""
    """What it means, for callers."""
    unit: str = ""
    """The unit of a number, like EUR or m."""
    required: bool = True
    """Whether it is always there."""
    repeats: bool = False
    """Whether it is a list."""
    at_least: int = Described(0, ge=0)
    """The fewest items of a list."""
    at_most: int | None = Described(None, ge=1)
    """The most items of a list."""
    sample: Scalar | None = None
    """A value for samples, of the kind that really occurs."""


class RecordDefinition(Definition):
    """A named sequence of fields: `record: TollLine`."""

    kind: ClassVar[str] = "record"
    name: ElementName
    """What fields name it by."""
    description: Line = ""
    """What it is, for callers."""
    fields: NamedParts[TypedPart] = Described(min_length=1)
    """Its fields, in this order."""
