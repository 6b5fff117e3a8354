"""What all answers share: closed dictionaries, problems, lines of a difference."""

from typing import Literal, NotRequired

from pydantic import ConfigDict, with_config
from typing_extensions import TypedDict

closed = with_config(ConfigDict(extra="forbid"))  # what is not declared does not leave


@closed
class Problem(TypedDict):
    """One cause: what, where, expected, found, how to mend it; `inner` is for owners."""

    code: str
    message: str
    kind: str
    place: NotRequired[str]
    expected: NotRequired[str]
    found: NotRequired[str]
    mend: NotRequired[str]
    inner: NotRequired[str]


@closed
class ProblemDocument(TypedDict):
    """RFC 9457, with every cause that was detected, the most important first."""

    type: str
    title: str
    status: int
    detail: str
    problems: list[Problem]
    call: NotRequired[str]


# A sign (`…` for lines left out, whose text is their number), the old and the new number, the text.
Line = tuple[Literal["+", "-", " ", "…"], int | None, int | None, str]


@closed
class Source(TypedDict):
    """A definition that an operation can run."""

    kind: str
    name: str
