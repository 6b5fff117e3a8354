"""The parts that a contract consists of: where they lie, how they are fetched, and how they are parsed.

No I/O here: parts come through a resolver that is passed in. A location is an address (RFC 3986), and those inside a part are relative
to it; parts on a disk or in a bundle have `file:` addresses. Everything is bounded, since whoever writes a contract decides what it
imports.
"""

import re
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Protocol
from urllib.parse import unquote, urljoin, urlsplit

from lxml import etree

from bricola.core.problems import Problem, ProblemError, shown

MOST_PARTS = 400
MOST_BYTES = 32 * 1024 * 1024  # of all parts together; large published ones have 3 to 8
_MOST_TAG = 256 * 1024  # bytes of one tag: attributes are checked for repetition pairwise
_LONG_TAG = re.compile(rb"<(?!!--|!\[CDATA\[)[^<>]{%d}" % _MOST_TAG)
_PARSER = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, dtd_validation=False, huge_tree=False,
                          remove_comments=True, remove_pis=True)
_HTML = re.compile(rb"\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:!doctype\s+html|html)\b", re.IGNORECASE | re.DOTALL)


class Resolver(Protocol):
    """Fetches parts. Raises ProblemError with a reason for one that it cannot or may not have."""

    def fetch(self, location: str) -> bytes: ...


@dataclass(frozen=True)
class ContractProblem:
    """What is wrong in a contract, or cannot be served: `place` is the part and what in it, `line` where that stands."""

    code: str
    message: str
    place: str = ""
    line: int | None = None
    fatal: bool = False  # nothing can be made of the part

    def as_dict(self) -> dict[str, Any]:
        return {"code": self.code, "message": self.message, "place": self.place, "line": self.line}


@dataclass(eq=False)
class Part:
    """One document, as it came and parsed."""

    location: str
    content: bytes
    root: etree._Element
    name: str  # for people

    @cached_property
    def declares_on_its_root(self) -> bool:
        """Whether all prefixes are declared there."""
        return self.content.count(b"xmlns") <= len(self.root.nsmap)


@dataclass
class Parts:
    """All parts of a contract, each fetched once."""

    resolver: Resolver
    problems: list[ContractProblem]
    base: str = ""  # the folder of the first part, left out where people read a name
    found: dict[str, Part | None] = field(default_factory=dict)
    total: int = 0

    def get(self, location: str, asked_by: Part | None = None, node: etree._Element | None = None) -> Part | None:
        """A part by its address; None when it cannot be had, which is told once."""
        if location in self.found:
            return self.found[location]
        self.found[location] = None
        try:
            if len(self.found) > MOST_PARTS:
                raise ProblemError(Problem("contract.parts", f"The contract has more than {MOST_PARTS} parts."))
            content = self.resolver.fetch(location)
            self.total += len(content)
            if self.total > MOST_BYTES:
                raise ProblemError(Problem("contract.size", f"The contract is larger than {MOST_BYTES // 2**20} MiB."))
            part = Part(location, content, parse_part(content), self.name_of(location))
        except ProblemError as error:
            where = self.place(asked_by, node) if asked_by is not None else self.name_of(location)
            for one in error.problems:
                told = one.sentence() if asked_by is None else f"{self.name_of(location)}: {one.sentence()}"
                self.problems.append(ContractProblem(
                    one.code if one.code.startswith(("xml.", "contract.")) else "contract.part", told, where,
                    _line_in(one) if asked_by is None else line_of(node), fatal=asked_by is None))
            return None
        self.found[location] = part
        return part

    def name_of(self, location: str) -> str:
        text = location.removeprefix(self.base) if self.base else location
        return unquote(text) if text != location or location.startswith("file:") else location

    def place(self, part: Part, node: etree._Element | None = None) -> str:
        """Where something stands, for people: the part, and the named things around it."""
        if node is None:
            return part.name
        around = [node, *node.iterancestors()]
        named = [f"{etree.QName(one).localname} {one.get('name') or one.get('ref')}" for one in reversed(around)
                 if one.get("name") or one.get("ref")]
        return ", ".join([part.name, *(named or [etree.QName(node).localname])])


def joined(base: str, relative: str) -> str:
    """The address of a part that another one names. Backslashes are what some tools write on their disks."""
    text = relative.strip()
    if "\\" in text and "://" not in text:
        text = text.replace("\\", "/")
    return urljoin(base, text).partition("#")[0]


