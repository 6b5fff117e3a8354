"""SOAP envelopes, 1.1 (W3C Note, 8 May 2000) and 1.2 (W3C Recommendation, second edition, 27 April 2007)."""

from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

from lxml import etree

from bricola.core.contracts.names import ADDRESSING, ENVELOPE11, ENVELOPE12, MEDIA11, MEDIA12, SECURITY
from bricola.core.problems import Kind, Problem, ProblemError, shown


class Soap(Enum):
    """A SOAP version with everything that differs between the two."""

    V11 = ("1.1", ENVELOPE11, MEDIA11)
    V12 = ("1.2", ENVELOPE12, MEDIA12)

    def __init__(self, number: str, namespace: str, media: str) -> None:
        self.number = number
        self.namespace = namespace
        self.media = media
        self.content_type = f"{media}; charset=utf-8".encode()
        self.head = f'<?xml version="1.0" encoding="UTF-8"?>\n<soap:Envelope xmlns:soap="{namespace}"><soap:Body>'
        self._start = self.head.removesuffix("<soap:Body>")
        self.tail = "</soap:Body></soap:Envelope>"
        self.tag_envelope, self.tag_header, self.tag_body, self.tag_fault = (
            f"{{{namespace}}}{name}" for name in ("Envelope", "Header", "Body", "Fault")
        )
        self.must_understand = f"{{{namespace}}}mustUnderstand"
        self.role = f"{{{namespace}}}{'actor' if number == '1.1' else 'role'}"


    def head_with(self, block: str) -> str:
        """The beginning of an envelope with a header block."""
        return f"{self._start}<soap:Header>{block}</soap:Header><soap:Body>"


_MESSAGE_ID = f"{{{ADDRESSING}}}MessageID"
_BY_TAG = {version.tag_envelope: version for version in Soap}
# The roles that mean us: the next node, or the ultimate receiver (SOAP 1.1, 4.2.2; SOAP 1.2 Part 1, 2.2).
_OUR_ROLES = frozenset(
    ("", "http://schemas.xmlsoap.org/soap/actor/next", f"{ENVELOPE12}/role/next", f"{ENVELOPE12}/role/ultimateReceiver")
)


@dataclass(slots=True)
class Envelope:
    """An envelope that was read: its version, its header blocks, and the one element in its body."""

    version: Soap
    headers: list[etree._Element]
    payload: etree._Element


class NotUnderstoodError(ProblemError):
    """A header block demands to be understood and is not: its own fault code in both versions."""

    def __init__(self, block: str, user_token: bool = False) -> None:
        what = ("The header carries a WS-Security user token, which this service does not take." if user_token
                else "A header block demands to be understood and is not.")
        mend = ("Sign in with HTTP Basic or a bearer token, and send no Security header." if user_token
                else "Leave the block out, or without mustUnderstand.")
        super().__init__(Problem("soap.must-understand", what, place="Envelope/Header", found=shown(block), mend=mend))
        self.block = block


class WrongVersionError(ProblemError):
    """The root is no SOAP envelope that we know: VersionMismatch in both versions."""


@lru_cache(256)  # a caller sends the same header with every call
def read_media_type(header: str) -> tuple[Soap | None, str]:
    """The version that a Content-Type announces and its charset in lower case; None for a type that is not SOAP's."""
    media, _, parameters = header.partition(";")
    media = media.strip().lower()
    charset = parameters.lower().partition("charset=")[2].partition(";")[0].strip("\"' ")
    return (Soap.V12 if media == MEDIA12 else Soap.V11 if media in (MEDIA11, "application/xml", "") else None), charset


_FLAGS = {"1.1": frozenset(("0", "1")), "1.2": frozenset(("0", "1", "true", "false"))}


def read_envelope(root: etree._Element, strict: bool = True, understood: frozenset[str] = frozenset(), empty: bool = False) -> Envelope:
    """Take an envelope apart. Header blocks that must be understood are refused, except those whose tags are in `understood`. `empty`: a
    body without an element is one of the service's messages. `strict` is off for releases of form 1."""
    version = _BY_TAG.get(root.tag)
    if version is None:
        name = etree.QName(root)
        if name.localname == "Envelope":
            problem = Problem("soap.version", "The envelope is of an unknown SOAP version.", place="Envelope",
                              expected=f"the namespace {ENVELOPE11} or {ENVELOPE12}", found=shown(name.namespace or ""))
            raise WrongVersionError(problem)
        raise ProblemError(Problem("soap.envelope", "The message is not a SOAP envelope.", place=f"/{name.localname}",
                                   expected=f"Envelope in the namespace {ENVELOPE11} or {ENVELOPE12}",
                                   found=shown(root.tag)))
    headers: list[etree._Element] = []
    body: etree._Element | None = None
    for part in root:
        if part.tag == version.tag_body and body is None:
            body = part
        elif part.tag == version.tag_header and body is None:
            headers = list(part)
        elif version is Soap.V12 or body is None or (strict and part.tag in (version.tag_body, version.tag_header)):
            # SOAP 1.1 allows elements of other names after the body (section 4)
            raise ProblemError(Problem("soap.envelope", "The envelope holds an element that does not belong there.",
                                       place="Envelope", expected="Header (optional), then Body", found=shown(part.tag)))
    if body is None:
        raise ProblemError(Problem("soap.body", "The envelope has no Body.", place="Envelope"))
    for block in headers:
        demanded = block.get(version.must_understand)
        if demanded is not None and strict and demanded.strip() not in _FLAGS[version.number]:
            raise ProblemError(Problem("soap.flag", "mustUnderstand has a value that it cannot have.", place=f"Header/{block.tag[:100]}",
                                       expected="0 or 1" if version is Soap.V11 else "true or false", found=shown(demanded)))
        if demanded in ("1", "true") and block.get(version.role, "") in _OUR_ROLES and block.tag not in understood:
            raise NotUnderstoodError(block.tag, _user_token(block))
    if not len(body) and empty:
        return Envelope(version, headers, body)
    if len(body) != 1:
        raise ProblemError(Problem("soap.body", "The Body must hold exactly one element, the operation.",
                                   place="Envelope/Body", found=f"{len(body)} elements"))
    return Envelope(version, headers, body[0])


def _user_token(block: etree._Element) -> bool:
    return block.tag == f"{{{SECURITY}}}Security" and block.find(f"{{{SECURITY}}}UsernameToken") is not None


def message_id(headers: list[etree._Element]) -> str:
    """The MessageID of WS-Addressing 1.0 (W3C Recommendation, section 3.1), '' without one."""
    return next(((one.text or "").strip() for one in headers if one.tag == _MESSAGE_ID), "")


def unknown_operation(tag: str, namespace: str, names: list[str]) -> Problem:
    """Why no operation answers to a body element: the wrong namespace, or a name that does not exist."""
    name = etree.QName(tag)
    if name.localname in names:
        return Problem("soap.namespace", f"{name.localname} is in the wrong namespace.", Kind.INPUT,
                       place=f"Body/{name.localname}", expected=shown(namespace), found=shown(name.namespace or ""),
                       mend=f'Write xmlns="{namespace}" on {name.localname}.')
    return Problem("soap.operation", "The service has no such operation.", Kind.INPUT, place=f"Body/{name.localname}",
                   expected="no operation is offered", choices=tuple(names),
                   found=shown(name.localname))
