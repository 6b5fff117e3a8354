"""Sessions to services over HTTP: one client each, over httpx, with one kept-alive connection.

A pool counts sessions, so one connection a session keeps its bounds, its breakers and its live view true: what waits for a connection
waits in the pool, where it is seen, and never inside a shared client. A further client costs 3 KiB, and eight of them take half the CPU
of one that eight connections are bound in (bench/contracts.py).
"""

import asyncio
import os
import ssl
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from urllib.parse import urlsplit

import httpx

from bricola.adapters.secrets import Presented, Secret
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding
from bricola.core.messages.http import Answered
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError

_OPEN_SECONDS = 5.0


@dataclass(eq=False)
class HttpSession:
    """A client at one endpoint, with what it presents."""

    client: httpx.AsyncClient
    address: str
    at: str  # the IP address that is connected to: a name may mean another one a moment later
    secret: Secret | None
    sign_in: str
    user: str
    most_bytes: int
    sound: bool = True

    async def ask(self, method: str, path: str, headers: Mapping[str, str], body: bytes, seconds: float) -> Answered:
        """See `WebSession`."""
        begun = False
        try:
            address = f"{self.address.partition('?')[0].rstrip('/')}/{path.lstrip('/')}" if path else self.address
            request = self.request(method, address, {**headers, **self.authorization()}, body, seconds)
            begun = True
            # httpx bounds each wait by itself; an answer that comes drop by drop has to end, too
            async with asyncio.timeout(seconds):
                response, content = await self.exchange(request)
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            self.sound = False
            raise SessionLostError(_unreachable(str(error)), begun=False) from None
        except (httpx.TimeoutException, TimeoutError):
            self.sound = False
            raise ProblemError(Problem("outside.slow", "The other side did not answer in time.", Kind.BACKEND,
                                       expected=f"within {seconds:g} s",
                                       mend="Try again; the environment's 'answer_seconds' says how long it may take.")) from None
        except httpx.HTTPError as error:
            self.sound = False
            raise SessionLostError(_unreachable(str(error)), begun) from None
        if response.status_code in (401, 403):
            raise ProblemError(Problem("outside.sign-in", "The other side does not accept how Bricola signs in.", Kind.BACKEND,
                                       found=f"status {response.status_code}", inner=f"as {self.user or 'nobody'}, by {self.sign_in}",
                                       mend="The people who run the service look at its credential and the form of the user's name."))
        return Answered(response.status_code, response.headers.get("content-type", ""), content)

    def request(self, method: str, address: str, headers: dict[str, str], body: bytes = b"",
                seconds: float = _OPEN_SECONDS) -> httpx.Request:
        """To the host of `address` by its name, over the IP address that was looked at."""
        parts = urlsplit(address)
        shown = f"[{self.at}]" if ":" in self.at else self.at
        return self.client.build_request(
            method, parts._replace(netloc=f"{shown}:{parts.port}" if parts.port else shown).geturl(), content=body,
            headers={"Host": parts.netloc.rpartition("@")[2], **headers}, timeout=httpx.Timeout(seconds, connect=_OPEN_SECONDS),
            extensions={"sni_hostname": parts.hostname or ""})

    async def exchange(self, request: httpx.Request) -> tuple[httpx.Response, bytes]:
        """The answer, read to its end so that the connection can be used again. Raises httpx.HTTPError, and ProblemError for one that is
        too large."""
        try:
            response = await self.client.send(request, stream=True)
        except (OSError, AttributeError) as error:
            # Where the other side resets a connection that was just made, anyio asks a socket that is gone for the name of its peer
            # (abc/_sockets.py, extra_attributes). Nothing was sent by then.
            raise httpx.ConnectError(f"the connection was reset: {error}", request=request) from None
        try:
            return response, await self._bounded(response)
        finally:
            await response.aclose()

    async def _bounded(self, response: httpx.Response) -> bytes:
        pieces, total = [], 0
        async for piece in response.aiter_bytes():
            total += len(piece)
            if total > self.most_bytes:
                self.sound = False  # the rest of the answer is still on its way
                raise ProblemError(Problem("outside.large", "The other side's answer is too large.", Kind.BACKEND,
                                           expected=f"at most {self.most_bytes} bytes"))
            pieces.append(piece)
        return b"".join(pieces)

    def authorization(self) -> dict[str, str]:
        return authorization(self.sign_in, self.user, self.secret)


