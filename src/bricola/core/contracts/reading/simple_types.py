"""Simple types of schemas as `SimpleType` (XML Schema Part 2; Part 1, section 3.14)."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.parts import child, local_name
from bricola.core.contracts.reading.schemas import Component, Index, Schema, X
from bricola.core.patterns.matcher import compile_pattern
from bricola.core.patterns.syntax import PatternError
from bricola.core.shapes.primitives import LIST_TYPES, PRIMITIVES
from bricola.core.shapes.simple import SimpleType

_LENGTHS = {"length": "length", "minLength": "min_length", "maxLength": "max_length", "totalDigits": "digits", "fractionDigits": "fraction"}
_BOUNDS = {"minInclusive": "min", "maxInclusive": "max", "minExclusive": "above", "maxExclusive": "below"}
_OTHER_BOUND = {"min": "above", "above": "min", "max": "below", "below": "max"}
STRING = SimpleType("string")
ANYTHING = SimpleType("anySimpleType")
_MOST_DERIVATIONS = 60
_BUILT_IN = {name: SimpleType(name) for name in PRIMITIVES} | {
    name: SimpleType("string", item=SimpleType(item), min_length=1) for name, item in LIST_TYPES.items()}


class SimpleTypes:
    """Compiles simple types, each named one once."""

    def __init__(self, index: Index) -> None:
        self._index = index
        self._tell: Callable[[str, str, Any, Any], None] = index.tell
        self._made: dict[str, SimpleType] = {}
        self._making: list[str] = []

    def named(self, tag: str, schema: Schema, node: etree._Element) -> SimpleType | None:
        """A built-in or global simple type; None when there is none of this name."""
        built_in = self.built_in(tag)
        if built_in is not None:
            return built_in
        component = self._index.types.get(tag)
        if component is None or component.node.tag != f"{X}simpleType":
            return None
        return self.component(tag, component, schema, node)

    @staticmethod
    def built_in(tag: str) -> SimpleType | None:
        if not tag.startswith(X):
            return None
        return _BUILT_IN.get(tag[len(X):])

    def component(self, tag: str, component: Component, schema: Schema, node: etree._Element) -> SimpleType:
        key = tag if component.before is None else f"{tag} {id(component)}"
        found = self._made.get(key)
        if found is not None:
            return found
        if key in self._making or len(self._making) > _MOST_DERIVATIONS:
            self._tell("schema.circle", f"The simple type {local_name(tag)} derives from itself, or from too many others.", schema.part,
                       node)
            return STRING
        self._making.append(key)
        try:
            made = replace(self.local(component.node, component.schema, component.before, tag), tag=tag)
        finally:
            self._making.pop()
        self._made[key] = made
        return made

    def local(self, node: etree._Element, schema: Schema, before: Component | None = None, own: str = "") -> SimpleType:
        """The type of a simpleType element."""
        for inner in node.iterchildren(f"{X}restriction", f"{X}list", f"{X}union"):
            if inner.tag == f"{X}list":
                item = self._referred(inner, "itemType", schema, before, own) or STRING
                return SimpleType("string", item=item)
            if inner.tag == f"{X}union":
                return self._union(inner, schema)
            base = self._referred(inner, "base", schema, before, own) or STRING
            return self.restricted(base, inner, schema)
        self._tell("schema.simple", "A simple type says nothing of what it is.", schema.part, node)
        return STRING

    def _referred(self, node: etree._Element, attribute: str, schema: Schema, before: Component | None, own: str) -> SimpleType | None:
        """The type that an attribute names, or that stands inside."""
        text = node.get(attribute)
        if text is None:
            inner = child(node, f"{X}simpleType")
            return self.local(inner, schema) if inner is not None else None
        tag = schema.expand(node, text)
        if before is not None and tag == own:
            return self.component(own, before, schema, node)
        found = self.named(tag, schema, node) if tag is not None else None
        if found is None:
            self._tell("schema.reference", f"There is no simple type {text}.", schema.part, node)
        return found

    def _union(self, node: etree._Element, schema: Schema) -> SimpleType:
        members: list[SimpleType] = []
        for text in node.get("memberTypes", "").split():
            tag = schema.expand(node, text)
            found = self.named(tag, schema, node) if tag is not None else None
            if found is None:
                self._tell("schema.reference", f"There is no simple type {text}.", schema.part, node)
            else:
                members.append(found)
        members += [self.local(inner, schema) for inner in node.iterchildren(f"{X}simpleType")]
        return SimpleType("string", members=tuple(members)) if members else STRING

    def restricted(self, base: SimpleType, node: etree._Element, schema: Schema) -> SimpleType:
        """A type narrowed by the facets below a restriction."""
        facets: dict[str, Any] = {}
        codes: list[str] = []
        forms: list[str] = []
        for facet in node.iterchildren(tag=etree.Element):
            kind, value = facet.tag[len(X):] if facet.tag.startswith(X) else "", facet.get("value")
            if value is None:
                continue
            if kind == "enumeration":
                codes.append(self._code(base, value, facet, schema))
            elif kind == "pattern":
                forms.append(value)
            elif kind in _LENGTHS and value.strip().isdigit():
                facets[_LENGTHS[kind]] = int(value)
            elif kind in _BOUNDS:
                if self._reads(base, value, facet, schema):
                    facets[_BOUNDS[kind]] = value.strip()
                    facets.setdefault(_OTHER_BOUND[_BOUNDS[kind]], None)
            elif kind == "whiteSpace":
                facets["space"] = value
        if forms:
            facets |= self._patterns(base, forms, node, schema)
        if codes:
            readable = tuple(one for one in codes if self._reads(base, one, node, schema))
            facets["codes"] = readable
        return replace(base, **facets, name="", description="", tag="", derived=())

    def _patterns(self, base: SimpleType, forms: list[str], node: etree._Element, schema: Schema) -> dict[str, Any]:
        """The patterns of one step are alternatives; those of earlier steps hold as well (Part 2, section 4.3.4.3)."""
        text = forms[0] if len(forms) == 1 else "|".join(f"({one})" for one in forms)
        try:
            linear = compile_pattern(text).linear
        except PatternError as error:
            self._tell("schema.pattern", f"A pattern cannot be read, and is not checked: {error}.", schema.part, node)
            return {}
        if not linear:
            self._tell("schema.pattern-large", "A pattern is too large for the engine that runs in linear time; its values are checked "
                                               "apart, and refused when that takes too long.", schema.part, node)
        earlier = (base.pattern,) if base.pattern is not None else ()
        return {"pattern": text, "patterns": (*earlier, *base.patterns)}

    def _code(self, base: SimpleType, value: str, facet: etree._Element, schema: Schema) -> str:
        if not base.holds_names:
            return value if (base.space or base.primitive.space) == "preserve" else value.strip()
        return schema.expand(facet, value) or value

    def _reads(self, base: SimpleType, value: str, facet: etree._Element, schema: Schema) -> bool:
        try:
            base.primitive.read(value.strip() if base.primitive.space == "collapse" else value)
        except (ValueError, OverflowError):
            self._tell("schema.value", f"{value[:60]} is not {base.primitive.described}, which the type is made of; the rule is left out.",
                       schema.part, facet)
            return False
        return True

