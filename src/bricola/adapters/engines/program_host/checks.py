"""The staged check of a program host: reached, greeted, and its programs listed."""

import contextlib
from collections.abc import Sequence

from bricola.adapters.engines.program_host.sessions import DEFAULT_PORT, HostSession, ProgramHostKind
from bricola.adapters.servers import ServerCheck
from bricola.adapters.stages import Skip, fail
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding
from bricola.core.kinds.kind import Probe
from bricola.core.problems import ProblemError


class ProgramHostCheck(ServerCheck):
    """A host of programs."""

    default_port = DEFAULT_PORT

    def __init__(self, binding: Binding, endpoint: Endpoint, around: Surroundings, probes: Sequence[Probe], kind: ProgramHostKind) -> None:
        super().__init__(binding, endpoint, around, probes)
        self._kind = kind
        self._session: HostSession | None = None

    async def close(self) -> None:
        if self._session is not None:
            with contextlib.suppress(ProblemError):
                await self._kind.close(self._session)

    async def _tls(self) -> str:
        if self._binding.tls == "off":
            raise Skip("the environment asks for none")
        try:
            await self._kind.close(await self._kind.dial(self._endpoint))
        except ProblemError as error:
            raise fail("tls", "The encrypted connection is not made.", "a handshake with a valid certificate", error.problem.inner,
                       "Have the certificate renewed, or trust its issuer here.") from None
        return "encrypted, and the certificate is trusted" if self._binding.tls == "verify" else "encrypted"

    async def _signed_on(self) -> str:
        try:
            self._session = await self._kind.open(self._endpoint)
        except ProblemError as error:
            raise self._not_signed_on(error.problem.inner or error.problem.message, error.problem.code == "backend.sign-on") from None
        return f"as {self._session.user}" if self._session.user else "no sign-on is asked"

    async def _version(self) -> str:
        assert self._session is not None
        welcome = self._session.welcome
        return f"version {welcome.version}, {welcome.words}" if welcome.words else f"version {welcome.version}"

    async def _allowed(self) -> str:
        raise Skip("a host says so at each call")

    async def _sample(self) -> str:
        assert self._session is not None
        programs = await self._session.programs()
        if not programs:
            raise fail("sample read", "The host lists no program.", "a program at least", "none", "Look at what its owner offers there.")
        return f"{len(programs)} program{'s' if len(programs) > 1 else ''}: {', '.join(one.name for one in programs[:5])}"
