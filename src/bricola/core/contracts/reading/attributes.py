"""Attributes and wildcards of complex types (XML Schema Part 1, sections 3.2, 3.6 and 3.10)."""

from collections.abc import Callable
from dataclasses import replace

from lxml import etree

from bricola.core.contracts.names import XML
from bricola.core.contracts.reading.parts import child, documentation, local_name, namespace_of
from bricola.core.contracts.reading.plain import element_of
from bricola.core.contracts.reading.schemas import Component, Index, Schema, X
from bricola.core.contracts.reading.simple_types import ANYTHING, SimpleTypes
from bricola.core.shapes.model import Element, Record, Wildcard
from bricola.core.shapes.simple import SimpleType

Owner = tuple[etree._Element, Schema, Component | None]  # a complexType with its schema, and what it redefines
Chain = list[tuple[Owner, etree._Element | None, str, str | None]]  # a type and its bases: how each derives, and from what
_DOCUMENTATION = f"{X}annotation", f"{X}documentation"
_XML_ATTRIBUTES = {"lang": SimpleType("language"), "space": SimpleType("NCName", codes=("default", "preserve")),
                   "base": SimpleType("anyURI"), "id": SimpleType("ID")}


class Attributes:
    """What attributes a type has. `find` finds the record of a global element, for wildcards."""

    def __init__(self, index: Index, simple: SimpleTypes, find: Callable[[str], Record | None]) -> None:
        self._index, self._simple, self._find = index, simple, find
        self._tell = index.tell

    def of(self, chain: Chain) -> tuple[tuple[Element, ...], Wildcard | None]:
        """The attributes of a type with those of its bases; a restriction changes and takes away."""
        found: dict[str, Element | None] = {}
        open_part: Wildcard | None = None
        for (node, schema, _), step, _how, _tag in reversed(chain):
            around = step if step is not None else node
            wildcard = self._collect(around, schema, found, ())
            open_part = wildcard or open_part
        return tuple(one for one in found.values() if one is not None), open_part

    def _collect(self, around: etree._Element, schema: Schema, found: dict[str, Element | None],
                 groups: tuple[int, ...]) -> Wildcard | None:
        open_part: Wildcard | None = None
        for node in around.iterchildren(f"{X}attribute", f"{X}attributeGroup", f"{X}anyAttribute"):
            if node.tag == f"{X}anyAttribute":
                open_part = self.wildcard(node, schema, "anyAttribute")
            elif node.tag == f"{X}attribute":
                self._attribute(node, schema, found)
            else:
                tag = schema.expand(node, node.get("ref", ""))
                component = self._index.attribute_groups.get(tag) if tag is not None else None
                while component is not None and component.before is not None and component.node in list(node.iterancestors()):
                    component = component.before
                if component is None or id(component) in groups:
                    self._tell("schema.reference", f"There is no attribute group {node.get('ref')}.", schema.part, node)
                    continue
                open_part = self._collect(component.node, component.schema, found, (*groups, id(component))) or open_part
        return open_part

    def _attribute(self, node: etree._Element, schema: Schema, found: dict[str, Element | None]) -> None:
        declared, owner, use = node, schema, node.get("use", "optional")
        reference = node.get("ref")
        if reference is not None:
            tag = schema.expand(node, reference)
            if tag is not None and namespace_of(tag) == XML and local_name(tag) in _XML_ATTRIBUTES:
                least = int(use == "required")
                found[tag] = None if use == "prohibited" else Element(local_name(tag), _XML_ATTRIBUTES[local_name(tag)], least, tag=tag)
                return
            component = self._index.attributes.get(tag) if tag is not None else None
            if component is None or tag is None:
                self._tell("schema.reference", f"There is no attribute {reference}.", schema.part, node)
                return
            declared, owner = component.node, component.schema
        else:
            name = (node.get("name") or "").strip()
            form = node.get("form") or ("qualified" if schema.qualified_attributes else "unqualified")
            tag = schema.own(name) if form == "qualified" else name
        if use == "prohibited":
            found[tag] = None
            return
        kind = self._attribute_type(declared, owner)
        values = {"name": local_name(tag), "type": kind, "least": int(use == "required"), "tag": tag,
                  "description": documentation(declared, *_DOCUMENTATION)}
        for attribute in ("fixed", "default"):
            text = node.get(attribute, declared.get(attribute))
            if text is not None and not kind.holds_names:
                value, problem = kind.read(text)
                if problem is None:
                    values[attribute] = value
        found[tag] = element_of(values)

    def _attribute_type(self, node: etree._Element, schema: Schema) -> SimpleType:
        name = node.get("type")
        if name is None:
            inner = child(node, f"{X}simpleType")
            return self._simple.local(inner, schema) if inner is not None else ANYTHING
        tag = schema.expand(node, name)
        found = self._simple.named(tag, schema, node) if tag is not None else None
        if found is None:
            self._tell("schema.reference", f"There is no simple type {name}.", schema.part, node)
        return found or ANYTHING

    def wildcard(self, node: etree._Element, schema: Schema, name: str = "any") -> Wildcard:
        text = node.get("namespace", "##any").strip()
        checked = node.get("processContents", "strict")
        everything = Wildcard(name, checked=checked, find=self._find, known=self._index.elements.keys)
        if text == "##any":
            return everything
        if text == "##other":
            return replace(everything, namespaces=(schema.namespace, ""), but=True)
        words = {"##targetNamespace": schema.namespace, "##local": ""}
        return replace(everything, namespaces=tuple(words.get(one, one) for one in text.split()))
