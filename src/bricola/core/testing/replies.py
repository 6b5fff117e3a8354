"""What came back, taken apart for the tests: the answer held against the contract, or the fault with its code, place and parts."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from lxml import etree

from bricola.core.contracts.names import PROBLEM, PROBLEMS
from bricola.core.json_text import read_json
from bricola.core.messages.decoder import ElementReader, compile_decoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.request import Reply, read_reply
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import OperationShape, ServiceShape
from bricola.core.xml import MOST_ANSWER, parse_xml

Judge = Callable[[etree._Element], list[str]]  # what another reader of the contract has against what stands in a body


@dataclass(frozen=True)
class Fault:
    """A fault that came: `name` where the contract declares it, with its parts; else the problems, the first cause first."""

    name: str = ""
    words: str = ""
    parts: Mapping[str, Any] = field(default_factory=dict)
    problems: tuple[Problem, ...] = ()

    @property
    def summary(self) -> str:
        if self.name:
            return f"the fault {self.name}: {self.words}" if self.words else f"the fault {self.name}"
        first = self.problems[0] if self.problems else None
        return f"the problem {first.code}: {first.sentence()}" if first is not None and first.code else f"a fault: {self.words}"


@dataclass(frozen=True)
class Seen:
    """One reply. `against` says in which ways it is not what the contract promises; `call` is the number under which it is recorded."""

    status: int
    body: bytes
    seconds: float
    call: str = ""
    answer: Mapping[str, Any] | None = None
    fault: Fault | None = None
    against: tuple[Problem, ...] = ()
    payload: etree._Element | None = None
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def summary(self) -> str:
        """What came, in a few words."""
        if self.fault is not None:
            return self.fault.summary
        if self.answer is not None:
            return "an answer"
        return f"status {self.status}" + (f", {self.against[0].message}" if self.against else " without content")


def read_soap(shape: ServiceShape, operation: OperationShape, status: int, body: bytes, seconds: float, headers: Mapping[str, str],
              judge: Judge | None = None, read: ElementReader | None = None) -> Seen:
    """A reply of either version of SOAP. `read` is what reads its answers, for those who read many."""
    call = headers.get("call-id", "")
    if operation.one_way and status == 202 and not body.strip():
        return Seen(status, body, seconds, call, answer={}, headers=headers)
    if len(body) > MOST_ANSWER:
        return Seen(status, body[:2000], seconds, call, against=(_too_large(body),), headers=headers)
    reply = read_reply(shape.namespace, operation, body, read)
    payload = _payload(body)
    fault = _soap_fault(shape, operation, payload, reply) if reply.fault is not None else None
    against = list(reply.problems)
    if status == 200 and fault is not None:
        against.append(Problem("reply.status", "A fault came with the status of an answer.", expected="500, or 400 in SOAP 1.2",
                               found="200"))
    if fault is not None and not fault.name and not fault.problems and not _known_by_code(reply):
        against.append(Problem("reply.fault", "The contract does not declare this fault.", found=shown(fault.words),
                               expected=", ".join(one.name for one in operation.faults) or "no declared fault"))
    if not against and payload is not None and judge is not None:
        against += [Problem("reply.schema", "The schema of the contract does not allow this.",
                            found=shown(one, 200)) for one in judge(payload)]
    return Seen(status, body, seconds, call, reply.answer, fault, tuple(against), payload, headers)


def _too_large(body: bytes) -> Problem:
    return Problem("reply.size", "The answer is larger than what is looked at.", expected=f"at most {MOST_ANSWER} bytes",
                   found=str(len(body)))


def _payload(body: bytes) -> etree._Element | None:
    try:
        root = parse_xml(body, most=MOST_ANSWER)
    except ProblemError:
        return None
    version = next((one for one in Soap if one.tag_envelope == root.tag), None)
    return root.find(f"{version.tag_body}/*") if version is not None else None


def _known_by_code(reply: Reply) -> bool:
    """Faults of the envelope itself have no detail: SOAP 1.1, section 4.4."""
    assert reply.fault is not None
    return reply.fault["code"] in ("MustUnderstand", "VersionMismatch", "Client", "Sender") and not reply.fault["detail"]


def _soap_fault(shape: ServiceShape, operation: OperationShape, payload: etree._Element | None, reply: Reply) -> Fault:
    assert reply.fault is not None
    words = str(reply.fault["reason"])
    details = [] if payload is None else [inner for node in payload if etree.QName(node).localname.lower() == "detail" for inner in node]
    problems: list[Problem] = []
    for node in details:
        for one in operation.faults:
            if node.tag == one.record.tag_in(shape.namespace):
                wrong: list[Problem] = []
                values = compile_decoder(one.record, shape.namespace)(node, one.name, wrong)
                parts = {} if wrong or values is None else to_plain(one.record, values)
                return Fault(one.name, words, parts, tuple(wrong))
        inside = list(node) if node.tag == f"{{{PROBLEM}}}{PROBLEMS}" else [node]
        problems += [_problem({etree.QName(part).localname: part.text or "" for part in one}) for one in inside
                     if one.tag == f"{{{PROBLEM}}}problem"]
    return Fault("", words, problems=tuple(problems))


def _problem(parts: Mapping[str, Any]) -> Problem:
    kept = {name: str(parts[name]) for name in ("expected", "found", "mend", "place") if parts.get(name)}
    return replace(Problem(str(parts.get("code", "")), str(parts.get("message", ""))), **kept)  # type: ignore[arg-type]


def read_rest(shape: ServiceShape, operation: OperationShape, status: int, body: bytes, seconds: float, headers: Mapping[str, str]) -> Seen:
    """A reply of the REST face: JSON of the contract, or a problem document (RFC 9457)."""
    call = headers.get("call-id", "")
    if operation.one_way and status == 202 and not body.strip():
        return Seen(status, body, seconds, call, answer={}, headers=headers)
    if len(body) > MOST_ANSWER:
        return Seen(status, body[:2000], seconds, call, against=(_too_large(body),), headers=headers)
    try:
        document = read_json(body)
    except ProblemError:
        document = None
    if not isinstance(document, dict):
        return Seen(status, body, seconds, call, headers=headers, against=(Problem("reply.json", "The reply is no JSON object."),))
    if status == 200:
        plain = {name: value for name, value in document.items() if name not in ("trial", "@written")}
        problems: list[Problem] = []
        values = from_plain(operation.output, plain, operation.name, problems)
        if problems:
            return Seen(status, body, seconds, call, headers=headers, against=tuple(problems))
        return Seen(status, body, seconds, call, to_plain(operation.output, values), headers=headers)
    name = str(document.get("title", ""))
    declared = next((one for one in operation.faults if one.name == name and "fault" in document), None)
    words = str(document.get("detail", ""))
    if declared is not None:
        wrong: list[Problem] = []
        parts = to_plain(declared.record, from_plain(declared.record, document["fault"], name, wrong))
        return Seen(status, body, seconds, call, None, Fault(name, words, {} if wrong else parts), tuple(wrong), headers=headers)
    listed = document.get("problems")
    found = tuple(_problem(one) for one in listed if isinstance(one, dict)) if isinstance(listed, list) else ()
    against = () if found else (Problem("reply.problem", "The reply is no problem document.", expected="RFC 9457 with 'problems'"),)
    return Seen(status, body, seconds, call, None, Fault("", words, problems=found), against, headers=headers)
