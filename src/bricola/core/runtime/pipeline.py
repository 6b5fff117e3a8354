"""The one pipeline that every call passes: authenticate, decode, authorise, handle, encode, record.

SOAP 1.1, SOAP 1.2 and REST differ in how they decode and encode, and in nothing else.
"""

import json
import logging
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

from bricola.core.contracts.names import PROBLEM
from bricola.core.messages.envelope import Soap, WrongVersionError, message_id, read_envelope, read_media_type, unknown_operation
from bricola.core.messages.faults import DeclaredFaultError, declared_fault, fault_status, problem_fault
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.xml import parse_xml
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.runtime.callers import ANONYMOUS, Caller, Callers, no_identity
from bricola.core.runtime.limits import Limits
from bricola.core.runtime.live import LiveOperation, LiveService
from bricola.core.runtime.repeats import MOST_ID, Repeats, RequestKey
from bricola.core.runtime.sessions import CallLabel, current_call
from bricola.core.runtime.terminals import Picture, ScreenError
from bricola.core.runtime.trials import Trial, current_trial

log = logging.getLogger("bricola.calls")

JSON = b"application/json"
PROBLEM_JSON = b"application/problem+json"  # RFC 9457


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
    def keep_picture(self, record: CallRecord, picture: Picture) -> None:
        """Keep the screen that a call stopped at."""
        ...


@dataclass(slots=True)
class Request:
    """What a face of the gateway knows of a request."""

    body: bytes
    content_type: str = ""
    authorization: bytes | None = None
    peer: str = ""  # the address that the request came from
    request_id: str = ""  # Idempotency-Key
    trial: bool = False  # roll back what it writes


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


@dataclass(slots=True)
class _Course:
    """What becomes known of a call while it runs, for its record."""

    operation: str = ""
    caller: str = ""
    result: str = "answered"
    fault: str = ""
    message: str = ""
    limits: Limits | None = None  # that counted this call in
    trial: Trial | None = None
    repeats: str = ""
    picture: Picture | None = None


