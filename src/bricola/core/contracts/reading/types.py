"""Complex types and elements of schemas as records (XML Schema Part 1, sections 3.2 to 3.10).

Strategy: a record is made empty when it is first named and put into a queue; it is filled when its turn comes. So types may hold
themselves, and no depth of nesting becomes a depth of calls. Only derivation is followed by calls, and bounded.
"""

from collections import deque
from dataclasses import replace
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.attributes import Attributes, Chain, Owner
from bricola.core.contracts.reading.content import Raw, RawAny, RawElement, RawGroup, Slots, simplified
from bricola.core.contracts.reading.derivations import Derivations
from bricola.core.contracts.reading.parts import child, documentation, local_name
from bricola.core.contracts.reading.plain import Kinds, plain_elements, record_of
from bricola.core.contracts.reading.schemas import Component, Index, Schema, X
from bricola.core.contracts.reading.simple_types import ANYTHING, STRING, SimpleTypes
from bricola.core.shapes.model import MARKUP, Element, Group, Order, Record, Wildcard
from bricola.core.shapes.primitives import ANY, PRIMITIVES
from bricola.core.shapes.simple import SimpleType

_MOST_DERIVATIONS = 60
_DOCUMENTATION = f"{X}annotation", f"{X}documentation"
_ANY_TYPE = f"{X}{ANY}"
_ORDERS = {f"{X}sequence": Order.SEQUENCE, f"{X}choice": Order.CHOICE, f"{X}all": Order.ALL}
_PARTICLES = (f"{X}sequence", f"{X}choice", f"{X}all", f"{X}group")


