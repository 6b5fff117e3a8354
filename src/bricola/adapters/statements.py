"""What all database sessions share: the bounds of one statement, and the words for what goes wrong."""

from collections.abc import Coroutine, Iterable, Sequence
from datetime import UTC, datetime
from typing import Any, TypeVar

from bricola.core.calls.call import out_of_time
from bricola.core.definitions.engines.places import StatementLimits
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.sql.sessions import NO_LIMIT, DriverRow

T = TypeVar("T")
OWNERS = "The people who run the service find the cause in the record of this call."
CHUNK = 500  # rows that are fetched before the bounds are looked at


class Bounds:
    """Counts what a statement gives against its bounds, so that memory is bounded too."""

    def __init__(self, backend: str, limits: StatementLimits) -> None:
        self._backend, self._limits = backend, limits
        self.rows: list[DriverRow] = []
        self._bytes = 0

    def add(self, rows: Sequence[DriverRow]) -> None:
        """Raises ProblemError when there are too many rows, or too much in them."""
        self.rows += rows
        self._bytes += sum([len(value) for row in rows for value in row if value.__class__ is str or value.__class__ is bytes])
        limits = self._limits
        if len(self.rows) > limits.rows or self._bytes > limits.bytes:
            over = f"more than {limits.rows} rows" if len(self.rows) > limits.rows else f"more than {limits.bytes} bytes"
            raise ProblemError(Problem(
                "backend.too-much", "The backend gives more than one statement may bring.", Kind.TOO_LARGE, mend="Ask for less.",
                inner=f"{self._backend}: {over}; the binding's 'limits:' say how much"))


def statement_failed(backend: str, said: str) -> Problem:
    """A statement did not come to its end: the connection broke, or the database gave up. `said`, for owners, holds no values."""
    return Problem("backend.failed", f"The backend {backend} did not answer the query.", Kind.BACKEND, mend=OWNERS, inner=said.strip())


def given_up(name: str) -> ProblemError:
    """A transaction over several steps that the database gave up in favour of another: nothing of it is stored, and none of its steps can
    be done again alone."""
    return ProblemError(Problem("transaction.given-up", "The database gave the transaction up in favour of another.", Kind.BUSY,
                                mend="Try again in a moment; nothing was stored.", inner=name))


def not_alone(name: str) -> ProblemError:
    """What ends its transaction by itself cannot be a part of another."""
    return ProblemError(Problem("transaction.own", "A routine with a transaction of its own cannot be a part of another.", Kind.INTERNAL,
                                place=name, mend="Take the step out of 'session:', or say 'transaction: joins' in the routine."))


def too_slow(backend: str, limits: StatementLimits, within: float = NO_LIMIT) -> ProblemError:
    """A statement took longer than the binding allows; or than was left of its call, whose time is then over."""
    if within < limits.seconds:
        return out_of_time()
    return ProblemError(Problem(
        "backend.slow", f"The backend {backend} took too long.", Kind.BUSY, expected=f"an answer within {limits.seconds:g} s",
        mend="Ask for less, or try again later.", inner="the binding's 'limits: {seconds}'"))


def held(backend: str, inner: str) -> Problem:
    return Problem(
        "backend.busy",
        f"Another writer holds the backend {backend}.",
        Kind.BUSY,
        mend="Try again in a moment; nothing was stored.",
        inner=inner,
    )


def unreachable(backend: str, inner: str) -> ProblemError:
    return ProblemError(
        Problem("backend.unreachable", f"The backend {backend} cannot be reached.", Kind.UNREACHABLE, mend=OWNERS, inner=inner))


def sign_on_refused(backend: str, inner: str) -> ProblemError:
    return ProblemError(Problem("backend.sign-on", f"The backend {backend} refused Bricola's sign-on.", Kind.BACKEND,
                                mend="The people who run the service replace the credential.", inner=inner))


def run_to_end(work: Coroutine[Any, Any, T]) -> T:
    """The result of a coroutine that never has to wait, on the thread that calls this."""
    try:
        work.send(None)
    except StopIteration as end:
        result: T = end.value
        return result
    work.close()
    raise RuntimeError("what runs in a transaction waited for something else")


def in_utc(moment: datetime) -> datetime:
    """A moment that knows its zone, in UTC: what is stored is the instant, whatever zone a caller wrote it in."""
    return moment.astimezone(UTC) if moment.tzinfo is not None else moment


def refuse_null_bytes(parameters: Iterable[Any]) -> None:
    """No engine holds U+0000 in text the same way; most refuse it. Raises ProblemError before the statement is sent."""
    for value in parameters:
        if value.__class__ is str and "\0" in value:
            raise ProblemError(Problem("value.character", "Text cannot hold the character U+0000.", mend="Take the character out."))
