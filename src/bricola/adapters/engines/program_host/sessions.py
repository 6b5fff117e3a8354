"""Sessions to program hosts over sockets, for the pool: TCP or TLS, greeted, one call at a time."""

import asyncio
import ssl
from collections.abc import Sequence

from bricola.adapters.addresses import host_and_port
from bricola.adapters.secrets import Presented, Secret
from bricola.adapters.statements import sign_on_refused, unreachable
from bricola.adapters.surroundings import Surroundings
from bricola.adapters.tls import tls_context
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.engines.program_host import ENGINE
from bricola.core.definitions.model import Binding
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.programs.frames import (
    VERSION,
    AnyMessage,
    Asked,
    Called,
    Failed,
    FrameReader,
    Hello,
    Listed,
    Program,
    Replied,
    SentArea,
    Sign,
    Welcome,
    write,
)

DEFAULT_PORT = ENGINE.port or 0
_PING_SECONDS = 5.0
_GRACE = 1.0  # seconds beyond those of a call, in which the host tells itself that the program took too long


class HostSession:
    """A connection that was greeted. What does not answer in time is not asked again."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader, self._writer = reader, writer
        self._frames = FrameReader()
        self._came: list[AnyMessage] = []
        self._number = 0
        self.lost: Problem | None = None
        self.welcome = Welcome(VERSION, "", 0)
        self.user = ""

    async def call(self, program: str, areas: Sequence[SentArea], seconds: float) -> Replied:
        """See `ProgramSession`."""
        self._number += 1
        try:
            answer = await self._asked(Called(self._number, program, max(1, int(seconds * 1000)), tuple(areas)), seconds + _GRACE)
        except TimeoutError:
            self.abort(Problem("program.slow", "The program host does not answer.", Kind.BACKEND))
            raise ProblemError(Problem("program.slow", "The program did not answer in time.", Kind.BACKEND, place=program,
                                       expected=f"within {seconds:g} s", mend="Try again; the program's 'seconds' say how long it may take."
                                       )) from None
        if isinstance(answer, Replied) and answer.number == self._number:
            return answer
        if isinstance(answer, Failed) and answer.number == self._number:
            raise _failure(answer, program)
        raise self._broken(f"a call is answered by {type(answer).__name__}")

    async def programs(self, text: str = "") -> list[Program]:
        """The programs whose names hold a text. Raises ProblemError, and SessionLostError when the connection broke."""
        self._number += 1
        try:
            answer = await self._asked(Asked(self._number, text), _PING_SECONDS)
        except TimeoutError:
            self.abort(Problem("program.slow", "The program host does not answer.", Kind.BACKEND))
            raise ProblemError(Problem("program.slow", "The program host does not list its programs in time.", Kind.BACKEND)) from None
        if isinstance(answer, Listed):
            return list(answer.programs)
        if isinstance(answer, Failed):
            raise _failure(answer, "")
        raise self._broken(f"a list is answered by {type(answer).__name__}")

    async def alive(self) -> bool:
        self._number += 1
        try:
            return isinstance(await self._asked(Sign(self._number, True), _PING_SECONDS), Sign)
        except (ProblemError, TimeoutError):
            return False

    async def greeted(self, user: str, secret: str, seconds: float) -> Welcome:
        """Raises ProblemError when the host does not let in, or speaks something else."""
        answer = await self._asked(Hello(VERSION, user, secret), seconds)
        if isinstance(answer, Welcome) and answer.version == VERSION:
            self.welcome, self.user = answer, user
            return answer
        if isinstance(answer, Failed):
            raise _failure(answer, "")
        raise self._broken("it greets in another version" if isinstance(answer, Welcome) else f"it greets by {type(answer).__name__}")

    async def _asked(self, message: AnyMessage, seconds: float) -> AnyMessage:
        if self.lost is not None:
            raise SessionLostError(self.lost, begun=False)
        sent = False
        try:
            self._writer.write(write(message))
            sent = True
            async with asyncio.timeout(seconds):
                await self._writer.drain()
                while not self._came:
                    data = await self._reader.read(65536)
                    if not data:
                        raise ConnectionError("it ended the connection")
                    self._came += self._frames.receive(data)
        except (OSError, ssl.SSLError) as error:
            self.abort(Problem("program-host.dropped", "The program host ended the connection.", Kind.UNREACHABLE, inner=str(error),
                               mend="Try again in a moment."))
            assert self.lost is not None
            raise SessionLostError(self.lost, begun=sent) from None
        except ProblemError as error:
            self.abort(error.problem)
            raise
        except asyncio.CancelledError:
            # What is on its way would be taken for the answer to the next call.
            self.abort(Problem("program-host.left", "The call was left.", Kind.BACKEND))
            raise
        return self._came.pop(0)

    def _broken(self, words: str) -> ProblemError:
        problem = Problem("program-host.protocol", "The program host does not keep its protocol.", Kind.BACKEND, inner=words)
        self.abort(problem)
        return ProblemError(problem)

    def abort(self, problem: Problem) -> None:
        if self.lost is None:
            self.lost = problem
        self._writer.transport.abort()

    async def close(self) -> None:
        if self.lost is None:
            self.lost = Problem("program-host.closed", "The session is closed.", Kind.BACKEND)
        self._writer.close()


def _failure(answer: Failed, program: str) -> ProblemError:
    """What the host says went wrong, in its words."""
    if answer.begun:
        slow = answer.code == "TIME"
        return ProblemError(Problem(
            "program.time" if slow else "program.abend",
            "The program was stopped: it took too long." if slow else "The program ended abnormally.", Kind.BACKEND, place=program,
            found=answer.code, inner=answer.words, mend="Its owner looks at the host's log; what it had done by then may be done."))
    if answer.code == "SIGN-ON":
        return sign_on_refused(program or "program host", answer.words)
    if answer.code == "BUSY":
        return ProblemError(Problem("program.busy", "The program host takes no further call now.", Kind.BUSY, inner=answer.words,
                                    mend="Try again in a moment."))
    return ProblemError(Problem("program.refused", "The program host refuses the call.", Kind.BACKEND, place=program, found=answer.code,
                                inner=answer.words, mend="Its owner compares the program's name and its areas with the definition."))


class ProgramHostKind:
    """How the pool handles sessions to one program host."""

    def __init__(self, name: str, binding: Binding, around: Surroundings) -> None:
        self._name, self._binding, self._networks = name, binding, around.networks
        self._tls = tls_context(binding)  # once: reading whom to trust takes 50 ms
        self._presented = Presented(around.secrets, binding.credential) if binding.credential else None

    async def open(self, endpoint: Endpoint) -> HostSession:
        """Raises ProblemError."""
        secrets: list[Secret | None] = list(self._presented.versions()) if self._presented is not None else [None]
        for number, secret in enumerate(secrets):
            session = await self.dial(endpoint)
            try:
                await session.greeted(secret.user if secret else "", secret.value if secret else "", self._binding.pool.connect_timeout)
            except (ProblemError, TimeoutError) as error:
                await session.close()
                if isinstance(error, TimeoutError):
                    raise unreachable(self._name, f"{endpoint.address} does not greet") from None
                if isinstance(error, SessionLostError):
                    raise unreachable(self._name, f"{endpoint.address}: {error.problem.inner}") from None
                if error.problem.code == "backend.sign-on" and number + 1 < len(secrets):
                    continue
                raise
            except BaseException:
                await session.close()
                raise
            if self._presented is not None:
                self._presented.used()
            return session
        raise sign_on_refused(self._name, "no secret is accepted")

    async def dial(self, endpoint: Endpoint) -> HostSession:
        """A connection that nobody greeted. Raises ProblemError."""
        host, port = host_and_port(endpoint.address, DEFAULT_PORT)
        words = ""
        for address in await self._networks.find(host, port):
            try:
                async with asyncio.timeout(self._binding.pool.connect_timeout):
                    reader, writer = await asyncio.open_connection(
                        address, port, ssl=self._tls, server_hostname=host if self._binding.tls != "off" else None)
                return HostSession(reader, writer)
            except TimeoutError:
                words = "no connection in time"
            except OSError as error:
                words = error.strerror or str(error)
        raise unreachable(self._name, f"{endpoint.address}: {words}")

    def is_sound(self, session: HostSession) -> bool:
        return session.lost is None

    def is_clean(self, session: HostSession) -> bool:
        return session.lost is None

    async def check(self, session: HostSession) -> bool:
        return await session.alive()

    async def reset(self, session: HostSession) -> bool:
        return session.lost is None

    async def close(self, session: HostSession) -> None:
        await session.close()

    def cut(self, session: HostSession) -> None:
        session.abort(Problem("program-host.cut", "The session was ended by an operator.", Kind.BUSY, mend="Try again in a moment."))

    def identity(self, session: HostSession) -> str:
        return session.user

    async def most_sessions(self, session: HostSession) -> int | None:
        return session.welcome.most or None
