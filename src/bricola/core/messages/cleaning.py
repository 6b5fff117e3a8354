"""Taking out of a message what an application put beside its contract: attributes and elements of namespaces that the contract has not.

What stands in a namespace of the contract, or in none, is never touched: that is judged, and refused where it is wrong. A contract that
leaves a part open means that others may put something there, so nothing is taken out of its messages.
"""

from collections import Counter
from collections.abc import Callable

from lxml import etree

from bricola.core.contracts.names import ENVELOPE11, ENVELOPE12, XML, XSI
from bricola.core.shapes.model import Group, Record, Wildcard

Cleaner = Callable[[etree._Element], list[str]]
_OF_MESSAGES = frozenset({"", XSI, XML, ENVELOPE11, ENVELOPE12})


def compile_cleaner(record: Record) -> Cleaner | None:
    """A function that cleans the element of a message, and says what it took out. None where the contract leaves parts open."""
    known = _namespaces(record)
    if known is None:
        return None
    known |= _OF_MESSAGES

    def clean(root: etree._Element) -> list[str]:
        found: Counter[tuple[str, str]] = Counter()
        for node in list(root.iter(tag=etree.Element)):
            for name in [one for one in node.attrib if _namespace(str(one)) not in known]:
                del node.attrib[name]
                found["attribute", _namespace(str(name))] += 1
            parent = node.getparent()
            if node is not root and parent is not None and _namespace(str(node.tag)) not in known:
                _take_out(parent, node)
                found["element", _namespace(str(node.tag))] += 1
        return [f"{count} {what}{'s' if count > 1 else ''} of {namespace}" for (what, namespace), count in found.items()]

    return clean


def _take_out(parent: etree._Element, node: etree._Element) -> None:
    """Without the text behind it, which is the parent's."""
    before = node.getprevious()
    if node.tail:
        if before is None:
            parent.text = (parent.text or "") + node.tail
        else:
            before.tail = (before.tail or "") + node.tail
    parent.remove(node)


def _namespace(name: str) -> str:
    return name[1:].partition("}")[0] if name[:1] == "{" else ""


def _namespaces(record: Record) -> set[str] | None:
    """Every namespace that stands in a message of this record; None where something may stand that nobody declared."""
    found: set[str] = set()
    seen: set[int] = set()
    waiting = [record]
    while waiting:
        one = waiting.pop()
        if id(one) in seen:
            continue
        seen.add(id(one))
        if one.mixed or one.open_attributes is not None or (one.content is not None and _is_open(one.content)):
            return None
        found |= {_namespace(one.tag or ""), *(_namespace(slot.tag or "") for slot in one.slots)}
        waiting += [*(slot.type for slot in one.slots if isinstance(slot.type, Record)), *one.derived]
        if any(not isinstance(slot.type, Record) and slot.type.base == "anyType" for slot in one.elements):
            return None
    return found


def _is_open(group: Group) -> bool:
    return any(isinstance(one, Wildcard) or (isinstance(one, Group) and _is_open(one)) for one in group.parts)
