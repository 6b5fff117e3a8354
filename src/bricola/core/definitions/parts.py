"""Types and the parts that have one: fields, parameters, columns."""

from typing import Annotated, ClassVar

from pydantic import Field as Described
from pydantic import StringConstraints

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, NamedPart, NamedParts, Scalar

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
    min_length: int | None = Described(None, ge=0)
    max_length: int | None = Described(None, ge=0)
    pattern: str | None = None
    codes: tuple[Scalar, ...] = ()
    digits: int | None = Described(None, ge=1)
    fraction: int | None = Described(None, ge=0)
    min: Scalar | None = None
    max: Scalar | None = None


class _Based(Definition):
    name: ElementName
    base: str
    description: Line = ""


class TypeDefinition(Facets, _Based):
    """A named simple type, used by fields of any object or record: `type: Registration`."""

    kind: ClassVar[str] = "type"


class _Typed(NamedPart):
    type: str  # declared here so that it is the first key of its line


class TypedPart(Facets, _Typed):
    """Something with a name and a type: a primitive, a named type, or a record."""

    label: Label = ""
    description: Line = ""
    unit: str = ""
    required: bool = True
    repeats: bool = False
    at_least: int = Described(0, ge=0)  # items, where it repeats
    at_most: int | None = Described(None, ge=1)
    sample: Scalar | None = None


class RecordDefinition(Definition):
    """A named sequence of fields: `record: TollLine`."""

    kind: ClassVar[str] = "record"
    name: ElementName
    description: Line = ""
    fields: NamedParts[TypedPart] = Described(min_length=1)
