"""One transaction of a write through a pool: with the mark of its request, as a trial, and tried again where that is safe."""

from collections.abc import Awaitable, Callable
from typing import Any

from bricola.core.calls.call import Call
from bricola.core.calls.idempotency import OUTCOME_UNKNOWN
from bricola.core.calls.trials import RolledBackError
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Values
from bricola.core.sql.marks import Marks
from bricola.core.sql.refusals import RefusedError
from bricola.core.sql.sessions import NO_LIMIT, GivenUpError

_ATTEMPTS = 3  # to begin a transaction, each on another session; what has begun is never tried again
_MOST_GIVEN_UP = 8  # of two that lock each other out one always gets through, so this many writers at once do


async def in_transaction(pool: Pool[Any], call: Call, work: Callable[[Any], Awaitable[Values]], marks: Marks | None,
                         refused: Callable[[RefusedError, Any, bool], Awaitable[None]]) -> Values:
    """The answer of `work`, which is given the transaction; or the one that its request's mark holds.

    `refused` is asked about what the database does not allow, with the session after its transaction was rolled back, and whether this was
    the last attempt: it returns for another one, or raises what it means. Raises ProblemError and DeclaredFaultError; nothing is stored
    then, unless the code is OUTCOME_UNKNOWN."""
    attempt = 1
    trial, mark = call.trial, call.request if marks is not None else None
    while True:
        session = pool.take(call) or await pool.borrow(call)
        broken, worked = True, False
        answer: Values = {}

        async def run(inside: Any) -> None:
            nonlocal answer, worked
            if mark is not None and marks is not None and (before := await marks.find(inside, mark)) is not None:
                answer = before
                return
            answer = await work(inside)
            if mark is not None and marks is not None:
                await marks.leave(inside, mark, answer)
            worked = True
            if trial is not None and not trial.kept:
                trial.transactions += 1
                raise RolledBackError

        try:
            await session.in_transaction(run, call.seconds_left(pool.now(), NO_LIMIT))
            broken = False
            return answer
        except RolledBackError:
            broken = False
            return answer
        except SessionLostError as error:
            if worked and trial is None:
                raise lost_at_the_end(error) from None
            if error.begun or attempt == _ATTEMPTS:
                raise ProblemError(*error.problems) from None  # the database rolls back what it lost sight of
            attempt += 1
            call.tried_again("the session was lost before the transaction began")
        except GivenUpError:
            broken = False
            if attempt == _MOST_GIVEN_UP:
                raise
            attempt += 1
            call.tried_again("the database gave the transaction up in favour of another")
        except RefusedError as error:
            broken = False
            await refused(error, session, attempt == _MOST_GIVEN_UP)
            attempt += 1
        except (ProblemError, DeclaredFaultError):
            broken = False
            raise
        finally:
            pool.give_back(session, broken)


def lost_at_the_end(error: SessionLostError) -> ProblemError:
    """What a caller is told when the connection broke at the commit: whether it was stored is not known."""
    return ProblemError(Problem(OUTCOME_UNKNOWN, "The connection to the backend broke at the end of the transaction.", Kind.BACKEND,
                                mend="Read the row to see whether it was stored, or send it again with the same request id.",
                                inner=error.problem.inner))
