"""Contracts as they are kept with a release, and as they are handed out: with an address, a notice, for both SOAP versions or one."""

import re
from xml.sax.saxutils import escape

from lxml import etree

from bricola.core.contracts.names import WSDL, WSDL_SOAP11, WSDL_SOAP12
from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.shapes.model import ServiceShape

ADDRESS = "urn:bricola:address"  # stands in a kept contract where the address belongs
_W = f"{{{WSDL}}}"
_BINDINGS = {"1.1": WSDL_SOAP11, "1.2": WSDL_SOAP12}
_ROOT = re.compile(r"<wsdl:definitions[^>]*>")


def keep_contract(shape: ServiceShape) -> str:
    """The contract of a release, for the store."""
    return write_wsdl(shape, ADDRESS).decode()


def hand_out(kept: str, address: str, notice: str = "", soap: str = "") -> bytes:
    """A kept contract at an address. A `notice` is what callers should know of it, and stands first in its documentation. With `soap`
    1.1 or 1.2 it has the binding and the port of that version only."""
    text = kept.replace(f'"{ADDRESS}"', f'"{escape(address, {chr(34): "&quot;"})}"')
    if notice:
        text = _noticed(text, notice)
    return one_version(text.encode(), soap) if soap else text.encode()


def _noticed(text: str, notice: str) -> str:
    root = _ROOT.search(text)
    assert root is not None  # it was written here
    rest, words = text[root.end():], escape(notice)
    start = "\n  <wsdl:documentation>"
    if rest.startswith(start):
        return f"{text[:root.end()]}{start}{words} {rest.removeprefix(start)}"
    return f"{text[:root.end()]}{start}{words}</wsdl:documentation>{rest}"


def one_version(contract: bytes, soap: str) -> bytes:
    """A contract without the bindings and ports of the other SOAP version."""
    root = etree.fromstring(contract)
    wanted = _BINDINGS[soap]
    for binding in root.findall(f"{_W}binding"):
        kinds = {version for version, namespace in _BINDINGS.items() if binding.find(f"{{{namespace}}}binding") is not None}
        if kinds and soap not in kinds:
            root.remove(binding)
    for service in root.findall(f"{_W}service"):
        for port in service.findall(f"{_W}port"):
            if port.find(f"{{{wanted}}}address") is None:
                service.remove(port)
    return etree.tostring(root, encoding="UTF-8", xml_declaration=True) + b"\n"
