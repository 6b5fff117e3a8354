"""Procedures and functions of databases, and drafts of them."""

from typing_extensions import TypedDict

from bricola.api.base import closed
from bricola.api.definitions import Change


@closed
class RoutineRow(TypedDict):
    """A procedure or function; `takes` and `gives` are the names of what goes in and comes out. With `shows_rows` what rows it gives shows
    only when it runs; `reasons` say why it cannot be published, and
    `serving` whether an operation that runs it is live there."""

    name: str
    form: str
    signature: str
    comment: str
    writes: bool
    gives_rows: bool
    shows_rows: bool
    takes: list[str]
    gives: list[str]
    reasons: list[str]
    used: list[str]
    serving: bool


@closed
class RoutineParameter(TypedDict):
    """A parameter, or the value of a function; `type` is empty where messages have none for it, and `rows` of one that names a cursor."""

    name: str
    way: str
    declared: str
    type: str
    optional: bool
    default: str
    codes: list[str]
    zone: str


@closed
class RoutineColumn(TypedDict):
    name: str
    declared: str
    type: str


@closed
class RoutineDetail(RoutineRow):
    """One routine with its parameters and the columns of its rows."""

    parameters: list[RoutineParameter]
    columns: list[RoutineColumn]


@closed
class NotCarried(TypedDict):
    name: str
    declared: str


@closed
class RoutineDrafted(TypedDict):
    """Definitions by path, with what is not in them: parameters and columns without a type, and with `unseen_rows` the rows that show only
    when the routine runs."""

    files: dict[str, str]
    saved: bool
    changes: list[Change]
    left_out: list[NotCarried]
    open_zones: list[str]
    unseen_rows: bool