class Types:
    """Everything that a contract's schemas declare, compiled when it is first asked for."""

    def __init__(self, index: Index) -> None:
        self._index = index
        self._tell = index.tell
        self._simple = SimpleTypes(index)
        self._attributes = Attributes(index, self._simple, self.message)
        self._derivations = Derivations(index)
        self._records: dict[str, Record] = {}
        self._queue: deque[tuple[Record, Owner, str]] = deque()
        self._messages: dict[str, Record | None] = {}
        self._narrower: dict[str, tuple[SimpleType, ...]] = {}
        self._with_narrower: dict[str, SimpleType] = {}
        self._kinds: dict[Schema, Kinds] = {}

    # -- what others ask for

    def message(self, tag: str, described: str = "") -> Record | None:
        """The record of a global element, as a message or a part of one; None when there is no such element."""
        if tag not in self._messages:
            component = self._index.elements.get(tag)
            self._messages[tag] = None if component is None else self._message(tag, component)
            self._fill_all()
        return self._messages[tag]

    def type_record(self, tag: str, schema_node: etree._Element, schema: Schema) -> "SimpleType | Record":
        """A type by its name, for parts of messages that name one."""
        found = self._named(tag, schema, schema_node)
        self._fill_all()
        return found

    def type(self, tag: str) -> "SimpleType | Record | None":
        """A global type by its name, or a built-in one; None when there is no such type."""
        component = self._index.types.get(tag)
        if component is None:
            local = tag.removeprefix(X)
            return SimpleType(local) if local != tag and local in PRIMITIVES else None
        found = self._named(tag, component.schema, component.node)
        self._fill_all()
        return found

    def finish(self) -> None:
        self._fill_all()

    # -- elements

    def _message(self, tag: str, component: Component) -> Record:
        node, schema = component.node, component.schema
        kind = self._type_of(node, schema, f"element {tag}")
        nillable = node.get("nillable") in ("true", "1")
        text = documentation(node, *_DOCUMENTATION)
        record = Record(local_name(tag), tag=tag, id=f"message {tag}", nillable=nillable)
        if isinstance(kind, SimpleType):
            value = self._valued(Element("value", kind, 1, 1, text), node, kind)
            if kind.base == ANY:
                inside = Group(Order.SEQUENCE, (Wildcard(checked="skip", least=0, most=None),))
                _set(record, mixed="content", content=inside, open_attributes=Wildcard("anyAttribute", checked="skip"), description=text)
            else:
                _set(record, text=value, description=text)
            return record
        self._fill_all()
        _set(record, elements=kind.elements, content=kind.content, attributes=kind.attributes, open_attributes=kind.open_attributes,
             text=kind.text, mixed=kind.mixed, abstract=kind.abstract, derived=kind.derived, type=kind.type,
             description=text or kind.description)
        return record

    def _make_element(self, raw: RawElement, name: str) -> Element:
        node, schema, least, most = raw.node, raw.schema, raw.least, raw.most
        kind = self._type_of(node, schema)
        text = documentation(node, *_DOCUMENTATION)
        element = Element(name, kind, least, most, text, tag=raw.tag, nillable=node.get("nillable") in ("true", "1"))
        return self._valued(element, node, kind)

    def _valued(self, element: Element, node: etree._Element, kind: "SimpleType | Record") -> Element:
        """With what the declaration says of its value: fixed, or the value that an empty one has."""
        simple = kind if isinstance(kind, SimpleType) else kind.text.type if kind.text is not None else None
        if not isinstance(simple, SimpleType) or simple.base == ANY or simple.holds_names:
            return element
        for attribute in ("fixed", "default"):
            text = node.get(attribute)
            if text is not None and isinstance(kind, SimpleType):
                value, problem = simple.read(text)
                if problem is None:
                    fixed = value if attribute == "fixed" else None
                    element = replace(element, fixed=fixed, when_empty=value)
        return element

    def _type_of(self, node: etree._Element, schema: Schema, identity: str = "") -> "SimpleType | Record":
        """The type of an element declaration: named, inside, that of its head, or anything."""
        seen = 0
        while True:
            name = node.get("type")
            if name is not None:
                tag = schema.expand(node, name)
                return self._named(tag, schema, node, name)
            for inner in node.iterchildren(f"{X}complexType", f"{X}simpleType"):
                if inner.tag == f"{X}simpleType":
                    return self._simple.local(inner, schema)
                where = identity or f"{schema.part.name} {node.sourceline} {id(node)}"
                return self._record(f"{where} type", node.get("name", ""), "", (inner, schema, None))
            head = node.get("substitutionGroup")
            tag = schema.expand(node, head) if head else None
            component = self._index.elements.get(tag) if tag else None
            seen += 1
            if component is None or seen > _MOST_DERIVATIONS:
                return MARKUP
            node, schema, identity = component.node, component.schema, f"element {tag}"

    def _kind_of(self, node: etree._Element, schema: Schema, text: str) -> "SimpleType | Record":
        """A type by its name as it is written on a node."""
        found = self._named(schema.expand(node, text), schema, node, text)
        if schema.names.flat and found is not MARKUP:  # a prefix means one thing everywhere, and what is missing is told each time
            self._kinds.setdefault(schema, {})[text] = found
        return found

    def _named(self, tag: str | None, schema: Schema, node: etree._Element, written: str = "") -> "SimpleType | Record":
        if tag == _ANY_TYPE:
            return MARKUP
        simple = self._simple.named(tag, schema, node) if tag is not None else None
        if simple is not None and tag is not None:
            found = self._with_narrower.get(tag)
            if found is None:
                narrower = self._narrower_than(tag)
                found = self._with_narrower[tag] = replace(simple, derived=narrower) if narrower else simple
            return found
        component = self._index.types.get(tag) if tag is not None else None
        if component is None or tag is None:
            self._tell("schema.reference", f"There is no type {written or tag}; anything is taken in its place.", schema.part, node)
            return MARKUP
        return self._record(f"type {tag}", local_name(tag), tag, (component.node, component.schema, component.before))

    def _record(self, identity: str, name: str, tag: str, owner: Owner) -> Record:
        found = self._records.get(identity)
        if found is None:
            found = self._records[identity] = record_of({"name": name, "id": identity, "type": tag})
            self._queue.append((found, owner, identity))
        return found

    # -- records

    def _fill_all(self) -> None:
        while self._queue:
            record, owner, identity = self._queue.popleft()
            self._fill(record, owner, identity)

    def _fill(self, record: Record, owner: Owner, identity: str) -> None:
        node, schema, _ = owner
        plain = plain_elements(node, schema, self._kinds.setdefault(schema, {}), self._kind_of)
        attributes, open_attributes = self._attributes.of([(owner, None, "", None)] if plain is not None else self._chain(owner))
        text = self._text_type(owner) if plain is None else None
        taken: set[str] = set()
        values: dict[str, Any] = {"description": documentation(node, *_DOCUMENTATION), "abstract": node.get("abstract") in ("true", "1")}
        if text is not None:
            slot = "value" if not any(one.name == "value" for one in attributes) else "text"
            values["text"] = Element(slot, text)
            taken.add(slot)
        elif plain is not None:
            values |= {"elements": plain, "content": None}
            taken |= {one.name for one in plain}
        else:
            mixed, raw = self._particle(owner)
            slots = Slots(self._make_element, set(), identity)
            elements, content = slots.content(simplified(raw) if raw is not None else None)
            values |= {"elements": elements, "content": content}
            taken |= {one.name for one in elements}
            if mixed:
                values["mixed"] = _free("content", taken | {one.name for one in attributes})
        names = [_free(one.name, taken, "Attribute") for one in attributes]
        values["attributes"] = tuple(one if one.name == name else replace(one, name=name)
                                     for one, name in zip(attributes, names, strict=True))
        values["open_attributes"] = open_attributes
        if record.type and not _blocked(node, schema):
            values["derived"] = tuple(self._derived_records(record.type))
        _set(record, **values)

    def _derived_records(self, tag: str) -> list[Record]:
        """The types that derive from one, all the way down."""
        records = []
        for one in self._derivations.below(tag):
            component = self._index.types[one]
            if component.node.tag == f"{X}complexType":
                records.append(self._record(f"type {one}", local_name(one), one, (component.node, component.schema, component.before)))
        return records

    def _narrower_than(self, tag: str) -> tuple[SimpleType, ...]:
        """The named simple types that derive from one."""
        if tag in self._narrower:
            return self._narrower[tag]
        self._narrower[tag] = ()
        found: list[SimpleType] = []
        for one in self._derivations.next(tag):
            component = self._index.types[one]
            if component.node.tag == f"{X}simpleType":
                found.append(self._simple.component(one, component, component.schema, component.node))
                found += self._narrower_than(one)
        self._narrower[tag] = tuple(found)
        return self._narrower[tag]

    # -- derivation

    def _derivation(self, owner: Owner) -> tuple[etree._Element | None, str, Owner | None, str | None]:
        """The extension or restriction of a complex type, how it derives, its complex base, and the name of its base."""
        node, schema, before = owner
        for content in node.iterchildren(f"{X}complexContent", f"{X}simpleContent"):
            for step in content.iterchildren(f"{X}extension", f"{X}restriction"):
                name = step.get("base")
                tag = schema.expand(step, name) if name else None
                if before is not None and tag is not None and tag == schema.own(node.get("name", "")):
                    return step, local_name(step.tag), (before.node, before.schema, before.before), tag
                component = self._index.types.get(tag) if tag is not None else None
                if component is not None and component.node.tag == f"{X}complexType":
                    return step, local_name(step.tag), (component.node, component.schema, component.before), tag
                if component is None and tag != _ANY_TYPE and (tag is None or SimpleTypes.built_in(tag) is None):
                    self._tell("schema.reference", f"There is no type {name}, which this one derives from.", schema.part, step)
                return step, local_name(step.tag), None, tag
        return None, "", None, None

    def _chain(self, owner: Owner) -> Chain:
        """A complex type and its complex bases, the type itself first."""
        chain: Chain = []
        current: Owner | None = owner
        seen: set[int] = set()
        while current is not None:
            if id(current[0]) in seen or len(chain) > _MOST_DERIVATIONS:
                self._tell("schema.circle", "The type derives from itself, or from too many others.", owner[1].part, owner[0])
                break
            seen.add(id(current[0]))
            step, how, base, tag = self._derivation(current)
            chain.append((current, step, how, tag))
            current = base
        return chain

    def _text_type(self, owner: Owner) -> SimpleType | None:
        """The simple type of the content; None where the content is of elements."""
        chain = self._chain(owner)
        if not any(one.tag == f"{X}simpleContent" for (node, _, _), _, _, _ in chain for one in node.iterchildren(f"{X}simpleContent")):
            return None
        kind: SimpleType | None = None
        for (_, schema, _), step, how, tag in reversed(chain):
            if step is None:
                kind = STRING if kind is None else kind
                continue
            if kind is None:
                kind = (self._simple.named(tag, schema, step) if tag is not None else None) or ANYTHING
            if how == "restriction":
                inner = child(step, f"{X}simpleType")
                kind = self._simple.restricted(self._simple.local(inner, schema) if inner is not None else kind, step, schema)
        return kind

    def _particle(self, owner: Owner) -> tuple[bool, Raw | None]:
        """Whether text may stand between the elements, and the content: what is extended stands in front (Part 1, section 3.4.2)."""
        parts: list[Raw] = []
        mixed = False
        for (node, schema, _), step, how, _tag in self._chain(owner):
            around = child(node, f"{X}complexContent")
            mixed = mixed or "true" in (node.get("mixed"), around.get("mixed") if around is not None else None)
            own = next((self._raw(one, schema) for one in (step if step is not None else node).iterchildren(*_PARTICLES)), None)
            if own is not None:
                parts.insert(0, own)
            if how != "extension":
                break
        return mixed, RawGroup(Order.SEQUENCE, parts) if parts else None

    # -- particles

    def _raw(self, node: etree._Element, schema: Schema, around: tuple[str, ...] = ()) -> Raw | None:
        least, most = _occurs(node, schema, self._tell)
        if node.tag == f"{X}element":
            return self._raw_element(node, schema, least, most)
        if node.tag == f"{X}any":
            return RawAny(self._attributes.wildcard(node, schema), least, most)
        if node.tag == f"{X}group":
            return self._raw_group(node, schema, least, most, around)
        order = _ORDERS.get(node.tag)
        if order is None:
            return None
        inner = [self._raw(one, schema, around) for one in node.iterchildren(tag=etree.Element)]
        return RawGroup(order, [one for one in inner if one is not None], least, most)

    def _raw_group(self, node: etree._Element, schema: Schema, least: int, most: int | None, around: tuple[str, ...]) -> Raw | None:
        name = node.get("ref", "")
        tag = schema.expand(node, name)
        component = self._index.groups.get(tag) if tag is not None else None
        # inside its own redefinition a group means what it was before
        while component is not None and component.before is not None and component.node in list(node.iterancestors()):
            component = component.before
        if component is None or tag is None or (f"{tag} {id(component)}" in around):
            why = f"There is no group {name}." if component is None else f"The group {name} holds itself."
            self._tell("schema.reference", why, schema.part, node)
            return None
        key = f"{tag} {id(component)}"
        inner = next((self._raw(one, component.schema, (*around, key)) for one in component.node.iterchildren(*_PARTICLES)), None)
        return None if inner is None else RawGroup(Order.SEQUENCE, [inner], least, most, local_name(tag))

    def _raw_element(self, node: etree._Element, schema: Schema, least: int, most: int | None) -> Raw | None:
        reference = node.get("ref")
        if reference is None:
            name = (node.get("name") or "").strip()
            if not name:
                self._tell("schema.name", "An element has no name.", schema.part, node)
                return None
            form = node.get("form") or ("qualified" if schema.qualified else "unqualified")
            return RawElement(node, schema, schema.own(name) if form == "qualified" else name, least, most)
        tag = schema.expand(node, reference)
        component = self._index.elements.get(tag) if tag is not None else None
        if component is None or tag is None:
            self._tell("schema.reference", f"There is no element {reference}.", schema.part, node)
            return None
        members = [] if component.node.get("block") else self._derivations.members(tag)
        abstract = component.node.get("abstract") in ("true", "1")
        if not members and not abstract:
            return RawElement(component.node, component.schema, tag, least, most)
        choices: list[Raw] = [] if abstract else [RawElement(component.node, component.schema, tag, 1, 1)]
        for one in members:
            member = self._index.elements[one]
            if member.node.get("abstract") not in ("true", "1"):
                choices.append(RawElement(member.node, member.schema, one, 1, 1))
        if not choices:
            self._tell("schema.abstract", f"The element {reference} is abstract, and nothing may stand in its place.", schema.part, node)
        return RawGroup(Order.CHOICE, choices, least, most, local_name(tag))


def _blocked(node: etree._Element, schema: Schema) -> bool:
    block = node.get("block", schema.root.get("blockDefault", ""))
    return block == "#all" or ("extension" in block and "restriction" in block)


def _occurs(node: etree._Element, schema: Schema, tell: Any) -> tuple[int, int | None]:
    least, most = node.get("minOccurs", "1").strip(), node.get("maxOccurs", "1").strip()
    if not least.isdigit() or not (most.isdigit() or most == "unbounded") or len(least) > 9 or len(most) > 9:
        tell("schema.occurs", f"minOccurs {least[:20]} and maxOccurs {most[:20]} are no numbers of times.", schema.part, node)
        return 1, 1
    return int(least), None if most == "unbounded" else int(most)


def _free(name: str, taken: set[str], suffix: str = "2") -> str:
    while name in taken:
        name += suffix
    taken.add(name)
    return name


def _set(record: Record, **values: Any) -> None:
    """Fill a record that was made empty. Only here, before anybody else sees it."""
    record.__dict__.update(values)
