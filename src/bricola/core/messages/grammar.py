"""Content by a grammar: alternatives, repeated groups, any order, open parts (XML Schema Part 1, section 3.8).

Strategy: every part of a group becomes a function that takes what it can from a cursor over the children and files it under its slot.
Content models are deterministic, so one look at the next tag decides: which branch, whether once more, whether at all. What is left when
all parts had their turn is named for what it is: too late, a second alternative, or unknown.
"""

from collections.abc import Callable
from typing import Any

from lxml import etree

from bricola.core.messages.markup import markup
from bricola.core.messages.told import missing, no_alternative, out_of_order, stray_text, two_alternatives, unknown_element, wrong_count
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import Element, Group, Order, Record, Values, Wildcard

Reader = Callable[[etree._Element, str, list[Problem]], Any]
ContentReader = Callable[[etree._Element, str, list[Problem], Values, bool], None]


class _Cursor:
    __slots__ = ("at", "children", "end", "path", "problems")

    def __init__(self, children: list[etree._Element], path: str, problems: list[Problem]) -> None:
        self.children = children
        self.at = 0
        self.end = len(children)
        self.path = path
        self.problems = problems

    @property
    def tag(self) -> str:
        return self.children[self.at].tag if self.at < self.end else ""


Match = Callable[[_Cursor, Values], None]


class _Starts:
    """What a part may begin with."""

    def __init__(self) -> None:
        self.tags: set[str] = set()
        self.open: list[Wildcard] = []

    def take(self, tag: str) -> bool:
        return bool(tag) and (tag in self.tags or any(one.takes(tag) for one in self.open))

    def add(self, other: "_Starts") -> None:
        self.tags |= other.tags
        self.open += other.open


def compile_content(record: Record, namespace: str, reader: Callable[[Element], Reader], late: Callable[[Element], Reader],
                    absent: object) -> ContentReader:
    """A function (element, path, problems, values to fill, whether text may stand between) for a record with a grammar. `late` makes the
    readers of what stands in open parts, when it comes."""
    assert record.content is not None
    builder = _Builder(namespace, reader, late, absent)
    match = builder.group(record.content)
    known = {one.tag_in(namespace): one for one in _elements(record.content)}

    def read(node: etree._Element, path: str, problems: list[Problem], values: Values, mixed: bool) -> None:
        children = list(node)
        if not mixed:
            for text in (node.text, *(one.tail for one in children)):
                if text is not None and not text.isspace():
                    problems.append(stray_text(path, text))
        found: list[Problem] = []
        cursor = _Cursor(children, path, found)
        match(cursor, values)
        if cursor.at < cursor.end:
            _left_over(cursor, known, namespace, record, path, values)
        problems += found

    return read


def _elements(group: Group) -> list[Element]:
    found: list[Element] = []
    for part in group.parts:
        if isinstance(part, Group):
            found += _elements(part)
        elif isinstance(part, Element):
            found.append(part)
    return found


def _left_over(cursor: _Cursor, known: dict[str, Element], namespace: str, record: Record, path: str, values: Values) -> None:
    child = cursor.children[cursor.at]
    element = known.get(child.tag)
    if element is None:
        cursor.problems.append(unknown_element(child, path, list(known.values()), namespace))
        return
    place = f"{path}/{element.name}"
    late = [one for one in cursor.problems if one.code == "element.missing" and one.place == place]
    cursor.problems[:] = [one for one in cursor.problems if one not in late]
    assert record.content is not None
    rival = _rival(record.content, element, values)
    previous = etree.QName(cursor.children[cursor.at - 1]).localname if cursor.at else ""
    if rival:
        cursor.problems.append(two_alternatives(path, element.name, rival))
    elif previous == element.local:
        cursor.problems.append(Problem("element.repeated", f"{element.name} stands more often than it may.", place=place,
                                       expected=f"at most {element.most or 1}"))
    else:
        cursor.problems.append(out_of_order(path, element.local, previous) if previous else
                               Problem("element.order", f"{element.local} stands too early.", place=place))


def _rival(group: Group, element: Element, values: Values) -> str:
    """The slot of another branch that was filled already, where an element is in a choice."""
    if group.order is Order.CHOICE:
        own = next((part for part in group.parts if part is element or (isinstance(part, Group) and element in _elements(part))), None)
        if own is not None:
            others = [name for part in group.parts if part is not own
                      for name in (part.names if isinstance(part, Group) else (part.name,))]
            found = next((name for name in others if name in values), "")
            if found:
                return found
    for part in group.parts:
        if isinstance(part, Group) and (found := _rival(part, element, values)):
            return found
    return ""


