"""The one shape of everything that goes wrong.

A `Problem` says what, where, expected, found and how to mend. It becomes a SOAP fault, an RFC 9457
problem document, a command-line message or a console notice; no other error text reaches a person.
"""

import math
from dataclasses import dataclass, replace
from enum import StrEnum

from bricola.core.nearness import did_you_mean, one_of


class Kind(StrEnum):
    """Whose turn it is to act, from which every protocol derives its own status."""

    INPUT = "input"  # the request or definition is wrong: its author mends it
    IDENTITY = "identity"  # no identity, or one that is not accepted
    PERMISSION = "permission"  # a known identity without the right
    MISSING = "missing"  # what was asked for does not exist
    CONFLICT = "conflict"  # it exists already, or was changed meanwhile
    TOO_LARGE = "too-large"
    MEDIA = "media"  # a content type that is not understood here
    METHOD = "method"  # an HTTP method that is not offered here
    LIMIT = "limit"  # the sender asks for more than it may; try again later
    GONE = "gone"  # it was here and is no more, on purpose
    NOT_BUILT = "not-built"  # promised by the contract and not there yet
    BUSY = "busy"  # try again later
    UNREACHABLE = "unreachable"  # a system of record does not answer at all; try again later
    BACKEND = "backend"  # a system of record does not answer as it should
    INTERNAL = "internal"  # a mistake of ours

    @property
    def http_status(self) -> int:
        """The status code of RFC 9110 for an HTTP answer with this kind of problem."""
        return _HTTP_STATUS[self]

    @property
    def blames_sender(self) -> bool:
        """Whether repeating the request unchanged must fail again (SOAP: Client / Sender)."""
        return self not in (Kind.LIMIT, Kind.BUSY, Kind.UNREACHABLE, Kind.BACKEND, Kind.INTERNAL, Kind.NOT_BUILT)


_HTTP_STATUS = {
    Kind.INPUT: 400,
    Kind.IDENTITY: 401,
    Kind.PERMISSION: 403,
    Kind.MISSING: 404,
    Kind.METHOD: 405,
    Kind.CONFLICT: 409,
    Kind.TOO_LARGE: 413,
    Kind.MEDIA: 415,
    Kind.GONE: 410,
    Kind.LIMIT: 429,  # RFC 6585
    Kind.BUSY: 503,
    Kind.UNREACHABLE: 503,
    Kind.NOT_BUILT: 501,
    Kind.BACKEND: 502,
    Kind.INTERNAL: 500,
}


@dataclass(frozen=True, slots=True)
class Problem:
    """One cause of a failure.

    `code` is stable and dotted, `message` one sentence for a person, `place` where it is (element path,
    file and line, setting), `expected` / `found` the rule and the value, `mend` what to do about it.
    `inner` is for owners only: it goes to call records and logs, never to a caller. `wait` is the time in seconds after
    which trying again may help, where it is known. `choices` are the names that may stand there: they are what is expected, in place
    of what is said for when there are none, and the one that is near to what was found is the mend.
    """

    code: str
    message: str
    kind: Kind = Kind.INPUT
    place: str = ""
    expected: str = ""
    found: str = ""
    mend: str = ""
    inner: str = ""
    wait: float = 0.0
    choices: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if not self.choices:
            return
        object.__setattr__(self, "expected", one_of(self.choices))
        if not self.mend:
            object.__setattr__(self, "mend", did_you_mean((self.found or self.place).strip('"'), self.choices))

    @property
    def retry_after(self) -> int | None:
        """Whole seconds for the header Retry-After (RFC 9110, section 10.2.3); None where trying again later is of no use."""
        return max(1, math.ceil(self.wait)) if self.kind in (Kind.LIMIT, Kind.BUSY, Kind.UNREACHABLE) else None

    def at(self, place: str) -> "Problem":
        """The same problem, at a place that a caller further out knows better."""
        return replace(self, place=place)

    def as_dict(self, for_owners: bool = False) -> dict[str, str]:
        """The filled parts by name, for JSON; `inner` only for those who run the service."""
        parts = {"code": self.code, "message": self.message, "kind": str(self.kind), "place": self.place}
        parts |= {"expected": self.expected, "found": self.found, "mend": self.mend}
        if for_owners:
            parts["inner"] = self.inner
        return {name: value for name, value in parts.items() if value}

    def sentence(self) -> str:
        """All parts in one readable line."""
        text = f"{self.place}: {self.message}" if self.place else self.message
        if self.expected:
            text += f" Expected {self.expected}"
            text += f", found {self.found}." if self.found else "."
        elif self.found:
            text += f" Found {self.found}."
        return f"{text} {self.mend}" if self.mend else text


class ProblemError(Exception):
    """Raised with every cause that was detected, the most important first."""

    def __init__(self, *problems: Problem) -> None:
        if not problems:
            raise ValueError("a ProblemError needs at least one problem")
        super().__init__(problems[0].sentence())
        self.problems = problems

    @property
    def problem(self) -> Problem:
        """The first cause."""
        return self.problems[0]


def shown(value: object, limit: int = 60) -> str:
    """A value as it may stand in a message: quoted, on one line, cut when long."""
    text = value if isinstance(value, str) else str(value)
    text = "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in text[: limit + 1])
    return f'"{text[:limit]}…"' if len(text) > limit else f'"{text}"'
