"""Requests for people: sample messages, and envelopes from a form. Values are written as given, right or wrong,
so that a test can send what the contract refuses. Replies are read back with the operation's own decoder."""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from lxml import etree

from bricola.core.contracts.names import TRIAL, XSI
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.plain import to_plain
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Element, OperationShape, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.xml import parse_xml


def write_request(version: Soap, namespace: str, operation: OperationShape, values: Mapping[str, Any]) -> bytes:
    """A readable envelope of an operation's request. Values by name: text, lists, and mappings for records."""
    root = etree.Element(version.tag_envelope, nsmap={"soap": version.namespace})
    body = etree.SubElement(root, version.tag_body)
    wrapper = etree.SubElement(body, f"{{{namespace}}}{operation.name}", nsmap={None: namespace})  # type: ignore[dict-item]
    _fill(wrapper, namespace, operation.input, values)
    etree.indent(root)
    return etree.tostring(root, encoding="UTF-8", xml_declaration=True) + b"\n"


def _fill(parent: etree._Element, namespace: str, record: Record, values: Mapping[str, Any]) -> None:
    known = {element.name: element for element in record.elements}
    for name in (*known, *(name for name in values if name not in known)):
        value = values.get(name)
        element = known.get(name)
        if value is None:
            if name in values and element is not None and element.nillable:
                etree.SubElement(parent, f"{{{namespace}}}{name}").set(f"{{{XSI}}}nil", "true")
            continue
        for one in value if isinstance(value, list | tuple) else (value,):
            _add(parent, namespace, name, element, one)


def _add(parent: etree._Element, namespace: str, name: str, element: Element | None, value: Any) -> None:
    try:
        node = etree.SubElement(parent, f"{{{namespace}}}{name}")
        if isinstance(value, Mapping):
            inner = element.type if element is not None and isinstance(element.type, Record) else Record(name)
            _fill(node, namespace, inner, value)
        elif isinstance(value, bool):
            node.text = "true" if value else "false"
        else:
            node.text = str(value)
    except ValueError:
        raise ProblemError(Problem("request.character", "XML cannot hold this name or value.", place=name)) from None


def sample_values(record: Record, everything: bool = False) -> dict[str, Any]:
    """Values that work unedited: the defined samples, else the smallest value that the type allows.

    Optional elements are left out unless they have a sample of their own and `everything` is asked.
    """
    values: dict[str, Any] = {}
    for element in record.elements:
        if not element.least and not (everything and element.sample is not None):
            continue
        if isinstance(element.type, Record):
            one: Any = sample_values(element.type, everything)
        elif element.sample is not None:
            one = element.type.write(element.sample)
        else:
            one = _smallest(element.type)
        values[element.name] = [one] * max(1, element.least) if element.is_list else one
    return values


def _smallest(kind: SimpleType) -> str:
    if kind.codes:
        return kind.codes[0]
    if kind.min is not None:
        return kind.min
    if kind.primitive.python is str:
        shortest = kind.length or kind.min_length or 0
        text = kind.primitive.sample.ljust(shortest, "x")
        return text[: kind.length or kind.max_length or len(text)]
    return kind.primitive.sample


MASK = "not shown"


def sensitive_names(operation: OperationShape) -> frozenset[str]:
    """The elements of an operation's messages whose values people should not see."""
    found: set[str] = set()

    def visit(record: Record) -> None:
        for one in record.elements:
            if one.sensitive:
                found.add(one.name)
            if isinstance(one.type, Record):
                visit(one.type)

    for record in (operation.input, operation.output, *(one.record for one in operation.faults)):
        visit(record)
    return frozenset(found)


def masked_text(text: str, names: frozenset[str]) -> str:
    """An envelope for people, without the content of these elements."""
    if not names:
        return text
    pattern = rf"(<(?P<tag>(?:[\w.-]+:)?(?:{'|'.join(sorted(names))}))(?:\s[^>]*)?>)[^<]*(</(?P=tag)\s*>)"
    return re.sub(pattern, rf"\1{MASK}\3", text)


def masked_values(record: Record, plain: Mapping[str, Any]) -> dict[str, Any]:
    """Plain values for people, without those that are sensitive."""
    known = {one.name: one for one in record.elements}

    def one_of(element: Element | None, value: Any) -> Any:
        if isinstance(value, list):
            return [one_of(element, item) for item in value]
        if element is not None and isinstance(element.type, Record) and isinstance(value, Mapping):
            return masked_values(element.type, value)
        return MASK if element is not None and element.sensitive and value is not None else value

    return {name: one_of(known.get(name), value) for name, value in plain.items()}


@dataclass(frozen=True)
class Reply:
    """A reply taken apart: the answer as plain JSON data, or the fault. `problems` says where it breaks the contract."""

    answer: dict[str, Any] | None = None
    fault: dict[str, Any] | None = None
    problems: tuple[Problem, ...] = ()


def read_reply(namespace: str, operation: OperationShape, body: bytes) -> Reply:
    """Read a reply envelope of either version against the contract."""
    try:
        root = parse_xml(body)
    except ProblemError as error:
        return Reply(problems=error.problems)
    version = next((one for one in Soap if one.tag_envelope == root.tag), None)
    payload = None if version is None else root.find(f"{version.tag_body}/*")
    if version is None or payload is None:
        return Reply(problems=(Problem("reply.envelope", "The reply is not a SOAP envelope with a body."),))
    if payload.tag == version.tag_fault:
        return Reply(fault=_read_fault(payload))
    if payload.tag != f"{{{namespace}}}{operation.output.name}":
        return Reply(problems=(Problem("reply.element", "The reply holds another element than the contract promises.",
                                       expected=operation.output.name, found=payload.tag),))
    problems: list[Problem] = []
    values = compile_decoder(operation.output, namespace)(payload, operation.output.name, problems)
    if problems:
        return Reply(problems=tuple(problems))
    return Reply(answer=to_plain(operation.output, values))


def read_trial(body: bytes) -> list[dict[str, Any]]:
    """What the header of a trial's reply says would be stored: object, action, key, and each field before and after."""
    try:
        root = parse_xml(body)
    except ProblemError:
        return []
    changes = []
    for node in root.iter(f"{{{TRIAL}}}change"):
        sides = {one.get("name", ""): {side: one.findtext(f"{{{TRIAL}}}{side}") for side in ("before", "after")}
                 for one in node.findall(f"{{{TRIAL}}}field")}
        keys = {one.get("name", ""): one.text or "" for one in node.findall(f"{{{TRIAL}}}key")}
        changes.append({"object": node.get("object"), "action": node.get("action"), "key": keys, "fields": sides})
    return changes


def _read_fault(fault: etree._Element) -> dict[str, Any]:
    """Code, reason and detail of a fault of either version, as plain data."""
    texts = {etree.QName(node).localname: node for node in fault.iter("{*}*")}
    code = texts["Value"] if "Value" in texts else texts.get("faultcode")
    reason = texts["Text"] if "Text" in texts else texts.get("faultstring")
    detail = next((node for node in fault if etree.QName(node).localname.lower() == "detail"), None)
    entries = [] if detail is None else [{"name": etree.QName(node).localname, **_flat(node)} for node in detail]
    return {
        "code": (code.text or "").rpartition(":")[2] if code is not None else "",
        "reason": (reason.text or "") if reason is not None else "",
        "detail": entries,
    }


def _flat(node: etree._Element) -> dict[str, str]:
    if not len(node):
        return {"value": node.text or ""}
    return {etree.QName(child).localname: child.text or "" for child in node}