def folder_of(location: str) -> str:
    parts = urlsplit(location)
    return location[: len(location) - len(parts.query) - bool(parts.query)].rpartition("/")[0] + "/"


def parse_part(content: bytes) -> etree._Element:
    """The root of a part. Raises ProblemError for what is no XML, has a document type declaration, or is no contract at all."""
    if not content.strip():
        raise ProblemError(Problem("contract.empty", "The document is empty."))
    if _HTML.match(content[:4096]):
        raise ProblemError(Problem("contract.html", "This is an HTML page and no contract.",
                                   mend="Give the address of the WSDL itself, which often ends in ?wsdl."))
    if _may_have_a_long_tag(content) and _LONG_TAG.search(content):
        raise ProblemError(Problem("xml.tag", "A tag of the document is too long.", expected=f"at most {_MOST_TAG} bytes"))
    try:
        root = etree.fromstring(content, _PARSER)
    except etree.XMLSyntaxError as error:
        line, column = error.position
        words = (error.msg or "").split(", line ")[0]
        if "depth" in words.lower():
            raise ProblemError(Problem("xml.depth", "The document is nested deeper than 256 levels.", place=f"line {line}")) from None
        start = content[:40].decode("utf-8", "replace")
        raise ProblemError(Problem("xml.syntax", f"The document is not well-formed XML: {words}.", place=f"line {line}, column {column}",
                                   found=f"it begins with {shown(start)}")) from None
    except ValueError as error:
        raise ProblemError(Problem("xml.encoding", f"The document cannot be read: {error}.")) from None
    if root.getroottree().docinfo.internalDTD is not None:
        raise ProblemError(Problem("xml.dtd", "The document has a document type declaration, which contracts must not have.",
                                   found="<!DOCTYPE", mend="Remove the DOCTYPE."))
    return root


def _may_have_a_long_tag(content: bytes) -> bool:
    """Whether it is worth looking: a tag that is too long fills a block of half its length in which no tag ends. Most blocks are left at
    the first tag that does, so that a large contract costs nothing."""
    block = _MOST_TAG // 2
    return any(content.find(b">", start, start + block) < 0 for start in range(0, len(content) - block, block))


class Names:
    """What prefixes mean in one part. Most declare all of theirs on the root; then no element is asked."""

    __slots__ = ("_all", "flat")

    def __init__(self, part: Part) -> None:
        self._all = dict(part.root.nsmap)
        self.flat = part.declares_on_its_root

    def expand(self, node: etree._Element, text: str, default: bool = True) -> str | None:
        """`{namespace}local` for a name as it stands on `node`; None for a prefix that nobody declared."""
        prefix, colon, local = text.strip().rpartition(":")
        if not colon:
            namespace = (self._all if self.flat else node.nsmap).get(None) if default else None
            return f"{{{namespace}}}{local}" if namespace else local
        namespace = self._all.get(prefix) if self.flat else node.nsmap.get(prefix)
        if namespace is None:
            return "{http://www.w3.org/XML/1998/namespace}" + local if prefix == "xml" else None
        return f"{{{namespace}}}{local}"


def child(node: etree._Element, tag: str) -> etree._Element | None:
    """The first child with a tag. lxml's own `find` compiles its argument as a path each time, which large contracts notice."""
    return next(node.iterchildren(tag), None)


def documentation(node: etree._Element, first: str, second: str = "") -> str:
    """The words of the documentation below a node, on one line; with `second` it stands one level deeper."""
    if not len(node):
        return ""
    words: list[str] = []
    for outer in node.iterchildren(first):
        for found in outer.iterchildren(second) if second else (outer,):
            words += " ".join(str(one) for one in found.itertext()).split() if len(found) else (found.text or "").split()
    text = " ".join(words)
    return text if len(text) <= 2000 else text[:1999] + "…"


def _line_in(problem: Problem) -> int | None:
    """The line that a parser's problem names."""
    found = re.match(r"line (\d+)", problem.place)
    return int(found[1]) if found is not None else None


def line_of(node: etree._Element | None) -> int | None:
    line = node.sourceline if node is not None else None
    return line if isinstance(line, int) else None


def local_name(tag: str) -> str:
    return tag.rpartition("}")[2]


def namespace_of(tag: str) -> str:
    return tag[1:].partition("}")[0] if tag[:1] == "{" else ""

