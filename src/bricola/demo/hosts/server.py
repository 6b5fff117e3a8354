"""Serving an application to terminals over TCP, with what hosts do to people: delays, time-outs, broadcasts, faults."""

import asyncio
import random
import ssl
from collections.abc import Callable
from dataclasses import dataclass

from bricola.core.problems import ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.host import Part, Pressed
from bricola.core.terminals.host3270 import Tn3270Host
from bricola.core.terminals.host5250 import Tn5250Host
from bricola.demo.hosts.application import IDLE, Application, View

FAULTS = ("drop", "freeze", "garbage", "slow", "half", "negotiate")
_SLOW_PIECE = 64  # bytes of a slow answer that go out at once
_SLOW_SECONDS = 0.01


@dataclass
class Behaviour:
    """What the host does beside answering; times in seconds. A fault comes at every `fault_every`-th key of the host."""

    delay: float = 0.0
    idle_seconds: float = 600.0
    broadcast_every: int = 0  # keys of a session; 0 is never
    broadcast: str = "THE BASIN GATES CLOSE AT SIX THIS EVENING"
    fault: str = ""
    fault_every: int = 1


class HostServer:
    """Terminals come, each with an application of its own. Start it with `start`, end it with `close`."""

    def __init__(self, new_session: Callable[[str], Application], is_5250: bool, behaviour: Behaviour, device_prefix: str = "LKT") -> None:
        self._new_session = new_session
        self._is_5250 = is_5250
        self.behaviour = behaviour
        self._prefix = device_prefix
        self._number = 0
        self.devices: dict[str, int] = {}  # in use, with their session's number
        self.keys = 0
        self._server: asyncio.Server | None = None
        self._writers: set[asyncio.StreamWriter] = set()
        self._tasks: set[asyncio.Task[None]] = set()
        self._random = random.Random(5250)

    async def start(self, port: int = 0, tls: ssl.SSLContext | None = None) -> int:
        """Listen on loopback; the port."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", port, ssl=tls)
        return int(self._server.sockets[0].getsockname()[1])

    async def close(self) -> None:
        """End every session at once."""
        if self._server is not None:
            self._server.close()
        for writer in self._writers:
            writer.transport.abort()
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._tasks.add(task)
        self._writers.add(writer)
        self._number += 1
        session = _Session(self, self._number, f"{self._prefix}{self._number:04}"[-8:], reader, writer)
        try:
            await session.run()
        except (ProblemError, ConnectionError):
            pass  # a terminal that cannot be talked to, or that is gone
        except asyncio.CancelledError:
            pass  # the host is closed; nobody waits for the end of this task but `close`
        finally:
            session.end()
            self._tasks.discard(task)
            self._writers.discard(writer)
            writer.transport.abort()


class _Session:
    def __init__(self, server: HostServer, number: int, device: str, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._server, self._number, self._device = server, number, device
        self._reader, self._writer = reader, writer
        self._host: Tn3270Host | Tn5250Host
        self._host = Tn5250Host(device, taken=server.devices) if server._is_5250 else Tn3270Host(device)
        self._application: Application | None = None
        self._keys = 0
        self._shown: View | None = None
        self._under: View | None = None  # a broadcast stands over it

    async def run(self) -> None:
        self._writer.write(self._host.start())
        server = self._server
        if server.behaviour.fault == "negotiate":
            await self._negotiate()
            return
        while True:
            try:
                async with asyncio.timeout(server.behaviour.idle_seconds):
                    data = await self._reader.read(65_536)
            except TimeoutError:
                if self._application is not None:
                    await self._key(Pressed(IDLE))
                continue
            if not data:
                return
            answer, keys = self._host.receive(data)
            if answer:
                self._writer.write(answer)
            if self._application is None and self._host.ready:
                self._device = self._host.device
                server.devices[self._device] = self._number
                self._application = server._new_session(self._device)
                await self._show(next(self._application))
            for pressed in keys:
                if not await self._fault():
                    await self._key(pressed)

    def end(self) -> None:
        if self._application is not None:
            self._application.close()
        if self._server.devices.get(self._device) == self._number:
            del self._server.devices[self._device]

    async def _key(self, pressed: Pressed) -> None:
        if self._application is None:
            return
        behaviour = self._server.behaviour
        if behaviour.delay:
            await asyncio.sleep(behaviour.delay)
        if self._under is not None and pressed.key != IDLE:
            view, self._under = self._under, None
            await self._show(view)
            return
        self._under = None
        view = self._application.send(pressed)
        self._keys += 1
        if behaviour.broadcast_every and self._keys % behaviour.broadcast_every == 0 and not view.error and pressed.key != IDLE:
            self._under = view
            view = broadcast(behaviour.broadcast)
        await self._show(view)

    async def _show(self, view: View) -> None:
        host = self._host
        if view.error and isinstance(host, Tn5250Host):
            data = host.error(view.error)
        else:
            data = host.screen(view.parts, view.alarm, view.alternate)
        if self._server.behaviour.fault == "slow" and self._keys:
            for start in range(0, len(data), _SLOW_PIECE):
                self._writer.write(data[start:start + _SLOW_PIECE])
                await asyncio.sleep(_SLOW_SECONDS)
        else:
            self._writer.write(data)
        self._shown = view

    async def _fault(self) -> bool:
        """Do what a faulty host does at this key; whether it did, instead of answering."""
        server = self._server
        server.keys += 1
        behaviour = server.behaviour
        if behaviour.fault not in ("drop", "freeze", "garbage", "half") or server.keys % behaviour.fault_every:
            return False
        if behaviour.fault == "drop":
            self._writer.transport.abort()
            raise ConnectionAbortedError
        if behaviour.fault == "garbage":
            self._writer.write(telnet.record(bytes(5) + self._server._random.randbytes(200)))
        elif behaviour.fault == "half" and self._shown is not None:
            data = self._host.screen(self._shown.parts)
            self._writer.write(data[:len(data) // 2])
        return True

    async def _negotiate(self) -> None:
        """Options without end."""
        while not self._writer.is_closing():
            self._writer.write(telnet.option(telnet.DO, 99))
            await asyncio.sleep(0)
            await self._reader.read(65_536)


def broadcast(text: str) -> View:
    """What covers a screen until a key is pressed."""
    return View((Part(1, 2, "LKM800", colour="blue"), Part(1, 24, "M E S S A G E   T O   A L L   D E S K S", colour="white"),
                 Part(10, 10, text, colour="yellow", intensified=True), Part(20, 10, "Press Enter to go on.", colour="turquoise"),
                 Part(24, 79, "", cursor=True)), alarm=True)
