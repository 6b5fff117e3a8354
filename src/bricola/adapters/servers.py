"""The check of a server, as far as it is the same for every protocol: a name, an address, a handshake."""

import asyncio
import os
import ssl
from collections.abc import Sequence

from bricola.adapters.addresses import host_and_port
from bricola.adapters.networks import Networks
from bricola.adapters.stages import Step, fail
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding
from bricola.core.kinds.kind import Probe
from bricola.core.problems import Kind, ProblemError


async def resolved(networks: Networks, host: str, port: int) -> list[str]:
    """The stage in which a name becomes addresses that may be connected to. Raises ProblemError."""
    try:
        return await networks.find(host, port)
    except ProblemError as error:
        if error.problem.kind is Kind.PERMISSION:
            raise
        raise fail("resolved", f"The name {host} is not known.", "a name that resolves", "",
                   "Correct the address in the environment, or the name service.") from None


async def reachable(addresses: Sequence[str], host: str, port: int) -> str:
    """The stage in which something listens there: the first address that does. Raises ProblemError."""
    words = ""
    for address in addresses:
        try:
            _, writer = await asyncio.open_connection(address, port)
        except OSError as error:
            words = os.strerror(error.errno) if error.errno else str(error)
            continue
        writer.close()
        return address
    raise fail("reachable", f"Nothing answers at {host}:{port}.", "a listening server", words,
               "Start the server, or correct the port; look at firewalls in between.")


class ServerCheck:
    """What every server has: a name, an address, a handshake."""

    default_port = 0

    def __init__(self, binding: Binding, endpoint: Endpoint, around: Surroundings, probes: Sequence[Probe]) -> None:
        self._binding = binding
        self._endpoint = endpoint
        self._secrets, self._networks = around.secrets, around.networks
        self._probes = probes
        self._host, self._port, self._at = "", 0, ""  # `_at` is the address that answers
        self._addresses: list[str] = []

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._tls, self._signed_on, self._version, self._allowed, self._sample]

    async def _resolved(self) -> str:
        self._host, self._port = host_and_port(self._endpoint.address, self.default_port)
        self._addresses = await resolved(self._networks, self._host, self._port)
        return ", ".join(self._addresses)

    async def _reachable(self) -> str:
        self._at = await reachable(self._addresses, self._host, self._port)
        return f"{self._host}:{self._port}"

    async def close(self) -> None:
        raise NotImplementedError

    def _not_signed_on(self, words: str, refusal: bool) -> ProblemError:
        credential = self._binding.credential
        return fail("signed on", "The server refused the sign-on." if refusal else "The sign-on failed.",
                    f"a sign-on with the credential {credential}" if credential else "a sign-on without a credential", words,
                    f"Replace the secret: bricola credentials rotate {credential}" if credential and refusal
                    else "Name a credential in the environment." if refusal else "Look at the server's log.")

    def _tables(self) -> list[Probe]:
        """The probes of objects; a query tells of its tables only by failing."""
        return [one for one in self._probes if one.table]

    def _routines(self) -> list[Probe]:
        return [one for one in self._probes if one.calls]

    async def handshake(self, writer: asyncio.StreamWriter) -> None:
        """TLS as the binding asks for it. Raises ProblemError."""
        context = ssl.create_default_context()
        if self._binding.tls == "encrypt":
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        try:
            await writer.start_tls(context, server_hostname=self._host)
        except ssl.SSLCertVerificationError as error:
            raise fail("tls", "The server's certificate is not trusted.", "a valid certificate for its name",
                       error.verify_message, "Have the certificate renewed, or trust its issuer here.") from None
        except (ssl.SSLError, OSError) as error:
            raise fail("tls", "The TLS handshake failed.", "a handshake", str(error), "Look at the server's log.") from None

    async def _tls(self) -> str:
        raise NotImplementedError

    async def _signed_on(self) -> str:
        raise NotImplementedError

    async def _version(self) -> str:
        raise NotImplementedError

    async def _allowed(self) -> str:
        raise NotImplementedError

    async def _sample(self) -> str:
        raise NotImplementedError
