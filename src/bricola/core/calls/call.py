"""The call: what is known of one invocation when it begins, and what becomes known on the way.

Whoever lets a call in (the SOAP face, the REST face, something inside) makes it and hands it on; the handler is given it, and hands it
to the pools and sessions that it uses. Nothing about a call is kept anywhere else, so two calls of one task never see each other.
"""

from collections.abc import Awaitable, Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, NamedTuple

from bricola.core.calls.callers import ANONYMOUS, Caller
from bricola.core.calls.limits import Limits
from bricola.core.calls.standing import StandIns
from bricola.core.calls.trace import Span, Trace
from bricola.core.calls.trials import Trial
from bricola.core.calls.written import Written
from bricola.core.jobs.journal import Journal
from bricola.core.jobs.marks import RequestMark
from bricola.core.jobs.model import Desk
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Values


class Picture(NamedTuple):
    """A screen that was kept because a call stopped at it: its rows as text, hidden fields blank."""

    title: str
    lines: tuple[str, ...] = ()


class PictureError(ProblemError):
    """A problem with the screen that the call stopped at, for owners."""

    def __init__(self, problem: Problem, picture: Picture) -> None:
        super().__init__(problem)
        self.picture = picture


class Came(NamedTuple):
    """How a request came, where it came as a message: its payload (None: an empty body) and header blocks, as elements of lxml; `soap` is
    the version."""

    payload: Any
    headers: tuple[Any, ...] = ()
    soap: str = ""


@dataclass(slots=True, eq=False)
class Call:
    """One invocation. `at` is seconds since 1970, `deadline` monotonic seconds of the clock that the pools have; None: no deadline.

    `trial` notes what a write would store and is None for a real call; `request` is what the write leaves in the backend so that a
    repeat finds it. The fields below the line become known while the call runs."""

    id: str = ""
    operation: str = ""  # Service.Operation, for people
    caller: Caller = ANONYMOUS
    at: float = 0.0
    deadline: float | None = None
    trial: Trial | None = None
    request: RequestMark | None = None
    came: Came | None = None
    kept: Mapping[str, Any] | None = None  # sessions that it keeps over several steps, by pool
    desk: Desk | None = None  # where it has itself accepted as a job, or asks for one
    journal: Journal | None = None  # of the job that it is
    stand_ins: StandIns | None = None  # of a test: what its inner calls are answered instead of being made
    left: Callable[[], Awaitable[None]] | None = None  # waits until its caller is gone
    # what becomes known
    limits: Limits | None = None  # that counted this call in
    result: str = "answered"
    fault: str = ""
    message: str = ""
    repeats: str = ""  # the id of the call whose answer this is, when the request came again
    picture: Picture | None = None
    written: list[Written] | None = None  # what it wrote, where callers are told
    untold: Exception | None = None  # a failure that its caller is not told of, since the answer stands
    age: float | None = None  # seconds, of an answer that may be a stored one
    stub: bool = False  # nothing implements the operation yet
    trace: Trace | None = None  # what is noted of it, where traces are kept
    span: Span | None = None  # the step of the trace that runs now

    @contextmanager
    def by_values(self) -> Iterator[None]:
        """While something is run with other values than those of the message that came: nothing may send that on as it is."""
        came, self.came = self.came, None
        try:
            yield
        finally:
            self.came = came

    def note(self, line: str) -> None:
        """A remark for owners, in the trace."""
        if self.span is not None:
            self.span.lines.append(line)

    def tried_again(self, why: str) -> None:
        """Note that something is tried once more."""
        if self.span is not None:
            self.span.tries += 1
            self.span.lines.append(f"tried again: {why}")

    def seconds_left(self, now: float, most: float) -> float:
        """How long something on behalf of this call may take, at most so many seconds. Raises ProblemError when its time is over."""
        if self.deadline is None:
            return most
        left = self.deadline - now
        if left <= 0:
            raise out_of_time()
        return min(most, left)


def out_of_time() -> ProblemError:
    return ProblemError(Problem("call.deadline", "The call took longer than calls may take here.", Kind.BUSY,
                                mend="Ask for less, or try again later. The environment's 'call_seconds' says how long a call may take."))


def caller_left() -> ProblemError:
    return ProblemError(Problem("caller.left", "The caller was gone before the answer, so the call was stopped.", Kind.BUSY))


Handler = Callable[[Call, Values], Awaitable[Values]]
