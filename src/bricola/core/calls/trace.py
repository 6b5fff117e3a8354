"""The trace of a call: step by step what went in and out, how long it took, over which session, and what was tried again.

A call has one when its environment keeps traces; without one nothing is noted and nothing is paid. While the call runs only references
are kept; what becomes text, and which values are masked, is worked out later, by whoever stores the trace (`as_plain`).
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from bricola.core.messages.showing import Left, shown_plain
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Record

MOST_SPANS = 500  # of one call; what comes after is counted
MOST_LINES = 50  # remarks of one span
MOST_VALUES = 100_000  # characters of all that went in and out


class Held(NamedTuple):
    """Values as they are, with what says which of them may be shown: their record, and further names of fields ('' for all)."""

    record: Record | None
    values: Any
    secret: frozenset[str] = frozenset()


@dataclass(slots=True, eq=False)
class Lent:
    """A session that was used: of which pool, at which endpoint, and how long it was waited for (seconds)."""

    pool: str
    endpoint: str
    session: int
    waited: float


@dataclass(slots=True, eq=False)
class Span:
    """One step. Times are monotonic seconds; `taken` and `given` are values as they were."""

    name: str
    action: str
    started: float
    ended: float | None = None
    taken: "Held | None" = None
    given: "Held | None" = None
    failed: str = ""  # the code of the problem, or the declared fault
    words: str = ""
    lines: list[str] = field(default_factory=list)
    lent: list[Lent] = field(default_factory=list)
    tries: int = 1
    depth: int = 0

    def fail(self, error: BaseException) -> None:
        if isinstance(error, ProblemError):
            self.failed, self.words = error.problem.code, error.problem.sentence()
        else:
            self.failed, self.words = getattr(error, "name", type(error).__name__), str(error)


class Trace:
    """What one call notes. `clock` gives monotonic seconds."""

    __slots__ = ("clock", "dropped", "root", "spans", "started")

    def __init__(self, clock: Callable[[], float], started: float | None = None) -> None:
        self.clock = clock
        self.started = started if started is not None else clock()
        self.root = Span("", "call", self.started)
        self.spans: list[Span] = [self.root]
        self.dropped = 0

    def span(self, name: str, action: str, depth: int = 1) -> Span:
        """A step begins."""
        one = Span(name, action, self.clock(), depth=depth)
        if len(self.spans) < MOST_SPANS:
            self.spans.append(one)
        else:
            self.dropped += 1
        return one

    def forget(self, span: Span) -> None:
        """A step that is done again from its beginning."""
        if self.spans[-1] is span:
            self.spans.pop()

    def end(self, span: Span) -> None:
        span.ended = self.clock()

    def close(self, name: str, micros: int, failed: str, words: str) -> None:
        """The call is over. What is still open then (a step that was cut off) stays without an end."""
        self.root.name, self.root.failed, self.root.words = name, failed, words
        self.root.ended = self.started + micros / 1e6

    def as_plain(self) -> dict[str, Any]:
        """As JSON data, sensitive values masked, in microseconds since the call began."""
        left = Left(MOST_VALUES)
        return {"spans": [self._plain(one, left) for one in self.spans], "dropped": self.dropped}

    def _plain(self, span: Span, left: Left) -> dict[str, Any]:
        ended = span.ended
        parts: dict[str, Any] = {
            "name": span.name, "action": span.action, "depth": span.depth, "at": int((span.started - self.started) * 1e6),
            "micros": int((ended - span.started) * 1e6) if ended is not None else None,
        }
        for name, held in (("taken", span.taken), ("given", span.given)):
            if held is not None:
                parts[name] = shown_plain(held.record, held.values, left, held.secret)
        if span.failed:
            parts |= {"failed": span.failed, "words": span.words}
        if span.lines:
            parts["lines"] = span.lines[:MOST_LINES]
        if span.tries > 1:
            parts["tries"] = span.tries
        if span.lent:
            parts["lent"] = [{"pool": one.pool, "endpoint": one.endpoint, "session": one.session, "waited": int(one.waited * 1e6)}
                             for one in span.lent]
        return parts
