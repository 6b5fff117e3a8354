"""Objects for an editor, and looking around in databases."""

from typing import Any, Literal

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change


@closed
class PublishedOperation(TypedDict):
    name: str
    verb: str


@closed
class Publisher(TypedDict):
    service: str
    operations: list[PublishedOperation]


@closed
class ObjectRow(TypedDict):
    name: str
    backend: str
    table: str
    description: str
    fields: int
    services: list[Publisher]


@closed
class ObjectDetail(TypedDict):
    """The definition as in its file, the types it may use, the rules of its fields in words, and its users."""

    name: str
    definition: dict[str, Any]
    columns: dict[str, str]
    rules: dict[str, str]
    problems: list[Problem]
    types: list[str]
    revision: int
    path: str
    services: list[Publisher]
    all_services: list[str]
    verbs: list[str]


@closed
class TableRow(TypedDict):
    """A table or view; `rows` is a count where `exact`, else an estimate; `reasons` why it cannot be published."""

    name: str
    kind: str
    comment: str
    rows: int | None
    exact: bool
    columns: list[str]
    key: list[str]
    reasons: list[str]
    used: list[str]
    serving: bool


@closed
class TableColumn(TypedDict):
    name: str
    declared: str
    type: str
    zone: Literal["", "utc", "open"]
    required: bool
    default: str
    filled: bool
    made: bool
    comment: str
    codes: list[str]
    codes_from: str


@closed
class TableReference(TypedDict):
    columns: list[str]
    table: str
    targets: list[str]


@closed
class TableChild(TypedDict):
    table: str
    columns: list[str]
    targets: list[str]
    rows: int | None
    reasons: list[str]


@closed
class TableDetail(TypedDict):
    name: str
    kind: str
    comment: str
    rows: int | None
    exact: bool
    columns: list[TableColumn]
    key: list[str]
    reasons: list[str]
    used: list[str]
    serving: bool
    key_from: str
    unique: list[str]
    foreign_keys: list[TableReference]
    children: list[TableChild]


@closed
class LeftOut(TypedDict):
    """A column that messages have no type for."""

    table: str
    column: str
    declared: str


@closed
class OpenZone(TypedDict):
    """A field of moments of which the database does not say in which zone they are."""

    table: str
    field: str


@closed
class PlannedTable(TypedDict):
    """What a rule makes of a table: `operations` are added; `there` needs nothing, and of one that cannot be the reasons are told."""

    table: str
    action: Literal["new", "extended", "there", "cannot"]
    object: str
    service: str
    operations: list[str]
    reasons: list[str]
    left_out: list[str]


@closed
class ManyDrafted(TypedDict):
    tables: list[PlannedTable]
    files: dict[str, str]
    saved: bool
    changes: list[Change]
    services: list[str]


@closed
class Drafted(TypedDict):
    """Definitions by path, with the columns that are not in them, and what its owner has to say about zones."""

    files: dict[str, str]
    saved: bool
    changes: list[Change]
    left_out: list[LeftOut]
    open_zones: list[OpenZone]
