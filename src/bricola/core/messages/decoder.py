"""Decoders: from a message element to values, compiled from a record when a service is deployed.

A decoder collects every problem that it meets instead of stopping at the first one, and names each by its element path. Plain records (one
sequence of elements) have a loop of their own; what others' contracts have besides is read by `grammar`. Records are compiled from a
queue and reach each other through cells, since they may hold themselves.
"""

from collections import deque
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from lxml import etree

from bricola.core.contracts.names import XML, XSD, XSI
from bricola.core.messages.grammar import ContentReader, compile_content
from bricola.core.messages.markup import inner_markup, markup
from bricola.core.messages.told import (
    MOST_PROBLEMS,
    missing,
    out_of_order,
    stray_text,
    told,
    unknown_attribute,
    unknown_element,
    wrong_count,
    wrong_type,
)
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import TYPE, Element, Record, Values, Wildcard, type_names
from bricola.core.shapes.primitives import ANY, PRIMITIVES, derives
from bricola.core.shapes.simple import SimpleType

ElementReader = Callable[[etree._Element, str, list[Problem]], Any]

_NIL, _TYPE = f"{{{XSI}}}nil", f"{{{XSI}}}type"
_HINTS = frozenset((f"{{{XSI}}}schemaLocation", f"{{{XSI}}}noNamespaceSchemaLocation"))
_X, _XML = f"{{{XSD}}}", f"{{{XML}}}"
_TRUE = ("true", "1")
_ABSENT = object()


def compile_decoder(record: Record, namespace: str, strict: bool = True) -> ElementReader:
    """A function (element, its path, list for problems) -> values by slot name.

    Absent optional elements are left out of the values, or filled with their default. Lists are Python lists. An element that is nil counts
    as absent, unless nil is a value there: then it is None. Without `strict`, as services were before their release of form 2, attributes
    of the message's own element and types named by xsi:type are not looked at.
    """
    compiler = _Compiler(namespace, strict)
    cell = compiler.cell(record)
    compiler.finish()
    if not strict:
        return cell.run
    attributes = compiler.attributes(record)

    def decode(node: etree._Element, path: str, problems: list[Problem]) -> Any:
        if node.keys():
            before = len(problems)
            chosen = attributes(node, path, problems)
            if chosen is None:
                if len(problems) == before and not record.nillable:
                    problems.append(nil_refused(path))
                return {}
            if chosen[0]:
                return chosen[1].run(node, path, problems) | {TYPE: chosen[0]}
        return cell.run(node, path, problems)

    return decode


class _Cell:
    """The decoder of a record, once it is compiled."""

    __slots__ = ("run",)
    run: ElementReader


