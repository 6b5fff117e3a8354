"""Encoders: from values to the text of a message, as Python source generated when a service is deployed.

Strategy: one function per record, straight-line, that fetches each value, checks its class and facets, and ends in a single f-string of all
pieces. No tree is built. Names and tags enter the source as constants; values never do. A value that breaks the contract raises: an answer
is as promised or it is a fault. A record with attributes has a second function for them; alternatives become branches, repeated groups
loops. Where all names are of one namespace it is the default one; else the message's element declares a prefix for each.
"""

from collections import deque
from collections.abc import Callable, Mapping
from decimal import Decimal
from functools import lru_cache
from types import CodeType
from typing import Any

from bricola.core.contracts.names import XML, XSI
from bricola.core.messages import checks
from bricola.core.messages.checks import escape, quoted
from bricola.core.shapes.model import TYPE, Element, Group, Order, Record, Wildcard, type_names
from bricola.core.shapes.primitives import ANY
from bricola.core.shapes.simple import SimpleType

Encoder = Callable[[Mapping[str, Any]], str]

# How a checked value is written inside an f-string, by its Python class.
_PLAIN = {"int": "{one}", "date": "{one.isoformat()}"}


def _is_safe(text: str) -> bool:
    return escape(text) == text


def compile_encoder(record: Record, namespace: str) -> Encoder:
    """A function from the values of a message's record to its element's text; '' for a message without one."""
    if record.tag == "":
        return lambda values: ""
    return _Generator(namespace, record).compile(record)


@lru_cache(2048)
def _code(source: str) -> CodeType:
    """Operations with answers of one structure have one source: what differs are their constants."""
    return compile(source, "<encoder>", "exec")


class _Names:
    """How names stand in the messages of one record: without prefixes where one namespace is enough."""

    def __init__(self, namespace: str, record: Record) -> None:
        self.namespace = namespace
        self._tags: set[str] = {record.tag_in(namespace)}
        self.instance = False  # whether xsi:nil or xsi:type may stand
        self._markup = False
        self._visit(record)
        found = {one[1:].partition("}")[0] if one[:1] == "{" else "" for one in self._tags}
        self.default = found == {next(iter(found))} and "" not in found and not self._markup
        home = record.tag_in(namespace)
        own = home[1:].partition("}")[0] if home[:1] == "{" else ""
        self.home = own
        ordered = sorted(found - {"", XML}, key=lambda one: (one != own, one))
        self.prefixes = {} if self.default else {one: f"n{index}" for index, one in enumerate(ordered)}

    def _visit(self, top: Record) -> None:
        seen: set[int] = set()
        waiting = [top]
        while waiting:
            record = waiting.pop()
            if id(record) in seen:
                continue
            seen.add(id(record))
            self._tags |= {one.tag for one in record.attributes if one.tag is not None and one.tag[:1] == "{"}
            self._markup = self._markup or bool(record.mixed or record.open_attributes or any(
                isinstance(one, Wildcard) for one in _parts(record.content)))
            for other in record.derived:
                self.instance = True
                self._tags.add(other.type)
                waiting.append(other)
            for element in record.elements:
                self.instance = self.instance or element.nillable
                if isinstance(element.type, Record):
                    waiting.append(element.type)
                else:
                    self._markup = self._markup or element.type.base == ANY
                if not (isinstance(element.type, Record) and element.type.part) and not _is_open(record, element):
                    self._tags.add(element.tag_in(self.namespace))

    def written(self, tag: str) -> str:
        if tag[:1] != "{" or self.default:
            return tag.rpartition("}")[2]
        namespace, _, local = tag[1:].partition("}")
        return f"xml:{local}" if namespace == XML else f"{self.prefixes[namespace]}:{local}"

    def head(self, tag: str, more: str = "") -> str:
        declared = f' xmlns="{quoted(self.home)}"' if self.default else "".join(
            f' xmlns:{prefix}="{quoted(one)}"' for one, prefix in self.prefixes.items())
        if self.instance:
            declared += f' xmlns:xsi="{XSI}"'
        return f"<{self.written(tag)}{declared}"


def _parts(group: Group | None) -> list[Element | Wildcard]:
    if group is None:
        return []
    return [one for part in group.parts for one in (_parts(part) if isinstance(part, Group) else [part])]


def _is_open(record: Record, element: Element) -> bool:
    """Whether an element of a record stands for an open part of its content."""
    return any(isinstance(part, Wildcard) and part.name == element.name for part in _parts(record.content))


