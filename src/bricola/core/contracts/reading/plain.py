"""The commonest complex type by far, read in one walk: a sequence of elements that have a name and a named type.

What is anything else is None here, and read in the general way, which gives the same for these: large contracts have tens of thousands of
such elements, and the general way takes ten times as long for each.
"""

from collections.abc import Callable, Iterable
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.parts import documentation
from bricola.core.contracts.reading.schemas import Schema, X
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

_SEQUENCE, _ELEMENT = f"{X}sequence", f"{X}element"
_BESIDE = frozenset((f"{X}annotation", f"{X}attribute", f"{X}attributeGroup", f"{X}anyAttribute"))
_LEAST = {"0": 0, "1": 1}
_MOST: dict[str, int | None] = {"1": 1, "unbounded": None}
_DOCUMENTATION = f"{X}annotation", f"{X}documentation"
Kinds = dict[str, "SimpleType | Record"]
KindOf = Callable[[etree._Element, Schema, str], "SimpleType | Record"]


def plain_elements(node: etree._Element, schema: Schema, kinds: Kinds, kind_of: KindOf) -> tuple[Element, ...] | None:
    """The elements of a complex type that is such a sequence; None for every other one. `kind_of` finds a type by its name, and keeps in
    `kinds` those that the name means everywhere in the schema."""
    sequence: etree._Element | None = None
    for child in node:
        if child.tag == _SEQUENCE and sequence is None:
            sequence = child
        elif child.tag not in _BESIDE:
            return None
    if sequence is None or sequence.keys() or node.get("mixed") is not None:
        return None
    prefix = schema.own("") if schema.qualified else ""
    found: dict[str, Element] = {}
    for one in sequence:
        values = _plain(one.items()) if one.tag == _ELEMENT else None
        if values is None or values["name"] in found:
            return None
        name = values["name"]
        values["tag"] = prefix + name
        values["type"] = kinds.get(values["type"]) or kind_of(one, schema, values["type"])
        if len(one):
            values["description"] = documentation(one, *_DOCUMENTATION)
        found[name] = element_of(values)
    return tuple(found.values())


def _plain(attributes: Iterable[tuple[Any, Any]]) -> dict[str, Any] | None:
    """What the attributes of such an element say; None where one of them says more."""
    values: dict[str, Any] = {}
    for key, text in attributes:
        if key in ("name", "type"):
            values[key] = text
        elif key == "minOccurs" and text in _LEAST:
            values["least"] = _LEAST[text]
        elif key == "maxOccurs" and text in _MOST:
            values["most"] = _MOST[text]
        elif key == "nillable":
            values["nillable"] = text in ("true", "1")
        else:
            return None
    return values if values.get("name") and values.get("type") and " " not in values["name"] else None


def element_of(values: dict[str, Any]) -> Element:
    """An element with these fields. The constructor of a frozen class sets all sixteen one by one, which takes most of the time; what is
    left out here has its default from the class."""
    made = object.__new__(Element)
    made.__dict__.update(values)
    return made


def record_of(values: dict[str, Any]) -> Record:
    """The same of a record."""
    made = object.__new__(Record)
    made.__dict__.update(values)
    return made
