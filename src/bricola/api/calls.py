"""Recorded calls: who calls what, each call, and its trace."""

from typing import Any

from typing_extensions import TypedDict

from bricola.api.base import closed
from bricola.api.words import CallResult


@closed
class Usage(TypedDict):
    """Who calls what; `last` in seconds since 1970."""

    operation: str
    caller: str
    calls: int
    last: float


@closed
class Call(TypedDict):
    """One recorded call; `at` in seconds since 1970."""

    id: str
    at: float
    environment: str
    service: str
    release: int
    operation: str
    caller: str
    face: str
    status: int
    micros: int
    result: CallResult
    fault: str
    message: str
    request_bytes: int
    response_bytes: int


@closed
class Picture(TypedDict):
    title: str
    lines: list[str]


@closed
class Lent(TypedDict):
    """A session that a step used; `waited` in microseconds."""

    pool: str
    endpoint: str
    session: int
    waited: int


class SpanMore(TypedDict, total=False):
    taken: Any
    given: Any
    failed: str
    words: str
    lines: list[str]
    tries: int
    lent: list[Lent]


@closed
class Span(SpanMore):
    """One step of a call. `at` is microseconds since the call began, `micros` how long it took, None for one that was cut off. `taken` and
    `given` are values, sensitive ones masked."""

    name: str
    action: str
    depth: int
    at: int
    micros: int | None


@closed
class Trace(TypedDict):
    """All steps in the order in which they began, the call itself first; `dropped` are those beyond what is kept."""

    spans: list[Span]
    dropped: int


@closed
class CallDetail(Call):
    """With the picture of the screen that it stopped at and the trace, for operators."""

    picture: Picture | None
    trace: Trace | None
