"""Elements as XML text that stands alone, and can be put into another document unchanged in meaning."""

import re

from lxml import etree

_PREFIX = re.compile(r"(?<![\w.-])([A-Za-z_][\w.-]*):(?=[A-Za-z_])")


def markup(node: etree._Element) -> str:
    """An element with the declarations that it needs: those of its names (Exclusive XML Canonicalization, W3C Recommendation, 18 July
    2002), and those of prefixes that stand in its values, since a value may be a name too."""
    declared = {prefix for one in node.iter() for prefix in one.nsmap if prefix}
    used = {prefix for one in node.iter() for text in (one.text, one.tail if one is not node else None, *one.values()) if text
            for prefix in _PREFIX.findall(str(text)) if prefix in declared}
    return etree.tostring(node, method="c14n", exclusive=True, with_comments=False, inclusive_ns_prefixes=sorted(used)).decode()


def inner_markup(node: etree._Element) -> str:
    """What stands inside an element."""
    return _escaped(node.text) + "".join(markup(child) + _escaped(child.tail) for child in node)


def _escaped(text: str | None) -> str:
    return (text or "").replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
