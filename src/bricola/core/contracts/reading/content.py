"""Content models: from particles as schemas have them to the slots and the grammar of a record.

Strategy: particles are collected as they stand (references to groups followed, base types in front of what extends them), simplified
(nested sequences spliced, groups around one part dissolved, parts that may not stand dropped), and then every element gets the name of
its slot. One name may serve in several branches of a choice, since only one of them stands; otherwise a second element of the same name
is called `name2`. Content models are deterministic (Part 1, section 3.8.6), so what remains can be followed with one element in view.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

from lxml import etree

from bricola.core.contracts.reading.parts import local_name
from bricola.core.contracts.reading.schemas import Schema
from bricola.core.shapes.model import MARKUP, Element, Group, Order, Record, Wildcard

Path = tuple[tuple[int, int], ...]  # the choices around a part, each with the branch that it stands in


@dataclass(eq=False)
class RawElement:
    """An element particle: the declaration, global or local, and how often it stands."""

    node: etree._Element
    schema: Schema
    tag: str
    least: int
    most: int | None


@dataclass(eq=False)
class RawAny:
    wildcard: Wildcard
    least: int
    most: int | None


@dataclass(eq=False)
class RawGroup:
    order: Order
    parts: list["Raw"]
    least: int = 1
    most: int | None = 1
    name: str = ""  # of the group or the head that it comes from


Raw = RawElement | RawAny | RawGroup


def simplified(raw: Raw) -> Raw | None:
    """The same content with fewer groups; None for nothing."""
    if raw.most == 0:
        return None
    if not isinstance(raw, RawGroup):
        return raw
    parts: list[Raw] = []
    for inner in raw.parts:
        part = simplified(inner)
        if part is None:
            if raw.order is Order.CHOICE:  # a branch without anything: the choice may be empty
                raw = RawGroup(raw.order, raw.parts, 0, raw.most, raw.name)
            continue
        same = isinstance(part, RawGroup) and part.order is raw.order and (part.least, part.most) == (1, 1)
        if same and isinstance(part, RawGroup):
            parts += part.parts
        else:
            parts.append(part)
    if not parts:
        return None
    if len(parts) == 1:
        merged = _merged(raw, parts[0])
        if merged is not None:
            return merged
    order = Order.SEQUENCE if len(parts) == 1 else raw.order
    return RawGroup(order, parts, raw.least, raw.most, raw.name)


def _merged(group: RawGroup, part: Raw) -> Raw | None:
    """A group around one part, as that part with the occurrences of both; None where that says something else."""
    outer, inner = (group.least, group.most), (part.least, part.most)
    if outer == (1, 1):
        return part
    if inner != (1, 1) and not (group.most == 1 and part.least <= 1):
        return None
    least = group.least * part.least
    most = None if group.most is None or part.most is None else group.most * part.most
    if isinstance(part, RawElement):
        return RawElement(part.node, part.schema, part.tag, least, most)
    if isinstance(part, RawAny):
        return RawAny(part.wildcard, least, most)
    return RawGroup(part.order, part.parts, least, most, part.name or group.name)


class Slots:
    """Names the parts of one record and turns them into elements and groups."""

    def __init__(self, make: Callable[[RawElement, str], Element], taken: set[str], identity: str) -> None:
        self._make = make
        self._used: dict[str, list[tuple[str, Path]]] = {name: [("", ())] for name in taken}
        self._identity = identity
        self._elements: dict[str, Element] = {}

    def content(self, raw: Raw | None) -> tuple[tuple[Element, ...], Group | None]:
        """The elements of a record, and its grammar where they are not simply a sequence."""
        if raw is None:
            return (), None
        top = raw if isinstance(raw, RawGroup) and raw.most == 1 else RawGroup(Order.SEQUENCE, [raw])
        group = self._group(top, (), top.least == 0)
        parts = group.parts
        plain = group.order is Order.SEQUENCE and group.least == 1 and all(isinstance(one, Element) for one in parts)
        tags = [one.tag for one in parts if isinstance(one, Element)]
        if plain and len(set(tags)) == len(tags):
            return tuple(one for one in parts if isinstance(one, Element)), None
        return tuple(self._elements.values()), group

    def _group(self, raw: RawGroup, path: Path, loose: bool) -> Group:
        parts: list[Element | Group | Wildcard] = []
        for branch, part in enumerate(raw.parts):
            inner = (*path, (id(raw), branch)) if raw.order is Order.CHOICE else path
            free = loose or raw.order is Order.CHOICE
            if isinstance(part, RawElement):
                parts.append(self._element(part, inner, free))
            elif isinstance(part, RawAny):
                parts.append(self._wildcard(part, inner))
            elif part.most == 1:
                parts.append(self._group(part, inner, free or part.least == 0))
            else:
                parts.append(self._repeated(part, inner, free))
        return Group(raw.order, tuple(parts), raw.least, raw.most)

    def _element(self, raw: RawElement, path: Path, loose: bool) -> Element:
        name = self._name(local_name(raw.tag), f"{raw.tag} {'one' if raw.most == 1 else 'list'}", path)
        element = self._make(raw, name)
        self._see(element, loose)
        return element

    def _wildcard(self, raw: RawAny, path: Path) -> Wildcard:
        name = self._name("any", "*", path)
        wildcard = replace(raw.wildcard, name=name, least=raw.least, most=raw.most)
        self._see(Element(name, MARKUP, 0, raw.most, f"An open part: {wildcard.words}, as XML"), True)
        return wildcard

    def _repeated(self, raw: RawGroup, path: Path, loose: bool) -> Group:
        """A group that stands more than once: its values are mappings in a list, under a name of its own."""
        name = self._name(raw.name or ("choice" if raw.order is Order.CHOICE else "group"), f"group {id(raw)}", path)
        inner = Slots(self._make, set(), f"{self._identity}/{name}")
        once = RawGroup(raw.order, raw.parts)
        elements, content = inner.content(once)
        content = content or Group(Order.SEQUENCE, elements)
        record = Record(name, elements, content=content, part=True, id=f"{self._identity}/{name}")
        self._see(Element(name, record, raw.least, raw.most), loose)
        return Group(raw.order, content.parts, raw.least, raw.most, name)

    def _see(self, element: Element, loose: bool) -> None:
        self._elements.setdefault(element.name, replace(element, least=0) if loose and element.least else element)

    def _name(self, wanted: str, what: str, path: Path) -> str:
        name, number = wanted, 1
        while not self._free(name, what, path):
            number += 1
            name = f"{wanted}{number}"
        self._used.setdefault(name, []).append((what, path))
        return name

    def _free(self, name: str, what: str, path: Path) -> bool:
        return all(known == what and _apart(path, other) for known, other in self._used.get(name, ()))


def _apart(first: Path, second: Path) -> bool:
    """Whether two parts never stand together: they are in different branches of one choice."""
    branches = dict(first)
    return any(choice in branches and branches[choice] != branch for choice, branch in second)