class Pipeline:
    """Runs calls. `now` gives seconds since 1970, `clock` monotonic seconds, `new_id` call ids."""

    def __init__(self, callers: Callers, recorder: Recorder, now: Callable[[], float], clock: Callable[[], float],
                 new_id: Callable[[], str], repeats: Repeats | None = None) -> None:
        self._callers = callers
        self._recorder = recorder
        self._now = now
        self._clock = clock
        self._new_id = new_id
        self._repeats = repeats

    async def soap(self, service: LiveService, request: Request) -> Answer:
        """Answer a SOAP request of either version; a fault answers in the version of the request."""
        started = self._clock()
        course = _Course()
        call = self._new_id()
        announced, charset = read_media_type(request.content_type)
        version = announced or Soap.V11
        try:
            if announced is None:
                raise ProblemError(_wrong_media(request.content_type))
            caller = self._authenticate(service, request, course)
            envelope = read_envelope(parse_xml(request.body, charset))
            version = envelope.version
            operation = service.by_tag.get(envelope.payload.tag)
            if operation is None:
                raise ProblemError(unknown_operation(envelope.payload.tag, service.shape.namespace, service.names))
            name = course.operation = operation.shape.name
            _authorise(service, operation, caller)
            current_call.set(CallLabel(call, f"{service.name}.{name}", caller.name, self._now()))
            problems: list[Problem] = []
            values = operation.decode(envelope.payload, name, problems)
            if problems:
                raise ProblemError(*problems)
            if operation.shape.writes:
                identity = request.request_id or message_id(envelope.headers)
                answer = await self._write(service, operation, caller, values, call, identity, request.trial, course)
            else:
                answer = await operation.handle(values)
            head = version.head if course.trial is None else version.head_with(course.trial.header())
            body = (head + operation.encode(answer) + version.tail).encode()
            status, challenge = 200, False
        except DeclaredFaultError as fault:
            course.result, course.fault, course.message = "fault", fault.name, fault.message
            body = declared_fault(version, fault, service.by_name[course.operation].encode_fault[fault.name](fault.detail))
            status, challenge = fault_status(version, None), False
        except Exception as exception:
            error = self._failed(exception, course, call)
            if isinstance(error, WrongVersionError):
                version = Soap.V11  # SOAP 1.2 Part 1, appendix A: answer in a version that anybody reads
            body = problem_fault(version, error, call)
            status = fault_status(version, error.problem)
            challenge = error.problem.kind is Kind.IDENTITY
        except BaseException:
            _leave(course)
            raise
        self._record(service, course, call, f"soap {version.number}", status, started, len(request.body), len(body))
        return Answer(status, version.content_type, body, call, challenge, _trial_words(request, course), course.repeats)

    async def rest(self, service: LiveService, name: str, request: Request) -> Answer:
        """Answer a JSON request for one operation; failures are problem documents (RFC 9457)."""
        started = self._clock()
        course = _Course()
        call = self._new_id()
        content_type, challenge = JSON, False
        try:
            if request.content_type.partition(";")[0].strip().lower() not in ("application/json", ""):
                raise ProblemError(Problem("http.media", "The REST face takes JSON.", Kind.MEDIA, place="Content-Type",
                                           expected="application/json"))
            caller = self._authenticate(service, request, course)
            operation = service.by_name.get(name)
            if operation is None:
                raise ProblemError(Problem("rest.operation", "The service has no such operation.", Kind.MISSING,
                                           place=name, expected=f"one of {', '.join(service.names)}"))
            course.operation = name
            _authorise(service, operation, caller)
            current_call.set(CallLabel(call, f"{service.name}.{name}", caller.name, self._now()))
            problems: list[Problem] = []
            values = from_plain(operation.shape.input, _read_json(request.body), name, problems)
            if problems:
                raise ProblemError(*problems)
            if operation.shape.writes:
                answer = await self._write(service, operation, caller, values, call, request.request_id, request.trial, course)
            else:
                answer = await operation.handle(values)
            operation.encode(answer)  # the same check of the answer against the contract as on the SOAP face
            document: dict[str, Any] = to_plain(operation.shape.output, answer)
            if course.trial is not None:
                document["trial"] = [one.as_dict() for one in course.trial.changes]
            status = 200
        except DeclaredFaultError as fault:
            course.result, course.fault, course.message = "fault", fault.name, fault.message
            shape = next(one for one in service.by_name[name].shape.faults if one.name == fault.name)
            status, content_type = 422, PROBLEM_JSON
            document = {"type": f"{service.shape.namespace}:{fault.name}", "title": fault.name, "status": status,
                        "detail": fault.message, "fault": to_plain(shape.record, fault.detail), "call": call}
        except Exception as exception:
            error = self._failed(exception, course, call)
            status, content_type = error.problem.kind.http_status, PROBLEM_JSON
            document = problem_document(error, call)
            challenge = error.problem.kind is Kind.IDENTITY
        except BaseException:
            _leave(course)
            raise
        body = json.dumps(document, ensure_ascii=False).encode()
        self._record(service, course, call, "rest", status, started, len(request.body), len(body))
        return Answer(status, content_type, body, call, challenge, _trial_words(request, course), course.repeats)

    async def _write(self, service: LiveService, operation: LiveOperation, caller: Caller, values: dict[str, Any], call: str, identity: str,
                     trial: bool, course: _Course) -> dict[str, Any]:
        """Run a write: as a trial, or at most once for its request id."""
        if trial:
            course.trial = Trial()
            current_trial.set(course.trial)
            return await operation.handle(values)
        if not identity or self._repeats is None:
            return await operation.handle(values)
        if len(identity) > MOST_ID or not identity.isprintable():
            raise ProblemError(Problem("request.id", "This is not a usable request id.", place="Idempotency-Key",
                                       expected=f"up to {MOST_ID} printable characters", found=shown(identity)))
        key = RequestKey(service.environment, service.segment, operation.shape.name, caller.name, identity)
        answer, course.repeats = await self._repeats.once(
            key, operation.shape, values, call, self._now(), service.repeat_hours, operation.marked, lambda: operation.handle(values))
        return answer

    def _authenticate(self, service: LiveService, request: Request, course: _Course) -> Caller:
        if request.authorization is not None:
            caller = self._callers.identify(request.authorization)
        elif service.anonymous:
            caller = ANONYMOUS
        else:
            raise no_identity()
        course.caller = caller.name
        if caller.limits is not None:
            caller.limits.enter(request.peer)
            course.limits = caller.limits
        return caller

    def _failed(self, exception: Exception, course: _Course, call: str) -> ProblemError:
        if isinstance(exception, ProblemError):
            error = exception
        else:
            log.exception("call %s failed inside", call)
            error = ProblemError(Problem("internal.error", "The service made a mistake of its own.", Kind.INTERNAL,
                                         mend=f"Give the call number {call} to the people who run the service.",
                                         inner=repr(exception)))
        if isinstance(error, ScreenError):
            course.picture = error.picture
        problem = error.problem
        course.result, course.fault = "failed", problem.code
        course.message = f"{problem.sentence()} [{problem.inner}]" if problem.inner else problem.sentence()
        return error

    def _record(self, service: LiveService, course: _Course, call: str, face: str, status: int, started: float,
                sent: int, answered: int) -> None:
        _leave(course)
        keep = service.records == "all" or (service.records == "faults" and course.result != "answered")
        micros = int((self._clock() - started) * 1e6)
        record = CallRecord(
            call, self._now(), service.environment, service.name, service.release, course.operation, course.caller,
            face, status, micros, course.result, course.fault, course.message, sent, answered,
        )
        self._recorder.add(record, keep)
        if course.picture is not None and keep:
            self._recorder.keep_picture(record, course.picture)


