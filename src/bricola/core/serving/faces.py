"""The faces of the gateway: how SOAP and JSON requests are decoded and their answers encoded, and nothing else.

A face is made for one request. The pipeline asks it in this order: `check` (before anybody is authenticated), `find` (which operation,
after authentication, since parsing costs), `decode`, and then one of `encode`, `fault`, `refuse`.
"""

import json
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Any, Protocol

from bricola.core.calls.call import Call, Came
from bricola.core.calls.standing import StandIns
from bricola.core.calls.written import written_block
from bricola.core.json_text import read_json
from bricola.core.messages.addressing import REPLY_TO, reply_address
from bricola.core.messages.envelope import (
    Envelope,
    NotUnderstoodError,
    Soap,
    WrongVersionError,
    message_id,
    read_envelope,
    read_media_type,
    unknown_operation,
)
from bricola.core.messages.faults import (
    DeclaredFaultError,
    declared_fault,
    declared_status,
    fault_status,
    of_sender,
    problem_fault,
    with_blocks,
)
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.documents import JSON, PROBLEM_JSON, problem_document
from bricola.core.serving.live import LiveOperation, LiveService
from bricola.core.shapes.model import Passed, Values
from bricola.core.xml import parse_xml


@dataclass(slots=True)
class Request:
    """What a face of the gateway knows of a request."""

    body: bytes
    content_type: str = ""
    authorization: bytes | None = None
    peer: str = ""  # the address that the request came from
    request_id: str = ""  # Idempotency-Key
    trial: bool = False  # roll back what it writes
    action: str = ""  # SOAPAction
    fresh: bool = False  # no stored answer
    left: Callable[[], Awaitable[None]] | None = None  # waits until the caller is gone
    stand_ins: StandIns | None = None  # of a test from inside



class Face(Protocol):
    """See the module's comment. All but `fault` and `refuse` raise ProblemError."""

    @property
    def name(self) -> str:
        """How the call is recorded: soap 1.1, soap 1.2, rest."""
        ...

    @property
    def request_id(self) -> str:
        """What makes a repeat of the request known; '' for nothing."""
        ...

    def check(self) -> None: ...
    def find(self, service: LiveService) -> LiveOperation: ...
    def decode(self, operation: LiveOperation, call: Call, problems: list[Problem]) -> Values: ...
    def encode(self, operation: LiveOperation, answer: Values, call: Call) -> tuple[int, bytes, bytes]: ...
    def fault(self, service: LiveService, operation: LiveOperation, fault: DeclaredFaultError, call: Call) -> tuple[int, bytes, bytes]: ...
    def refuse(self, service: LiveService, error: ProblemError, call: Call) -> tuple[int, bytes, bytes]: ...


class SoapFace:
    """A SOAP request of either version; a fault answers in the version of the request."""

    __slots__ = ("_announced", "_charset", "_envelope", "_request", "_version")

    def __init__(self, request: Request) -> None:
        self._request = request
        self._announced, self._charset = read_media_type(request.content_type)
        self._version = self._announced or Soap.V11
        self._envelope: Envelope | None = None

    @property
    def name(self) -> str:
        return f"soap {self._version.number}"

    @property
    def request_id(self) -> str:
        if self._request.request_id or self._envelope is None:
            return self._request.request_id
        return message_id(self._envelope.headers)

    def check(self) -> None:
        if self._announced is None:
            raise ProblemError(Problem("http.media", "The content type is not one of SOAP.", Kind.MEDIA, place="Content-Type",
                                       expected="text/xml (SOAP 1.1) or application/soap+xml (SOAP 1.2)",
                                       found=self._request.content_type[:100]))

    def find(self, service: LiveService) -> LiveOperation:
        strict = service.shape.form.strict
        root = parse_xml(self._request.body, self._charset, strict)
        envelope = self._envelope = read_envelope(root, strict, service.understood, "" in service.by_tag)
        self._version = envelope.version
        if envelope.version.number not in service.shape.soap:
            raise WrongVersionError(Problem("soap.version", f"The service does not speak SOAP {envelope.version.number}.", place="Envelope",
                                            expected=f"SOAP {' or '.join(service.shape.soap)}", found=f"SOAP {envelope.version.number}"))
        tag = "" if envelope.payload.tag == envelope.version.tag_body else envelope.payload.tag
        operation = service.by_tag.get(tag)
        if tag in service.shared_tags:
            operation = service.by_action.get(self._action(), operation)
        if operation is None:
            raise ProblemError(unknown_operation(envelope.payload.tag, service.shape.namespace, service.names))
        if service.calls_back and not operation.calls_back and reply_address(envelope.headers):
            demanded = [one for one in envelope.headers if one.tag == REPLY_TO and one.get(envelope.version.must_understand) in ("1",
                                                                                                                                 "true")]
            if demanded:  # this operation answers on the connection, and nowhere else
                raise NotUnderstoodError(REPLY_TO)
        return operation

    def _action(self) -> str:
        """The action of the request: a header in SOAP 1.1 (section 6.1.1), a parameter of the media type in SOAP 1.2 (RFC 3902)."""
        _, found, rest = self._request.content_type.partition("action=")
        text = rest.partition(";")[0] if found and self._version is Soap.V12 else self._request.action
        return text.strip().strip('"')

    def decode(self, operation: LiveOperation, call: Call, problems: list[Problem]) -> Values:
        assert self._envelope is not None  # find has read it
        empty = operation.shape.input.tag == ""
        call.came = Came(None if empty else self._envelope.payload, tuple(self._envelope.headers), self._version.number)
        payload = self._envelope.payload
        if operation.clean is not None and payload is not None and (taken := operation.clean(payload)):
            call.note(f"taken out of the request, since the contract does not have it: {', '.join(taken)}")
        if not operation.checks_input:
            return {}
        if operation.shape.input.tag == "":
            return {}
        values: Values = operation.decode(self._envelope.payload, operation.shape.name, problems)
        return values

    def encode(self, operation: LiveOperation, answer: Values, call: Call) -> tuple[int, bytes, bytes]:
        version = self._version
        if operation.shape.one_way:
            return 202, version.content_type, b""
        text, blocks = (answer.markup, "".join(answer.headers)) if isinstance(answer, Passed) else (operation.encode(answer), "")
        if call.trial is not None:
            blocks += call.trial.header()
        if call.written:
            blocks += written_block(call.written)
        head = version.head_with(blocks) if blocks else version.head
        return 200, version.content_type, (head + text + version.tail).encode()

    def fault(self, service: LiveService, operation: LiveOperation, fault: DeclaredFaultError, call: Call) -> tuple[int, bytes, bytes]:
        number = call.id if service.shape.form.declares_problems else ""
        detail = fault.detail.markup if isinstance(fault.detail, Passed) else operation.encode_fault[fault.name](fault.detail)
        sender = of_sender(service.shape, operation.shape, fault)
        body = self._with_written(declared_fault(self._version, fault, detail, number, sender), call)
        return declared_status(self._version, sender), self._version.content_type, body

    def refuse(self, service: LiveService, error: ProblemError, call: Call) -> tuple[int, bytes, bytes]:
        if isinstance(error, WrongVersionError):
            self._version = Soap.V11  # SOAP 1.2 Part 1, appendix A: answer in a version that anybody reads
        version, form = self._version, service.shape.form
        status = fault_status(version, error.problem, form.strict and isinstance(error, NotUnderstoodError))
        return status, version.content_type, self._with_written(problem_fault(version, error, call.id, form), call)

    def _with_written(self, envelope: bytes, call: Call) -> bytes:
        return with_blocks(self._version, envelope, written_block(call.written)) if call.written else envelope


