"""The staged check of an HTTP service."""

import httpx

from bricola.adapters.engines.web.checks import WebServiceCheck
from bricola.adapters.engines.web.sessions import HttpSession, WebServiceKind
from bricola.adapters.stages import fail


class HttpServiceCheck(WebServiceCheck):
    """Asked for its own address. That nothing is there is an answer as good as any: only what is below it may be there to be had."""

    kind = WebServiceKind

    def question(self, session: HttpSession) -> httpx.Request:
        return session.request("GET", session.address, session.authorization())

    def judge(self, answer: httpx.Response) -> str:
        media = answer.headers.get("content-type", "").partition(";")[0]
        if answer.status_code >= 500:
            raise fail("version", "The service answers that it has failed.", "an answer below 500", f"status {answer.status_code}",
                       "Look at its log, or at what stands in front of it.")
        return f"answers {media or 'without a content type'}, status {answer.status_code}"
