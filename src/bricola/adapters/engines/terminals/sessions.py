"""Sessions to terminal hosts over sockets, for the pool: telnet over TCP or TLS, signed on and warm."""

import asyncio
import contextlib
import time
from collections.abc import Callable
from typing import cast

from bricola.adapters.addresses import host_and_port
from bricola.adapters.networks import Networks
from bricola.adapters.secrets import Presented, Secret
from bricola.adapters.statements import sign_on_refused, unreachable
from bricola.adapters.surroundings import Surroundings
from bricola.adapters.tls import tls_context
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.engines.terminals import TerminalHost
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.recognise import recognise
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.sessions import Course, Quiet
from bricola.core.kinds.screens.walks import HostWays, Walk, compile_ways
from bricola.core.pool.lending import NO_ROOM
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.terminal import Terminal, TerminalSettings

DEFAULT_PORT = 23
TLS_PORT = 992
_SIGN_OFF_SECONDS = 2.0


def terminal_settings(host: TerminalHost, device: str = "", user: str = "", password: str = "") -> TerminalSettings:
    return TerminalSettings(host.model, host.size, host.colour, device, host.code_page, host.extended, host.wide, user, password)


class SocketTerminal(asyncio.Protocol):
    """One connection with its terminal. What the host says is worked in as it comes; those who wait are woken by each record."""

    def __init__(self, name: str, terminal: Terminal) -> None:
        self.name = name
        self.terminal = terminal
        self.course = Course()
        self.quiet = Quiet()
        self.listens = False  # whether the host's quiet is learned here: where somebody films or records
        self._pressed_on: Screen | None = None
        self._answered_at: float | None = None
        self.way_back: Walk | None = None
        self.user = ""
        self.device_taken = ""  # of the binding's list
        self.endpoint = ""
        self.ways: HostWays | None = None
        self.presented: Presented | None = None
        self.lost: Problem | None = None
        self._transport: asyncio.Transport | None = None
        self._waiting: asyncio.Future[None] | None = None

    # asyncio.Protocol

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.Transport, transport)

    def data_received(self, data: bytes) -> None:
        try:
            answer = self.terminal.receive(data)
        except ProblemError as error:
            self._end(error.problem)
            return
        if answer and self._transport is not None:
            self._transport.write(answer)
        if self.listens and self._pressed_on is not None:
            self._listen(self._pressed_on, asyncio.get_running_loop().time())
        self._wake()

    def _listen(self, before: Screen, now: float) -> None:
        """Learn how late pieces of one screen come. A cover that comes over it is news of its own."""
        screen = self.terminal.screen
        if self._answered_at is None:
            if screen.settled and screen.characters != before.characters:
                self._answered_at = now
                self.quiet.known = True
        elif self.ways is None or recognise(self.ways.over, screen) is None:
            self.quiet.learn(now - self._answered_at)

    def connection_lost(self, failure: Exception | None) -> None:
        self._end(Problem("terminal.dropped", "The host ended the connection.", Kind.UNREACHABLE, mend="Try again in a moment.",
                          inner=str(failure or "")))

    def _end(self, problem: Problem) -> None:
        if self.lost is None:
            self.lost = problem
        if self._transport is not None and not self._transport.is_closing():
            self._transport.abort()
        self._wake()

    def _wake(self) -> None:
        if self._waiting is not None and not self._waiting.done():
            self._waiting.set_result(None)
        self._waiting = None

    # what players ask

    @property
    def screen(self) -> Screen:
        return self.terminal.screen

    @property
    def records(self) -> int:
        return self.terminal.records

    def fill(self, texts: dict[int, str], places: dict[int, str]) -> None:
        self.terminal.fill(texts, places)

    def place_cursor(self, position: int) -> None:
        self.terminal.place_cursor(position)

    def reset(self) -> None:
        self.terminal.reset()

    async def press(self, key: str) -> None:
        self._refuse_lost()
        if key not in self.terminal.keys:
            raise ProblemError(Problem("terminal.key", "The terminal has no such key.", place=key,
                                       choices=tuple(sorted(self.terminal.keys))))
        self._pressed_on, self._answered_at = self.terminal.screen, None
        data = self.terminal.press(key)
        assert self._transport is not None
        self._transport.write(data)

    async def heard(self, since: int, seconds: float) -> bool:
        deadline = asyncio.get_running_loop().time() + seconds
        while self.terminal.records <= since:
            self._refuse_lost()
            if not await self._woken(deadline):
                return False
        return True

    async def alive(self, seconds: float) -> bool:
        self._refuse_lost()
        before = self.terminal.signs
        assert self._transport is not None
        self._transport.write(self.terminal.ask())
        deadline = asyncio.get_running_loop().time() + seconds
        while self.terminal.signs == before:
            self._refuse_lost()
            if not await self._woken(deadline):
                return False
        return True

    def give_up(self, why: str) -> None:
        self._end(Problem("terminal.silent", f"The host is given up: {why}.", Kind.UNREACHABLE))

    async def ready(self) -> None:
        """Stand on the start screen: take away what covers it, find the way back, or sign on again where the host signed off.
        Raises SessionLostError where that does not work; nothing of the caller's was typed."""
        self._refuse_lost()
        ways = self.ways
        assert ways is not None
        if self.way_back is None and ways.start.matches(self.screen) and self.screen.settled:
            return
        if not await self.restored():
            self.give_up("it does not come back to the start screen")
            self._refuse_lost()

    async def restored(self) -> bool:
        """Whether it came back to the start screen, signed on anew where it had to be."""
        ways = self.ways
        assert ways is not None
        player = Runner(self, ways, time.monotonic)
        try:
            if ways.sign_on and ways.sign_on.steps[0].on.matches(self.screen):
                await self.signed_on(10.0)
                return True
            if await player.go_back():
                return True
            if ways.sign_on and ways.sign_on.steps[0].on.matches(self.screen):
                await self.signed_on(10.0)
                return True
        except ProblemError:
            return False
        return False

    async def signed_on(self, seconds: float) -> Secret | None:
        """Sign on by the newest secret that the host accepts; it is answered. Raises ProblemError."""
        ways = self.ways
        assert ways is not None
        player = Runner(self, ways, time.monotonic)
        # Asked anew each time: a session that the host signed off must not come back with a secret that was replaced meanwhile.
        secrets = self.presented.versions() if self.presented is not None else []
        if not secrets:
            await player.sign_on("", "", seconds)
            return None
        for number, secret in enumerate(secrets):
            try:
                await player.sign_on(secret.user, secret.value, seconds)
            except ProblemError as error:
                if error.problem.code != "backend.sign-on" or number + 1 == len(secrets):
                    raise
                continue
            self.user = secret.user
            if self.presented is not None:
                self.presented.used()
            return secret
        raise sign_on_refused(self.name, "no secret is accepted")

    def close(self) -> None:
        if self.lost is None:
            self.lost = Problem("terminal.closed", "The session is closed.", Kind.BACKEND)
        if self._transport is not None:
            self._transport.close()

    def abort(self, problem: Problem) -> None:
        self._end(problem)

    async def _woken(self, deadline: float) -> bool:
        loop = asyncio.get_running_loop()
        left = deadline - loop.time()
        if left <= 0:
            return False
        if self._waiting is None:
            self._waiting = loop.create_future()
        future = self._waiting
        timer = loop.call_later(left, lambda: future.done() or future.cancel())
        try:
            await future
        except asyncio.CancelledError:
            if self._waiting is future:
                self._waiting = None
            if loop.time() + 0.002 < deadline:
                raise  # from outside, not by the timer
            return False
        finally:
            timer.cancel()
        return True

    def _refuse_lost(self) -> None:
        if self.lost is not None:
            raise SessionLostError(self.lost, begun=True)


