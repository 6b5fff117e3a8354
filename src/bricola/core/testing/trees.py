"""Two pieces of XML beside each other: the same elements, attributes and texts, whatever their prefixes and layout are."""

import itertools
from collections.abc import Iterator, Sequence

from lxml import etree

from bricola.core.problems import Problem, shown

_MOST = 10  # differences that are told
_XSI_TYPE = "{http://www.w3.org/2001/XMLSchema-instance}type"


def tree_differences(wanted: etree._Element, found: etree._Element, but: Sequence[str] = ()) -> Iterator[Problem]:
    """In what `found` differs from `wanted`, but for the paths of `but`: local names with dots between, from the outermost one's children,
    each for all items of a list."""
    yield from itertools.islice(_compare(wanted, found, "", frozenset(but)), _MOST)


def _compare(wanted: etree._Element, found: etree._Element, path: str, but: frozenset[str]) -> Iterator[Problem]:
    at = path or etree.QName(wanted).localname
    if wanted.tag != found.tag:
        yield Problem("test.xml", "Another element stands here.", place=at, expected=wanted.tag, found=found.tag)
        return
    for name in sorted({*wanted.attrib, *found.attrib}, key=str):
        one, other = wanted.get(name), found.get(name)
        if str(name) == _XSI_TYPE:
            one, other = _named(wanted, one), _named(found, other)
        if one != other and _inside(path, f"@{etree.QName(name).localname}") not in but:
            yield Problem("test.xml", "An attribute differs.", place=f"{at}/@{etree.QName(name).localname}", expected=_shown(one),
                          found=_shown(other))
    mine, theirs = _children(wanted), _children(found)
    if not mine and not theirs:
        one, other = (wanted.text or "").strip(), (found.text or "").strip()
        if one != other:
            yield Problem("test.xml", "The text differs.", place=at, expected=shown(one, 200), found=shown(other, 200))
        return
    mine = [one for one in mine if _inside(path, etree.QName(one).localname) not in but]
    theirs = [one for one in theirs if _inside(path, etree.QName(one).localname) not in but]
    for left, right in zip(mine, theirs, strict=False):
        yield from _compare(left, right, _inside(path, etree.QName(left).localname), but)
    if len(mine) != len(theirs):
        longer = (mine if len(mine) > len(theirs) else theirs)[min(len(mine), len(theirs))]
        what = "An element is missing." if len(mine) > len(theirs) else "There is an element too many."
        yield Problem("test.xml", what, place=_inside(path, etree.QName(longer).localname), expected=f"{len(mine)} elements",
                      found=str(len(theirs)))


def _inside(path: str, name: str) -> str:
    return f"{path}.{name}" if path else name


def _children(node: etree._Element) -> list[etree._Element]:
    return [one for one in node if isinstance(one.tag, str)]


def _shown(text: str | None) -> str:
    return "nothing" if text is None else shown(text)


def _named(node: etree._Element, text: str | None) -> str | None:
    """A qualified name by its namespace, since prefixes mean nothing."""
    if text is None:
        return None
    prefix, colon, local = text.strip().rpartition(":")
    namespace = node.nsmap.get(prefix if colon else None, "")
    return f"{{{namespace}}}{local}"
