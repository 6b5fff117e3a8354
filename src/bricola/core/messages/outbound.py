"""Messages to services of others, sans-I/O: what is sent, and what is made of what comes back.

The answer of somebody else is as hostile as a request: it is parsed within bounds, and everything that is no SOAP answer is told as what it
is (an HTML page, another version, half a message) without its words, which may be meant for others.
"""

import base64
import hashlib
from dataclasses import dataclass
from datetime import datetime

from lxml import etree

from bricola.core.contracts.names import SECURITY
from bricola.core.messages.checks import escape
from bricola.core.messages.envelope import Soap
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.xml import parse_xml

_UTILITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
_TOKEN = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0"
_ENCODING = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"


@dataclass(frozen=True)
class OutboundCall:
    """One call of an operation of somebody else's: header blocks and payload as XML text that stands alone."""

    soap: Soap
    action: str | None
    payload: str
    headers: tuple[str, ...] = ()

    def envelope(self, *more: str) -> bytes:
        """The message, with further header blocks in front."""
        blocks = "".join((*more, *self.headers))
        head = self.soap.head_with(blocks) if blocks else self.soap.head
        return (head + self.payload + self.soap.tail).encode()

    @property
    def http_headers(self) -> dict[str, str]:
        """Content type and action: a header of its own in SOAP 1.1 (section 6.1.1), a parameter in SOAP 1.2 (RFC 3902)."""
        media = f"{self.soap.media}; charset=utf-8"
        if self.soap is Soap.V11:
            return {"Content-Type": media, "SOAPAction": f'"{self.action or ""}"'}
        return {"Content-Type": f'{media}; action="{self.action}"' if self.action else media}


@dataclass(frozen=True)
class Fault:
    """A fault of the other side: code, reason, and the element of its detail."""

    code: str
    reason: str
    detail: etree._Element | None


@dataclass(frozen=True)
class InboundAnswer:
    """What came back: the element of the body (None: an empty one) and header blocks, or a fault."""

    payload: etree._Element | None = None
    headers: tuple[etree._Element, ...] = ()
    fault: Fault | None = None


def read_answer(call: OutboundCall, status: int, content_type: str, body: bytes, one_way: bool = False) -> InboundAnswer:
    """Take an answer apart. Raises ProblemError of kind backend for what is none."""
    if one_way and status in (200, 202, 204) and not body.strip():
        return InboundAnswer()
    media = content_type.partition(";")[0].strip().lower()
    if media in ("text/html", "application/xhtml+xml") or body[:200].lstrip().lower().startswith((b"<!doctype html", b"<html")):
        raise _wrong("outside.html", "The other side answers with an HTML page and no SOAP message.", "a SOAP envelope", f"status {status}")
    if not body.strip():
        raise _wrong("outside.empty", "The other side answers with nothing.", "a SOAP envelope", f"status {status}")
    charset = content_type.lower().partition("charset=")[2].partition(";")[0].strip("\"' ")
    try:
        root = parse_xml(body, charset)
    except ProblemError as error:
        raise _wrong("outside.xml", "The other side's answer cannot be read.", "a well-formed SOAP envelope", f"status {status}",
                     error.problem.message) from None
    version = next((one for one in Soap if one.tag_envelope == root.tag), None)
    if version is not call.soap:
        found = f"SOAP {version.number}" if version is not None else shown(root.tag)
        raise _wrong("outside.envelope", "The other side answers in another form than it was asked.", f"SOAP {call.soap.number}", found)
    bodies = root.findall(version.tag_body)
    if len(bodies) != 1 or len(bodies[0]) > 1:
        raise _wrong("outside.body", "The other side's envelope is not one body with one element.", "one body", f"{len(bodies)} bodies")
    headers = root.find(version.tag_header)
    payload = bodies[0][0] if len(bodies[0]) else None
    if payload is not None and payload.tag == version.tag_fault:
        return InboundAnswer(fault=_fault(payload))
    if status >= 300:
        raise _wrong("outside.status", "The other side answers with a status that is no success.", "status 200", f"status {status}")
    return InboundAnswer(payload, tuple(headers) if headers is not None else ())


def _fault(node: etree._Element) -> Fault:
    texts = {etree.QName(one).localname: (one.text or "").strip() for one in node.iter("{*}*")}
    detail = next((one for one in node if etree.QName(one).localname.lower() == "detail"), None)
    inner = next(iter(detail), None) if detail is not None else None
    if "faultstring" in texts:
        return Fault(texts.get("faultcode", "").rpartition(":")[2], texts["faultstring"], inner)
    code, reason = node.findtext("{*}Code/{*}Value") or "", node.findtext("{*}Reason/{*}Text") or ""
    return Fault(code.rpartition(":")[2], reason, inner)


def _wrong(code: str, message: str, expected: str, found: str, inner: str = "") -> ProblemError:
    return ProblemError(Problem(code, message, Kind.BACKEND, expected=expected, found=found, inner=inner,
                                mend="Look at the other side, or at its address in the environment."))


def user_token(user: str, password: str, now: datetime, nonce: bytes, version: Soap, digest: bool = False) -> str:
    """A WS-Security header block with a user token (OASIS, UsernameToken Profile 1.1.1, section 3)."""
    created = now.strftime("%Y-%m-%dT%H:%M:%SZ")
    if digest:
        value = base64.b64encode(hashlib.sha1(nonce + created.encode() + password.encode(), usedforsecurity=False).digest()).decode()
    else:
        value = escape(password)
    kind = "PasswordDigest" if digest else "PasswordText"
    flag = "1" if version is Soap.V11 else "true"
    return (f'<wsse:Security xmlns:wsse="{SECURITY}" xmlns:wsu="{_UTILITY}" soap:mustUnderstand="{flag}"><wsse:UsernameToken>'
            f"<wsse:Username>{escape(user)}</wsse:Username>"
            f'<wsse:Password Type="{_TOKEN}#{kind}">{value}</wsse:Password>'
            f'<wsse:Nonce EncodingType="{_ENCODING}">{base64.b64encode(nonce).decode()}</wsse:Nonce>'
            f"<wsu:Created>{created}</wsu:Created></wsse:UsernameToken></wsse:Security>")
