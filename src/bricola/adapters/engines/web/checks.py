"""The staged check of a service over HTTP."""

import asyncio
import ssl
from typing import Any
from urllib.parse import urlsplit

import httpx

from bricola.adapters.engines.web.sessions import WebServiceKind, tls_context
from bricola.adapters.secrets import Secret
from bricola.adapters.servers import reachable, resolved
from bricola.adapters.stages import Skip, Step, fail
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding


class WebServiceCheck:
    """Its name, its address, TLS, whether it lets Bricola in, and whether what it says is what the engine speaks."""

    kind: type[WebServiceKind]

    def __init__(self, binding: Binding, endpoint: Endpoint, around: Surroundings) -> None:
        self._binding, self._endpoint, self._around = binding, endpoint, around
        parts = urlsplit(endpoint.address)
        self._host, self._tls_wanted = parts.hostname or "", parts.scheme == "https"
        self._port = parts.port or (443 if self._tls_wanted else 80)
        self._at, self._addresses = "", list[str]()
        self._answer: httpx.Response | None = None

    def question(self, session: Any) -> httpx.Request:
        """What is asked to see whether the sign-in is accepted; it changes nothing."""
        raise NotImplementedError

    def judge(self, answer: httpx.Response) -> str:
        """The stage in which the answer is one of such a service, in a few words. Raises ProblemError."""
        raise NotImplementedError

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._tls, self._signed_on, self._version, self._allowed, self._sample]

    async def close(self) -> None:
        self._answer = None

    async def _resolved(self) -> str:
        self._addresses = await resolved(self._around.networks, self._host, self._port)
        return ", ".join(self._addresses)

    async def _reachable(self) -> str:
        self._at = await reachable(self._addresses, self._host, self._port)
        return f"{self._host}:{self._port}"

    async def _tls(self) -> str:
        if not self._tls_wanted:
            raise Skip("the address is http")
        try:
            _, writer = await asyncio.open_connection(self._at, self._port, ssl=tls_context(self._binding, self._secret()),
                                                      server_hostname=self._host)
        except ssl.SSLCertVerificationError as error:
            raise fail("tls", "The server's certificate is not trusted.", "a valid certificate for its name", error.verify_message,
                       "Have the certificate renewed, or trust its issuer here.") from None
        except (ssl.SSLError, OSError) as error:
            raise fail("tls", "The TLS handshake failed.", "a handshake", str(error), "Look at the server's log.") from None
        version = str(writer.get_extra_info("ssl_object").version())
        writer.close()
        return version

    def _secret(self) -> Secret | None:
        return self._around.secrets.secrets(self._binding.credential)[0] if self._binding.credential else None

    async def _signed_on(self) -> str:
        kind = self.kind("check", self._binding, self._around)
        session = await kind.open(self._endpoint)
        try:
            self._answer, _ = await session.exchange(self.question(session))
        except httpx.HTTPError as error:
            raise fail("signed on", "The service broke off the connection.", "an answer", type(error).__name__,
                       "Look at its log.") from None
        finally:
            await kind.close(session)
        if self._answer.status_code in (401, 403):
            raise fail("signed on", "The service refuses the sign-in.", f"a sign-in as {session.user or 'nobody'} by {session.sign_in}",
                       f"status {self._answer.status_code}",
                       "Replace the secret, or give the name the form that the other side wants: user_form.")
        if session.sign_in == "none":
            raise Skip("no sign-in is asked for")
        return f"as {session.user or 'the token'}"

    async def _version(self) -> str:
        assert self._answer is not None  # an earlier stage asked
        return self.judge(self._answer)

    async def _allowed(self) -> str:
        raise Skip("which operations are allowed, only calls tell")

    async def _sample(self) -> str:
        raise Skip("an operation of somebody else is not tried")
