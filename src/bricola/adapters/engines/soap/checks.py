"""The staged check of a SOAP service."""

import httpx

from bricola.adapters.engines.soap.sessions import SoapServiceKind, SoapSession
from bricola.adapters.engines.web.checks import WebServiceCheck
from bricola.adapters.stages import fail
from bricola.core.messages.envelope import Soap
from bricola.core.messages.outbound import OutboundCall

_NOTHING = OutboundCall(Soap.V11, "", "")  # an empty body, which no operation takes


class SoapServiceCheck(WebServiceCheck):
    """Whether it speaks SOAP at all, too."""

    kind = SoapServiceKind

    def question(self, session: SoapSession) -> httpx.Request:
        return session.request("POST", session.address, {**_NOTHING.http_headers, **session.authorization()}, session.envelope(_NOTHING))

    def judge(self, answer: httpx.Response) -> str:
        media = answer.headers.get("content-type", "").partition(";")[0]
        if media not in ("text/xml", "application/soap+xml", "application/xml"):
            raise fail("version", "What answers there does not speak SOAP.", "text/xml or application/soap+xml",
                       f"status {answer.status_code}, {media or 'no content type'}", "Correct the address in the environment.")
        return f"answers {media}"