class _Compiler:
    def __init__(self, namespace: str, strict: bool) -> None:
        self.namespace = namespace
        self.strict = strict
        self._cells: dict[int, _Cell] = {}
        self._queue: deque[Record] = deque()

    def cell(self, record: Record) -> _Cell:
        found = self._cells.get(id(record))
        if found is None:
            found = self._cells[id(record)] = _Cell()
            self._queue.append(record)
        return found

    def finish(self) -> None:
        while self._queue:
            record = self._queue.popleft()
            self._cells[id(record)].run = self._plain(record) if record.is_plain or not (
                record.content or record.attributes or record.open_attributes or record.text or record.mixed) else self._general(record)

    def _late(self, element: Element) -> ElementReader:
        """A reader that is made when a message asks for it: of an element that stands in an open part."""
        read = self.reader(element)
        self.finish()
        return read

    # -- records

    def _plain(self, record: Record) -> ElementReader:
        namespace = self.namespace
        plans = tuple((element, self.reader(element)) for element in record.elements)
        positions = {element.tag_in(namespace): index for index, element in enumerate(record.elements)}
        required = tuple(index for index, element in enumerate(record.elements) if element.least)
        fill = tuple((element.name, element.default) for element in record.elements if element.default is not None)
        lists = tuple(index for index, element in enumerate(record.elements) if element.is_list)

        def decode(node: etree._Element, path: str, problems: list[Problem]) -> Values:
            values: Values = {}
            latest = -1
            if node.text is not None and not node.text.isspace():
                problems.append(stray_text(path, node.text))
            for child in node:
                index = positions.get(child.tag, -1)
                if index < 0:
                    problems.append(unknown_element(child, path, record.elements, namespace))
                    if len(problems) >= MOST_PROBLEMS:
                        return values
                    continue
                element, read = plans[index]
                name = element.name
                if index < latest:
                    problems.append(out_of_order(path, record.elements[index].name, record.elements[latest].name))
                elif name in values and not element.is_list:
                    problems.append(Problem("element.repeated", f"{name} stands more than once.", place=f"{path}/{name}",
                                            expected="at most one"))
                latest = max(index, latest)
                if child.tail is not None and not child.tail.isspace():
                    problems.append(stray_text(path, child.tail))
                value = read(child, path, problems)
                if value is _ABSENT:
                    continue
                if element.is_list:
                    values.setdefault(name, []).append(value)
                else:
                    values[name] = value
                if len(problems) >= MOST_PROBLEMS:
                    return values
            for index in required:
                element = record.elements[index]
                if element.name not in values:
                    problems.append(missing(element, path))
            for index in lists:
                element = record.elements[index]
                count = len(values.get(element.name, ()))
                if (element.most is not None and count > element.most) or (count and count < element.least):
                    problems.append(wrong_count(element, count, path))
            for name, default in fill:
                if name not in values:
                    values[name] = default
            return values

        return decode

    def _general(self, record: Record) -> ElementReader:
        """Attributes, and below them text, markup, or elements by a grammar."""
        attributes = self._attribute_reader(record)
        inner: ElementReader | None = None
        content: ContentReader | None = None
        if record.text is not None:
            read_text = self.simple(record.text, inside=False)
        elif record.content is not None:
            content = compile_content(record, self.namespace, self.reader, self._late, _ABSENT)
        else:
            inner = self._plain(Record(record.name, record.elements))

        def decode(node: etree._Element, path: str, problems: list[Problem]) -> Values:
            values: Values = {}
            if attributes is not None:
                attributes(node, path, problems, values)
            if record.text is not None:
                values[record.text.name] = read_text(node, path, problems)
            elif record.mixed:
                if content is not None:
                    content(node, path, problems, {}, True)
                elif inner is not None and len(node):
                    inner(_without_text(node), path, problems)
                values[record.mixed] = inner_markup(node)
            elif content is not None:
                content(node, path, problems, values, False)
            elif inner is not None:
                values |= inner(node, path, problems)
            return values

        return decode

    def _attribute_reader(self, record: Record) -> Callable[[etree._Element, str, list[Problem], Values], None]:
        known = {one.tag_in("") if one.tag is not None else one.name: one for one in record.attributes}
        required = tuple(one for one in record.attributes if one.least)
        fill = tuple((one.name, one.default) for one in record.attributes if one.default is not None)
        open_part = record.open_attributes

        def read(node: etree._Element, path: str, problems: list[Problem], values: Values) -> None:
            for tag, text in node.items():
                attribute = known.get(str(tag))
                if attribute is not None:
                    values[attribute.name] = _attribute_value(attribute, node, str(text), path, problems)
                elif open_part is not None and not str(tag).startswith(f"{{{XSI}}}") and open_part.takes(str(tag)):
                    values.setdefault(open_part.name, {})[str(tag)] = str(text)
            for one in required:
                if one.name not in values:
                    problems.append(replace(missing(one, path), place=f"{path}/@{one.local}",
                                            message=f"The attribute {one.local} is required.", mend=f"Add the attribute {one.local}."))
            for name, default in fill:
                values.setdefault(name, default)

        return read

    def attributes(self, record: Record) -> Callable[[etree._Element, str, list[Problem]], tuple[str, _Cell] | None]:
        """Looks at what stands on an element of this type: the name of the derived type that it says it is ('' for none) with the cell
        that reads it, or None when there is nothing to read (nil)."""
        known = {word: _allowed_attributes(one) for word, one in (("", record), *type_names(record).items())}
        cell, strict = self.cell(record), self.strict
        types = {one.type: (word, self.cell(one)) for word, one in type_names(record).items() if one is not record and not one.abstract}
        name = record.type or (f"{{{self.namespace}}}{record.name}" if not record.id else "")
        own_type, free = ("", cell), (_XML,) if strict else (_XML, f"{{{XSI}}}")
        self.finish()

        def look(node: etree._Element, path: str, problems: list[Problem]) -> tuple[str, _Cell] | None:
            chosen = own_type
            abstract = record.abstract
            if strict and _TYPE in node.attrib:
                wanted = expanded(node, str(node.attrib[_TYPE]))
                if wanted in types:
                    chosen, abstract = types[wanted], False
                elif not name or wanted != name:
                    problems.append(wrong_type(str(node.attrib[_TYPE]), [name, *types], path))
                    return None
            if abstract:
                problems.append(wrong_type("", list(types), path))
                return None
            own, open_part = known[chosen[0]]
            nil = False
            for attribute, value in node.items():
                attribute = str(attribute)
                if attribute == _NIL:
                    nil = str(value) in _TRUE
                elif attribute == _TYPE or attribute in own or attribute in _HINTS or attribute.startswith(free):
                    continue
                elif open_part is None or not open_part.takes(attribute):
                    problems.append(unknown_attribute(attribute, path))
            if nil and (len(node) or (node.text or "").strip()):
                problems.append(nil_filled(path))
            return None if nil else chosen

        return look

    # -- elements

    def reader(self, element: Element) -> ElementReader:
        """Reads an element below a record: its value, or _ABSENT for nil where that is no value."""
        if isinstance(element.type, SimpleType):
            return self.simple(element)
        name, optional, nillable, record = element.name, element.least == 0, element.nillable, element.type
        cell = self.cell(record)
        looks: list[Callable[[etree._Element, str, list[Problem]], tuple[str, _Cell] | None]] = []

        def read_record(node: etree._Element, path: str, problems: list[Problem]) -> Any:
            place = f"{path}/{name}"
            if node.keys() or record.abstract:
                if not looks:
                    looks.append(self.attributes(record))
                before = len(problems)
                chosen = looks[0](node, place, problems)
                if chosen is None:
                    if len(problems) == before and nillable:
                        return None
                    if len(problems) == before and not optional:
                        problems.append(nil_refused(place))
                    return _ABSENT if optional else {}
                if chosen[0]:
                    return chosen[1].run(node, place, problems) | {TYPE: chosen[0]}
            return cell.run(node, place, problems)

        return read_record

    def simple(self, element: Element, inside: bool = True) -> ElementReader:
        """Reads a simple value; `inside` that of an element below a record, else that of the node itself."""
        kind = element.type
        assert isinstance(kind, SimpleType)
        name, optional, read = element.name, element.least == 0, kind.read
        nil = None if element.nillable else _ABSENT
        fixed, when_empty, names = element.fixed, element.when_empty, kind.holds_names
        if kind.base == ANY and not kind.members:
            return lambda node, path, problems: markup(node)
        own = self._simple_types(kind)

        def read_simple(node: etree._Element, path: str, problems: list[Problem]) -> Any:
            place = f"{path}/{name}" if inside else path
            reads = read
            if inside and node.keys():
                judged = self._on_simple(node, place, problems, own)
                if judged is _ABSENT:
                    if nil is _ABSENT and not optional:
                        problems.append(nil_refused(place))
                        return None
                    return nil
                reads = judged or read
            if len(node):
                problems.append(Problem("element.content", f"{name} holds elements where a value belongs.",
                                        place=place, expected=kind.rule, found=shown(etree.QName(node[0]).localname)))
                return None
            text = node.text or ""
            if not text and when_empty is not None:
                return when_empty
            value, problem = reads(named_text(node, text) if names else text)
            if problem is not None:
                problems.append(told(problem, element).at(place))
            elif fixed is not None and value != fixed:
                problems.append(Problem("value.fixed", f"{name} has one value only.", place=place, expected=kind.write(fixed),
                                        found=shown(text)))
            return value

        return read_simple

    def _simple_types(self, kind: SimpleType) -> dict[str, SimpleType]:
        """The types that xsi:type may name on an element of this one: itself, those that derive from it, and the built-in one that a
        type without a name narrows, which is what dynamic client stacks send."""
        found = {one.tag: one for one in kind.derived} | {one.tag or _X + one.base: one for one in kind.members}
        if kind.tag or kind.name:
            found[kind.tag or f"{{{self.namespace}}}{kind.name}"] = kind
        elif kind.item is None and not kind.members:
            found[_X + kind.base] = kind
        if kind.is_plain and not kind.name and kind.item is None and not kind.members:
            found |= {_X + name: SimpleType(name) for name in PRIMITIVES if name != ANY and derives(name, kind.base)}
        return found

    def _on_simple(self, node: etree._Element, place: str, problems: list[Problem], types: dict[str, SimpleType]) -> Any:
        """What the attributes of a simple element say: _ABSENT for nil, the reader of a type that it names, or None."""
        reads = None
        for attribute, value in node.items():
            if attribute == _NIL:
                if str(value) in _TRUE:
                    if len(node) or node.text:
                        problems.append(nil_filled(place))
                    return _ABSENT
            elif attribute == _TYPE and self.strict:
                found = types.get(expanded(node, str(value)))
                if found is None:
                    problems.append(wrong_type(str(value), list(types), place))
                else:
                    reads = found.read
            elif attribute in _HINTS or str(attribute).startswith(_XML) or (not self.strict and str(attribute).startswith(f"{{{XSI}}}")):
                continue
            else:
                problems.append(unknown_attribute(str(attribute), place))
        return reads