def authorization(sign_in: str, user: str, secret: Secret | None) -> dict[str, str]:
    """The header fields that sign in; none for the ways that need none."""
    if secret is not None and sign_in == "basic":
        signed = next(httpx.BasicAuth(user, secret.value).auth_flow(httpx.Request("GET", "http://x/")))
        return {"Authorization": signed.headers["Authorization"]}
    return {"Authorization": f"Bearer {secret.value}"} if secret is not None and sign_in == "bearer" else {}


def user_of(binding: Binding, secret: Secret | None) -> str:
    """The name in the form that the other side wants."""
    return binding.user_form.replace("{user}", secret.user) if secret is not None else ""


def _unreachable(words: str) -> Problem:
    return Problem("backend.unreachable", "The other side cannot be reached.", Kind.UNREACHABLE, inner=words, mend="Try again later.")


class WebServiceKind:
    """How sessions to a service over HTTP are handled; `session` is what one of them is."""

    session: type[HttpSession] = HttpSession

    def __init__(self, name: str, binding: Binding, around: Surroundings,
                 make: Callable[..., httpx.AsyncClient] = httpx.AsyncClient) -> None:
        self._name = name
        self._binding = binding
        self._networks = around.networks
        self._presented = Presented(around.secrets, binding.credential) if binding.credential else None
        self._make = make

    async def open(self, endpoint: Endpoint) -> HttpSession:
        """At the first address of the host that answers. Raises ProblemError."""
        parts = urlsplit(endpoint.address)
        for at in await self._networks.find(parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)):
            session = self._session(endpoint, at)
            if await self.check(session):
                if self._presented is not None:
                    self._presented.used()
                return session
            await session.client.aclose()
        raise ProblemError(_unreachable(f"no answer at {endpoint.address}"))

    def _session(self, endpoint: Endpoint, at: str) -> HttpSession:
        secret = self._presented.versions()[0] if self._presented is not None else None
        # There is no TLS to an http address, and redirects are not followed; a context that nobody uses takes 50 ms to make.
        verify = tls_context(self._binding, secret) if endpoint.address.startswith("https:") else False
        client = self._make(verify=verify, trust_env=False, follow_redirects=False, http2=False,
                            limits=httpx.Limits(max_connections=1, max_keepalive_connections=1, keepalive_expiry=None))
        return self.session(client, endpoint.address, at, secret, self._binding.sign_in, user_of(self._binding, secret),
                           self._binding.answer_bytes)

    def is_sound(self, session: HttpSession) -> bool:
        return session.sound

    def is_clean(self, session: HttpSession) -> bool:
        return True

    async def check(self, session: HttpSession) -> bool:
        """A sign of life: any HTTP answer is one, since many services answer only to messages."""
        parts = urlsplit(session.address)
        try:
            await session.exchange(session.request("OPTIONS", f"{parts.scheme}://{parts.netloc}{parts.path or '/'}", {}))
        except (httpx.HTTPError, ProblemError):
            session.sound = False
            return False
        return True

    async def reset(self, session: HttpSession) -> bool:
        return session.sound

    async def close(self, session: HttpSession) -> None:
        session.sound = False
        await session.client.aclose()

    def cut(self, session: HttpSession) -> None:
        session.sound = False

    def identity(self, session: HttpSession) -> str:
        return f"{session.user} ({session.sign_in})" if session.user else session.sign_in if session.sign_in != "none" else ""

    async def most_sessions(self, session: HttpSession) -> int | None:
        return None


def tls_context(binding: Binding, secret: Secret | None) -> ssl.SSLContext:
    """Verified unless the binding says otherwise; with a client certificate where that is how Bricola signs in. Raises ProblemError."""
    context = ssl.create_default_context()
    if binding.tls == "encrypt":
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    if binding.sign_in == "certificate" and secret is not None:
        _load_certificate(context, secret)
    return context


def _load_certificate(context: ssl.SSLContext, secret: Secret) -> None:
    """The standard library reads certificates from files only; this one is a file in memory that nobody else sees."""
    handle = os.memfd_create("certificate", os.MFD_CLOEXEC)
    try:
        os.write(handle, f"{secret.certificate}\n{secret.value}\n".encode())
        context.load_cert_chain(f"/proc/self/fd/{handle}")
    except (ssl.SSLError, OSError) as error:
        raise ProblemError(Problem("credential.certificate", "The client certificate cannot be used.", Kind.BACKEND,
                                   inner=str(error))) from None
    finally:
        os.close(handle)
