"""Objects for an editor, and looking around in databases."""

from typing import Any

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


@closed
class TableColumn(TypedDict):
    name: str
    declared: str
    type: str
    required: bool
    default: str
    filled: bool
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
    key_from: str
    foreign_keys: list[TableReference]
    children: list[TableChild]


@closed
class Drafted(TypedDict):
    files: dict[str, str]
    saved: bool
    changes: list[Change]
