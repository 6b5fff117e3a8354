"""The check of a terminal host: reached, agreed on the protocol, signed on, and its start screen known."""

import contextlib
from collections.abc import Sequence

from bricola.adapters.engines.terminals.sessions import DEFAULT_PORT, TLS_PORT, SocketTerminal, TerminalKind
from bricola.adapters.servers import ServerCheck
from bricola.adapters.stages import Skip, fail
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.kinds.screens.sessions import ScreenError
from bricola.core.problems import ProblemError

_FIRST_SCREEN = 4.0  # seconds, below what a stage may take


class TerminalCheck(ServerCheck):
    """A 3270 or 5250 host."""

    def __init__(self, backend: BackendDefinition, binding: Binding, endpoint: Endpoint, around: Surroundings, probes: Sequence[Probe],
                 kind: TerminalKind) -> None:
        super().__init__(binding, endpoint, around, probes)
        assert backend.terminal is not None
        self.default_port = TLS_PORT if binding.tls != "off" else DEFAULT_PORT
        self._backend, self._terminal = backend, backend.terminal
        self._kind = kind
        self._session: SocketTerminal | None = None

    async def close(self) -> None:
        if self._session is not None:
            await self._kind.close(self._session)

    async def _tls(self) -> str:
        if self._binding.tls == "off":
            raise Skip("the environment asks for none")
        try:
            await self._connect()
        except ProblemError as error:
            raise fail("tls", "The encrypted connection is not made.", "a handshake with a valid certificate", error.problem.inner,
                       "Have the certificate renewed, or trust its issuer here.") from None
        return "encrypted, and the certificate is trusted" if self._binding.tls == "verify" else "encrypted"

    async def _connect(self) -> SocketTerminal:
        if self._session is None:
            self._session = await self._kind.dial(self._endpoint)
        return self._session

    async def _signed_on(self) -> str:
        session = await self._connect()
        if not await session.heard(0, _FIRST_SCREEN):
            raise fail("signed on", "The host shows no screen.", f"a screen within {_FIRST_SCREEN:g} s", "",
                       "Look whether it talks this protocol at this port.")
        try:
            used = await session.signed_on(_FIRST_SCREEN)
        except ScreenError as error:
            seen = next((line.strip() for line in error.picture.lines if line.strip()), "")
            words = error.problem.inner or f"the screen begins with {seen!r}"
            if error.problem.code == "backend.sign-on":
                raise self._not_signed_on(words, True) from None
            raise fail("signed on", error.problem.message, error.problem.expected, words,
                       "Correct the screens and the sign-on of the backend, or free the session at the host.") from None
        return f"as {used.user}" if used is not None else "no sign-on is asked"

    async def _version(self) -> str:
        assert self._session is not None
        terminal = self._session.terminal
        name = self._kind.protocol(terminal)
        screen = terminal.screen
        device = f", device {terminal.device}" if terminal.device else ""
        return f"{name}, {screen.rows} x {screen.columns}, {self._terminal.code_page}{device}"

    async def _allowed(self) -> str:
        raise Skip("a host says so at each screen")

    async def _sample(self) -> str:
        assert self._session is not None
        start = self._session.ways.start if self._session.ways is not None else None
        with contextlib.suppress(ProblemError):
            if start is not None and start.matches(self._session.screen):
                return f"the start screen {start.name}"
        raise fail("sample read", "The start screen is not known.", self._terminal.start, "another screen",
                   "Correct its marks: bricola screens check tells what moved.")
