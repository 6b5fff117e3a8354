"""A program host (docs/program-host.md) that stands alone: nothing of Bricola is imported, so whoever owns the other side can port it.

    python host.py PROGRAMS.json [--port N] [--user NAME --secret FILE] [--certificate FILE]

Each connection has a process of its own for each program that it calls, kept running between calls. A program that breaks, ends or takes
too long ends that process alone; the next call starts another. PROGRAMS.json says which there are:

    {"words": "about this host", "most": 8, "programs": [
      {"name": "TOLLCALC", "areas": [332], "words": "what it does", "run": ["./caller", "TOLLCALC"], "environment": {}}]}

A process reads calls on its standard input and writes replies on its standard output, all numbers big-endian:
    call   count of areas (1 byte), then for each: room (4), length (4), that many bytes; the rest of the area is zero bytes
    reply  return code (4, signed), then for each area: room (4), that many bytes
"""

import argparse
import asyncio
import contextlib
import hmac
import json
import os
import signal
import ssl
import struct
import sys
from pathlib import Path
from typing import Any

VERSION = 1
MOST_BYTES = 32_000_000
HELLO, WELCOME, CALL, REPLY, ABEND, REFUSED, LIST, PROGRAMS, PING, PONG = range(1, 11)
GREETING_SECONDS = 10.0
MOST_TEXT = 500


class Broken(Exception):  # noqa: N818 - a state of the connection
    """The other side does not keep the protocol."""


