"""WS-Addressing 1.0 as far as an answer that comes later needs it (W3C Recommendation: Core, and SOAP Binding)."""

from collections.abc import Iterable
from uuid import uuid4
from xml.sax.saxutils import escape

from lxml import etree

from bricola.core.contracts.names import ADDRESSING

_A = f"{{{ADDRESSING}}}"
REPLY_TO = f"{_A}ReplyTo"
# Those that say where an answer goes and to what it belongs.
UNDERSTOOD = frozenset(f"{_A}{name}" for name in ("To", "Action", "MessageID", "RelatesTo", "From", "ReplyTo", "FaultTo"))
_NOWHERE = frozenset(("", f"{ADDRESSING}/anonymous", f"{ADDRESSING}/none"))


def reply_address(headers: Iterable[etree._Element]) -> str:
    """Where the answer shall go (Core, section 3.4); '' where that is the connection of the request, or nowhere."""
    for one in headers:
        if one.tag == REPLY_TO:
            address = (one.findtext(f"{_A}Address") or "").strip()
            return "" if address in _NOWHERE else address
    return ""


def answer_blocks(to: str, action: str, relates_to: str) -> str:
    """The header blocks of an answer that is sent on its own (Core, section 3.4; SOAP Binding, section 2)."""
    parts = {"To": to, "Action": action, "MessageID": f"urn:uuid:{uuid4()}", "RelatesTo": relates_to}
    return "".join(f'<wsa:{name} xmlns:wsa="{ADDRESSING}">{escape(text)}</wsa:{name}>' for name, text in parts.items() if text)
