"""Faults in the shape and with the HTTP status of each SOAP version.

Declared faults carry the detail element that the contract names. Every other fault carries one
`problem` element per cause, in a namespace of our own, so that a program can read code, place and mend.
"""

from collections.abc import Mapping, Sequence
from typing import Any

from bricola.core.contracts.names import PROBLEM, PROBLEMS
from bricola.core.contracts.schema import PROBLEM_PARTS
from bricola.core.messages.checks import escape
from bricola.core.messages.envelope import NotUnderstoodError, Soap, WrongVersionError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.forms import NEWEST, Form
from bricola.core.shapes.model import Cause, OperationShape, ServiceShape


class DeclaredFaultError(Exception):
    """A fault that the contract declares: its name, a sentence, and the values of its detail element. `cause` is that of the other side,
    whose fault is passed on; None for what the contract says."""

    def __init__(self, name: str, message: str, detail: Mapping[str, Any], cause: Cause | None = None) -> None:
        super().__init__(message)
        self.name = name
        self.message = message
        self.detail = detail
        self.cause = cause


# What HTTP itself regulates keeps its status in both versions; see `fault_status`.
_HTTP_KINDS = (Kind.IDENTITY, Kind.PERMISSION, Kind.MISSING, Kind.METHOD, Kind.MEDIA, Kind.TOO_LARGE, Kind.GONE, Kind.LIMIT,
               Kind.BUSY)


def fault_status(version: Soap, problem: Problem, not_understood: bool = False) -> int:
    """The HTTP status of a fault that is not declared.

    SOAP 1.1 (section 6.2) has 500 for every fault. SOAP 1.2 (Part 2, table 20) has 400 for a fault of the sender and 500 otherwise, so
    for MustUnderstand.
    """
    if problem.kind in _HTTP_KINDS:
        return problem.kind.http_status
    return declared_status(version, problem.kind.blames_sender and not not_understood)


def declared_status(version: Soap, sender: bool) -> int:
    """The HTTP status of a fault that the contract declares, by whose it is."""
    return 400 if sender and version is Soap.V12 else 500


def problem_fault(version: Soap, error: ProblemError, call: str = "", form: Form = NEWEST) -> bytes:
    """The envelope of a fault with one `problem` element for each cause, inside `problems` from form 2 on."""
    about_header = version is Soap.V11 and isinstance(error, NotUnderstoodError)  # no detail then: SOAP 1.1, section 4.4
    detail = "" if about_header else _details(error.problems, call, form)
    return _fault(version, _code(version, error), _reason(error.problems), detail, _not_understood(version, error))


def declared_fault(version: Soap, fault: DeclaredFaultError, detail: str, call: str = "", sender: bool = False) -> bytes:
    """The envelope of a declared fault around its encoded detail element; the text names the call, where it is given. `sender` says whose
    fault it is."""
    reason = f"{fault.message} (call {call})" if call else fault.message
    return _fault(version, _blamed(version, sender), reason, detail)


def _blamed(version: Soap, sender: bool) -> str:
    if sender:
        return "Client" if version is Soap.V11 else "Sender"
    return "Server" if version is Soap.V11 else "Receiver"


def of_sender(service: ServiceShape, operation: OperationShape, fault: DeclaredFaultError) -> bool:
    """Whether a declared fault is the sender's: as the other side says whose fault is passed on, else as the contract says."""
    if not service.form.blames:
        return False
    return (fault.cause or next((one.cause for one in operation.faults if one.name == fault.name), "sender")) == "sender"


def with_blocks(version: Soap, envelope: bytes, blocks: str) -> bytes:
    """The envelope with header blocks; one that has a header already stays as it is."""
    return envelope.replace(version.head.encode(), version.head_with(blocks).encode(), 1) if blocks else envelope


def _code(version: Soap, error: ProblemError) -> str:
    if isinstance(error, NotUnderstoodError):
        return "MustUnderstand"
    if isinstance(error, WrongVersionError):
        return "VersionMismatch"
    return _blamed(version, error.problem.kind.blames_sender)


def _reason(problems: Sequence[Problem]) -> str:
    text = problems[0].sentence()
    more = len(problems) - 1
    return f"{text} ({more} more {'problem' if more == 1 else 'problems'} in the detail.)" if more else text


def _details(problems: Sequence[Problem], call: str, form: Form) -> str:
    if form.declares_problems:
        return problems_element(problems, call)
    parts = []
    for problem in problems:
        fields = "".join(
            f"<{name}>{clean(value)}</{name}>" for name, value in problem.as_dict().items() if name != "kind"
        )
        parts.append(f'<problem xmlns="{PROBLEM}">{fields}</problem>')
    if call:
        parts.append(f'<call xmlns="{PROBLEM}">{clean(call)}</call>')
    return "".join(parts)


def problems_element(problems: Sequence[Problem], call: str) -> str:
    """The element that every contract of form 2 declares; in those of others it stands undeclared."""
    parts = []
    for problem in problems:
        known = problem.as_dict()
        fields = "".join(f"<{name}>{clean(known[name])}</{name}>" for name in PROBLEM_PARTS if name in known)
        parts.append(f"<problem>{fields}</problem>")
    told = f"<call>{clean(call)}</call>" if call else ""
    return f'<{PROBLEMS} xmlns="{PROBLEM}">{"".join(parts)}{told}</{PROBLEMS}>'


def clean(text: str) -> str:
    """Escaped text in which characters that XML cannot hold are replaced, since a fault must always be sendable."""
    try:
        return escape(text)
    except ValueError:
        return escape("".join(c if c.isprintable() or c in "\t\n\r" else "\N{REPLACEMENT CHARACTER}" for c in text))


def _not_understood(version: Soap, error: ProblemError) -> str:
    """SOAP 1.2 Part 1, section 5.4.8: the fault names the block in a header of its own."""
    if version is Soap.V11 or not isinstance(error, NotUnderstoodError):
        return ""
    namespace, _, local = error.block.removeprefix("{").rpartition("}")
    return (f'<soap:Header><soap:NotUnderstood qname="b:{clean(local)}" xmlns:b="{clean(namespace)}"/>'
            "</soap:Header>")


def _fault(version: Soap, code: str, reason: str, detail: str, header: str = "") -> bytes:
    if version is Soap.V11:
        fault = (f"<soap:Fault><faultcode>soap:{code}</faultcode><faultstring>{clean(reason)}</faultstring>"
                 f"{f'<detail>{detail}</detail>' if detail else ''}</soap:Fault>")
    else:
        fault = (f"<soap:Fault><soap:Code><soap:Value>soap:{code}</soap:Value></soap:Code><soap:Reason>"
                 f'<soap:Text xml:lang="en">{clean(reason)}</soap:Text></soap:Reason>'
                 f"<soap:Detail>{detail}</soap:Detail></soap:Fault>")
    head = version.head.replace("<soap:Body>", f"{header}<soap:Body>") if header else version.head
    return (head + fault + version.tail).encode()
