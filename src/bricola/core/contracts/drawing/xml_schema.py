"""Records from an XML Schema (W3C XML Schema 1.0), read as the schemas of contracts are."""

from typing import Any

from lxml import etree

from bricola.core.contracts.drawing.records import Drawing, DrawnRecords
from bricola.core.contracts.names import XSD
from bricola.core.contracts.reading.bundle import Bundle, location_of
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Group, Order, Record
from bricola.core.shapes.primitives import OFFERED
from bricola.core.shapes.simple import SimpleType

_X = f"{{{XSD}}}"
_FILE = "schema.xsd"
_FACETS = ("length", "min_length", "max_length", "pattern", "digits", "fraction", "min", "max")


def is_xml_schema(root: etree._Element) -> bool:
    return root.tag == f"{_X}schema"


def of_xml_schema(content: bytes, root: etree._Element, name: str = "", part: str = "") -> DrawnRecords:
    """The records of an element or complex type of a schema: of its only one, or of `part`."""
    contract = read_contract(location_of(_FILE), Bundle({_FILE: content}))
    namespace = root.get("targetNamespace", "")
    elements, types = _named(root, f"{_X}element"), _named(root, f"{_X}complexType")
    chosen = _chosen(part, elements, types)
    tag = f"{{{namespace}}}{chosen}" if namespace else chosen
    found = contract.element(tag) if chosen in elements else contract.type(tag)
    if not isinstance(found, Record):
        raise ProblemError(Problem("sample.schema", "It has a value and nothing inside, so it is no record.", place=chosen))
    drawer = _Drawer()
    for one in contract.problems:
        if one.code != "contract.schema":
            drawer.drawing.note(f"{one.message} ({one.place})" if one.line is None else f"{one.message} (line {one.line})")
    return drawer.drawing.done(drawer.record(found, name or chosen))


def _named(root: etree._Element, tag: str) -> list[str]:
    return [str(one.get("name")) for one in root.iterchildren(tag) if one.get("name")]


def _chosen(part: str, elements: list[str], types: list[str]) -> str:
    offered = elements or types
    if part:
        if part in (*elements, *types):
            return part
        raise ProblemError(Problem("sample.part", "The schema has no such element or type.", found=shown(part),
                                   choices=tuple(dict.fromkeys((*elements, *types)))))
    if len(offered) != 1:
        raise ProblemError(Problem("sample.part", "The schema has several, and one has to be named." if offered else
                                   "The schema has no element and no type.", choices=tuple(offered)))
    return offered[0]


class _Drawer:
    def __init__(self) -> None:
        self.drawing = Drawing()
        self._names: dict[str, str] = {}  # of records that were begun, by their ids

    def record(self, record: Record, wanted: str) -> str:
        if record.id and record.id in self._names:
            return self.drawing.used(self._names[record.id])
        name = self.drawing.begin(wanted)
        if record.id:
            self._names[record.id] = name
        self._told(record, wanted)
        choices = _in_a_choice(record.content) if record.content is not None else frozenset()
        fields: dict[str, dict[str, Any]] = {}
        for one in (*record.attributes, *((record.text,) if record.text is not None else ()), *record.elements):
            own = self.drawing.field(fields, one.local)
            fields[own] = self._field(one, one.name in choices)
        done = self.drawing.end(name, fields, record.description)
        if record.id:
            self._names[record.id] = done
        return done

    def _told(self, record: Record, name: str) -> None:
        if record.attributes:
            self.drawing.note(f"Attributes of {name} are fields like elements.")
        if record.open_attributes is not None or (record.content is not None and _is_open(record.content)) or record.mixed:
            self.drawing.note(f"{name} is open to more than it names; a record is not.")
        if record.derived:
            self.drawing.note(f"Other types may stand for {name} in messages; a record is one type.")

    def _field(self, one: Element, in_choice: bool) -> dict[str, Any]:
        if in_choice:
            self.drawing.note(f"{one.local} is one of several of which one stands; all of them are optional.")
        kind = one.type
        body: dict[str, Any] = ({"type": self.record(kind, kind.type.rpartition("}")[2] or one.local)} if isinstance(kind, Record)
                                else self._simple(kind, one.local))
        if one.is_list:
            body |= {"repeats": True} | ({"at_least": one.least} if one.least else {}) | ({"at_most": one.most} if one.most else {})
        elif not one.least or one.nillable or in_choice:
            body["required"] = False
        if one.description:
            body["description"] = " ".join(one.description.split())[:2000]
        return body

    def _simple(self, kind: SimpleType, name: str) -> dict[str, Any]:
        base = kind.base if not (kind.item or kind.members) else "string"
        if kind.item is not None or kind.members:
            self.drawing.note(f"{name} is a {'list in one text' if kind.item else 'value of several types'}; it is drawn as a text.")
            return {"type": "string"}
        if base not in OFFERED:
            self.drawing.note(f"{name} is of type {base}, which is drawn as a text.")
            base = "string"
        body: dict[str, Any] = {"type": base}
        if kind.codes:
            body["codes"] = list(kind.codes)
        for facet in _FACETS:
            if (value := getattr(kind, facet)) is not None:
                body[facet] = value
        if kind.patterns and kind.pattern is None:
            body["pattern"] = kind.patterns[-1]
            if len(kind.patterns) > 1:
                self.drawing.note(f"{name} has several patterns that all hold; the last one is taken.")
        if kind.above is not None or kind.below is not None:
            self.drawing.note(f"{name} has a bound that is itself left out; set min or max.")
        return body


def _in_a_choice(group: Group, inside: bool = False) -> frozenset[str]:
    here = inside or group.order is Order.CHOICE or (group.least == 0 and group.most == 1)
    found: set[str] = set()
    for part in group.parts:
        if isinstance(part, Group):
            found |= _in_a_choice(part, here)
        elif isinstance(part, Element) and here:
            found.add(part.name)
    return frozenset(found)


def _is_open(group: Group) -> bool:
    return any(_is_open(one) if isinstance(one, Group) else not isinstance(one, Element) for one in group.parts)
