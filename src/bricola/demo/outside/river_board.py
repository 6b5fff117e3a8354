"""The river board's service, simulated: their contract, their two namespaces, their header, their sign-in.

It knows nothing of Bricola: messages are taken apart and put together by hand, as somebody else's program would. Levels follow from the
gauge and the quarter of an hour, so that whoever asks at one moment gets one answer.
"""

import math
import sqlite3
from datetime import UTC, datetime, timedelta
from importlib import resources
from pathlib import Path
from xml.sax.saxutils import escape

from lxml import etree

from bricola.demo.outside.web import Answer, Headers, WebService

SOAP = "http://schemas.xmlsoap.org/soap/envelope/"
SECURITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
TELEMETRY = "http://riverboard.example/telemetry/3"
PLACE = "/gauges"
_QUARTER = 900  # seconds between readings


class RiverBoard(WebService):
    """One service on one port. `accounts` are the names and passwords that its user tokens may have; `delay` seconds before each answer."""

    def __init__(self, registry: Path, accounts: dict[str, str], delay: float = 0.0) -> None:
        super().__init__(delay)
        self.registry, self.accounts = registry, accounts

    def respond(self, method: str, path: str, header: Headers, body: bytes) -> Answer:
        if method == "GET":
            known = path.lower() == f"{PLACE}?wsdl"
            return Answer(200, self.contract(f"http://{header('Host') or 'localhost'}{PLACE}")) if known else Answer(404)
        if method != "POST":
            return Answer(204)
        status, text = self.answer(body)
        return Answer(status, text.encode())

    def contract(self, address: str) -> bytes:
        text = resources.files("bricola.demo.outside").joinpath("river-board.wsdl").read_text()
        return text.replace("http://telemetry.riverboard.example/gauges", address).encode()

    def answer(self, body: bytes) -> tuple[int, str]:
        """Status and envelope for a message."""
        try:
            root = etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True))
        except etree.XMLSyntaxError:
            return 500, _fault("Client", "This is no XML.")
        if root.tag != f"{{{SOAP}}}Envelope":
            return 500, _fault("VersionMismatch", "SOAP 1.1 only.")
        user = root.findtext(f".//{{{SECURITY}}}UsernameToken/{{{SECURITY}}}Username") or ""
        password = root.findtext(f".//{{{SECURITY}}}UsernameToken/{{{SECURITY}}}Password") or ""
        if not user or self.accounts.get(user) != password:
            return 500, _fault("Client", "FailedAuthentication: the user token was not accepted.")
        ask = root.find(f"{{{SOAP}}}Body/{{{TELEMETRY}}}GetLevel")
        if ask is None:
            return 500, _fault("Client", "There is one operation here, GetLevel.")
        code = (ask.findtext(f"{{{TELEMETRY}}}gaugeCode") or "").strip()
        gauge = self._gauge(code)
        if gauge is None:
            detail = f'<t:UnknownGauge xmlns:t="{TELEMETRY}"><t:gaugeCode>{escape(code)}</t:gaugeCode></t:UnknownGauge>'
            return 500, _fault("Server", f"There is no gauge {code} on our river.", detail)
        return 200, _readings(code, *gauge)

    def _gauge(self, code: str) -> tuple[str, float] | None:
        with sqlite3.connect(f"file:{self.registry}?mode=ro", uri=True) as db:
            row = db.execute("SELECT place, datum FROM gauge WHERE code = ?", [code]).fetchone()
        db.close()
        return (str(row[0]), float(row[1])) if row is not None else None


def _readings(code: str, place: str, datum: float) -> str:
    now = datetime.now(UTC)
    last = now - timedelta(seconds=now.timestamp() % _QUARTER)
    parts = []
    for back in range(4):
        at = last - timedelta(seconds=back * _QUARTER)
        level = datum + 1.2 + 0.4 * math.sin(at.timestamp() / 20_000 + datum)
        quality = "raw" if back == 0 else "checked"
        parts.append(f'<t:reading><at>{at:%Y-%m-%dT%H:%M:%SZ}</at><level unit="m" quality="{quality}">{level:.3f}</level>'
                     f'<flow unit="m3/s">{level * 3.7 - datum:.1f}</flow></t:reading>')
    return (f'<?xml version="1.0"?><e:Envelope xmlns:e="{SOAP}" xmlns:t="{TELEMETRY}"><e:Header><t:Served by="telemetry-2"/></e:Header>'
            f'<e:Body><t:GetLevelResponse><t:station code="{code}"><t:place>{escape(place)}</t:place>{"".join(parts)}</t:station>'
            "</t:GetLevelResponse></e:Body></e:Envelope>")


def _fault(code: str, words: str, detail: str = "") -> str:
    inner = f"<detail>{detail}</detail>" if detail else ""
    return (f'<?xml version="1.0"?><e:Envelope xmlns:e="{SOAP}"><e:Body><e:Fault><faultcode>e:{code}</faultcode>'
            f"<faultstring>{escape(words)}</faultstring>{inner}</e:Fault></e:Body></e:Envelope>")
