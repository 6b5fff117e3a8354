"""A process and the documents beside it: which port types its partner links stand for, what their messages hold, and one contract of them
all. The WSDL documents of a process are often abstract, without bindings; those that are missing are written here (document/literal where
messages are elements, rpc/literal where they are types)."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from xml.sax.saxutils import quoteattr

from lxml import etree

from bricola.core.contracts.names import HTTP_TRANSPORT, WSDL, WSDL_SOAP11
from bricola.core.contracts.reading.bundle import Bundle, location_of
from bricola.core.contracts.reading.contract import ReadContract, ReadOperation
from bricola.core.contracts.reading.parts import local_name, namespace_of, parse_part
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.problems import Problem, ProblemError, shown

BPEL = "http://docs.oasis-open.org/wsbpel/2.0/process/executable"
_ABSTRACT = "http://docs.oasis-open.org/wsbpel/2.0/process/abstract"
_LINKS = "http://docs.oasis-open.org/wsbpel/2.0/plnktype"
_PROPERTIES = "http://docs.oasis-open.org/wsbpel/2.0/varprop"
B, W = f"{{{BPEL}}}", f"{{{WSDL}}}"
_OWN = "process-contract.wsdl"


@dataclass(frozen=True)
class PortType:
    """Messages of its operations by name: input, output (None: one-way), faults. `service` is what offers it in the contract."""

    tag: str
    operations: Mapping[str, tuple[str, str | None, Mapping[str, str]]]
    service: str = ""


@dataclass(frozen=True)
class Link:
    """A partner link: what the process offers on it, and what it asks of the partner."""

    name: str
    mine: PortType | None
    theirs: PortType | None


@dataclass(frozen=True)
class Alias:
    """Where a property of messages stands in one of them."""

    holder: str
    part: str
    query: str
    prefixes: Mapping[str, str]


@dataclass
class Documents:
    """What stands beside a process. `files` are all that belong to the contract, `messages` parts by name: `element` or `type`, and its
    expanded name."""

    contract: ReadContract
    files: Mapping[str, bytes]
    main: str
    messages: Mapping[str, Mapping[str, tuple[str, str]]]
    links: Mapping[str, Link]
    aliases: Mapping[str, list[Alias]] = field(default_factory=dict)

    @cached_property
    def bodies(self) -> frozenset[str]:
        """The elements that are bodies of messages."""
        ports = [port for service in self.contract.services.values() for port in service.ports.values()]
        operations = [one for port in ports for one in port.operations.values()]
        return frozenset(side.tag for one in operations for side in (one.input, one.output) if side is not None and side.tag)

    def operation(self, port_type: PortType, name: str) -> ReadOperation | None:
        """What the contract says of an operation of a port type."""
        service = self.contract.services.get(port_type.service)
        found = (port.operations.get(name) for port in service.ports.values() if port.soap) if service is not None else iter(())
        return next((one for one in found if one is not None), None)


def read_process(files: Mapping[str, bytes], main: str = "") -> tuple[etree._Element, str]:
    """The process among some files, and its path. Raises ProblemError when there is none, or when it is another language."""
    roots = {path: _root(path, content) for path, content in files.items() if path == main or (not main and path.lower().endswith(".bpel"))}
    if not roots and not main:
        roots = {path: root for path, content in files.items() if (root := _root(path, content)).tag == f"{B}process"}
    if len(roots) != 1:
        raise ProblemError(Problem("process.several" if roots else "process.none",
                                   "Several of the files are processes." if roots else "None of the files is a process.",
                                   expected="one process in WS-BPEL 2.0", found=", ".join(sorted(roots or files)[:8]),
                                   mend="Name the one that is meant." if roots else "Add the file of the process, *.bpel."))
    path, root = next(iter(roots.items()))
    if root.tag != f"{B}process":
        what = "This is no process in WS-BPEL 2.0."
        if namespace_of(root.tag) == _ABSTRACT:
            what = "This process is abstract: it says what others shall see, and leaves open what it does."
        raise ProblemError(Problem("process.language", what, place=path, expected=f"{{{BPEL}}}process", found=shown(str(root.tag))))
    return root, path


def _root(path: str, content: bytes) -> etree._Element:
    try:
        return parse_part(content)
    except ProblemError as error:
        first = error.problem
        raise ProblemError(replace(first, place=f"{path}, {first.place}" if first.place else path)) from None


def read_documents(files: Mapping[str, bytes], process: etree._Element) -> Documents:
    """Raises ProblemError when nothing says what the partner links are."""
    roots = {path: _root(path, content) for path, content in files.items()}
    wsdls = {path: root for path, root in roots.items() if root.tag == f"{W}definitions"}
    if not wsdls:
        raise ProblemError(Problem("process.contract", "No WSDL document came with the process.", expected="the *.wsdl files beside it",
                                   found=", ".join(sorted(files)) or "no files", mend="Add the documents that the process imports."))
    messages = {_own(root, node): _parts(node) for root in wsdls.values() for node in root.iterchildren(f"{W}message")}
    types = {_own(root, node): _port_type(root, node) for root in wsdls.values() for node in root.iterchildren(f"{W}portType")}
    bound = {_own(root, node): _expanded(node, node.get("type", "")) for root in wsdls.values() for node in root.iterchildren(f"{W}binding")
             if any(namespace_of(str(one.tag)).startswith("http://schemas.xmlsoap.org/wsdl/soap") for one in node)}
    offered = {bound.get(_expanded(port, port.get("binding", ""))) for root in wsdls.values()
               for port in root.iter(f"{W}port")}
    missing = [one for tag, one in types.items() if tag not in offered]
    main, all_files = next(iter(wsdls)), dict(files)
    if missing or len(wsdls) > 1:
        main = _OWN
        all_files = {_OWN: _bindings(wsdls, missing, messages).encode(), **files}
    contract = read_contract(location_of(main), Bundle(all_files))
    services: dict[str, str] = {}
    for name, service in contract.services.items():
        for port in service.ports.values():
            tag = bound.get(port.binding) or next((one.tag for one in missing if _bound_as(one) == local_name(port.binding)), "")
            services.setdefault(tag, name)
    placed = {tag: PortType(tag, one.operations, services.get(tag, "")) for tag, one in types.items()}
    return Documents(contract, all_files, main, messages, _links(process, wsdls, placed), _aliases(wsdls))


def _own(root: etree._Element, node: etree._Element) -> str:
    namespace = root.get("targetNamespace", "")
    return f"{{{namespace}}}{node.get('name', '')}" if namespace else node.get("name", "")


def _expanded(node: etree._Element, text: str) -> str:
    prefix, colon, local = text.strip().rpartition(":")
    namespace = node.nsmap.get(prefix if colon else None)
    return f"{{{namespace}}}{local}" if namespace else local


def _parts(node: etree._Element) -> dict[str, tuple[str, str]]:
    return {one.get("name", ""): next(((kind, _expanded(one, one.get(kind, ""))) for kind in ("element", "type") if one.get(kind)),
                                      ("type", "")) for one in node.iterchildren(f"{W}part")}


def _port_type(root: etree._Element, node: etree._Element) -> PortType:
    operations: dict[str, tuple[str, str | None, Mapping[str, str]]] = {}
    for one in node.iterchildren(f"{W}operation"):
        sides = {local_name(str(side.tag)): _expanded(side, side.get("message", ""))
                 for side in one.iterchildren(f"{W}input", f"{W}output")}
        faults = {fault.get("name", ""): _expanded(fault, fault.get("message", "")) for fault in one.iterchildren(f"{W}fault")}
        if "input" in sides:
            operations[one.get("name", "")] = sides["input"], sides.get("output"), faults
    return PortType(_own(root, node), operations)


def _bound_as(one: PortType) -> str:
    return f"{local_name(one.tag)}Soap"


def _bindings(wsdls: Mapping[str, etree._Element], missing: list[PortType], messages: Mapping[str, Mapping[str, tuple[str, str]]]) -> str:
    """A WSDL document that imports the others, with the bindings and services that they lack."""
    taken = {node.get("name", "") for root in wsdls.values() for node in root.iterchildren(f"{W}service")}
    lines = [f'<definitions xmlns="{WSDL}" xmlns:soap="{WSDL_SOAP11}" targetNamespace="urn:process-contract" '
             'xmlns:own="urn:process-contract">']
    lines += [f'  <import namespace={quoteattr(root.get("targetNamespace", ""))} location={quoteattr(path)}/>'
              for path, root in wsdls.items()]
    services = []
    for one in missing:
        name, namespace = local_name(one.tag), namespace_of(one.tag)
        lines.append(f'  <binding name="{_bound_as(one)}" type={quoteattr("t:" + name)} xmlns:t={quoteattr(namespace)}>\n'
                     f'    <soap:binding transport="{HTTP_TRANSPORT}"/>')
        for operation, (taken_in, given, faults) in one.operations.items():
            typed = any(kind == "type" for message in (taken_in, given or "") for kind, _ in messages.get(message, {}).values())
            body = f'<soap:body use="literal"{" namespace=" + quoteattr(namespace) if typed else ""}/>'
            style = "rpc" if typed else "document"
            lines.append(f'    <operation name={quoteattr(operation)}><soap:operation soapAction="" style="{style}"/>'
                         f"<input>{body}</input>{f'<output>{body}</output>' if given is not None else ''}"
                         + "".join(f'<fault name={quoteattr(fault)}><soap:fault name={quoteattr(fault)} use="literal"/></fault>'
                                   for fault in faults) + "</operation>")
        lines.append("  </binding>")
        service = name if name not in taken else f"{name}Service"
        taken.add(service)
        services.append(f'  <service name={quoteattr(service)}><port name={quoteattr(name)} binding="own:{_bound_as(one)}">'
                        '<soap:address location="http://localhost/"/></port></service>')
    return "\n".join([*lines, *services, "</definitions>", ""])


def _links(process: etree._Element, wsdls: Mapping[str, etree._Element], types: Mapping[str, PortType]) -> dict[str, Link]:
    roles: dict[str, dict[str, str]] = {}
    for root in wsdls.values():
        for node in root.iter(f"{{{_LINKS}}}partnerLinkType"):
            roles[_own(root, node)] = {role.get("name", ""): _role_type(role) for role in node.iterchildren(f"{{{_LINKS}}}role")}
    found: dict[str, Link] = {}
    for node in process.iter(f"{B}partnerLink"):
        known = roles.get(_expanded(node, node.get("partnerLinkType", "")), {})
        mine, theirs = (types.get(known.get(node.get(side, ""), "")) for side in ("myRole", "partnerRole"))
        found[node.get("name", "")] = Link(node.get("name", ""), mine, theirs)
    return found


def _role_type(role: etree._Element) -> str:
    """The port type of a role: an attribute, or an element of its own."""
    inner = role.find(f"{{{_LINKS}}}portType")
    return _expanded(role, role.get("portType", "")) if inner is None else _expanded(inner, inner.get("name", ""))


def _aliases(wsdls: Mapping[str, etree._Element]) -> dict[str, list[Alias]]:
    found: dict[str, list[Alias]] = {}
    for root in wsdls.values():
        for node in root.iter(f"{{{_PROPERTIES}}}propertyAlias"):
            holder = next((_expanded(node, node.get(one, "")) for one in ("messageType", "element", "type") if node.get(one)), "")
            query = node.findtext(f"{{{_PROPERTIES}}}query", "").strip()
            found.setdefault(_expanded(node, node.get("propertyName", "")), []).append(
                Alias(holder, node.get("part", ""), query, {prefix or "": uri for prefix, uri in node.nsmap.items()}))
    return found


def expanded(node: etree._Element, text: str) -> str:
    """`{namespace}local` of a name as it stands on a node of the process."""
    return _expanded(node, text)


