"""The base of all definition models, and the mapping-of-named-things form that they share."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, PlainSerializer, StringConstraints

# A name that may stand as an XML name, a path segment and a command-line word without quoting.
Name = Annotated[str, StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9_-]{0,79}$")]
ElementName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,79}$")]
Line = Annotated[str, StringConstraints(max_length=2000)]


@dataclass(frozen=True)
class Refers:
    """Marks a field that holds the name of a definition of one of these kinds, of what is called like one (a role, a primitive), or with a
    dot before it of a part of the same definition. It is for people who choose; whether the name is known is looked at elsewhere."""

    kinds: tuple[str, ...]

    def __init__(self, *kinds: str) -> None:
        object.__setattr__(self, "kinds", kinds)


@dataclass(frozen=True)
class Lines:
    """Marks a text of several lines."""


class Frozen(BaseModel):
    """Immutable, equal when equal in content, and closed: an unknown key is a mistake, never ignored."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class Definition(Frozen):
    """One definition file. Its first key is the kind, the value its name."""

    kind: ClassVar[str]
    live: ClassVar[bool] = False  # whether it is in effect as soon as it is saved; all else waits for a release
    folder: ClassVar[str] = ""  # that files without a place of their own go to; the plural of the kind when empty
    name: Name


class NamedPart(Frozen):
    """A part of a definition that is written as `name: {…}` inside a mapping."""

    name: ElementName


def _from_mapping(value: object) -> object:
    if not isinstance(value, Mapping):
        return value
    return [{"name": name, **(body if isinstance(body, Mapping) else {"": body} if body is not None else {})}
            for name, body in value.items()]


def _to_mapping(parts: tuple[NamedPart, ...]) -> dict[str, Any]:
    return {part.name: part.model_dump(mode="json", exclude_defaults=True, exclude={"name"}) for part in parts}


Part = TypeVar("Part", bound=NamedPart)
NamedParts = Annotated[
    tuple[Part, ...], BeforeValidator(_from_mapping), PlainSerializer(_to_mapping, return_type=dict[str, Any])
]


def _one_or_many(value: object) -> object:
    return [value] if isinstance(value, str) else value


Names = Annotated[tuple[str, ...], BeforeValidator(_one_or_many)]  # `key: registration` or `key: [lock, number]`


def _as_text(value: object) -> object:
    return str(value) if isinstance(value, int | float) and not isinstance(value, bool) else value


Scalar = Annotated[str, BeforeValidator(_as_text)]  # a value of some simple type, kept in its lexical form