class _Builder:
    def __init__(self, namespace: str, reader: Callable[[Element], Reader], late: Callable[[Element], Reader], absent: object) -> None:
        self._namespace = namespace
        self._reader = reader
        self._late = late
        self._absent = absent

    def part(self, part: Element | Group | Wildcard) -> Match:
        if isinstance(part, Element):
            return self._element(part)
        if isinstance(part, Wildcard):
            return self._open(part)
        return self.group(part)

    def starts(self, part: Element | Group | Wildcard) -> _Starts:
        found = _Starts()
        if isinstance(part, Element):
            found.tags.add(part.tag_in(self._namespace))
        elif isinstance(part, Wildcard):
            found.open.append(part)
        else:
            for inner in part.parts:
                found.add(self.starts(inner))
                if part.order is Order.SEQUENCE and inner.least > 0 and not (isinstance(inner, Group) and inner.may_be_empty):
                    break
        return found

    def group(self, group: Group) -> Match:
        if group.order is Order.CHOICE:
            once = self._choice(group)
        elif group.order is Order.ALL:
            once = self._all(group)
        else:
            once = self._sequence(group)
        if group.name:
            return self._repeated(group, once)
        if group.least:
            return once
        starts = self.starts(Group(group.order, group.parts))

        def optional(cursor: _Cursor, values: Values) -> None:
            if starts.take(cursor.tag):
                once(cursor, values)

        return optional

    def _sequence(self, group: Group) -> Match:
        parts = [self.part(one) for one in group.parts]

        def match(cursor: _Cursor, values: Values) -> None:
            for one in parts:
                one(cursor, values)

        return match

    def _choice(self, group: Group) -> Match:
        branches = [(self.starts(part), self.part(part)) for part in group.parts]
        by_tag = {tag: match for starts, match in reversed(branches) for tag in starts.tags}
        opens = [(starts, match) for starts, match in branches if starts.open]
        empty = group.may_be_empty
        names = [one.local for one in _elements(group)]

        def match(cursor: _Cursor, values: Values) -> None:
            tag = cursor.tag
            found = by_tag.get(tag)
            if found is None:
                found = next((one for starts, one in opens if starts.take(tag)), None)
            if found is not None:
                found(cursor, values)
            elif not empty:
                cursor.problems.append(no_alternative(cursor.path, names, tag.rpartition("}")[2]))

        return match

    def _all(self, group: Group) -> Match:
        parts = {part.tag_in(self._namespace): (part, self._element(part)) for part in group.parts if isinstance(part, Element)}

        def match(cursor: _Cursor, values: Values) -> None:
            seen: set[str] = set()
            while (tag := cursor.tag) in parts and tag not in seen:
                seen.add(tag)
                parts[tag][1](cursor, values)
            for tag, (element, _) in parts.items():
                if tag not in seen and element.least:
                    cursor.problems.append(missing(element, cursor.path))

        return match

    def _repeated(self, group: Group, once: Match) -> Match:
        starts = self.starts(Group(group.order, group.parts))
        name, least, most = group.name, group.least, group.most

        def match(cursor: _Cursor, values: Values) -> None:
            items: list[Values] = []
            while (most is None or len(items) < most) and starts.take(cursor.tag):
                before, item = cursor.at, Values()
                once(cursor, item)
                if cursor.at == before:
                    break
                items.append(item)
            if items:
                values[name] = items
            if len(items) < least and not (not items and group.inside.may_be_empty):
                names = [one.local for one in _elements(group)]
                cursor.problems.append(Problem("element.count", f"{' or '.join(names[:6])} stand {len(items)} times.",
                                               place=f"{cursor.path}/{name}", expected=f"at least {least}"))

        return match

    def _element(self, element: Element) -> Match:
        tag, name, least, most, is_list = element.tag_in(self._namespace), element.name, element.least, element.most, element.is_list
        read, absent = self._reader(element), self._absent

        def match(cursor: _Cursor, values: Values) -> None:
            count, start = 0, cursor.at
            children, end, path, problems = cursor.children, cursor.end, cursor.path, cursor.problems
            found: list[Any] = []
            while cursor.at < end and children[cursor.at].tag == tag and (most is None or count < most):
                value = read(children[cursor.at], path, problems)
                cursor.at += 1
                count += 1
                if value is not absent:
                    found.append(value)
            if found:
                values[name] = found if is_list else found[0]
            if count < least:
                problems.append(missing(element, path) if not count else wrong_count(element, cursor.at - start, path))

        return match

    def _open(self, wildcard: Wildcard) -> Match:
        name, least, most = wildcard.name, wildcard.least, wildcard.most
        decoders: dict[str, Reader] = {}

        def match(cursor: _Cursor, values: Values) -> None:
            found: list[str] = []
            while cursor.at < cursor.end and (most is None or len(found) < most) and wildcard.takes(cursor.tag):
                child = cursor.children[cursor.at]
                self._judge(wildcard, child, cursor, decoders)
                found.append(markup(child))
                cursor.at += 1
            if found:
                values[name] = found[0] if most == 1 else found
            if len(found) < least:
                cursor.problems.append(Problem("element.open", f"{least - len(found)} more elements are required.",
                                               place=f"{cursor.path}/{name}", expected=wildcard.words,
                                               found=shown(cursor.tag) if cursor.tag else "nothing"))

        return match

    def _judge(self, wildcard: Wildcard, child: etree._Element, cursor: _Cursor, decoders: dict[str, Reader]) -> None:
        """The content of an open part: strict wants a known element, lax judges a known one (Part 1, section 3.10.1)."""
        if wildcard.checked == "skip" or wildcard.find is None:
            return
        if child.tag not in decoders:
            record = wildcard.find(child.tag)
            if record is not None:
                decoders[child.tag] = self._late(Element(record.name, record, tag=record.tag))
        read = decoders.get(child.tag)
        if read is not None:
            read(child, cursor.path, cursor.problems)
        elif wildcard.checked == "strict":
            cursor.problems.append(Problem("element.unknown", f"{etree.QName(child).localname} is no element that the contract knows.",
                                           place=f"{cursor.path}/{etree.QName(child).localname}", expected=wildcard.words))
