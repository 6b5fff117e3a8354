"""The one pipeline that every call passes: authenticate, find, authorise, decode, handle, encode, record.

SOAP 1.1, SOAP 1.2 and REST differ in how they decode and encode, and in nothing else (see `faces`). A call from inside (the bench, a
step of something larger) enters with a caller that is known already, and is authorised, limited and recorded like any other.
"""

import asyncio
import sys
from collections.abc import Awaitable, Callable, Coroutine
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import structlog

from bricola.core.calls.call import Call, Picture, PictureError, caller_left
from bricola.core.calls.callers import ANONYMOUS, Caller, Callers, KnownCallerError, no_identity
from bricola.core.calls.idempotency import MOST_ID, Idempotency, RequestKey
from bricola.core.calls.strangers import Strangers
from bricola.core.calls.trace import Held, Trace
from bricola.core.calls.trials import Trial
from bricola.core.jobs import values as kept_values
from bricola.core.jobs.journal import JobStopError, Journal, Ledger
from bricola.core.jobs.model import Desk, Job
from bricola.core.kinds.around import told_of, unforeseen, values_of
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain
from bricola.core.messages.told import one_per_cause
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.faces import Face, Request, RestFace, SoapFace, named_operation
from bricola.core.serving.live import LiveOperation, LiveService
from bricola.core.serving.stored import StoredAnswers
from bricola.core.shapes.model import Passed, Record, Values

log = structlog.stdlib.get_logger("bricola.calls")


class CallRecord(NamedTuple):
    """One recorded call. `at` is seconds since 1970; `result` answered, fault (declared) or failed."""

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
    result: str
    fault: str
    message: str
    request_bytes: int
    response_bytes: int


class Recorder(Protocol):
    """Takes records off the hot path; must not block. Every call is counted; `keep` says whether it is also kept."""

    def add(self, record: CallRecord, keep: bool) -> None: ...
    def keep_trace(self, record: CallRecord, trace: Trace) -> None:
        """Keep what every step took and gave; what becomes text of it is worked out by whoever writes."""
        ...

    def keep_picture(self, record: CallRecord, picture: Picture) -> None:
        """Keep the screen that a call stopped at."""
        ...


@dataclass(slots=True)
class Answer:
    """What goes back: status (RFC 9110), media type, body, and the id under which the call is recorded."""

    status: int
    content_type: bytes
    body: bytes
    call: str = ""
    challenge: bool = False  # with WWW-Authenticate
    trial: str = ""  # what became of a trial
    repeats: str = ""  # the id of the call whose answer this is, when the request came again
    stub: bool = False  # nothing implements the operation yet
    age: float | None = None  # seconds, of an answer that may be a stored one
    retry_after: int | None = None  # seconds after which trying again may help


