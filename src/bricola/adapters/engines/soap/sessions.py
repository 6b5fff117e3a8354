"""Sessions to SOAP services of others: HTTP sessions that write envelopes, with a user token where that signs in."""

import os
from datetime import UTC, datetime

from bricola.adapters.engines.web.sessions import HttpSession, WebServiceKind
from bricola.core.messages.http import Answered
from bricola.core.messages.outbound import OutboundCall, user_token

_NONCE_BYTES = 16


class SoapSession(HttpSession):
    async def send(self, call: OutboundCall, seconds: float) -> Answered:
        """See `ServiceSession`."""
        return await self.ask("POST", "", call.http_headers, self.envelope(call), seconds)

    def envelope(self, call: OutboundCall) -> bytes:
        """The message with what signs in."""
        if self.sign_in != "user-token" or self.secret is None:
            return call.envelope()
        return call.envelope(user_token(self.user, self.secret.value, datetime.now(UTC), os.urandom(_NONCE_BYTES), call.soap))


class SoapServiceKind(WebServiceKind):
    """How sessions to a SOAP service are handled."""

    session = SoapSession
