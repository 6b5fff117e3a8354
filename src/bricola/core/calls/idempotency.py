"""Repeat safety: a write with a request id that comes again gets the first answer, and is not done twice.

The id is the header `Idempotency-Key` (IETF draft-ietf-httpapi-idempotency-key-header), or a WS-Addressing MessageID. It
belongs to one caller and one operation. That a request begins is written down before it runs, its answer after. What
began and has no answer (the service was killed in between) is settled by the mark that the write left in the backend's
own transaction, where the binding names a table for marks; without one the caller is told that the outcome is not known.
"""

import asyncio
import hashlib
import json
from collections.abc import Awaitable, Callable
from typing import NamedTuple, Protocol

import structlog

from bricola.core.ages import Ages
from bricola.core.calls.call import Call
from bricola.core.durations import HOUR
from bricola.core.jobs.marks import RequestMark
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import OperationShape, Values

log = structlog.stdlib.get_logger("bricola.calls")

MOST_ID = 255  # characters
OUTCOME_UNKNOWN = "write.outcome-unknown"


class RequestKey(NamedTuple):
    """Whose request of what. `id` is the caller's."""

    environment: str
    service: str
    operation: str
    caller: str
    id: str


class Remembered(NamedTuple):
    """What is known of a request: the digest of its input, its first call's id, and the answer as JSON ('' while it runs)."""

    digest: str
    call: str
    answer: str


class RequestLog(Protocol):
    """Where requests are remembered, durably. Moments are seconds since 1970."""

    async def begin(self, key: RequestKey, digest: str, call: str, at: float, expires: float) -> Remembered | None:
        """Write down that a request begins; what is known of it when it is known already."""
        ...

    async def finish(self, key: RequestKey, answer: str) -> None: ...

    async def forget(self, key: RequestKey) -> None: ...


class Idempotency:
    """Runs writes at most once for each request id."""

    def __init__(self, log: RequestLog, ages: Ages) -> None:
        self._log, self._ages = log, ages
        self._running: dict[RequestKey, asyncio.Future[None]] = {}

    async def once(self, key: RequestKey, shape: OperationShape, values: Values, call: Call, hours: float, marked: bool,
                   run: Callable[[], Awaitable[Values]]) -> Values:
        """The answer; the call learns whose answer it is, where an earlier call gave it, and the mark that it has to leave. Raises what
        `run` raises, and ProblemError for an id that was used with another input or whose outcome is not known."""
        digest = hashlib.sha256(json.dumps(to_plain(shape.input, values), sort_keys=True).encode()).hexdigest()
        now = self._ages.earliest()
        mark = RequestMark(_mark_id(key, digest), now, self._ages.latest() + hours * HOUR, now - hours * HOUR,
                           lambda one: json.dumps(to_plain(shape.output, one)), lambda text: _from_text(shape, text))
        while True:
            known = await self._log.begin(key, digest, call.id, now, mark.expires)
            if known is None:
                return await self._run(key, mark, call, run)
            if known.digest != digest:
                raise ProblemError(Problem(
                    "request.reused", "This request id was used with another input.", Kind.CONFLICT, place="Idempotency-Key",
                    found=shown(key.id), mend="Give every new request an id of its own; repeat only what is equal."))
            if known.answer:
                call.repeats = known.call
                return _from_text(shape, known.answer)
            running = self._running.get(key)
            if running is not None:
                await asyncio.wait([running])
                continue
            if not marked:
                raise ProblemError(
                    Problem(
                        "request.outcome-unknown",
                        "This request began before and its outcome is not known.",
                        Kind.CONFLICT,
                        place="Idempotency-Key",
                        found=shown(key.id),
                        mend="Read the row to see what is stored; send again with a new id when it is not.",
                    )
                )
            return await self._run(key, mark, call, run)

    async def _run(self, key: RequestKey, mark: RequestMark, call: Call, run: Callable[[], Awaitable[Values]]) -> Values:
        done = self._running[key] = asyncio.get_running_loop().create_future()
        call.request = mark
        try:
            answer = await run()
        except DeclaredFaultError:
            await self._log.forget(key)  # nothing was stored
            raise
        except ProblemError as error:
            if error.problem.code != OUTCOME_UNKNOWN:
                await self._log.forget(key)
            raise
        else:
            await self._finish(key, call, mark.answer(answer))
            return answer
        finally:
            self._running.pop(key, None)
            done.set_result(None)

    async def _finish(self, key: RequestKey, call: Call, answer: str) -> None:
        try:
            await self._log.finish(key, answer)
        except ProblemError as error:  # it is stored in the backend; a repeat will be told that it began
            log.error("the answer of a request could not be remembered", call=call.id, request=key.id, problem=str(error))


def _mark_id(key: RequestKey, digest: str) -> str:
    return hashlib.sha256("\n".join((*key, digest)).encode()).hexdigest()


def _from_text(shape: OperationShape, text: str) -> Values:
    problems: list[Problem] = []
    values = from_plain(shape.output, json.loads(text), shape.name, problems)
    if problems:
        raise ProblemError(*problems)
    return values
