"""What the bench answers: a call tried here, the other side, and the rows behind an answer."""

from typing import Any, Literal

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed


@closed
class StoredChange(TypedDict):
    """What a write does to one row."""

    object: str
    action: str
    key: dict[str, str]
    fields: dict[str, dict[Literal["before", "after"], str | None]]


@closed
class BenchFault(TypedDict):
    code: str
    reason: str
    detail: list[dict[str, str]]


@closed
class BenchAnswer(TypedDict):
    caller: str
    soap: str
    status: int
    ms: float
    call: str
    request: str
    request_bytes: int
    response: str
    response_bytes: int
    trial: str
    changes: list[StoredChange]
    repeats: str
    answer: dict[str, Any] | None
    fault: BenchFault | None
    problems: list[Problem]
    warnings: list[Problem]  # the status is good and the answer right, and still it says little


@closed
class OutsideAnswer(TypedDict):
    """What the other side answers itself; `same` says whether its body is the one that this service answered, null where nothing was
    compared."""

    backend: str
    address: str
    status: int
    ms: float
    content_type: str
    response: str
    response_bytes: int
    same: bool | None


@closed
class ComparedField(TypedDict):
    field: str
    column: str
    reply: str | None
    stored: str | None
    equal: bool | None


@closed
class ComparedRow(TypedDict):
    key: str
    found: bool
    fields: list[ComparedField]
    note: str


@closed
class RowComparison(TypedDict):
    """An answer beside its rows; `ordered` is null where there is no list."""

    object: str
    table: str
    side: str
    rows: list[ComparedRow]
    ordered: bool | None
    deleted: bool
    equal: bool


@closed
class Keys(TypedDict):
    object: str
    key: str
    columns: list[str]
    more: bool
    rows: list[dict[str, str | None]]
