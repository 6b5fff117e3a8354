"""What is handed over to those who call an operation: a request and an answer for each face, made from the contract and its samples."""

import json
from dataclasses import dataclass

from lxml import etree

from bricola.core.contracts.wsdl import soap_action
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.request import write_request
from bricola.core.messages.samples import sample_values
from bricola.core.messages.snippets import snippets
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import OperationShape, ServiceShape, Values
from bricola.core.shapes.styles import answer_record, into_answer

REST = "json"


@dataclass(frozen=True)
class Handout:
    """One face of one operation. `answer` is '' where nothing is answered; `forms` are the request for curl, Python and as plain HTTP."""

    label: str
    request: str
    answer: str
    forms: dict[str, str]


def request_headers(shape: ServiceShape, operation: OperationShape, version: Soap) -> dict[str, str]:
    """Content type and action: a header of its own in SOAP 1.1 (section 6.1.1), a parameter in SOAP 1.2 (RFC 3902)."""
    action = soap_action(shape, operation.name) if operation.action is None else operation.action
    media = version.content_type.decode()
    if version is Soap.V11:
        return {"Content-Type": media, "SOAPAction": f'"{action}"'}
    return {"Content-Type": f'{media}; action="{action}"' if operation.action else media}


def handouts(shape: ServiceShape, operation: OperationShape, soap: str, rest: str, identity: bool = True) -> list[Handout]:
    """Every face of an operation at its addresses. `identity`: whether callers sign in."""
    values = sample_values(operation.input)
    plain_answer, answer = _answer(shape, operation)
    found = []
    for version in Soap:
        if version.number in shape.soap:
            request = write_request(version, shape.namespace, operation, values).decode()
            headers = request_headers(shape, operation, version)
            text = _pretty(version.head + answer + version.tail) if answer is not None else ""
            found.append(Handout(f"SOAP {version.number}", request, text, snippets(soap, headers, request, identity)))
    document = json.dumps(values, ensure_ascii=False, indent=2)
    told = json.dumps(plain_answer, ensure_ascii=False, indent=2) if plain_answer is not None else ""
    headers = {"Content-Type": "application/json"}
    found.append(Handout("JSON", document, told, snippets(f"{rest}/{operation.name}", headers, document, identity)))
    return found


def _answer(shape: ServiceShape, operation: OperationShape) -> tuple[Values | None, str | None]:
    """A sample answer as JSON has it, and its element; nothing for an operation that answers nothing."""
    if operation.one_way:
        return None, None
    problems: list[Problem] = []
    values = from_plain(operation.output, sample_values(operation.output, everything=True), operation.name, problems)
    if problems:
        raise ProblemError(*problems)
    return to_plain(operation.output, values), compile_encoder(answer_record(operation), shape.namespace)(
        into_answer(operation, values))


def _pretty(envelope: str) -> str:
    root = etree.fromstring(envelope.encode())
    etree.indent(root)
    return etree.tostring(root, encoding="unicode") + "\n"
