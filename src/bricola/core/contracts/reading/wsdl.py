"""Reading WSDL 1.1 (W3C Note, 15 March 2001), in one part or many.

Strategy: the parts are gathered first (imports may form circles), then messages, port types, bindings and services are indexed by their
expanded names whatever their order and part, and then the services are followed from their ports down. What cannot be served is told
with its line, and the rest goes on.
"""

from collections.abc import Iterable

from lxml import etree

from bricola.core.contracts.names import WSDL_SOAP11, WSDL_SOAP12, XSD
from bricola.core.contracts.reading.contract import ReadContract, ReadMessage, ReadOperation, ReadPort, ReadService
from bricola.core.contracts.reading.messages import Messages, Node, Sections, W
from bricola.core.contracts.reading.parts import (
    ContractProblem,
    Names,
    Part,
    Parts,
    Resolver,
    child,
    documentation,
    folder_of,
    joined,
    line_of,
    local_name,
    namespace_of,
)
from bricola.core.contracts.reading.schemas import SCHEMA, Index
from bricola.core.contracts.reading.types import Types
from bricola.core.shapes.model import Record

WSDL20 = "{http://www.w3.org/ns/wsdl}description"
_SOAP = {WSDL_SOAP11: "1.1", WSDL_SOAP12: "1.2"}
_OTHER_BINDINGS = {"http://schemas.xmlsoap.org/wsdl/http/": "HTTP", "http://schemas.xmlsoap.org/wsdl/mime/": "MIME"}
_TRANSPORTS = frozenset({"http://schemas.xmlsoap.org/soap/http", "http://schemas.xmlsoap.org/soap/http/",
                         "http://www.w3.org/2003/05/soap/bindings/HTTP/"})


def read_contract(location: str, resolver: Resolver) -> ReadContract:
    """Read the contract at an address. Never raises for what is wrong in it: that is in `problems`."""
    problems: list[ContractProblem] = []
    parts = Parts(resolver, problems, folder_of(location))
    return _Reader(parts, problems).read(location)


