"""Writing the contract: WSDL 1.1 (W3C Note, 15 March 2001) with its SOAP 1.1 and SOAP 1.2 bindings.

One document, schemas inline, sections in the standard's order, prefixes declared on the root: the form that
the client stacks of many languages were found to read.
"""

from lxml import etree

from bricola.core.contracts.names import HTTP_TRANSPORT, PROBLEM, PROBLEMS, WSDL, WSDL_SOAP11, WSDL_SOAP12, XSD
from bricola.core.contracts.schema import write_problem_schema, write_schema
from bricola.core.shapes.model import OperationShape, ServiceShape
from bricola.core.shapes.styles import GIVEN, GIVES, Style, part_type

_W = f"{{{WSDL}}}"
_BINDINGS = (("1.1", "Soap11", WSDL_SOAP11), ("1.2", "Soap12", WSDL_SOAP12))


def soap_action(service: ServiceShape, operation: str) -> str:
    """The action that names an operation: the namespace, joined by what its scheme joins with."""
    joint = ":" if service.namespace.startswith("urn:") else "/"
    return f"{service.namespace.rstrip('/')}{joint}{operation}"


def port_type_name(service: ServiceShape) -> str:
    """Not the service's own: code generators make a class of each, and put both in one package."""
    return f"{service.name}PortType" if service.form.declares_problems else service.name


def fault_message(service: ServiceShape, fault: str) -> str:
    """Not that of its element, for the same reason."""
    return f"{fault[0].upper()}{fault[1:]}Fault" if service.form.declares_problems else fault


def write_wsdl(service: ServiceShape, address: str, notice: str = "") -> bytes:
    """The contract with one port per SOAP version, all at `address`. UTF-8, no byte order mark. `notice` is what
    callers should know about this address, such as that the service ends."""
    root = etree.Element(
        f"{_W}definitions",
        {"name": service.name, "targetNamespace": service.namespace},
        nsmap={"wsdl": WSDL, "xs": XSD, "tns": service.namespace, "soap": WSDL_SOAP11, "soap12": WSDL_SOAP12}
        | ({"p": PROBLEM} if service.form.declares_problems else {}),
    )
    _document(root, f"{notice} {service.description}".strip())
    types = etree.SubElement(root, f"{_W}types")
    write_schema(service, types)
    if service.form.declares_problems:
        write_problem_schema(types)
    _messages(root, service)
    _port_type(root, service)
    bindings = [(suffix, namespace) for version, suffix, namespace in _BINDINGS if version in service.soap]
    for suffix, namespace in bindings:
        _binding(root, service, suffix, namespace)
    node = etree.SubElement(root, f"{_W}service", name=service.name)
    for suffix, namespace in bindings:
        name = f"{service.name}{suffix}"
        port = etree.SubElement(node, f"{_W}port", name=name, binding=f"tns:{name}")
        etree.SubElement(port, f"{{{namespace}}}address", location=address)
    etree.indent(root)
    return etree.tostring(root, encoding="UTF-8", xml_declaration=True) + b"\n"


def _messages(root: etree._Element, service: ServiceShape) -> None:
    def message(name: str, part: str, element: str = "", kind: str = "") -> None:
        node = etree.SubElement(root, f"{_W}message", name=name)
        etree.SubElement(node, f"{_W}part", {"name": part, **({"type": kind} if kind else {"element": element})})

    faults: dict[str, None] = {}
    for operation in service.operations:
        if operation.calls:
            message(operation.name, GIVEN, kind=f"tns:{part_type(operation, GIVEN)}")
            if operation.one_way:
                continue
            message(operation.output.name, GIVES, kind=f"tns:{part_type(operation, GIVES)}")
        else:
            part = "body" if service.style == Style.BARE else "parameters"  # the name by which stacks know what they may unwrap
            message(operation.name, part, f"tns:{operation.input.name}")
            if operation.one_way:
                continue
            message(operation.output.name, part, f"tns:{operation.output.name}")
        faults |= dict.fromkeys(fault.name for fault in operation.faults)
    for fault in faults:
        message(fault_message(service, fault), "fault", f"tns:{fault}")
    if service.form.declares_problems:
        message(fault_message(service, PROBLEMS), "fault", f"p:{PROBLEMS}")


def _port_type(root: etree._Element, service: ServiceShape) -> None:
    port_type = etree.SubElement(root, f"{_W}portType", name=port_type_name(service))
    for operation in service.operations:
        node = etree.SubElement(port_type, f"{_W}operation", name=operation.name)
        _document(node, operation.description)
        etree.SubElement(node, f"{_W}input", message=f"tns:{operation.name}")
        if operation.one_way:  # with an input only (WSDL 1.1, section 2.4.1), which leaves no place for faults
            continue
        etree.SubElement(node, f"{_W}output", message=f"tns:{operation.output.name}")
        for fault in operation.faults:
            declared = etree.SubElement(node, f"{_W}fault", name=fault.name, message=f"tns:{fault_message(service, fault.name)}")
            _document(declared, fault.description)
        if service.form.declares_problems:
            declared = etree.SubElement(node, f"{_W}fault", name=PROBLEMS, message=f"tns:{fault_message(service, PROBLEMS)}")
            _document(declared, "Everything else that goes wrong, with each cause, its place and its mend")


def _binding(root: etree._Element, service: ServiceShape, suffix: str, namespace: str) -> None:
    soap = f"{{{namespace}}}"
    binding = etree.SubElement(root, f"{_W}binding", name=f"{service.name}{suffix}", type=f"tns:{port_type_name(service)}")
    style = "rpc" if service.style == Style.RPC else "document"
    etree.SubElement(binding, f"{soap}binding", style=style, transport=HTTP_TRANSPORT)
    for operation in service.operations:
        _bound_operation(binding, service, operation, soap)


def _bound_operation(binding: etree._Element, service: ServiceShape, operation: OperationShape, soap: str) -> None:
    node = etree.SubElement(binding, f"{_W}operation", name=operation.name)
    etree.SubElement(node, f"{soap}operation", soapAction=soap_action(service, operation.name),
                     style="rpc" if operation.calls else "document")
    own = {"namespace": operation.calls} if operation.calls else {}
    for direction in ("input",) if operation.one_way else ("input", "output"):
        etree.SubElement(etree.SubElement(node, f"{_W}{direction}"), f"{soap}body", {"use": "literal", **own})
    if operation.one_way:
        return
    for name in (*(fault.name for fault in operation.faults), *((PROBLEMS,) if service.form.declares_problems else ())):
        declared = etree.SubElement(node, f"{_W}fault", name=name)
        etree.SubElement(declared, f"{soap}fault", name=name, use="literal")


def _document(parent: etree._Element, text: str) -> None:
    if text:
        etree.SubElement(parent, f"{_W}documentation").text = text