def nil_filled(place: str) -> Problem:
    return Problem("element.nil-content", "The element is nil, and holds something.", place=place,
                   mend="Leave out xsi:nil, or the content.")


def _allowed_attributes(record: Record) -> tuple[frozenset[str], Wildcard | None]:
    return frozenset(one.tag if one.tag is not None else one.name for one in record.attributes), record.open_attributes


def nil_refused(place: str) -> Problem:
    return Problem("element.nil", "The element is nil, but it is required.", place=place, mend="Give it a value.")


def _attribute_value(attribute: Element, node: etree._Element, text: str, path: str, problems: list[Problem]) -> Any:
    kind = attribute.type
    assert isinstance(kind, SimpleType)
    value, problem = kind.read(named_text(node, text) if kind.holds_names else text)
    place = f"{path}/@{attribute.local}"
    if problem is not None:
        problems.append(told(problem, attribute).at(place))
    elif attribute.fixed is not None and value != attribute.fixed:
        problems.append(Problem("value.fixed", f"The attribute {attribute.local} has one value only.", place=place,
                                expected=kind.write(attribute.fixed), found=shown(text)))
    return value


def expanded(node: etree._Element, text: str) -> str:
    """`{namespace}local` of a name that stands on a node (XML Schema Part 2, section 3.2.18); as it is when its prefix means nothing."""
    prefix, colon, local = text.strip().rpartition(":")
    namespace = node.nsmap.get(prefix if colon else None)
    return f"{{{namespace}}}{local}" if namespace else text.strip()


def named_text(node: etree._Element, text: str) -> str:
    return " ".join(expanded(node, one) for one in text.split())


def _without_text(node: etree._Element) -> etree._Element:
    """A copy of a mixed element with its elements only."""
    bare = etree.Element(node.tag)
    bare.extend(etree.fromstring(markup(child)) for child in node)
    return bare


__all__ = ["MOST_PROBLEMS", "ElementReader", "Wildcard", "compile_decoder", "missing", "told"]
