"""Requests for people: sample messages, and envelopes from a form. Values are written as given, right or wrong,
so that a test can send what the contract refuses. Replies are read back with the operation's own decoder."""

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from lxml import etree

from bricola.core.contracts.names import PROBLEM, PROBLEMS, TRIAL, XSI
from bricola.core.messages.decoder import ElementReader, compile_decoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.plain import to_plain
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import TYPE, Element, Group, OperationShape, Record, type_names
from bricola.core.shapes.primitives import ANY
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.styles import answer_record, into_request, out_of_answer, request_record
from bricola.core.xml import MOST_ANSWER, parse_xml


def write_request(version: Soap, namespace: str, operation: OperationShape, values: Mapping[str, Any]) -> bytes:
    """A readable envelope of an operation's request. Values by name: text, lists, and mappings for records; the header blocks that the
    contract declares are filled with samples."""
    root = etree.Element(version.tag_envelope, nsmap={"soap": version.namespace})
    if operation.headers:
        header = etree.SubElement(root, version.tag_header)
        for block in operation.headers:
            fill_message(header, namespace, block, sample_values(block))
    body = etree.SubElement(root, version.tag_body)
    if operation.input.tag != "":
        fill_message(body, namespace, request_record(operation), into_request(operation, values))
    etree.indent(root)
    return etree.tostring(root, encoding="UTF-8", xml_declaration=True) + b"\n"


def fill_message(parent: etree._Element, namespace: str, record: Record, values: Mapping[str, Any]) -> None:
    """Append a message's element to `parent`, with values as they are given."""
    tag = record.tag_in(namespace)
    own = tag[1:].partition("}")[0] if tag[:1] == "{" else ""
    # a default namespace would take in elements without one, which contracts of others and parts of rpc have
    ours = not record.id and all(one.tag is None for one in record.elements)
    nsmap: dict[Any, str] = {None if ours else "m": own} if own else {}
    _Filler(namespace).fill(etree.SubElement(parent, tag, nsmap=nsmap), record, values)


class _Filler:
    """Writes values below an element, right or wrong, in the order of the contract."""

    def __init__(self, namespace: str) -> None:
        self._namespace = namespace

    def fill(self, node: etree._Element, record: Record, values: Mapping[str, Any]) -> None:
        word = values.get(TYPE)
        if word is not None:
            record = self._typed(node, record, str(word))
        for attribute in record.attributes:
            value = values.get(attribute.name)
            if value is not None:
                with _guarded(attribute.name):
                    self._attribute(node, attribute, value)
        for tag, value in dict(values.get(record.open_attributes.name) or {}).items() if record.open_attributes else ():
            with _guarded(tag):
                node.set(tag, str(value))
        if record.text is not None and values.get(record.text.name) is not None:
            with _guarded(record.text.name):
                self._text(node, record.text, values[record.text.name])
        elif record.mixed:
            with _guarded(record.mixed):
                _markup_into(node, str(values.get(record.mixed) or ""))
        elif record.content is not None:
            self._group(node, record.content, values, set())
        else:
            for element in record.elements:
                self._element(node, element, values)
        known = {one.name for one in record.slots} | {TYPE}
        for name, value in values.items():
            if name not in known and value is not None:
                own = f"{{{self._namespace}}}" if record.tag is None or not record.id else ""
                self._each(node, Element(name, SimpleType("string"), tag=f"{own}{name}"), value)

    def _typed(self, node: etree._Element, record: Record, word: str) -> Record:
        known = type_names(record)
        found = known.get(word)
        tag = found.type if found is not None else word
        namespace, _, local = tag[1:].partition("}") if tag[:1] == "{" else ("", "", tag)
        with _guarded(TYPE):
            _set_name(node, f"{{{XSI}}}type", namespace, local)
        return found or record

    def _group(self, node: etree._Element, group: Group, values: Mapping[str, Any], done: set[str]) -> None:
        if group.name:
            items = values.get(group.name)
            for item in items if isinstance(items, list | tuple) else () if items is None else (items,):
                if isinstance(item, Mapping):
                    self._group(node, group.inside, item, set())
            return
        for part in group.parts:
            if isinstance(part, Group):
                self._group(node, part, values, done)
            elif part.name not in done:
                done.add(part.name)
                if isinstance(part, Element):
                    self._element(node, part, values)
                else:
                    given = values.get(part.name)
                    for text in given if isinstance(given, list | tuple) else () if given is None else (given,):
                        with _guarded(part.name):
                            node.append(_parsed(str(text)))

    def _element(self, node: etree._Element, element: Element, values: Mapping[str, Any]) -> None:
        value = values.get(element.name)
        if value is None:
            if element.name in values:
                if not element.nillable:
                    raise ProblemError(Problem("request.nil", f"{element.name} is never nil in this contract.", place=element.name,
                                               mend="Leave it out; to empty a field, name it in 'clear'."))
                etree.SubElement(node, element.tag_in(self._namespace)).set(f"{{{XSI}}}nil", "true")
            return
        self._each(node, element, value)

    def _each(self, node: etree._Element, element: Element, value: Any) -> None:
        kind = element.type
        if isinstance(value, list | tuple) and isinstance(kind, SimpleType) and kind.item is not None and not element.is_list:
            value = " ".join(_text_of(one) for one in value)
        for one in value if isinstance(value, list | tuple) else (value,):
            with _guarded(element.name):
                self._add(node, element, one)

    def _add(self, parent: etree._Element, element: Element, value: Any) -> None:
        tag = element.tag_in(self._namespace)
        if isinstance(element.type, SimpleType) and element.type.base == ANY and isinstance(value, str) and value.lstrip().startswith("<"):
            parent.append(_parsed(value))
            return
        node = etree.SubElement(parent, tag)
        if value is None and element.nillable:
            node.set(f"{{{XSI}}}nil", "true")
        elif isinstance(value, Mapping):
            self.fill(node, element.type if isinstance(element.type, Record) else Record(element.name), value)
        else:
            self._text(node, element, value)

    def _text(self, node: etree._Element, element: Element, value: Any) -> None:
        text = " ".join(_text_of(one) for one in value) if isinstance(value, list | tuple) else _text_of(value)
        if isinstance(element.type, SimpleType) and element.type.holds_names and text[:1] == "{":
            namespace, _, local = text[1:].partition("}")
            text = f"{_prefix(node, namespace)}:{local}"
        node.text = text

    def _attribute(self, node: etree._Element, attribute: Element, value: Any) -> None:
        text = " ".join(_text_of(one) for one in value) if isinstance(value, list | tuple) else _text_of(value)
        node.set(attribute.tag if attribute.tag is not None else attribute.name, text)


