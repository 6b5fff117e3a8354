"""Parsing XML that strangers send.

Strategy: everything that could make the parser work hard is bounded on the bytes, before it runs: size,
the length of one tag (attributes are checked for repetition pairwise) and the number of namespace
declarations. What is left is parsed without DTD, entities or network, then looked at for a DTD. Depth is
bounded by libxml2 itself, at 256.
"""

import codecs
import re

from lxml import etree

from bricola.core.problems import Kind, Problem, ProblemError, shown

MOST_BYTES = 2 * 1024 * 1024  # of one request; far above any business message without attachments
MOST_ANSWER = 64 * 1024 * 1024  # of an answer that is read back, on the bench and by tests
MOST_TAG_BYTES = 16 * 1024  # one tag with all its attributes; client stacks stay below 2 kB
MOST_NAMESPACES = 256  # declarations in one message; some stacks declare a handful on every element

_UTF8_NAMES = frozenset({"", "utf-8", "utf8", "us-ascii", "ascii"})
# Python knows codecs that are slow or no charsets of text at all; these are what callers really send.
_KNOWN_CHARSETS = re.compile(r"utf-16(?:le|be)?|iso-8859-\d{1,2}|windows-125\d")
_LONG_TAG = re.compile(rb"<(?!!--|!\[CDATA\[)[^<>]{%d}" % MOST_TAG_BYTES)
_DECLARED_ENCODING = re.compile(r"""(<\?xml[^>]*?)\s+encoding\s*=\s*(?:"[^"]*"|'[^']*')""")


def _parser(remove_pis: bool = True) -> etree.XMLParser:
    return etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, dtd_validation=False, huge_tree=False,
        remove_comments=True, remove_pis=remove_pis,
    )


_PARSER = _parser()
_WITH_INSTRUCTIONS = _parser(remove_pis=False)


def parse_xml(body: bytes, charset: str = "", strict: bool = False, most: int = MOST_BYTES) -> etree._Element:
    """The root element. `charset` of the HTTP header wins over what the document says (RFC 7303, section 3.2);
    without one, UTF-8, UTF-16 with a mark, and declared encodings are read. `strict` refuses processing instructions, which SOAP messages
    must not have (SOAP 1.1, section 3). `most` bytes are taken: more of an answer than of a request. Raises ProblemError with one cause."""
    if len(body) > most:
        raise ProblemError(too_large(most))
    if charset not in _UTF8_NAMES or body[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE):
        body = _to_utf8(body, charset)
    if len(body) > MOST_TAG_BYTES and _LONG_TAG.search(body):
        raise ProblemError(Problem("xml.tag", "A tag of the message is too long.",
                                   expected=f"at most {MOST_TAG_BYTES} bytes in one tag"))
    if body.count(b"xmlns") > MOST_NAMESPACES * (most // MOST_BYTES):
        raise ProblemError(Problem("xml.namespaces", "The message declares too many namespaces.",
                                   expected=f"at most {MOST_NAMESPACES} declarations"))
    if not body.strip():
        raise ProblemError(Problem("xml.empty", "The request has no body.", expected="a SOAP envelope"))
    try:
        root = etree.fromstring(body, _PARSER)
    except etree.XMLSyntaxError as error:
        raise ProblemError(_syntax_problem(error, body)) from None
    declared = body[:40].lstrip(b"\xef\xbb\xbf \t\r\n")[:6].rstrip() == b"<?xml"
    if strict and body.count(b"<?") > declared:
        _refuse_instructions(body)
    if root.getroottree().docinfo.internalDTD is not None:
        raise ProblemError(Problem("xml.dtd", "The message contains a document type declaration.",
                                   found="<!DOCTYPE", mend="Remove the DOCTYPE; SOAP messages must not have one."))
    return root


def _refuse_instructions(body: bytes) -> None:
    """Look closer: what looks like an instruction may stand in a comment or a CDATA section."""
    root = etree.fromstring(body, _WITH_INSTRUCTIONS)
    found = [*root.iter(etree.ProcessingInstruction), *root.itersiblings(preceding=True), *root.itersiblings()]
    if any(isinstance(one, etree._ProcessingInstruction) for one in found):
        raise ProblemError(Problem("xml.instruction", "The message contains a processing instruction.", found="<?",
                                   mend="Remove it; SOAP messages must not have one."))


def too_large(limit: int) -> Problem:
    return Problem("http.too-large", "The request is too large.", Kind.TOO_LARGE, expected=f"at most {limit} bytes",
                   mend="Send less in one call.")


def _to_utf8(body: bytes, charset: str) -> bytes:
    """The bytes in UTF-8, without an encoding declaration that would not be true any more."""
    marked = body[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
    codec = "utf-16" if marked else charset
    if not marked and _KNOWN_CHARSETS.fullmatch(charset) is None:
        raise ProblemError(Problem(
            "xml.encoding", "The charset of the content type is not read here.", place="Content-Type",
            expected="utf-8, utf-16, iso-8859-… or windows-125…", found=shown(charset), mend="Send UTF-8."))
    try:
        text = body.decode(codec)
    except (UnicodeError, LookupError):
        raise ProblemError(Problem("xml.encoding", f"The bytes of the message are not {codec.upper()}.",
                                   mend="Send UTF-8.")) from None
    return _DECLARED_ENCODING.sub(r"\1", text, count=1).encode("utf-8", "replace")


def _syntax_problem(error: etree.XMLSyntaxError, body: bytes) -> Problem:
    line, column = error.position
    place = f"line {line}, column {column}"
    words = (error.msg or "").split(", line ")[0]
    if "depth" in words.lower():
        return Problem("xml.depth", "The message is nested too deep.", place=place, expected="at most 256 levels")
    if "entity" in words.lower() or "amplification" in words.lower():
        return Problem("xml.entity", "The message uses an entity that is not built in.", place=place,
                       mend="Write the characters out, or use &#…; and the five built-in entities.")
    start = body[:40].decode("utf-8", "replace")
    return Problem("xml.syntax", f"The message is not well-formed XML: {words}.", place=place,
                   found=f"it begins with {shown(start)}", mend="Send one well-formed SOAP envelope.")