class Body:
    """A message that is read from its beginning."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        if self.at + count > len(self.data):
            raise Broken("a message ends too early")
        self.at += count
        return self.data[self.at - count:self.at]

    def numbers(self, form: str) -> tuple[int, ...]:
        return struct.unpack(form, self.take(struct.calcsize(form)))

    def text(self) -> str:
        return self.take(self.numbers(">H")[0]).decode("utf-8", "replace")


def text(words: str) -> bytes:
    data = words.encode()[:65535]
    return struct.pack(">H", len(data)) + data


class Abend(Exception):  # noqa: N818 - what the program did
    """The program did not come to its end."""

    def __init__(self, code: str, words: str) -> None:
        super().__init__(words)
        self.code, self.words = code, words


class Worker:
    """A process that runs one program, again and again."""

    def __init__(self, program: dict[str, Any]) -> None:
        self.program = program
        self.process: asyncio.subprocess.Process | None = None

    async def call(self, areas: list[tuple[int, bytes]], seconds: float) -> tuple[int, list[bytes]]:
        """Raises Abend when the program breaks, ends, or takes too long; the process is gone then."""
        if self.process is None or self.process.returncode is not None:
            self.process = await asyncio.create_subprocess_exec(
                *self.program["run"], stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE,
                env=os.environ | self.program.get("environment", {}), limit=MOST_BYTES, start_new_session=True)
        process = self.process
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            async with asyncio.timeout(seconds):
                head = struct.pack(">B", len(areas)) + b"".join(struct.pack(">II", room, len(data)) + data for room, data in areas)
                process.stdin.write(head)
                await process.stdin.drain()
                code, = struct.unpack(">i", await process.stdout.readexactly(4))
                answers = []
                for room, _ in areas:
                    length, = struct.unpack(">I", await process.stdout.readexactly(4))
                    if length != room:
                        raise Abend("AREA", f"it gave back {length} bytes of an area of {room}")
                    answers.append(await process.stdout.readexactly(length))
                return code, answers
        except TimeoutError:
            await self.end()
            raise Abend("TIME", f"it did not end within {seconds:g} s") from None
        except (OSError, EOFError):
            words = await self.last_words()
            status = await self.end()
            code_ = f"S{signal.Signals(-status).name.removeprefix('SIG')}" if status < 0 else f"E{status}"
            raise Abend(code_, words or ("it ended without an answer" if status >= 0 else "it broke")) from None
        except BaseException:
            await self.end()
            raise

    async def last_words(self) -> str:
        assert self.process is not None
        assert self.process.stderr is not None
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(0.5):
                said = (await self.process.stderr.read(4000)).decode("utf-8", "replace").strip().splitlines()
                return said[-1][:MOST_TEXT] if said else ""
        return ""

    async def end(self) -> int:
        """Its exit status, negative for the signal that ended it."""
        process, self.process = self.process, None
        if process is None:
            return 0
        if process.returncode is None:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(0.2):
                    return await process.wait()
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
        return await process.wait()


class Host:
    """All connections, and how many calls run."""

    def __init__(self, described: dict[str, Any], user: str = "", secret: str = "") -> None:
        self.words, self.most = str(described.get("words", "")), int(described.get("most", 0))
        self.programs = {one["name"].upper(): one for one in described["programs"]}
        self.user, self.secret = user, secret
        self.running = 0
        self.server: asyncio.Server | None = None
        self.connections: dict[asyncio.Task[None], tuple[asyncio.StreamWriter, dict[str, Worker]]] = {}

    async def start(self, port: int, host: str = "127.0.0.1", tls: ssl.SSLContext | None = None) -> int:
        self.server = await asyncio.start_server(self.connected, host, port, limit=MOST_BYTES, ssl=tls)
        return int(self.server.sockets[0].getsockname()[1])

    async def close(self) -> None:
        assert self.server is not None
        self.server.close()
        for writer, workers in list(self.connections.values()):  # each ends by itself when nobody is there and nothing runs
            writer.transport.abort()
            for one in list(workers.values()):
                await one.end()
        await asyncio.gather(*self.connections, return_exceptions=True)

    async def connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        workers: dict[str, Worker] = {}
        self.connections[task] = (writer, workers)
        try:
            async with asyncio.timeout(GREETING_SECONDS):
                await self.greet(Body(await self.frame(reader)), writer)
            while True:
                body = Body(await self.frame(reader))
                answer = await self.answer(body, workers)
                writer.write(struct.pack(">I", len(answer)) + answer)
                await writer.drain()
        except (Broken, EOFError, OSError, TimeoutError):
            pass  # there is nobody to tell
        finally:
            writer.close()
            for one in workers.values():
                await one.end()
            self.connections.pop(task, None)

    async def frame(self, reader: asyncio.StreamReader) -> bytes:
        length, = struct.unpack(">I", await reader.readexactly(4))
        if not 0 < length <= MOST_BYTES:
            raise Broken(f"a frame of {length} bytes")
        return await reader.readexactly(length)

    async def greet(self, body: Body, writer: asyncio.StreamWriter) -> None:
        kind, version = body.numbers(">BB")
        if kind != HELLO:
            raise Broken("it does not begin with HELLO")
        user, secret = body.text(), body.text()
        right = hmac.compare_digest(user.encode(), self.user.encode()) & hmac.compare_digest(secret.encode(), self.secret.encode())
        if version != VERSION:
            answer = struct.pack(">BI", REFUSED, 0) + text("VERSION") + text(f"this host speaks version {VERSION}")
        elif not right:
            answer = struct.pack(">BI", REFUSED, 0) + text("SIGN-ON") + text("the user or the secret is not known")
        else:
            answer = struct.pack(">BB", WELCOME, VERSION) + text(self.words) + struct.pack(">H", self.most)
        writer.write(struct.pack(">I", len(answer)) + answer)
        await writer.drain()
        if answer[0] == REFUSED:
            raise Broken("it was not let in")

    async def answer(self, body: Body, workers: dict[str, Worker]) -> bytes:
        kind, number = body.numbers(">BI")
        if kind == PING:
            return struct.pack(">BI", PONG, number)
        if kind == LIST:
            wanted = body.text().upper()
            found = sorted((name, one) for name, one in self.programs.items() if wanted in name)
            return struct.pack(">BIH", PROGRAMS, number, len(found)) + b"".join(
                text(one["name"]) + struct.pack(f">B{len(one['areas'])}I", len(one["areas"]), *one["areas"]) + text(one.get("words", ""))
                for _, one in found)
        if kind != CALL:
            raise Broken(f"a message begins with {kind}")
        return await self.called(number, body, workers)

    async def called(self, number: int, body: Body, workers: dict[str, Worker]) -> bytes:
        def refused(code: str, words: str) -> bytes:
            return struct.pack(">BI", REFUSED, number) + text(code) + text(words)

        name = body.text().upper()
        milliseconds, count = body.numbers(">IB")
        areas, returns = [], []
        for _ in range(count):
            back, room, given = body.numbers(">BII")
            if given > room or room > MOST_BYTES:
                raise Broken("an area is shorter than its bytes")
            areas.append((room, body.take(given)))
            returns.append(bool(back))
        program = self.programs.get(name)
        if program is None:
            return refused("PROGRAM", f"there is no program {name}")
        if [room for room, _ in areas] != program["areas"]:
            return refused("AREAS", f"{name} takes areas of {program['areas']} bytes, not of {[room for room, _ in areas]}")
        if self.most and self.running >= self.most:
            return refused("BUSY", f"{self.most} calls run already")
        self.running += 1
        try:
            code, answers = await workers.setdefault(name, Worker(program)).call(areas, milliseconds / 1000)
        except Abend as abend:
            return struct.pack(">BI", ABEND, number) + text(abend.code) + text(abend.words)
        finally:
            self.running -= 1
        back_ = [answer for answer, wanted in zip(answers, returns, strict=True) if wanted]
        return struct.pack(">BIiB", REPLY, number, code, len(back_)) + b"".join(struct.pack(">I", len(one)) + one for one in back_)


async def run(host: Host, port: int, tls: ssl.SSLContext | None) -> None:
    sys.stdout.write(f"{await host.start(port, tls=tls)}\n")
    sys.stdout.flush()
    ended = asyncio.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(one, ended.set)
    await ended.wait()
    await host.close()


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description="A host of programs.")
    parser.add_argument("programs", type=Path)
    parser.add_argument("--port", type=int, default=8470)
    parser.add_argument("--user", default="")
    parser.add_argument("--secret", type=Path, help="a file with the secret of the user")
    parser.add_argument("--certificate", type=Path, help="a file with certificate and key, for TLS")
    words = parser.parse_args()
    context = None
    if words.certificate:
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(words.certificate)
    secret_ = words.secret.read_text().strip() if words.secret else ""
    asyncio.run(run(Host(json.loads(words.programs.read_text()), words.user, secret_), words.port, context))