def _text_of(value: Any) -> str:
    return ("true" if value else "false") if isinstance(value, bool) else str(value)


def _prefix(node: etree._Element, namespace: str) -> str:
    """A prefix that means a namespace on a node; declared there when nobody did."""
    known = next((prefix for prefix, one in node.nsmap.items() if one == namespace and prefix), None)
    if known is not None:
        return known
    name = f"v{len(node.nsmap)}"
    marker = etree.SubElement(node, f"{{{namespace}}}marker", nsmap={name: namespace})
    node.remove(marker)
    etree.cleanup_namespaces(node, top_nsmap={name: namespace}, keep_ns_prefixes=[name])
    return name


def _set_name(node: etree._Element, attribute: str, namespace: str, local: str) -> None:
    node.set(attribute, f"{_prefix(node, namespace)}:{local}" if namespace else local)


def _parsed(text: str) -> etree._Element:
    return parse_xml(text.encode())


def _markup_into(node: etree._Element, text: str) -> None:
    declared = "".join(f' xmlns:{prefix}="{one}"' for prefix, one in node.nsmap.items() if prefix)
    inner = _parsed(f"<content{declared}>{text}</content>")
    node.text = inner.text
    node.extend(list(inner))


@contextmanager
def _guarded(name: str) -> Iterator[None]:
    try:
        yield
    except ValueError:
        raise ProblemError(Problem("request.character", "XML cannot hold this name or value.", place=name)) from None


MASK = "not shown"


def sensitive_names(operation: OperationShape) -> frozenset[str]:
    """The elements of an operation's messages whose values people should not see."""
    found: set[str] = set()
    seen: set[str] = set()

    def visit(record: Record) -> None:
        for one in record.slots:
            if one.sensitive:
                found.add(one.local)
            if isinstance(one.type, Record) and one.type.id not in seen:
                seen.update([one.type.id] if one.type.id else [])
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
    known = {one.name: one for one in record.slots}

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


def read_reply(namespace: str, operation: OperationShape, body: bytes, read: ElementReader | None = None) -> Reply:
    """Read a reply envelope of either version against the contract. `read` is what `reply_reader` gave, for those who read many."""
    try:
        root = parse_xml(body, most=MOST_ANSWER)
    except ProblemError as error:
        return Reply(problems=error.problems)
    version = next((one for one in Soap if one.tag_envelope == root.tag), None)
    payload = None if version is None else root.find(f"{version.tag_body}/*")
    if version is None or payload is None:
        return Reply(problems=(Problem("reply.envelope", "The reply is not a SOAP envelope with a body."),))
    if payload.tag == version.tag_fault:
        return Reply(fault=_read_fault(payload))
    record = answer_record(operation)
    if payload.tag != record.tag_in(namespace):
        return Reply(problems=(Problem("reply.element", "The reply holds another element than the contract promises.",
                                       expected=record.name, found=payload.tag),))
    problems: list[Problem] = []
    values = (read or reply_reader(namespace, operation))(payload, operation.output.name, problems)
    if problems:
        return Reply(problems=tuple(problems))
    return Reply(answer=to_plain(operation.output, out_of_answer(operation, values)))


def reply_reader(namespace: str, operation: OperationShape) -> ElementReader:
    """What reads the answers of an operation."""
    return compile_decoder(answer_record(operation), namespace)


def read_trial(body: bytes) -> list[dict[str, Any]]:
    """What the header of a trial's reply says would be stored: object, action, key, and each field before and after."""
    try:
        root = parse_xml(body, most=MOST_ANSWER)
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
    nodes = [] if detail is None else [inner for node in detail
                                       for inner in (node if node.tag == f"{{{PROBLEM}}}{PROBLEMS}" else (node,))]
    entries = [{"name": etree.QName(node).localname, **_flat(node)} for node in nodes]
    return {
        "code": (code.text or "").rpartition(":")[2] if code is not None else "",
        "reason": (reason.text or "") if reason is not None else "",
        "detail": entries,
    }


def _flat(node: etree._Element) -> dict[str, str]:
    if not len(node):
        return {"value": node.text or ""}
    return {etree.QName(child).localname: child.text or "" for child in node}