class _Reader:
    def __init__(self, parts: Parts, problems: list[ContractProblem]) -> None:
        self._parts = parts
        self._problems = problems
        self._told: set[tuple[str, str, str, int | None]] = set()
        self._sections = Sections()
        self._index = Index(parts, self._tell)
        self._types = Types(self._index)
        self._messages = Messages(self._sections, self._types, self._tell)

    def _tell(self, code: str, message: str, part: Part, node: etree._Element | None) -> None:
        place, line = self._parts.place(part, node), line_of(node)
        if (code, message, place, line) not in self._told:
            self._told.add((code, message, place, line))
            self._problems.append(ContractProblem(code, message, place, line))

    def read(self, location: str) -> ReadContract:
        first = self._parts.get(location)
        namespace = ""
        services: dict[str, ReadService] = {}
        if first is not None:
            namespace = first.root.get("targetNamespace", "")
            self._gather(first)
            for section in self._sections.services:
                self._service(section, services)
            if not services and first.root.tag == f"{W}definitions":
                self._without_service(services)
            self._types.finish()
        parts = tuple(one for one in self._parts.found.values() if one is not None)
        return ReadContract(namespace, services, tuple(self._problems), parts, self._types.message, self._types.type)

    # -- gathering

    def _gather(self, first: Part) -> None:
        waiting, seen = [first], {first.location}
        while waiting:
            part = waiting.pop(0)
            if part.root.tag != f"{W}definitions":
                self._no_wsdl(part, part is first)
                continue
            names = Names(part)
            self._index_sections(part, names)
            for types in part.root.iterchildren(f"{W}types"):
                for schema in types.iterchildren(SCHEMA):
                    self._index.add(part, schema)
            for node in part.root.iterchildren(f"{W}import"):
                place = node.get("location")
                if not place:
                    self._tell("wsdl.import", "An import says no place, so nothing is imported.", part, node)
                    continue
                found = self._parts.get(joined(part.location, place), part, node)
                if found is not None and found.location not in seen:
                    seen.add(found.location)
                    waiting.append(found)

    def _no_wsdl(self, part: Part, first: bool) -> None:
        root = part.root
        if root.tag == SCHEMA:
            if first:
                self._tell("contract.schema", "This is a schema alone: it has types, and no operations.", part, root)
            self._index.add(part, root)
        elif root.tag == WSDL20:
            self._tell("contract.wsdl2", "This is a WSDL 2.0 document; WSDL 1.1 is read here.", part, root)
        else:
            self._tell("contract.unknown", f"This is no WSDL 1.1 document: its root is {root.tag[:120]}.", part, root)

    def _index_sections(self, part: Part, names: Names) -> None:
        own = part.root.get("targetNamespace", "")
        tables = {f"{W}message": self._sections.messages, f"{W}portType": self._sections.port_types, f"{W}binding": self._sections.bindings}
        for node in part.root.iterchildren(tag=etree.Element):
            table, name = tables.get(node.tag), (node.get("name") or "").strip()
            if node.tag == f"{W}service":
                self._sections.services.append(Node(node, part, names))
            elif table is not None:
                tag = f"{{{own}}}{name}" if own else name
                if not name:
                    self._tell("wsdl.name", f"A {local_name(node.tag)} has no name.", part, node)
                elif tag in table:
                    self._tell("wsdl.twice", f"There are two of {local_name(node.tag)} {name}; the first one counts.", part, node)
                else:
                    table[tag] = Node(node, part, names)

    # -- services and ports

    def _service(self, section: Node, services: dict[str, ReadService]) -> None:
        name = (section.node.get("name") or "").strip() or "Service"
        ports: dict[str, ReadPort] = dict(services[name].ports) if name in services else {}
        if name in services:
            self._tell("wsdl.twice", f"There are two services {name}; their ports are taken together.", section.part, section.node)
        for node in section.node.iterchildren(f"{W}port"):
            port = self._port(section, node)
            if port.name in ports:
                self._tell("wsdl.twice", f"There are two ports {port.name}; the first one counts.", section.part, node)
            else:
                ports[port.name] = port
        if not ports:
            self._tell("wsdl.service", f"The service {name} has no port.", section.part, section.node)
        services[name] = ReadService(name, ports, documentation(section.node, f"{W}documentation"))

    def _without_service(self, services: dict[str, ReadService]) -> None:
        """A contract that names no service: its SOAP bindings can be served all the same."""
        for tag, binding in self._sections.bindings.items():
            soap, _ = self._binding_kind(binding)
            if soap is not None:
                name = local_name(tag)
                self._tell("wsdl.no-service", f"No service uses the binding {name}; it is offered under its own name.", binding.part,
                           binding.node)
                services[name] = ReadService(name, {name: ReadPort(name, tag, soap, "", self._operations(binding), binding.part)})
        if not services and self._sections.port_types:
            part = next(iter(self._sections.port_types.values()))
            self._tell("wsdl.no-binding", "The contract has operations, but no service and no SOAP binding.", part.part, part.node)

    def _port(self, section: Node, node: etree._Element) -> ReadPort:
        name, text = (node.get("name") or "").strip() or "Port", node.get("binding", "")
        address = next(((one.get("location") or "").strip() for one in node.iterchildren(tag=etree.Element)
                        if local_name(one.tag) == "address"), "")
        tag = section.expand(text, node)
        binding = self._sections.bindings.get(tag) if tag is not None else None
        if binding is None or tag is None:
            self._tell("wsdl.reference", f"There is no binding {text}.", section.part, node)
            return ReadPort(name, tag or text, None, address, {}, section.part)
        soap, why = self._binding_kind(binding)
        if soap is None:
            self._tell("wsdl.binding", f"The port {name} cannot be served: {why}.", binding.part, binding.node)
            return ReadPort(name, tag, None, address, {}, section.part)
        return ReadPort(name, tag, soap, address, self._operations(binding), section.part)

    def _binding_kind(self, binding: Node) -> tuple[str | None, str]:
        """The SOAP version of a binding, or why it is none that can be served."""
        for one in binding.node.iterchildren(tag=etree.Element):
            namespace = etree.QName(one).namespace or ""
            if namespace in _SOAP and local_name(one.tag) == "binding":
                transport = one.get("transport", "")
                if transport and transport not in _TRANSPORTS:
                    return None, f"its transport is {transport}, and not HTTP"
                return _SOAP[namespace], ""
            if namespace in _OTHER_BINDINGS:
                return None, f"its binding is for {_OTHER_BINDINGS[namespace]}, and not for SOAP"
        return None, "its binding is not for SOAP"

    # -- operations

    def _operations(self, binding: Node) -> dict[str, ReadOperation]:
        soap_binding = next(one for one in binding.node.iterchildren(tag=etree.Element)
                            if (etree.QName(one).namespace or "") in _SOAP and local_name(one.tag) == "binding")
        text = binding.node.get("type", "")
        tag = binding.expand(text)
        port_type = self._sections.port_types.get(tag) if tag is not None else None
        if port_type is None:
            self._tell("wsdl.reference", f"There is no port type {text}.", binding.part, binding.node)
            return {}
        abstract = list(port_type.node.iterchildren(f"{W}operation"))
        by_name: dict[str, list[etree._Element]] = {}
        for one in abstract:
            by_name.setdefault((one.get("name") or "").strip(), []).append(one)
        operations: dict[str, ReadOperation] = {}
        counts: dict[str, int] = {}
        taken: set[etree._Element] = set()
        for bound in binding.node.iterchildren(f"{W}operation"):
            name = (bound.get("name") or "").strip()
            found = _matching(bound, [one for one in by_name.get(name, ()) if one not in taken])
            if found is None:
                self._tell("wsdl.operation", f"The port type has no operation {name}.", binding.part, bound)
                continue
            taken.add(found)
            counts[name] = counts.get(name, 0) + 1
            unique = name if counts[name] == 1 else f"{name}#{counts[name]}"
            operation = self._operation(unique, name, binding, soap_binding, bound, port_type, found)
            if operation is not None:
                operations[unique] = operation
        for one in abstract:
            if one not in taken:
                self._tell("wsdl.unbound", f"The operation {one.get('name')} is not bound, so nobody can call it.", port_type.part, one)
        return operations

    def _operation(self, unique: str, name: str, binding: Node, soap_binding: etree._Element, bound: etree._Element, port_type: Node,
                   abstract: etree._Element) -> ReadOperation | None:
        namespace = f"{{{namespace_of(soap_binding.tag)}}}"
        soap_operation = child(bound, f"{namespace}operation")
        style = (soap_operation.get("style") if soap_operation is not None else None) or soap_binding.get("style") or "document"
        action = soap_operation.get("soapAction") if soap_operation is not None else None
        sides: dict[str, ReadMessage | None] = {}
        headers: dict[str, tuple[Record, ...]] = {"input": (), "output": ()}
        header_faults: list[Record] = []
        directions = [local_name(one.tag) for one in abstract.iterchildren(f"{W}input", f"{W}output")]
        if directions[:1] != ["input"]:
            self._tell("wsdl.pattern", f"{name} is sent by the service (notification or solicit-response), which HTTP callers cannot take.",
                       port_type.part, abstract)
            return None
        for side in ("input", "output"):
            node = child(abstract, f"{W}{side}")
            if node is None:
                sides[side] = None
                continue
            message = self._messages.message_of(port_type, node)
            place = child(bound, f"{W}{side}")
            if message is None:
                return None
            found = self._messages.side(name, side, style, namespace, binding, bound if place is None else place, message)
            if found is None:
                return None
            sides[side], headers[side], faults = found
            header_faults += faults
        request = sides["input"]
        assert request is not None  # an operation begins with its input
        faults_of = self._messages.faults(name, port_type, abstract)
        return ReadOperation(unique, style, request, sides["output"], action, faults_of, headers["input"], headers["output"],
                             tuple(header_faults), documentation(abstract, f"{W}documentation"))

def _matching(bound: etree._Element, candidates: list[etree._Element]) -> etree._Element | None:
    """The operation of the port type that a bound one means: overloaded ones are told apart by the names of their messages (2.5)."""
    if len(candidates) < 2:
        return candidates[0] if candidates else None
    sides = ((side, child(bound, f"{W}{side}")) for side in ("input", "output"))
    wanted = {side: node.get("name") for side, node in sides if node is not None and node.get("name")}

    def agrees(one: etree._Element) -> bool:
        for side, name in wanted.items():
            node = child(one, f"{W}{side}")
            if node is None or (node.get("name") or f"{one.get('name')}{'Request' if side == 'input' else 'Response'}") != name:
                return False
        return True

    return next((one for one in candidates if agrees(one)), candidates[0])


def schemas_of(parts: Iterable[Part]) -> list[etree._Element]:
    """All schema elements of a contract, wherever they stand."""
    return [node for part in parts for node in ([part.root] if part.root.tag == SCHEMA else part.root.iter(f"{{{XSD}}}schema"))]
