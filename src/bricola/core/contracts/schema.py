"""Writing a service's shapes as one XML Schema (W3C XML Schema 1.0 Parts 1 and 2)."""

from lxml import etree

from bricola.core.contracts.names import PROBLEM, PROBLEMS, XML, XSD
from bricola.core.shapes.model import Element, FaultShape, Record, ServiceShape
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.styles import GIVEN, GIVES, part_type

_X = f"{{{XSD}}}"
_FACET_TAGS = (
    ("length", "length"), ("min_length", "minLength"), ("max_length", "maxLength"), ("pattern", "pattern"),
    ("digits", "totalDigits"), ("fraction", "fractionDigits"), ("min", "minInclusive"), ("max", "maxInclusive"),
)


def write_schema(service: ServiceShape, parent: etree._Element | None = None) -> etree._Element:
    """The schema element, appended to `parent` when given. Global elements are wrappers and fault details."""
    attributes = {"targetNamespace": service.namespace, "elementFormDefault": "qualified"}
    if parent is None:
        schema = etree.Element(f"{_X}schema", attributes, nsmap={"xs": XSD, "tns": service.namespace})
    else:
        schema = etree.SubElement(parent, f"{_X}schema", attributes)
    for simple in service.types:
        node = etree.SubElement(schema, f"{_X}simpleType", name=simple.name)
        _document(node, simple.description)
        _restriction(node, simple)
    for record in service.records():
        node = etree.SubElement(schema, f"{_X}complexType", name=record.name)
        _document(node, record.description)
        _sequence(node, record)
    faults: dict[str, FaultShape] = {}
    for operation in service.operations:
        for wrapper, part in ((operation.input, GIVEN), (operation.output, GIVES)):
            if operation.one_way and wrapper is operation.output:
                continue
            description = operation.description if wrapper is operation.input else ""
            if operation.calls:
                node = etree.SubElement(schema, f"{_X}complexType", name=part_type(operation, part))
                _document(node, description)
                _sequence(node, wrapper)
            else:
                _global_element(schema, wrapper, description)
        faults |= {fault.name: fault for fault in operation.faults}
    for fault in faults.values():
        _global_element(schema, fault.record, fault.description)
    return schema


def _global_element(schema: etree._Element, record: Record, description: str) -> None:
    node = etree.SubElement(schema, f"{_X}element", name=record.name)
    _document(node, description)
    _sequence(etree.SubElement(node, f"{_X}complexType"), record)


def _sequence(parent: etree._Element, record: Record) -> None:
    sequence = etree.SubElement(parent, f"{_X}sequence")
    for element in record.elements:
        _local_element(sequence, element)


def _local_element(sequence: etree._Element, element: Element) -> None:
    node = etree.SubElement(sequence, f"{_X}element", name=element.name)
    kind = element.type
    inline = isinstance(kind, SimpleType) and not kind.name and not kind.is_plain
    if not inline:
        node.set("type", type_name(kind))
    if element.least != 1:
        node.set("minOccurs", str(element.least))
    if element.most != 1:
        node.set("maxOccurs", "unbounded" if element.most is None else str(element.most))
    if element.nillable:
        node.set("nillable", "true")
    text = element.description
    if element.unit:
        text = f"{text}, in {element.unit}" if text else f"In {element.unit}"
    _document(node, text, element.labels)
    if inline and isinstance(kind, SimpleType):
        _restriction(etree.SubElement(node, f"{_X}simpleType"), kind)


def type_name(kind: SimpleType | Record) -> str:
    """The prefixed name of a named or built-in type, with the prefixes that every contract declares."""
    if isinstance(kind, SimpleType) and not kind.name:
        return f"xs:{kind.base}"
    return f"tns:{kind.name}"


def _restriction(parent: etree._Element, kind: SimpleType) -> None:
    node = etree.SubElement(parent, f"{_X}restriction", base=f"xs:{kind.base}")
    for name, tag in _FACET_TAGS:
        value = getattr(kind, name)
        if value is not None:
            etree.SubElement(node, f"{_X}{tag}", value=str(value))
    for code in kind.codes:
        etree.SubElement(node, f"{_X}enumeration", value=code)


def _document(parent: etree._Element, text: str, labels: tuple[tuple[str, str], ...] = ()) -> None:
    """The description, and each label that has a language in an element of its own."""
    told = [("", text)] if text else []
    told += [(language, label) for language, label in labels if language]
    if told:
        annotation = etree.SubElement(parent, f"{_X}annotation")
        for language, words in told:
            node = etree.SubElement(annotation, f"{_X}documentation")
            node.text = words
            if language:
                node.set(f"{{{XML}}}lang", language)


# What every operation may answer when something goes wrong that it does not declare: the texts of a Problem, all causes, the call's number.
PROBLEM_PARTS = ("code", "message", "place", "expected", "found", "mend")


def write_problem_schema(parent: etree._Element) -> etree._Element:
    """The schema of the element `problems`, the same in every contract."""
    schema = etree.SubElement(parent, f"{_X}schema", {"targetNamespace": PROBLEM, "elementFormDefault": "qualified"})
    problem = etree.SubElement(schema, f"{_X}complexType", name="Problem")
    sequence = etree.SubElement(problem, f"{_X}sequence")
    for name in PROBLEM_PARTS:
        node = etree.SubElement(sequence, f"{_X}element", name=name, type="xs:string")
        if name not in ("code", "message"):
            node.set("minOccurs", "0")
    top = etree.SubElement(etree.SubElement(schema, f"{_X}element", name=PROBLEMS), f"{_X}complexType")
    inner = etree.SubElement(top, f"{_X}sequence")
    etree.SubElement(inner, f"{_X}element", name="problem", type="p:Problem", maxOccurs="unbounded")
    etree.SubElement(inner, f"{_X}element", name="call", type="xs:string", minOccurs="0")
    return schema
