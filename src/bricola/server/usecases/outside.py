"""What the other side of a relay answers itself, beside what this service answers to the same message."""

from typing import Any

from lxml import etree

from bricola.core.messages.request import masked_text, sensitive_names, write_request
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.xml import parse_xml
from bricola.server.usecases.bench import version_for
from bricola.server.usecases.records import Ports, live_operation, visits


async def ask(ports: Ports, environment: str, service: str, operation: str, soap: str, values: dict[str, Any], envelope: str | None,
              ours: str = "", writes: bool = False) -> dict[str, Any]:
    """Send a request past the service. `ours` is the envelope that the service answered to it: then it is said whether both hold the same.
    What changes something on the other side is sent with the consent of `writes` only. Raises ProblemError."""
    found, catalogue = await live_operation(ports, environment, service, operation)
    owner = next((one for one in ports.kinds if one.kind.word == found.kind.word), None)
    if found.ways is not None or owner is None or owner.outside is None:
        raise ProblemError(Problem("outside.none", "The operation is not sent on as it came, so nobody else can answer this message.",
                                   place=operation, mend="Ask an operation that runs a relay of the service's own contract."))
    if found.shape.writes and not writes:
        raise ProblemError(Problem("outside.writes", "The operation changes something on the other side, and would do it again.",
                                   Kind.CONFLICT, place=operation, mend="Consent to that with 'writes'."))
    live = ports.places.find(environment, service)
    assert live is not None  # its operation was found
    version = version_for(live.shape, soap)
    message = envelope.encode() if envelope is not None else write_request(version, live.shape.namespace, found.shape, values)
    answer = await owner.outside(found, message, visits(ports, environment, catalogue))
    body: bytes = answer.pop("body")
    text = masked_text(body.decode("utf-8", "replace"), sensitive_names(found.shape))
    return answer | {"response": text, "response_bytes": len(body), "same": _same(ours, text) if ours else None}


def _same(ours: str, theirs: str) -> bool:
    return _body(ours) is not None and _body(ours) == _body(theirs)


def _body(envelope: str) -> bytes | None:
    """What an envelope holds, as Canonical XML has it (Exclusive, 1.0); None where there is nothing to compare."""
    try:
        root = parse_xml(envelope.encode())
    except ProblemError:
        return None
    body = next((one for one in root if etree.QName(one).localname == "Body"), None)
    payload = next(iter(body), None) if body is not None else None
    return etree.tostring(payload, method="c14n", exclusive=True) if payload is not None else None
