"""The messages of operations in WSDL 1.1: bodies, header blocks and faults, as their bindings say (sections 2.3 and 3)."""

from dataclasses import dataclass, field

from lxml import etree

from bricola.core.contracts.names import WSDL
from bricola.core.contracts.reading.contract import ReadMessage
from bricola.core.contracts.reading.parts import Names, Part, child
from bricola.core.contracts.reading.schemas import Schema, Tell
from bricola.core.contracts.reading.types import Types
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

W = f"{{{WSDL}}}"


@dataclass(eq=False)
class Node:
    """A named section of a WSDL part."""

    node: etree._Element
    part: Part
    names: Names

    def expand(self, text: str, node: etree._Element | None = None) -> str | None:
        return self.names.expand(self.node if node is None else node, text)


@dataclass
class Sections:
    messages: dict[str, Node] = field(default_factory=dict)
    port_types: dict[str, Node] = field(default_factory=dict)
    bindings: dict[str, Node] = field(default_factory=dict)
    services: list[Node] = field(default_factory=list)


class Messages:
    """Finds what stands in the messages of operations. What cannot be served is told, and left out."""

    def __init__(self, sections: Sections, types: Types, tell: Tell) -> None:
        self._sections, self._types, self._tell = sections, types, tell

    def message_of(self, port_type: Node, node: etree._Element) -> Node | None:
        text = node.get("message", "")
        tag = port_type.expand(text, node)
        message = self._sections.messages.get(tag) if tag is not None else None
        if message is None:
            self._tell("wsdl.reference", f"There is no message {text}.", port_type.part, node)
        return message

    def side(self, name: str, side: str, style: str, namespace: str, binding: Node, place: etree._Element,
              message: Node) -> tuple[ReadMessage, tuple[Record, ...], list[Record]] | None:
        """One direction of a bound operation: its body, its headers, the faults of those; None when it cannot be served."""
        body = child(place, f"{namespace}body")
        if body is None:
            body = next((one for one in place.iter(f"{namespace}body")), None)
            if body is not None:
                self._tell("wsdl.attachments", f"The {side} of {name} is bound with attachments; only its SOAP body is served.",
                           binding.part, place)
        if body is not None and body.get("use", "literal") != "literal":
            self._tell("wsdl.encoded", f"{name} cannot be served: its {side} is {style}/{body.get('use')}, and only literal messages "
                                       "have a schema.", binding.part, body)
            return None
        headers, faults, header_parts = self._headers(binding, place, namespace, message)
        parts = list(message.node.iterchildren(f"{W}part"))
        named = body.get("parts") if body is not None else None
        if named is not None:
            wanted = named.split()
            parts = [one for one in parts if one.get("name") in wanted]
        else:
            parts = [one for one in parts if one.get("name") not in header_parts]
        if style == "rpc":
            local = name if side == "input" else f"{name}Response"
            outer = body.get("namespace") if body is not None else None
            return self._rpc(local, outer or "", message, parts), headers, faults
        read = self._document(name, side, message, parts)
        return None if read is None else (read, headers, faults)

    def _document(self, name: str, side: str, message: Node, parts: list[etree._Element]) -> ReadMessage | None:
        if not parts:
            return ReadMessage(None, Record(name if side == "input" else f"{name}Response", tag="", id=f"empty {name} {side}"))
        if len(parts) > 1:
            self._tell("wsdl.parts", f"{name} cannot be served: the body of its {side} has {len(parts)} parts, and a document has one.",
                       message.part, message.node)
            return None
        record = self._part_element(message, parts[0])
        if record is None:
            if parts[0].get("type") is not None:
                self._tell("wsdl.part-type", f"{name} cannot be served: the part of its {side} names a type, and a document needs an "
                                             "element.", message.part, parts[0])
            return None
        return ReadMessage(record.tag, record)

    def _part_element(self, message: Node, part: etree._Element) -> Record | None:
        text = part.get("element")
        if text is None:
            return None
        tag = message.expand(text, part)
        record = self._types.message(tag) if tag is not None else None
        if record is None:
            self._tell("wsdl.reference", f"There is no element {text}.", message.part, part)
        return record

    def _rpc(self, local: str, namespace: str, message: Node, parts: list[etree._Element]) -> ReadMessage:
        """The wrapper of rpc/literal: named by the operation, with one element without namespace for each part (WS-I Basic Profile 1.1,
        R2729 and R2735)."""
        elements: list[Element] = []
        for part in parts:
            label, text = part.get("name", ""), part.get("type")
            schema = Schema(message.part, part, "", message.names, False)
            tag = message.expand(text, part) if text is not None else None
            if text is None or tag is None:
                self._tell("wsdl.part-type", f"The part {label} of an rpc message must name a type.", message.part, part)
                continue
            kind: SimpleType | Record = self._types.type_record(tag, part, schema)
            elements.append(Element(label, kind, tag=label))
        tag = f"{{{namespace}}}{local}" if namespace else local
        return ReadMessage(tag, Record(local, tuple(elements), tag=tag, id=f"rpc {tag}"))

    def _headers(self, binding: Node, place: etree._Element, namespace: str,
                 message: Node) -> tuple[tuple[Record, ...], list[Record], set[str]]:
        """Header elements, those of their faults, and the parts of the body's own message that are headers."""
        records: list[Record] = []
        faults: list[Record] = []
        own: set[str] = set()
        for header in place.iter(f"{namespace}header"):
            record, section = self._header_part(binding, header)
            if record is not None:
                records.append(record)
            if section is message:
                own.add(header.get("part", ""))
            for fault in header.iterchildren(f"{namespace}headerfault"):
                record, _ = self._header_part(binding, fault)
                if record is not None:
                    faults.append(record)
        return tuple(records), faults, own

    def _header_part(self, binding: Node, header: etree._Element) -> tuple[Record | None, Node | None]:
        text = header.get("message", "")
        tag = binding.expand(text, header)
        section = self._sections.messages.get(tag) if tag is not None else None
        if section is None:
            self._tell("wsdl.reference", f"There is no message {text}.", binding.part, header)
            return None, None
        part = next((one for one in section.node.iterchildren(f"{W}part") if one.get("name") == header.get("part")), None)
        record = self._part_element(section, part) if part is not None else None
        if record is None:
            self._tell("wsdl.header", f"The header {header.get('part', '')} of {text} names no element.", binding.part, header)
        return record, section

    def faults(self, name: str, port_type: Node, abstract: etree._Element) -> dict[str, Record]:
        faults: dict[str, Record] = {}
        for node in abstract.iterchildren(f"{W}fault"):
            fault = (node.get("name") or "").strip()
            message = self.message_of(port_type, node)
            if message is None:
                continue
            part = child(message.node, f"{W}part")
            record = self._part_element(message, part) if part is not None else None
            if record is None:
                self._tell("wsdl.fault", f"The fault {fault} of {name} names no element, so nobody can tell what stands in it.",
                           message.part, message.node)
            elif fault in faults:
                self._tell("wsdl.twice", f"{name} has two faults {fault}; the first one counts.", port_type.part, node)
            else:
                faults[fault] = record
        return faults