class Pipeline:
    """Runs calls. `now` gives seconds since 1970, `clock` monotonic seconds (those of the pools), `new_id` call ids."""

    def __init__(self, callers: Callers, recorder: Recorder, now: Callable[[], float], clock: Callable[[], float],
                 new_id: Callable[[], str], idempotency: Idempotency | None = None,
                 desks: Callable[[LiveService, LiveOperation], Desk] | None = None,
                 find: Callable[[str, str], LiveService | None] = lambda environment, service: None) -> None:
        self._callers = callers
        self._recorder = recorder
        self._now = now
        self._clock = clock
        self._new_id = new_id
        self._idempotency = idempotency
        self._desks = desks
        self._find = find
        self.stored = StoredAnswers(clock)
        self.strangers = Strangers(now)
        self._owed = 0.0  # of the share of traces, in percent of one

    async def soap(self, service: LiveService, request: Request) -> Answer:
        """Answer a SOAP request of either version."""
        return await self._answer(service, SoapFace(request), request)

    async def rest(self, service: LiveService, name: str, request: Request) -> Answer:
        """Answer a JSON request for one operation."""
        return await self._answer(service, RestFace(request, name), request)

    def turned_away(self, environment: str, segment: str, face: str, authorization: bytes | None, problem: Problem, status: int,
                    known: bool) -> str:
        """A request that reached no service: of a caller who is known it stands in the call log, others are only counted. `known` says
        whether something stands, or stood, at that address. Answers the id of its record; '' where there is none."""
        try:
            caller = self._callers.identify(authorization) if authorization is not None else NOBODY
        except KnownCallerError as error:
            caller = error.caller
        except ProblemError:
            caller = NOBODY
        if caller is NOBODY:
            self.strangers.count(*((environment, segment) if known else ("", "")))
            return ""
        call = self._new_id()
        self._recorder.add(CallRecord(call, self._now(), environment[:80], segment[:80], 0, "", caller.recorded, face, status, 0, "failed",
                                      problem.code, problem.sentence(), 0, 0), True)
        return call

    async def inside(self, service: LiveService, name: str, caller: Caller, plain: Values, outer: Call | None = None,
                     trial: bool = False, request_id: str = "", handles: bool = False) -> Values:
        """A call from inside, with values as JSON has them; its answer as values. It ends with the call that it is a part of (`outer`),
        and writes nothing when that one is a trial. `handles`: it is told of a failure of another, which needs no role. Raises
        ProblemError and DeclaredFaultError, after the call was recorded."""
        started = self._clock()
        call = self._begin(service, started)
        call.caller = caller
        if outer is not None:
            call.deadline = min(one for one in (call.deadline, outer.deadline) if one is not None)
            call.trial = outer.trial
        status, operation, values = 200, None, Values()
        try:
            if caller.limits is not None:
                caller.limits.enter("")
                call.limits = caller.limits
            operation = named_operation(service, name)
            call.operation = f"{service.segment}.{name}"
            if handles:
                call.deadline = min(call.deadline or started + _HANDLER_SECONDS, started + _HANDLER_SECONDS)
            else:
                authorise(service, operation, caller)
            problems: list[Problem] = []
            values = from_plain(operation.shape.input, plain, name, problems)
            if call.trace is not None:
                call.trace.root.taken = Held(operation.shape.input, values)
            if problems:
                raise ProblemError(*one_per_cause(problems))
            answer = await self._handle(service, operation, call, values, request_id, trial)
            if call.trace is not None:
                call.trace.root.given = Held(operation.shape.output, answer)
            if not isinstance(answer, Passed):
                operation.encode(answer)
        except Exception as exception:
            status, error = self._ended(exception, call)
            if operation is not None and not handles:
                await self._tell(service, call, operation.shape.input, values, error, trial)
            raise error from None
        finally:
            self._leave(call)
            self._record(service, operation, call, "inside", status, started, 0, 0)
        return answer

    async def job(self, service: LiveService, operation: LiveOperation, job: Job, ledger: Ledger) -> Values:
        """Do a job that was accepted, from where its journal ends. Raises ProblemError and DeclaredFaultError after that was recorded, and
        JobStopError where it goes no further for now."""
        assert operation.job is not None
        started = self._clock()
        call = self._begin(service, started)
        call.id, call.operation, call.at = job.id, f"{service.segment}.{operation.shape.name}", job.accepted_at
        call.caller, call.journal = Caller(job.caller, frozenset(job.roles)), Journal(ledger)
        call.deadline = started + job.ends_at - self._now() if ledger.cancelled is None else None  # undoing has a time of its own
        given = kept_values.read(job.given)
        if call.trace is not None:
            call.trace.root.taken = Held(operation.job.input, given)
        status = 200
        try:
            with self.stored.writing(service.environment, operation.backends):
                answer = await operation.job.run(call, given)
            if call.trace is not None:
                call.trace.root.given = Held(operation.job.output, answer)
        except Exception as exception:
            status, error = self._ended(exception, call)
            await self._tell(service, call, operation.job.input, given, error, False)
            raise error from None
        finally:
            if not isinstance(sys.exception(), JobStopError | asyncio.CancelledError):
                self._record(service, operation, call, "job", status, started, 0, 0)
        return answer

    async def _answer(self, service: LiveService, face: Face, request: Request) -> Answer:
        started = self._clock()
        call = self._begin(service, started)
        call.stand_ins = request.stand_ins
        operation, challenge, retry, values = None, False, None, Values()
        try:
            face.check()
            self._authenticate(service, request, call)
            operation = face.find(service)
            call.operation = f"{service.segment}.{operation.shape.name}"
            authorise(service, operation, call.caller)
            problems: list[Problem] = []
            values = face.decode(operation, call, problems)
            if call.trace is not None:
                call.trace.root.taken = Held(operation.shape.input, values)
            if problems:
                raise ProblemError(*one_per_cause(problems))
            if operation.tells_writes and not request.trial:
                call.written = []
            work = self._handle(service, operation, call, values, face.request_id, request.trial, request.fresh)
            if operation.leaves_queue and not operation.stops_when_left:
                call.left = request.left
            answer = await (_while_there(request.left, work) if operation.stops_when_left and request.left is not None else work)
            if call.trace is not None:
                call.trace.root.given = Held(operation.shape.output, answer)
            status, content_type, body = face.encode(operation, answer, call)
            if call.untold is not None:
                await self._tell(service, call, operation.shape.input, values, call.untold, request.trial)
        except DeclaredFaultError as fault:
            assert operation is not None  # only a handler raises it
            call.result, call.fault, call.message = "fault", fault.name, fault.message
            try:
                status, content_type, body = face.fault(service, operation, fault, call)
            except Exception as exception:  # a fault that this contract does not have, or whose parts do not fit it
                error = self._failed(exception, call)
                status, content_type, body = face.refuse(service, error, call)
        except Exception as exception:
            if isinstance(exception, KnownCallerError):
                call.caller = exception.caller
            error = self._failed(exception, call)
            if operation is not None:
                await self._tell(service, call, operation.shape.input, values, error, request.trial)
            status, content_type, body = _told(face, service, operation, error, call)
            challenge, retry = error.problem.kind is Kind.IDENTITY, error.problem.retry_after
        except BaseException:
            self._leave(call)
            raise
        self._leave(call)
        if call.caller is NOBODY and challenge:
            self.strangers.count(service.environment, service.segment)
        else:
            self._record(service, operation, call, face.name, status, started, len(request.body), len(body))
        return Answer(status, content_type, body, call.id, challenge, _trial_words(request, call), call.repeats, call.stub, call.age,
                      retry)

    def _begin(self, service: LiveService, started: float) -> Call:
        call = Call(self._new_id(), at=self._now(), deadline=started + service.call_seconds, caller=NOBODY)
        if service.traces != "none":
            call.trace = Trace(self._clock, started)
            call.span = call.trace.root
        return call

    def _keeps_trace(self, service: LiveService, call: Call) -> bool:
        """All, those that failed, and of the others a share: every so many calls, so that the share is exact."""
        if service.traces == "all" or call.result != "answered":
            return True
        if service.traces != "share":
            return False
        self._owed += service.trace_percent
        if self._owed < 100:
            return False
        self._owed -= 100
        return True

    def _authenticate(self, service: LiveService, request: Request, call: Call) -> None:
        if request.authorization is not None:
            caller = self._callers.identify(request.authorization)
        elif service.anonymous:
            caller = ANONYMOUS
        else:
            raise no_identity()
        call.caller = caller
        if caller.limits is not None:
            caller.limits.enter(request.peer)
            call.limits = caller.limits

    async def _handle(self, service: LiveService, operation: LiveOperation, call: Call, values: Values, identity: str,
                      trial: bool, fresh: bool = False) -> Values:
        """Run the handler; a read from memory where that may be, a write as a trial, or at most once for its request id."""
        if operation.desk and self._desks is not None:
            call.desk = self._desks(service, operation)
        if not (operation.shape.writes or operation.around_writes):
            if operation.stored is None or call.trial is not None or call.stand_ins is not None:
                return await operation.handle(call, values)
            return await self.stored.answer(service, operation, call, values, fresh, lambda: operation.handle(call, values))
        with self.stored.writing(service.environment, operation.backends):
            return await self._write(service, operation, call, values, identity, trial)

    async def _write(self, service: LiveService, operation: LiveOperation, call: Call, values: Values, identity: str,
                     trial: bool) -> Values:
        if trial and call.trial is None:
            call.trial = Trial()
            call.note(AS_A_TRIAL)
        if call.trial is not None or not identity or self._idempotency is None:
            return await operation.handle(call, values)
        if len(identity) > MOST_ID or not identity.isprintable():
            raise ProblemError(Problem("request.id", "This is not a usable request id.", place="Idempotency-Key",
                                       expected=f"up to {MOST_ID} printable characters", found=shown(identity)))
        key = RequestKey(service.environment, service.segment, operation.shape.name, call.caller.name, identity)
        return await self._idempotency.once(key, operation.shape, values, call, service.repeat_hours, operation.marked,
                                            lambda: operation.handle(call, values))

    async def _tell(self, service: LiveService, call: Call, record: Record, values: Values, error: Exception, trial: bool) -> None:
        """Tell the handler that the environment binds of what nobody foresaw. How that went stands with the call."""
        foreseen = isinstance(error, DeclaredFaultError) or (isinstance(error, ProblemError) and not unforeseen(error))
        nothing_real = trial or call.trial is not None or call.stand_ins is not None
        if not service.unforeseen or nothing_real or (foreseen and error is not call.untold):
            return
        name, _, operation = service.unforeseen.partition(".")
        live = self._find(service.environment, name)
        try:
            if live is None:
                raise ProblemError(Problem("handler.absent", f"{name} is not live in {service.environment}.", Kind.BACKEND))
            told = values_of(call, service.environment, record, values, told_of(error))
            wanted = {one.name for one in named_operation(live, operation).shape.input.elements}
            await self.inside(live, operation, HANDLER, {key: one for key, one in told.items() if key in wanted}, handles=True)
            call.note(f"{service.unforeseen} was told of it")
        except Exception as failure:  # whatever it is, its caller has an answer of its own to get
            log.error("a handler of failures failed", call=call.id, operation=call.operation, handler=service.unforeseen,
                      exc_info=None if isinstance(failure, ProblemError | DeclaredFaultError) else failure, why=str(failure))
            call.message = f"{call.message} {service.unforeseen}, which should be told of it, failed: {failure}".strip()

    def _ended(self, exception: Exception, call: Call) -> tuple[int, Exception]:
        """What is raised for a call from inside that gave no answer, and the status of its record."""
        if isinstance(exception, DeclaredFaultError):
            call.result, call.fault, call.message = "fault", exception.name, exception.message
            return 422, exception
        error = self._failed(exception, call)
        return error.problem.kind.http_status, error

    def _failed(self, exception: Exception, call: Call) -> ProblemError:
        """The one place where what goes wrong leaves: what the caller is told, and what the record keeps."""
        if isinstance(exception, ProblemError):
            error = exception
        else:
            log.exception("a call failed inside", call=call.id, operation=call.operation)
            error = ProblemError(Problem("internal.error", "The service made a mistake of its own.", Kind.INTERNAL,
                                         mend=f"Give the call number {call.id} to the people who run the service.",
                                         inner=repr(exception)))
        if isinstance(error, PictureError):
            call.picture = error.picture
        problem = error.problem
        call.result, call.fault = "failed", problem.code
        call.message = f"{problem.sentence()} [{problem.inner}]" if problem.inner else problem.sentence()
        return error

    def _leave(self, call: Call) -> None:
        """Count the call out of its caller's limits, however it ended."""
        if call.limits is not None:
            call.limits.leave()
            call.limits = None

    def _record(self, service: LiveService, operation: LiveOperation | None, call: Call, face: str, status: int, started: float,
                sent: int, answered: int) -> None:
        if call.stand_ins is not None:
            return  # a test that reached nothing is nobody's call
        keep = service.records == "all" or (service.records == "faults" and call.result != "answered")
        micros = int((self._clock() - started) * 1e6)
        record = CallRecord(
            call.id, self._now(), service.environment, service.segment, service.release,
            operation.shape.name if operation is not None else "", call.caller.recorded,
            face, status, micros, call.result, call.fault, call.message, sent, answered,
        )
        self._recorder.add(record, keep)
        if call.trace is not None and self._keeps_trace(service, call):
            call.trace.close(call.operation, micros, call.fault if call.result != "answered" else "", call.message)
            self._recorder.keep_trace(record, call.trace)
        if call.picture is not None and keep:
            self._recorder.keep_picture(record, call.picture)