class RestFace:
    """A JSON request for one operation; failures are problem documents (RFC 9457)."""

    __slots__ = ("_name", "_request")

    name = "rest"

    def __init__(self, request: Request, operation: str) -> None:
        self._request = request
        self._name = operation

    @property
    def request_id(self) -> str:
        return self._request.request_id

    def check(self) -> None:
        if self._request.content_type.partition(";")[0].strip().lower() not in ("application/json", ""):
            raise ProblemError(Problem("http.media", "The REST face takes JSON.", Kind.MEDIA, place="Content-Type",
                                       expected="application/json"))

    def find(self, service: LiveService) -> LiveOperation:
        return named_operation(service, self._name)

    def decode(self, operation: LiveOperation, call: Call, problems: list[Problem]) -> Values:
        return from_plain(operation.shape.input, _read_json(self._request.body), self._name, problems)

    def encode(self, operation: LiveOperation, answer: Values, call: Call) -> tuple[int, bytes, bytes]:
        if not isinstance(answer, Passed):
            operation.encode(answer)  # the same check of the answer as on the SOAP face
        document = to_plain(operation.shape.output, answer)
        if operation.shape.one_way and call.trial is None:
            return 202, JSON, b""
        if call.trial is not None:
            document["trial"] = [one.as_dict() for one in call.trial.changes]
        document |= _written(call)
        return 200, JSON, _json(document)

    def fault(self, service: LiveService, operation: LiveOperation, fault: DeclaredFaultError, call: Call) -> tuple[int, bytes, bytes]:
        shape = next(one for one in operation.shape.faults if one.name == fault.name)
        document = {"type": f"{service.shape.namespace}:{fault.name}", "title": fault.name, "status": 422,
                    "detail": fault.message, "fault": to_plain(shape.record, fault.detail), "call": call.id, **_written(call)}
        return 422, PROBLEM_JSON, _json(document)

    def refuse(self, service: LiveService, error: ProblemError, call: Call) -> tuple[int, bytes, bytes]:
        return error.problem.kind.http_status, PROBLEM_JSON, _json(problem_document(error, call.id) | _written(call))


def _written(call: Call) -> dict[str, Any]:
    return {"@written": [one.as_dict() for one in call.written]} if call.written else {}


def named_operation(service: LiveService, name: str) -> LiveOperation:
    operation = service.by_name.get(name)
    if operation is None:
        raise ProblemError(Problem("rest.operation", "The service has no such operation.", Kind.MISSING,
                                   place=name, choices=tuple(service.names)))
    return operation


def _json(document: dict[str, Any]) -> bytes:
    return json.dumps(document, ensure_ascii=False).encode()


def _read_json(body: bytes) -> object:
    if not body.strip():
        return {}
    return read_json(body)
