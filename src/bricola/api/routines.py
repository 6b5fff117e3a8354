"""Procedures and functions of databases, and drafts of them."""

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change
from bricola.api.impact import AffectedOperation


@closed
class RoutineRow(TypedDict):
    """A procedure or function; `takes` and `gives` are the names of what goes in and comes out. With `shows_rows` what rows it gives shows
    only when it runs; `reasons` say why it cannot be published, `serving` whether an operation that runs it is live there, and `differs`
    names the definitions of it that say something else."""

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
    differs: list[str]


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


@closed
class RoutineDifference(TypedDict):
    """A parameter, or what else of a routine, as its definition says it and as it is there."""

    name: str
    was: str
    now: str


@closed
class RoutineRenewed(TypedDict):
    """A definition brought up to its routine: what differed, what of the new one does not fit together, columns that are not told,
    new moments of which nobody says the zone, and who is affected."""

    text: str
    differences: list[RoutineDifference]
    problems: list[Problem]
    untold: list[str]
    open_zones: list[str]
    affected: list[AffectedOperation]
    saved: bool
    changes: list[Change]