async def _while_there(left: Callable[[], Awaitable[None]], work: Coroutine[Any, Any, Values]) -> Values:
    """What `work` gives, stopped when the caller is gone. Raises ProblemError then, after whatever had to be undone was undone."""
    task, watch = asyncio.ensure_future(work), asyncio.ensure_future(left())
    try:
        await asyncio.wait((task, watch), return_when=asyncio.FIRST_COMPLETED)
        if task.done():
            return task.result()
        task.cancel()
        await asyncio.wait((task,))
        if task.cancelled():
            raise caller_left()
        return task.result()
    finally:
        watch.cancel()
        task.cancel()


def _told(face: Face, service: LiveService, operation: LiveOperation | None, error: ProblemError, call: Call) -> tuple[int, bytes, bytes]:
    """A failure by the declared fault that the owner chose for it, or as what it is."""
    declared = operation.declared(error, call.id) if operation is not None else None
    if operation is not None and declared is not None:
        try:
            return face.fault(service, operation, declared, call)
        except ProblemError:  # its words do not fit the types of the fault, and must not be lost for that
            log.warning("a failure does not fit the fault that it is told by", operation=call.operation, fault=declared.name)
    return face.refuse(service, error, call)


AS_A_TRIAL = "as a trial: what it writes is rolled back"
_HANDLER_SECONDS = 10.0  # within which a handler has taken what it is told; its caller waits for that
HANDLER = Caller("bricola", frozenset())  # as whom handlers are told
NOBODY = Caller("", frozenset())  # before anybody is authenticated


def _trial_words(request: Request, call: Call) -> str:
    """What became of a trial, for a header of the answer."""
    if not request.trial:
        return ""
    return "rolled back" if call.trial is not None and call.trial.transactions else "nothing was written"


def authorise(service: LiveService, operation: LiveOperation, caller: Caller) -> None:
    """Raises ProblemError for a caller without one of the operation's roles."""
    if service.anonymous and caller.anonymous:
        return
    if operation.roles.isdisjoint(caller.roles):
        allowed = ", ".join(sorted(operation.roles))
        raise ProblemError(Problem(
            "caller.role", f"{caller.name} may not call {service.name}.{operation.shape.name}.", Kind.PERMISSION,
            expected=f"one of the roles {allowed}" if allowed else "a role; the service names none, so nobody may call",
            found=", ".join(sorted(caller.roles)) or "no role", mend="Ask the owner of the service for a role.",
        ))
