"""Records from a sample message: XML or JSON.

Whatever stands several times is a list; what stands in each item is required, what in some only is optional. The type of a text is the
narrowest of a short list that all the texts seen are of; a text that looks like a number but could not be one (a leading zero) stays text.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from lxml import etree

from bricola.core.contracts.drawing.records import Drawing, DrawnRecords
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.simple import SimpleType

_ENVELOPES = ("http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope")
_NIL = "{http://www.w3.org/2001/XMLSchema-instance}nil"
_XSI = "{http://www.w3.org/2001/XMLSchema-instance}"
_PLAIN_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?", re.ASCII)
_LONGEST_SAMPLE = 200


@dataclass
class _Seen:
    """What was seen at one place: how often, as which texts, with what inside."""

    times: int = 0  # in how many of the things around it
    most: int = 0  # how often in one of them
    texts: list[str] = field(default_factory=list)
    types: set[str] = field(default_factory=set)  # of values whose type is plain to see, in JSON
    empty: bool = False
    inside: dict[str, "_Seen"] = field(default_factory=dict)
    groups: int = 0  # how often something stood inside
    unlike: bool = False  # a text here, something inside there


def of_xml(root: etree._Element, name: str = "") -> DrawnRecords:
    """The records of a message. Of a SOAP envelope what stands in its body is meant."""
    meant = _body(root)
    drawing, seen = Drawing(), _Seen()
    _see_element(meant, seen, drawing)
    local = etree.QName(meant).localname
    if not seen.inside:
        raise _nothing(local)
    return _drawn(drawing, seen, name or local)


def of_json(value: Any, name: str = "") -> DrawnRecords:
    """The records of a JSON value: an object, or a list of them."""
    items = value if isinstance(value, list) else [value]
    seen, drawing = _Seen(), Drawing()
    for one in items:
        if not isinstance(one, Mapping):
            raise _nothing("the sample")
        _see_value(one, seen)
    if not seen.inside:
        raise _nothing("the sample")
    if isinstance(value, list):
        drawing.note("The sample is a list; the record is one of its items.")
    return _drawn(drawing, seen, name or "Sample")


def _nothing(place: str) -> ProblemError:
    return ProblemError(Problem("sample.nothing", "There is nothing in it that a record could hold.", place=place,
                                expected="named values inside"))


def _drawn(drawing: Drawing, seen: _Seen, name: str) -> DrawnRecords:
    return drawing.done(_record(drawing, seen, name))


def _body(root: etree._Element) -> etree._Element:
    if etree.QName(root).namespace in _ENVELOPES and etree.QName(root).localname == "Envelope":
        for body in root.iterchildren(f"{{{etree.QName(root).namespace}}}Body"):
            first: etree._Element | None = next(body.iterchildren(tag=etree.Element), None)
            if first is not None:
                return first
        raise ProblemError(Problem("sample.nothing", "The body of the envelope is empty.", place="Body"))
    return root


def _see_element(node: etree._Element, seen: _Seen, drawing: Drawing) -> None:
    """Depth is bounded by the parser (256)."""
    attributes = {etree.QName(key).localname: str(text) for key, text in node.items()
                  if not str(key).startswith(_XSI)}
    children = list(node.iterchildren(tag=etree.Element))
    text = (node.text or "").strip() if not children else ""
    if not children and not attributes:
        _see_text(seen, text, node.get(_NIL) in ("true", "1"))
        return
    if children and any((one or "").strip() for one in (node.text, *(child.tail for child in children))):
        drawing.note(f"Text between the elements of {etree.QName(node).localname} is left out.")
    seen.groups += 1
    seen.unlike = seen.unlike or bool(seen.texts)
    counts: dict[str, int] = {}
    for key, value in attributes.items():
        drawing.note(f"The attribute {key} of {etree.QName(node).localname} is a field like an element.")
        counts[key] = counts.get(key, 0) + 1
        _see_text(seen.inside.setdefault(key, _Seen()), value)
    if attributes and not children and (text or node.get(_NIL) is None):
        counts["value"] = 1
        drawing.note(f"The text of {etree.QName(node).localname} is its field value.")
        _see_text(seen.inside.setdefault("value", _Seen()), text)
    for child in children:
        key = etree.QName(child).localname
        counts[key] = counts.get(key, 0) + 1
        _see_element(child, seen.inside.setdefault(key, _Seen()), drawing)
    _count(seen, counts)


def _count(seen: _Seen, counts: Mapping[str, int]) -> None:
    for key, count in counts.items():
        one = seen.inside[key]
        one.times, one.most = one.times + 1, max(one.most, count)


def _see_text(seen: _Seen, text: str, nil: bool = False) -> None:
    if nil or not text:
        seen.empty = True
        return
    seen.unlike = seen.unlike or bool(seen.inside)
    seen.texts.append(text)


def _see_value(value: Any, seen: _Seen) -> None:
    """Depth is bounded where the JSON is read (core/json_text.py)."""
    if value is None:
        seen.empty = True
    elif isinstance(value, Mapping):
        seen.groups += 1
        seen.unlike = seen.unlike or bool(seen.texts)
        counts: dict[str, int] = {}
        for key, one in value.items():
            inner = seen.inside.setdefault(str(key), _Seen())
            counts[str(key)] = 1
            if isinstance(one, list):
                inner.most = max(inner.most, 2)
                for item in one:
                    _see_value(item, inner)
            else:
                _see_value(one, inner)
        _count(seen, counts)
    elif isinstance(value, list):
        seen.unlike = True
    elif isinstance(value, bool):
        seen.types.add("boolean")
        _see_text(seen, "true" if value else "false")
    elif isinstance(value, int | Decimal):
        seen.types.add("number")
        _see_text(seen, str(value))
    else:
        seen.types.add("text")
        _see_text(seen, str(value))


def _record(drawing: Drawing, seen: _Seen, wanted: str) -> str:
    name = drawing.begin(wanted)
    fields: dict[str, dict[str, Any]] = {}
    for key, one in seen.inside.items():
        own = drawing.field(fields, key)
        fields[own] = _field(drawing, one, key, seen.groups)
    return drawing.end(name, fields)


def _field(drawing: Drawing, seen: _Seen, key: str, around: int) -> dict[str, Any]:
    if seen.unlike:
        drawing.note(f"{key} is now a text, now more, or a list of lists; it is drawn as a text.")
    many = seen.most > 1
    inside = bool(seen.inside) and not seen.unlike
    kind = _record(drawing, seen, _singular(key) if many else key) if inside else _type(seen)
    body: dict[str, Any] = {"type": kind}
    if many:
        body["repeats"] = True
    elif seen.times < around or seen.empty:
        body["required"] = False
    if not inside and seen.texts and len(seen.texts[0]) <= _LONGEST_SAMPLE and "\n" not in seen.texts[0]:
        body["sample"] = seen.texts[0]
    if not inside and len(seen.types) > 1:
        drawing.note(f"{key} is of several types ({', '.join(sorted(seen.types))}); it is drawn as a text.")
    if not inside and not seen.texts:
        drawing.note(f"{key} is empty wherever it stands; it is drawn as a text.")
    return body


def _singular(key: str) -> str:
    if key.endswith("ies") and len(key) > 4:
        return f"{key[:-3]}y"
    return key[:-1] if key.endswith("s") and not key.endswith("ss") and len(key) > 3 else key


def _type(seen: _Seen) -> str:
    if not seen.texts:
        return "string"
    if "text" in seen.types and len(seen.types) == 1:
        return next((kind for kind, fits in _TIMES if all(map(fits, seen.texts))), "string")
    if len(seen.types) > 1:
        return "string"
    return next((kind for kind, fits in _KINDS if all(map(fits, seen.texts))), "string")


def _reads(kind: str) -> Callable[[str], bool]:
    simple = SimpleType(kind)
    return lambda text: simple.read(text)[1] is None


_TIMES: Sequence[tuple[str, Callable[[str], bool]]] = tuple((kind, _reads(kind)) for kind in ("date", "dateTime", "time"))
_LONG = _reads("long")
_KINDS: Sequence[tuple[str, Callable[[str], bool]]] = (
    ("boolean", lambda text: text in ("true", "false")),
    ("long", lambda text: bool(_PLAIN_NUMBER.fullmatch(text)) and "." not in text and _LONG(text)),  # no sample shows that it stays small
    ("decimal", lambda text: bool(_PLAIN_NUMBER.fullmatch(text))),
    ("double", lambda text: bool(re.fullmatch(r"-?\d+(?:\.\d+)?[eE][+-]?\d+", text, re.ASCII))),
    *_TIMES,
)
