"""Sample values of messages, valid by construction: the owner's samples, else the smallest value that the type allows.

What is required stands; of alternatives the first that comes to an end; records inside themselves end at the first chance.
"""

from dataclasses import replace
from decimal import Decimal
from typing import Any

from lxml import etree

from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.plain import from_plain
from bricola.core.messages.told import MOST_PROBLEMS
from bricola.core.patterns.sample import samples_of
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import Problem
from bricola.core.shapes.model import TYPE, Element, Group, Order, Record, Wildcard, type_names
from bricola.core.shapes.primitives import ANY
from bricola.core.shapes.simple import SimpleType

_DEEPEST = 24  # records inside records; a required one beyond that would never end


def sample_values(record: Record, everything: bool = False, full: bool = False) -> dict[str, Any]:
    """Values that work unedited, as text. Optional elements are left out unless they have a sample of their own and `everything` is
    asked, or all is asked in `full`."""
    return _Sampler(everything, full).record(record, ())


class _Sampler:
    def __init__(self, everything: bool, full: bool) -> None:
        self._everything = everything
        self._full = full

    def record(self, record: Record, around: tuple[str, ...]) -> dict[str, Any]:
        values: dict[str, Any] = {}
        if record.abstract:
            word, chosen = next(((name, one) for name, one in type_names(record).items() if not one.abstract), ("", record))
            values[TYPE] = word
            record = chosen
        inside = (*around, record.id) if record.id else around
        for attribute in record.attributes:
            if self._wanted(attribute):
                values[attribute.name] = self._simple(attribute)
        if record.text is not None:
            values[record.text.name] = self._simple(record.text)
        elif record.mixed:
            values[record.mixed] = "" if record.content is None and not record.elements else self._markup(record, inside)
        elif record.content is not None:
            self._group(record.content, values, inside)
        else:
            for element in record.elements:
                self._element(element, values, inside)
        return values

    def _wanted(self, element: Element) -> bool:
        return bool(element.least) or self._full or (self._everything and _sampled(element))

    def _element(self, element: Element, values: dict[str, Any], around: tuple[str, ...]) -> None:
        if not self._wanted(element):
            return
        circular = isinstance(element.type, Record) and (element.type.id in around or len(around) > _DEEPEST)
        if circular and not element.least:
            return
        if isinstance(element.type, Record):
            if len(around) > 2 * _DEEPEST:
                return
            one: Any = self.record(element.type, around)
        else:
            one = self._simple(element)
        values[element.name] = [one] * max(1, element.least) if element.is_list else one

    def _group(self, group: Group, values: dict[str, Any], around: tuple[str, ...]) -> None:
        if group.name:
            count = max(group.least, int(self._full and not self._circular(group, around)))
            items = []
            for _ in range(count):
                item: dict[str, Any] = {}
                self._group(group.inside, item, around)
                items.append(item)
            if items:
                values[group.name] = items
            return
        if not group.least and not (self._full and not self._circular(group, around)):
            return
        if group.order is Order.CHOICE:
            if group.may_be_empty and not self._full:
                return
            chosen = next((one for one in group.parts if not self._circular(one, around)), group.parts[0])
            self._part(chosen, values, around, needed=True)
            return
        for part in group.parts:
            self._part(part, values, around)

    def _part(self, part: Element | Group | Wildcard, values: dict[str, Any], around: tuple[str, ...], needed: bool = False) -> None:
        if isinstance(part, Group):
            self._group(part, values, around)
        elif isinstance(part, Element):
            self._element(replace(part, least=max(1, part.least)) if needed else part, values, around)
        elif part.least:
            one = self._open(part, around)
            values[part.name] = one if part.most == 1 else [one] * part.least

    def _open(self, wildcard: Wildcard, around: tuple[str, ...]) -> str:
        """An element for an open part: one that the contract knows, where it must."""
        tags = sorted(wildcard.known()) if wildcard.checked == "strict" and wildcard.known is not None else ()
        for tag in tags if len(around) < _DEEPEST else ():
            record = wildcard.find(tag) if wildcard.find is not None and wildcard.takes(tag) else None
            if record is None or record.abstract or record.id in around:
                continue
            problems: list[Problem] = []
            values = from_plain(record, self.record(record, around), tag, problems)
            if not problems:
                return compile_encoder(record, "")(values)
        namespace = next((one for one in wildcard.namespaces or () if one), "") if not wildcard.but else "urn:example:open"
        return f'<open xmlns="{namespace}"/>' if namespace else "<open/>"

    def _circular(self, part: Element | Group | Wildcard, around: tuple[str, ...]) -> bool:
        """Whether a part needs a record that we are in already."""
        if isinstance(part, Group):
            inner = [self._circular(one, around) for one in part.parts if one.least or self._full or part.order is Order.CHOICE]
            return bool(inner) and (all if part.order is Order.CHOICE else any)(inner)
        return isinstance(part, Element) and isinstance(part.type, Record) and part.type.id in around

    def _markup(self, record: Record, around: tuple[str, ...]) -> str:
        bare = Record("content", record.elements, tag="content", content=record.content)
        values: dict[str, Any] = {}
        if record.content is not None:
            self._group(record.content, values, around)
        else:
            for element in record.elements:
                self._element(element, values, around)
        if not values:
            return ""
        written = compile_encoder(bare, "")(from_plain(bare, values, "content", []))
        return written.partition(">")[2].rpartition("</")[0] if "xmlns" not in written.partition(">")[0] else _declared(written)

    def _simple(self, element: Element) -> str:
        kind = element.type
        assert isinstance(kind, SimpleType)
        if element.fixed is not None:
            return kind.write(element.fixed)
        if element.sample is not None:
            return kind.write(element.sample)
        return smallest(kind)


