"""Decoders: from a message element to values, compiled from a record when a service is deployed.

A decoder collects every problem that it meets instead of stopping at the first one, and names each by its
element path. Order matters (xs:sequence); an element that stands too early or too late is named as such.
"""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from lxml import etree

from bricola.core.contracts.names import XML, XSI
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

Values = dict[str, Any]
ElementReader = Callable[[etree._Element, str, list[Problem]], Any]

_NIL = f"{{{XSI}}}nil"
_FREE_ATTRIBUTES = (f"{{{XSI}}}", f"{{{XML}}}")
MOST_PROBLEMS = 20  # a message full of mistakes is told by its first twenty
_ABSENT = object()


def compile_decoder(record: Record, namespace: str) -> ElementReader:
    """A function (element, its path, list for problems) -> values by element name.

    Absent optional elements are left out of the values, or filled with their default. Lists are Python lists. An element
    that is nil counts as absent, unless nil is a value there: then it is None.
    """
    plans = tuple((element, _reader(element, namespace)) for element in record.elements)
    positions = {f"{{{namespace}}}{element.name}": index for index, element in enumerate(record.elements)}
    required = tuple(index for index, element in enumerate(record.elements) if element.least)
    fill = tuple((element.name, element.default) for element in record.elements if element.default is not None)
    lists = tuple(index for index, element in enumerate(record.elements) if element.is_list)

    def decode(node: etree._Element, path: str, problems: list[Problem]) -> Values:
        values: Values = {}
        latest = -1
        if node.text is not None and not node.text.isspace():
            problems.append(_stray_text(path, node.text))
        for child in node:
            index = positions.get(child.tag, -1)
            if index < 0:
                problems.append(_unknown(child, path, record, namespace))
                if len(problems) >= MOST_PROBLEMS:
                    return values
                continue
            element, read = plans[index]
            name = element.name
            if index < latest:
                problems.append(_out_of_order(path, record, index, latest))
            elif name in values and not element.is_list:
                problems.append(Problem("element.repeated", f"{name} stands more than once.", place=f"{path}/{name}",
                                        expected="at most one"))
            latest = max(index, latest)
            if child.tail is not None and not child.tail.isspace():
                problems.append(_stray_text(path, child.tail))
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
            _check_count(record.elements[index], values, path, problems)
        for name, default in fill:
            if name not in values:
                values[name] = default
        return values

    return decode


def missing(element: Element, path: str) -> Problem:
    """A required element is not there."""
    rule = element.type.rule if isinstance(element.type, SimpleType) else f"a {element.type.name}"
    return Problem("element.missing", f"{element.name} is required.", place=f"{path}/{element.name}", expected=rule,
                   found="nothing", mend=f"Add {element.name}.")


def _check_count(element: Element, values: Values, path: str, problems: list[Problem]) -> None:
    count = len(values.get(element.name, ()))
    if (element.most is not None and count > element.most) or (count and count < element.least):
        problems.append(Problem("element.count", f"{element.name} stands {count} times.",
                                place=f"{path}/{element.name}", expected=element.occurrence))


def _reader(element: Element, namespace: str) -> ElementReader:
    name, optional = element.name, element.least == 0
    if isinstance(element.type, Record):
        inner = compile_decoder(element.type, namespace)

        def read_record(node: etree._Element, path: str, problems: list[Problem]) -> Any:
            if node.keys() and _is_nil(node, f"{path}/{name}", optional, problems):
                return _ABSENT
            return inner(node, f"{path}/{name}", problems)

        return read_record
    read = element.type.read
    nil = None if element.nillable else _ABSENT

    def read_simple(node: etree._Element, path: str, problems: list[Problem]) -> Any:
        if node.keys() and _is_nil(node, f"{path}/{name}", optional, problems):
            return nil
        if len(node):
            problems.append(Problem("element.content", f"{name} holds elements where a value belongs.",
                                    place=f"{path}/{name}", expected=element.type.rule,  # type: ignore[union-attr]
                                    found=shown(etree.QName(node[0]).localname)))
            return None
        value, problem = read(node.text or "")
        if problem is not None:
            problems.append(told(problem, element).at(f"{path}/{name}"))
        return value

    return read_simple


def told(problem: Problem, element: Element) -> Problem:
    """A problem with an element's value, without the value where it is sensitive."""
    return replace(problem, found="a value that is not shown") if element.sensitive else problem


def _is_nil(node: etree._Element, path: str, optional: bool, problems: list[Problem]) -> bool:
    """Look at the attributes: xsi:nil counts as absent where the element is optional; foreign ones are refused."""
    for attribute, value in node.items():
        if attribute == _NIL and value in ("true", "1"):
            if optional:
                return True
            problems.append(Problem("element.nil", "The element is nil, but it is required.", place=path,
                                    mend="Give it a value."))
        elif not str(attribute).startswith(_FREE_ATTRIBUTES):
            problems.append(Problem("element.attribute", "The element has an attribute that is not in the contract.",
                                    place=path, found=shown(attribute), mend="Remove the attribute."))
    return False


def _stray_text(path: str, text: str) -> Problem:
    return Problem("element.text", "There is text between the elements.", place=path, found=shown(text.strip()),
                   mend="Remove it.")


def _unknown(child: etree._Element, path: str, record: Record, namespace: str) -> Problem:
    name = etree.QName(child)
    place = f"{path}/{name.localname}"
    names = [element.name for element in record.elements]
    if name.localname in names:
        return Problem("element.namespace", f"{name.localname} is in the wrong namespace.", place=place,
                       expected=shown(namespace), found=shown(name.namespace or ""),
                       mend="Put it in the namespace of the operation.")
    near = next((one for one in names if one.lower() == name.localname.lower()), "")
    return Problem("element.unknown", f"{name.localname} does not belong here.", place=place,
                   expected=f"one of {', '.join(names)}" if names else "no elements", found=shown(name.localname),
                   mend=f"Write it {near}." if near else "")


def _out_of_order(path: str, record: Record, index: int, latest: int) -> Problem:
    late, early = record.elements[index].name, record.elements[latest].name
    return Problem("element.order", f"{late} stands after {early}.", place=f"{path}/{late}",
                   expected=f"{late} before {early}", mend="Keep the order of the contract.")
