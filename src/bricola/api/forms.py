"""Forms: the grammar of definitions, and one of them as values and as text."""

from typing import Any

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed


@closed
class FormField(TypedDict):
    """One field: what it takes (`shape`), what it means, and what is proposed. `refers` are kinds whose names fit, or with a dot before it
    the part of the same definition; `group` what stands inside; `engines` those of backends that have it, all where there are none."""

    name: str
    shape: str
    words: str
    required: bool
    default: str | int | float | bool | None
    choices: list[str]
    refers: list[str]
    group: str
    engines: list[str]


@closed
class FormKind(TypedDict):
    """A kind of definition: the group of its fields, the folder that its files go to, and whether it is in effect once it is saved."""

    kind: str
    group: str
    folder: str
    live: bool


@closed
class Forms(TypedDict):
    kinds: list[FormKind]
    groups: dict[str, list[FormField]]


@closed
class KnownNames(TypedDict):
    """What there is to choose from, by kind, and the engine of each backend."""

    names: dict[str, list[str]]
    engines: dict[str, str]


@closed
class FormLine(TypedDict):
    """The line of the text on which a part of the values begins; parts of a list count from 0."""

    at: list[str]
    line: int


@closed
class Drawn(TypedDict):
    """A definition as values and as text; `values` is null where the text is none of a known kind."""

    kind: str
    values: dict[str, Any] | None
    text: str
    problems: list[Problem]
    lines: list[FormLine]


@closed
class DrawnRecord(TypedDict):
    """A record that a sample shows. `known`: '' for a new one, `same` or `other` where there is a draft of that name."""

    name: str
    path: str
    text: str
    values: dict[str, Any]
    known: str


@closed
class DrawnRecords(TypedDict):
    """The record that is meant first, those inside it after it; `notes` say what is not as it was shown. Of a schema with several `parts`
    of which none was named there are no records yet."""

    records: list[DrawnRecord]
    notes: list[str]
    parts: list[str]


@closed
class SampleMessage(TypedDict):
    xml: str
    json: str
