"""The schemas of a contract, found wherever they are, and an index of what they declare.

Strategy: every `schema` element is taken in once for each namespace that it has (an included schema without one takes that of the includer:
Part 1, section 4.2.1). Nothing is compiled here; components are nodes with the schema that they stand in, since their order and the
order of parts mean nothing.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

from lxml import etree

from bricola.core.contracts.names import XML, XSD
from bricola.core.contracts.reading.parts import Names, Part, Parts, joined, local_name, namespace_of

X = f"{{{XSD}}}"
SCHEMA = f"{X}schema"
Tell = Callable[[str, str, Part, etree._Element | None], None]  # a problem: its code, the words, the part, and what in it


@dataclass(eq=False)
class Schema:
    """One schema element, in the namespace that it has here."""

    part: Part
    root: etree._Element
    namespace: str
    names: Names
    chameleon: bool  # its own components have no namespace in the text
    qualified: bool = False
    qualified_attributes: bool = False

    def expand(self, node: etree._Element, text: str) -> str | None:
        """The expanded name of what a reference names."""
        tag = self.names.expand(node, text)
        if tag is not None and self.chameleon and tag[:1] != "{" and ":" not in text:
            return f"{{{self.namespace}}}{tag}"
        return tag

    def own(self, name: str) -> str:
        return f"{{{self.namespace}}}{name}" if self.namespace else name


@dataclass(eq=False)
class Component:
    """A global declaration. `before` is what it redefines (Part 1, section 4.2.2)."""

    node: etree._Element
    schema: Schema
    before: "Component | None" = None


_SPACES = {f"{X}element": "elements", f"{X}complexType": "types", f"{X}simpleType": "types", f"{X}attribute": "attributes",
           f"{X}group": "groups", f"{X}attributeGroup": "attribute_groups"}


@dataclass
class Index:
    """All global components by symbol space and expanded name."""

    parts: Parts
    tell: Tell
    elements: dict[str, Component] = field(default_factory=dict)
    types: dict[str, Component] = field(default_factory=dict)
    attributes: dict[str, Component] = field(default_factory=dict)
    groups: dict[str, Component] = field(default_factory=dict)
    attribute_groups: dict[str, Component] = field(default_factory=dict)
    namespaces: set[str] = field(default_factory=set)  # in which something was declared, or looked for
    _seen: set[tuple[int, str]] = field(default_factory=set)

    def add(self, part: Part, root: etree._Element, namespace: str | None = None) -> None:
        """Take in a schema element and everything that it includes, imports and redefines. `namespace` is the includer's."""
        waiting: list[tuple[Part, etree._Element, str | None]] = [(part, root, namespace)]
        while waiting:
            part, root, outer = waiting.pop(0)
            own = root.get("targetNamespace", "")
            effective = own or outer or ""
            if (id(root), effective) in self._seen:
                continue
            self._seen.add((id(root), effective))
            if outer is not None and own and own != outer:
                self.tell("schema.include", f"The schema includes one of another namespace, {own}.", part, root)
            schema = Schema(part, root, effective, Names(part), not own and bool(effective),
                            root.get("elementFormDefault") == "qualified", root.get("attributeFormDefault") == "qualified")
            self.namespaces.add(effective)
            waiting += self._outside(schema)
            self._declare(schema)

    def _outside(self, schema: Schema) -> list[tuple[Part, etree._Element, str | None]]:
        """The schemas that this one names by their places."""
        found: list[tuple[Part, etree._Element, str | None]] = []
        for node in schema.root.iterchildren(f"{X}include", f"{X}import", f"{X}redefine"):
            place, is_import = node.get("schemaLocation"), node.tag == f"{X}import"
            if not place or (is_import and node.get("namespace") == XML):
                continue
            part = self.parts.get(joined(schema.part.location, place), schema.part, node)
            if part is None:
                continue
            if part.root.tag != SCHEMA:
                self.tell("schema.place", f"{part.name} is no schema.", schema.part, node)
                continue
            if is_import and part.root.get("targetNamespace", "") != node.get("namespace", ""):
                self.tell("schema.import", f"{part.name} has the namespace {part.root.get('targetNamespace', 'none')}, and is imported as "
                                           f"{node.get('namespace', 'none')}.", schema.part, node)
            found.append((part, part.root, None if is_import else schema.namespace))
        return found

    def _declare(self, schema: Schema) -> None:
        for node in schema.root.iterchildren(tag=etree.Element):
            if node.tag == f"{X}redefine":
                continue
            self._component(node, schema)
        for redefine in schema.root.iterchildren(f"{X}redefine"):
            self._redefine(redefine, schema)

    def _component(self, node: etree._Element, schema: Schema) -> None:
        space = _SPACES.get(node.tag)
        if space is None:
            return
        name = (node.get("name") or "").strip()
        if not name:
            self.tell("schema.name", f"A global {local_name(node.tag)} has no name.", schema.part, node)
            return
        components: dict[str, Component] = getattr(self, space)
        tag = schema.own(name)
        known = components.get(tag)
        if known is None:
            components[tag] = Component(node, schema)
        elif known.before is None and known.node is not node and _text(known.node) != _text(node):
            self.tell("schema.twice", f"The {local_name(node.tag)} {name} is declared twice, with different content; the first one counts.",
                      schema.part, node)

    def _redefine(self, redefine: etree._Element, schema: Schema) -> None:
        """What is redefined replaces what was there, and what was there is what its own name means inside."""
        place = redefine.get("schemaLocation")
        part = self.parts.get(joined(schema.part.location, place), schema.part, redefine) if place else None
        if part is not None and part.root.tag == SCHEMA:
            self.add(part, part.root, schema.namespace)
        for node in redefine.iterchildren(tag=etree.Element):
            space = _SPACES.get(node.tag)
            if space is None or not node.get("name"):
                continue
            components: dict[str, Component] = getattr(self, space)
            tag = schema.own(node.get("name", ""))
            before = components.get(tag)
            if before is None:
                self.tell("schema.redefine", f"{node.get('name')} is redefined, and was not there before.", schema.part, node)
            if before is None or before.node is not node:
                components[tag] = Component(node, schema, before)

    def reachable(self, tag: str) -> bool:
        """Whether the namespace of a name is one that the contract has schemas for."""
        return namespace_of(tag) in self.namespaces


def _text(node: etree._Element) -> bytes:
    return b"".join(etree.tostring(node, method="c14n", exclusive=True).split())