def _sampled(element: Element) -> bool:
    """Whether somebody gave a sample of it, or of what is in each of its rows."""
    if isinstance(element.type, Record):
        return element.is_list and any(one.sample is not None for one in element.type.elements)
    return element.sample is not None


def _declared(written: str) -> str:
    """The elements of a piece of markup, each with its declarations."""
    return "".join(etree.tostring(one, encoding="unicode") for one in etree.fromstring(written))


def smallest(kind: SimpleType) -> str:
    """A short text of a type."""
    if kind.base == ANY and not kind.members and kind.item is None:
        return "text"
    if kind.codes:
        return kind.codes[0]
    if kind.item is not None:
        return " ".join([smallest(kind.item)] * (kind.length or kind.min_length or 1))
    if kind.members:
        return smallest(kind.members[0])
    candidates: list[str] = []
    if kind.pattern is None and not kind.patterns:
        if kind.min is not None:
            candidates.append(kind.min)
        candidates.append(kind.primitive.sample)
        candidates += [one for one in (kind.max,) if one is not None]
        candidates += _numbers(kind)
    else:
        for pattern in (kind.pattern, *kind.patterns):
            if pattern:
                candidates += _of_pattern(pattern)
    if kind.primitive.python is str:
        candidates = [_sized(kind, one) for one in candidates] + candidates
    elif kind.primitive.python is bytes and (kind.length or kind.min_length or kind.max_length is not None):
        count = kind.length or kind.min_length or min(kind.max_length or 0, 3)
        candidates.insert(0, kind.primitive.write(b"a" * count))
    return next((one for one in candidates if kind.read(one)[1] is None), candidates[0] if candidates else "")


def _of_pattern(pattern: str) -> list[str]:
    try:
        return list(samples_of(pattern))[:MOST_PROBLEMS * 2]
    except PatternError:
        return []


def _sized(kind: SimpleType, text: str) -> str:
    if kind.pattern is not None or kind.patterns:
        return text
    shortest = kind.length or kind.min_length or 0
    text = text.ljust(shortest, "x")
    longest = kind.length if kind.length is not None else kind.max_length
    return text[:longest] if longest is not None else text


def _numbers(kind: SimpleType) -> list[str]:
    """Numbers near the bounds, and small ones."""
    if kind.primitive.python not in (int, Decimal, float):
        return []
    found = ["0", "1", "-1", "0.5", "0.1"]
    for bound, steps in ((kind.above, ("1", "0.5", "0.01", "0.0001")), (kind.below, ("-1", "-0.5", "-0.01", "-0.0001"))):
        if bound is not None:
            found += [format(Decimal(bound) + Decimal(step), "f") for step in steps]
    return found