class _Generator:
    def __init__(self, namespace: str, record: Record) -> None:
        self.names = _Names(namespace, record)
        self.namespace = namespace
        self.constants: dict[str, Any] = {
            "escape": escape, "quoted": quoted, "miss": checks.miss, "bad": checks.bad, "listed": checks.listed, "pick": checks.pick,
            "raw": checks.raw, "named": checks.named, "named_attribute": checks.named_attribute,
            "free_attributes": checks.free_attributes, "other_type": checks.other_type}
        self.source: list[str] = []
        self.made: dict[int, str] = {}
        self._queue: deque[tuple[str, Record, str]] = deque()
        self._count = 0

    def compile(self, record: Record) -> Encoder:
        tag = record.tag_in(self.namespace)
        self.constants |= {"head": self.names.head(tag), "tail": f"</{self.names.written(tag)}>"}
        start, content = self.inside(record, record.name, "v")
        if start == "''":
            self.constants["head"] += ">"
            self.source.append(f"def encode(v): return head + {content} + tail")
        elif start == "whole":
            self.source += ["def encode(v):", f" start, inside = {content}", " return head + start + '>' + inside + tail"]
        else:
            self.source.append(f"def encode(v): return head + {start} + '>' + {content} + tail")
        while self._queue:
            self.source += self.body(*self._queue.popleft())
        exec(_code("\n".join(self.source)), self.constants)  # the source is made here, from names that models and readers have checked
        encoder: Encoder = self.constants["encode"]
        return encoder

    def constant(self, value: object) -> str:
        name = f"c{len(self.constants)}"
        self.constants[name] = value
        return name

    def new(self, letter: str) -> str:
        self._count += 1
        return f"{letter}{self._count}"

    # -- records

    def function(self, record: Record, path: str) -> str:
        """The name of the function that writes what stands inside a record."""
        found = self.made.get(id(record))
        if found is None:
            found = self.made[id(record)] = f"record{len(self.made)}"
            self._queue.append((found, record, path))
        return found

    def inside(self, record: Record, path: str, value: str) -> tuple[str, str]:
        """Expressions for the attributes and the content of an element of this type; ("whole", …) where one gives both."""
        name = self.function(record, path)
        if record.derived or record.abstract:
            return "whole", f"{name}_whole({value})"
        has_attributes = record.attributes or record.open_attributes
        return (f"{name}_attributes({value})" if has_attributes else "''"), f"{name}({value})"

    def body(self, name: str, record: Record, path: str) -> list[str]:
        lines = [f"def {name}(v):", " get = v.get"]
        if record.text is not None:
            prepare, var = self.value(record.text, path)
            lines += [f" {line}" for line in prepare] + [f" return {var}"]
        elif record.mixed:
            check = self.constant(checks.Markup(record, self.namespace, path, dict(self.names.prefixes)))
            lines += [f" return {check}(get({record.mixed!r}))"]
        elif record.content is not None:
            made, var = self.group(record.content, path)
            lines += [f" {line}" for line in made] + [f" return {var}"]
        else:
            pieces = []
            for element in record.elements:
                made, var = self.element(element, f"{path}/{element.name}")
                lines += [f" {line}" for line in made]
                pieces.append(f"{{{var}}}")
            lines.append(f" return f'{''.join(pieces)}'")
        if record.attributes or record.open_attributes:
            lines += self.attributes(name, record, path)
        if record.derived or record.abstract:
            lines += self.whole(name, record, path)
        return lines

    def whole(self, name: str, record: Record, path: str) -> list[str]:
        """A function that gives attributes and content of whichever type stands there."""
        lines = [f"def {name}_whole(v):", f" kind = v.get({TYPE!r})"]
        known = type_names(record)
        own = next((word for word, one in known.items() if one is record), "")
        if not record.abstract:
            attributes = f"{name}_attributes(v)" if record.attributes or record.open_attributes else "''"
            lines.append(f" if kind is None or kind == {own!r}: return {attributes}, {name}(v)")
        for word, other in known.items():
            if other is record or other.abstract:
                continue
            inner = self.function(other, path)
            mark = self.constant(f' xsi:type="{self.names.written(other.type)}"' + (
                f' xmlns="{quoted(self.names.home)}"' if self.names.default else ""))
            attributes = f"{inner}_attributes(v)" if other.attributes or other.open_attributes else "''"
            lines.append(f" if kind in ({word!r}, {other.type!r}): return {mark} + {attributes}, {inner}(v)")
        at = self.constant((path, tuple(known)))
        return [*lines, f" other_type({at}, kind)"]

    def attributes(self, name: str, record: Record, path: str) -> list[str]:
        lines = [f"def {name}_attributes(v):", " get = v.get"]
        pieces = []
        for one in record.attributes:
            made, var = self.attribute(one, f"{path}/@{one.local}")
            lines += [f" {line}" for line in made]
            pieces.append(f"{{{var}}}")
        if record.open_attributes is not None:
            at = self.constant((record.open_attributes, path))
            var = self.new("x")
            lines.append(f" {var} = free_attributes({at}, get({record.open_attributes.name!r}))")
            pieces.append(f"{{{var}}}")
        return [*lines, f" return f'{''.join(pieces)}'"]

    def attribute(self, attribute: Element, path: str) -> tuple[list[str], str]:
        at = self.constant((attribute, path))
        var = self.new("x")
        written = self.names.written(attribute.tag if attribute.tag is not None else attribute.name)
        kind = attribute.type
        assert isinstance(kind, SimpleType)
        absent = f"miss({at})" if attribute.least else "''"
        if attribute.least and attribute.fixed is not None:
            absent = self.constant(f' {written}="{quoted(kind.write(attribute.fixed))}"')
        lines = [f"{var} = get({attribute.name!r})", f"if {var} is None: {var} = {absent}", "else:", f" one = {var}"]
        lines += [f" {line}" for line in self.check(attribute, kind, at)]
        if kind.holds_names:
            lines.append(f" {var} = named_attribute({written!r}, one)")
        else:
            lines += [f" try: {var} = ' {written}=\"' + quoted({self.constant(kind.primitive.write)}(one)) + '\"'",
                      f" except ValueError: bad({at}, one, 'value.character')"]
        return lines, var

    def check(self, element: Element, kind: SimpleType, at: str) -> list[str]:
        """Lines that check the class and the facets of `one`."""
        python = kind.primitive.python
        lines = [] if python is object else [f"if one.__class__ is not {self.constant(python)}: bad({at}, one, 'value.type')"]
        if not kind.is_plain or kind.primitive.lowest is not None or kind.primitive.highest is not None:
            check = self.constant(kind.check)
            lines += [f"broken = {check}(one)", f"if broken: bad({at}, one, broken)"]
        if element.fixed is not None:
            lines.append(f"if one != {self.constant(element.fixed)}: bad({at}, one, 'value.fixed')")
        return lines

    # -- grammar

    def part(self, part: Element | Group | Wildcard, path: str) -> tuple[list[str], str]:
        if isinstance(part, Element):
            return self.element(part, f"{path}/{part.name}")
        if isinstance(part, Group):
            return self.group(part, path)
        var = self.new("x")
        return [f"{var} = {self.constant(checks.OpenPart(part, f'{path}/{part.name}'))}(get({part.name!r}))"], var

    def group(self, group: Group, path: str) -> tuple[list[str], str]:
        """Lines that leave the text of a group in a variable."""
        if group.name:
            return self.repeated(group, path)
        var = self.new("g")
        if group.order is Order.CHOICE:
            return self.choice(group, path, var), var
        lines: list[str] = []
        pieces = []
        for part in group.parts:
            made, piece = self.part(part, path)
            lines += made
            pieces.append(f"{{{piece}}}")
        lines.append(f"{var} = f'{''.join(pieces)}'")
        if group.least:
            return lines, var
        names = self.constant(tuple(sorted(group.names)))
        return [f"{var} = ''", f"if any(get(one) is not None for one in {names}):", *(f" {line}" for line in lines)], var

    def choice(self, group: Group, path: str, var: str) -> list[str]:
        names = tuple(part.names if isinstance(part, Group) else frozenset((part.name,)) for part in group.parts)
        chosen = self.new("k")
        lines = [f"{var} = ''", f"{chosen} = pick({self.constant((names, group.may_be_empty, path))}, v)"]
        for index, part in enumerate(group.parts):
            made, piece = self.part(part, path)
            lines += [f"{'if' if index == 0 else 'elif'} {chosen} == {index}:", *(f" {line}" for line in made), f" {var} = {piece}"]
        return lines

    def repeated(self, group: Group, path: str) -> tuple[list[str], str]:
        name, var = self.new("group"), self.new("g")
        made, piece = self.group(group.inside, f"{path}/{group.name}")
        self.source += [f"def {name}(v):", " get = v.get", *(f" {line}" for line in made), f" return {piece}"]
        at = self.constant((Element(group.name, Record(group.name), group.least, group.most), f"{path}/{group.name}"))
        return [f"{var} = ''.join([{name}(one) for one in listed({at}, get({group.name!r}))])"], var

    # -- elements

    def element(self, element: Element, path: str) -> tuple[list[str], str]:
        """Lines that leave the text of an element, or of all of a list, in a variable."""
        at, var = self.constant((element, path)), self.new("x")
        tag = self.names.written(element.tag_in(self.namespace))
        prepare, text = self.one(element, path, at, tag)
        nil = f"'<{tag} xsi:nil=\"true\"/>'"
        lines = [f"{var} = get({element.name!r})"]
        if element.is_list:
            lines += [f"{var} = listed({at}, {var})", "parts = []", f"for one in {var}:"]
            if element.nillable:
                lines += [" if one is None:", f"  parts.append({nil})", "  continue"]
            lines += [f" {line}" for line in prepare] + [f" parts.append({text})", f"{var} = ''.join(parts)"]
            return lines, var
        absent = f"miss({at})" if element.least else "''"
        if element.nillable:
            absent = nil if element.least else f"{nil} if {element.name!r} in v else ''"
        elif element.least and element.fixed is not None and isinstance(element.type, SimpleType):
            absent = self.constant(f"<{tag}>{escape(element.type.write(element.fixed))}</{tag}>")
        lines.append(f"if {var} is None: {var} = {absent}")
        lines += ["else:", f" one = {var}"] + [f" {line}" for line in prepare] + [f" {var} = {text}"]
        return lines, var

    def one(self, element: Element, path: str, at: str, tag: str) -> tuple[list[str], str]:
        """Lines that prepare `one`, and the expression of its element's text."""
        kind = element.type
        if isinstance(kind, Record):
            start, content = self.inside(kind, path, "one")
            if start == "''":
                return [], f"'<{tag}>' + {content} + '</{tag}>'"
            if start == "whole":
                return [f"start, inside = {content}"], f"f'<{tag}{{start}}>{{inside}}</{tag}>'"
            return [], f"'<{tag}' + {start} + '>' + {content} + '</{tag}>'"
        if kind.base == ANY and not kind.members and kind.item is None:
            return [], f"raw({at}, one, {element.tag_in(self.namespace)!r}, {tag!r})"
        if kind.holds_names:
            return self.check(element, kind, at), f"'<{tag}' + named(one) + '</{tag}>'"
        prepare, text = self.simple(element, kind, at)
        return prepare, f"f'<{tag}>{text}</{tag}>'"

    def value(self, element: Element, path: str) -> tuple[list[str], str]:
        """Lines that leave the text of a record's simple content in a variable."""
        at, var = self.constant((element, path)), self.new("x")
        kind = element.type
        assert isinstance(kind, SimpleType)
        prepare, text = self.simple(element, kind, at)
        absent = f"miss({at})" if element.fixed is None else self.constant(escape(kind.write(element.fixed)))
        return [f"{var} = get({element.name!r})", f"if {var} is None: {var} = {absent}", "else:", f" one = {var}",
                *(f" {line}" for line in prepare), f" {var} = f'{text}'"], var

    def simple(self, element: Element, kind: SimpleType, at: str) -> tuple[list[str], str]:
        """Lines that check `one`, and how it stands inside an f-string."""
        lines = self.check(element, kind, at)
        python = kind.primitive.python
        if python is str and kind.codes and all(_is_safe(code) for code in kind.codes):
            return lines, "{one}"
        if python is Decimal:  # half the cost of the format "f", which only very large and very small ones need
            return [*lines, "one_text = str(one)", "if 'E' in one_text: one_text = format(one, 'f')",
                    f"if 'N' in one_text or 'I' in one_text: bad({at}, one, 'value.type')"], "{one_text}"
        if python is str:
            lines += [
                "if not one.isalnum():", " try: one = escape(one)",
                f" except ValueError: bad({at}, one, 'value.character')",
            ]
            return lines, "{one}"
        plain = _PLAIN.get(python.__name__)
        if plain is not None:
            return lines, plain
        write = self.constant(kind.primitive.write)
        if python in (list, object):
            return [*lines, f"one_text = escape({write}(one))"], "{one_text}"
        return lines, f"{{{write}(one)}}"