async def connect(name: str, binding: Binding, endpoint: Endpoint, terminal: Terminal, networks: Networks) -> SocketTerminal:
    """A connection whose terminal begins to talk. Raises OSError, and ProblemError where it may not connect."""
    host, port = host_and_port(endpoint.address, TLS_PORT if binding.tls != "off" else DEFAULT_PORT)
    loop = asyncio.get_running_loop()
    addresses = await networks.find(host, port)
    for number, address in enumerate(addresses, 1):
        try:
            _, protocol = await loop.create_connection(lambda: SocketTerminal(name, terminal), address, port, ssl=tls_context(binding),
                                                       server_hostname=host if binding.tls != "off" else None)
            break
        except OSError:
            if number == len(addresses):
                raise
    return protocol



class TerminalKind:
    """How the pool handles sessions to one terminal host."""

    def __init__(self, backend: BackendDefinition, binding: Binding, around: Surroundings, make: Callable[[TerminalSettings], Terminal],
                 protocol: Callable[[Terminal], str]) -> None:
        """`make` gives a terminal that has not talked yet, `protocol` the name of what it agreed on with the host."""
        assert backend.terminal is not None  # the definition has one for this engine
        self._backend, self._host, self._binding, self._networks = backend, backend.terminal, binding, around.networks
        self.ways = compile_ways(backend.terminal)
        self.protocol = protocol
        self._make = make
        self._presented = Presented(around.secrets, binding.credential) if binding.credential else None
        self._devices: dict[str, list[str]] = {}  # that are free, by endpoint
        self._films = around.films
        self.quiet = Quiet()  # of this host, for all its sessions

    async def open(self, endpoint: Endpoint, made: list[Shot] | None = None) -> SocketTerminal:
        """See SessionKind; with `made` the moves of the session are filmed into it.

        A device that the host has in use may be free the next moment, and another of the list is free now: somebody else has it, or a pool
        that was replaced a moment ago and is still signing off. So each of them is tried before there is no room."""
        for number in range(len(self._binding.devices), 0, -1):
            try:
                return await self._open(endpoint, made)
            except ProblemError as error:
                if number == 1 or error.problem.code != NO_ROOM or error.problem.place not in self._binding.devices:
                    raise
        return await self._open(endpoint, made)

    async def _open(self, endpoint: Endpoint, made: list[Shot] | None) -> SocketTerminal:
        session = await self.dial(endpoint)
        try:
            session.course.made = made
            seconds = self._binding.pool.connect_timeout
            if not await session.heard(0, seconds):
                raise ProblemError(Problem("terminal.silent", "The host shows no screen.", Kind.UNREACHABLE, place=endpoint.address,
                                           expected=f"a screen within {seconds:g} s"))
            await session.signed_on(seconds)
        except SessionLostError as lost:
            self._give_up(session)
            raise ProblemError(lost.problem) from None
        except BaseException:
            self._give_up(session)
            raise
        return session

    async def dial(self, endpoint: Endpoint) -> SocketTerminal:
        """A connection with a device of the list that nobody signed on; `close` gives the device back. Raises ProblemError."""
        secrets = self._presented.versions() if self._presented is not None else []
        device = self._take_device(endpoint.name)
        first = secrets[0] if secrets and self._host.signs_on_by_itself else None
        terminal = self._make(terminal_settings(self._host, device, first.user if first else "", first.value if first else ""))
        try:
            session = await connect(self._backend.name, self._binding, endpoint, terminal, self._networks)
        except OSError as error:
            self._free_device(endpoint.name, device)
            raise unreachable(self._backend.name, f"{endpoint.address}: {error.strerror or error}") from None
        except BaseException:
            self._free_device(endpoint.name, device)
            raise
        self._learn_from_films()
        session.quiet = self.quiet
        session.device_taken, session.endpoint, session.ways, session.presented = device, endpoint.name, self.ways, self._presented
        return session

    def _learn_from_films(self) -> None:
        """What was heard of the host's quiet where its flows were filmed."""
        heard = [one.quiet for one in self._films.values() if one.backend == self._backend.name and one.quiet is not None]
        if heard:
            self.quiet.known, self.quiet.seconds = True, max(heard)

    def _give_up(self, session: SocketTerminal) -> None:
        session.abort(Problem("terminal.closed", "The session is closed.", Kind.BACKEND))
        device, session.device_taken = session.device_taken, ""
        self._free_device(session.endpoint, device)

    def _take_device(self, endpoint: str) -> str:
        if not self._binding.devices:
            return ""
        free = self._devices.setdefault(endpoint, list(self._binding.devices))
        if not free:
            raise ProblemError(Problem("terminal.no-device", "No LU or device name of the list is free.", Kind.BUSY,
                                       expected=f"at most {len(self._binding.devices)} sessions for each endpoint",
                                       mend="Name more under the binding's 'devices:', or make the pool smaller."))
        return free.pop(0)

    def _free_device(self, endpoint: str, device: str) -> None:
        if device:
            self._devices[endpoint].append(device)

    def is_sound(self, session: SocketTerminal) -> bool:
        return session.lost is None

    @staticmethod
    def at_start(session: SocketTerminal) -> bool:
        """Whether it stands on the start screen with the keyboard open."""
        ways = session.ways
        return session.lost is None and ways is not None and session.screen.settled and ways.start.matches(session.screen)

    def is_clean(self, session: SocketTerminal) -> bool:
        return session.way_back is None and self.at_start(session)

    async def check(self, session: SocketTerminal) -> bool:
        try:
            if not self.is_clean(session) and not await session.restored():
                return False
            seconds = self._binding.pool.connect_timeout
            if not await Runner(session, self.ways, time.monotonic).keep_alive(seconds):
                return await session.restored() if session.lost is None and session.screen.settled else False
        except ProblemError:
            return False
        return session.lost is None

    async def reset(self, session: SocketTerminal) -> bool:
        with contextlib.suppress(ProblemError):
            return await session.restored()
        return False

    async def close(self, session: SocketTerminal) -> None:
        """Sign off where that is known how, then end the connection."""
        if session.lost is None and self.ways.sign_off:
            with contextlib.suppress(ProblemError, TimeoutError):
                async with asyncio.timeout(_SIGN_OFF_SECONDS):
                    await Runner(session, self.ways, time.monotonic).sign_off()
        session.close()
        self._give_up(session)

    def cut(self, session: SocketTerminal) -> None:
        session.abort(Problem("terminal.cut", "The session was ended by an operator.", Kind.BUSY, mend="Try again in a moment."))

    def identity(self, session: SocketTerminal) -> str:
        device = session.terminal.device
        return " on ".join(one for one in (session.user, device) if one)

    async def most_sessions(self, session: SocketTerminal) -> int | None:
        return len(self._binding.devices) or None