def _trial_words(request: Request, course: _Course) -> str:
    """What became of a trial, for a header of the answer."""
    if not request.trial:
        return ""
    return "rolled back" if course.trial is not None and course.trial.transactions else "nothing was written"


def _leave(course: _Course) -> None:
    """Count the call out of its caller's limits, however it ended."""
    if course.limits is not None:
        course.limits.leave()


def _authorise(service: LiveService, operation: LiveOperation, caller: Caller) -> None:
    if service.anonymous and caller.anonymous:
        return
    if operation.roles.isdisjoint(caller.roles):
        allowed = ", ".join(sorted(operation.roles))
        raise ProblemError(Problem(
            "caller.role", f"{caller.name} may not call {service.name}.{operation.shape.name}.", Kind.PERMISSION,
            expected=f"one of the roles {allowed}" if allowed else "a role; the service names none, so nobody may call",
            found=", ".join(sorted(caller.roles)) or "no role", mend="Ask the owner of the service for a role.",
        ))


def _wrong_media(found: str) -> Problem:
    return Problem("http.media", "The content type is not one of SOAP.", Kind.MEDIA, place="Content-Type",
                   expected="text/xml (SOAP 1.1) or application/soap+xml (SOAP 1.2)", found=found[:100])


def _read_json(body: bytes) -> object:
    if not body.strip():
        return {}
    try:
        document: object = json.loads(body)
    except (ValueError, RecursionError) as error:
        where = f"line {error.lineno}, column {error.colno}" if isinstance(error, json.JSONDecodeError) else ""
        raise ProblemError(Problem("json.syntax", "The body is not JSON.", place=where,
                                   mend="Send one JSON object.")) from None
    return document


def problem_document(error: ProblemError, call: str = "", for_owners: bool = False) -> dict[str, Any]:
    """The RFC 9457 document of all causes; `type` names the first cause's stable code."""
    first = error.problem
    document: dict[str, Any] = {
        "type": f"{PROBLEM}:{first.code}", "title": first.message, "status": first.kind.http_status,
        "detail": first.sentence(), "problems": [one.as_dict(for_owners) for one in error.problems],
    }
    if call:
        document["call"] = call
    return document
