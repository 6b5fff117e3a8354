"""Frames of the program host protocol: bytes to messages and back (docs/program-host.md).

The strategy: a `FrameReader` is given whatever came and gives every frame that is whole; a frame is a length of four bytes and a body that
begins with the kind of message. Each kind has one `write_…` and one entry in `_READERS`. Nothing is known here of sockets and programs.
All numbers are unsigned and big-endian but for the return code; texts are UTF-8.
"""

import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from bricola.core.problems import Kind, Problem, ProblemError

VERSION = 1
MOST_BYTES = 32_000_000  # of one frame: twice the longest record that is laid out here
MOST_AREAS = 64


class Message(IntEnum):
    """The first byte of a body."""

    HELLO = 1
    WELCOME = 2
    CALL = 3
    REPLY = 4
    ABEND = 5
    REFUSED = 6
    LIST = 7
    PROGRAMS = 8
    PING = 9
    PONG = 10


@dataclass(frozen=True, slots=True)
class Hello:
    """Who calls: a user and a secret, both empty where none is asked."""

    version: int
    user: str
    secret: str


@dataclass(frozen=True, slots=True)
class Welcome:
    """What answers: the version that is spoken, words about the host, and how many calls it does at once (0: it does not say)."""

    version: int
    words: str
    most: int


@dataclass(frozen=True, slots=True)
class SentArea:
    """An area of a call: its length in the program's memory, whether its bytes come back, and the bytes that it begins with."""

    room: int
    returns: bool
    data: bytes


@dataclass(frozen=True, slots=True)
class Called:
    """A call: which program, for how many milliseconds at most, with which areas."""

    number: int
    program: str
    milliseconds: int
    areas: tuple[SentArea, ...]


@dataclass(frozen=True, slots=True)
class Replied:
    """How the program ended: its return code, and the areas that come back, in order."""

    number: int
    code: int
    areas: tuple[bytes, ...]


@dataclass(frozen=True, slots=True)
class Failed:
    """The program did not come to its end (an abend), or the call was refused before it began."""

    number: int
    begun: bool
    code: str
    words: str


@dataclass(frozen=True, slots=True)
class Program:
    """A program that can be called: its name, the lengths of its areas (none: it does not say), and what it does."""

    name: str
    areas: tuple[int, ...]
    words: str


@dataclass(frozen=True, slots=True)
class Asked:
    """A question for programs whose names hold a text."""

    number: int
    text: str


@dataclass(frozen=True, slots=True)
class Listed:
    """The programs that were asked for, in the order of their names."""

    number: int
    programs: tuple[Program, ...]


@dataclass(frozen=True, slots=True)
class Sign:
    """A sign of life that is asked for (PING), or given (PONG)."""

    number: int
    asked: bool


AnyMessage = Hello | Welcome | Called | Replied | Failed | Asked | Listed | Sign


def broken(words: str) -> ProblemError:
    """The other side does not keep the protocol."""
    return ProblemError(Problem("program-host.protocol", "The program host does not keep its protocol.", Kind.BACKEND, inner=words,
                                mend="Is it a program host that listens at this address?"))


def write(message: AnyMessage) -> bytes:
    """A whole frame."""
    body = _WRITERS[type(message)](message)
    return struct.pack(">I", len(body)) + body


def _text(text: str, size: str = ">H") -> bytes:
    data = text.encode()
    return struct.pack(size, len(data)) + data


def _write_called(one: Called) -> bytes:
    head = struct.pack(">BI", Message.CALL, one.number) + _text(one.program) + struct.pack(">IB", one.milliseconds, len(one.areas))
    return head + b"".join(struct.pack(">BII", area.returns, area.room, len(area.data)) + area.data for area in one.areas)


def _write_replied(one: Replied) -> bytes:
    head = struct.pack(">BIiB", Message.REPLY, one.number, one.code, len(one.areas))
    return head + b"".join(struct.pack(">I", len(area)) + area for area in one.areas)


def _write_listed(one: Listed) -> bytes:
    head = struct.pack(">BIH", Message.PROGRAMS, one.number, len(one.programs))
    return head + b"".join(
        _text(program.name) + struct.pack(f">B{len(program.areas)}I", len(program.areas), *program.areas) + _text(program.words)
        for program in one.programs
    )


_WRITERS: dict[type, Callable[[Any], bytes]] = {
    Hello: lambda one: struct.pack(">BB", Message.HELLO, one.version) + _text(one.user) + _text(one.secret),
    Welcome: lambda one: struct.pack(">BB", Message.WELCOME, one.version) + _text(one.words) + struct.pack(">H", one.most),
    Called: _write_called,
    Replied: _write_replied,
    Failed: lambda one: struct.pack(">BI", Message.ABEND if one.begun else Message.REFUSED, one.number)
    + _text(one.code) + _text(one.words),
    Asked: lambda one: struct.pack(">BI", Message.LIST, one.number) + _text(one.text),
    Listed: _write_listed,
    Sign: lambda one: struct.pack(">BI", Message.PING if one.asked else Message.PONG, one.number),
}


class _Body:
    """A body that is read from its beginning; too little of it is a broken protocol."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        if self.at + count > len(self.data):
            raise broken("a frame ends in the middle of a message")
        self.at += count
        return self.data[self.at - count:self.at]

    def numbers(self, form: str) -> Sequence[int]:
        return struct.unpack(form, self.take(struct.calcsize(form)))

    def text(self) -> str:
        try:
            return self.take(self.numbers(">H")[0]).decode()
        except UnicodeDecodeError:
            raise broken("a text is not UTF-8") from None


def _read_called(body: _Body) -> Called:
    number, = body.numbers(">I")
    program = body.text()
    milliseconds, count = body.numbers(">IB")
    areas = []
    for _ in range(count):
        returns, room, given = body.numbers(">BII")
        if given > room or room > MOST_BYTES:
            raise broken(f"an area of {room} bytes begins with {given}")
        areas.append(SentArea(room, bool(returns), body.take(given)))
    return Called(number, program, milliseconds, tuple(areas))


def _read_replied(body: _Body) -> Replied:
    number, code, count = body.numbers(">IiB")
    return Replied(number, code, tuple(body.take(body.numbers(">I")[0]) for _ in range(count)))


def _read_listed(body: _Body) -> Listed:
    number, count = body.numbers(">IH")
    programs = []
    for _ in range(count):
        name = body.text()
        sizes, = body.numbers(">B")
        programs.append(Program(name, tuple(body.numbers(f">{sizes}I")), body.text()))
    return Listed(number, tuple(programs))


def _failed(begun: bool) -> Callable[[_Body], Failed]:
    return lambda body: Failed(body.numbers(">I")[0], begun, body.text(), body.text())


_READERS: dict[int, Callable[[_Body], AnyMessage]] = {
    Message.HELLO: lambda body: Hello(body.numbers(">B")[0], body.text(), body.text()),
    Message.WELCOME: lambda body: Welcome(body.numbers(">B")[0], body.text(), body.numbers(">H")[0]),
    Message.CALL: _read_called,
    Message.REPLY: _read_replied,
    Message.ABEND: _failed(True),
    Message.REFUSED: _failed(False),
    Message.LIST: lambda body: Asked(body.numbers(">I")[0], body.text()),
    Message.PROGRAMS: _read_listed,
    Message.PING: lambda body: Sign(body.numbers(">I")[0], True),
    Message.PONG: lambda body: Sign(body.numbers(">I")[0], False),
}


def read(body: bytes) -> AnyMessage:
    """One message. Raises ProblemError for what is none."""
    reader = _READERS.get(body[0]) if body else None
    if reader is None:
        raise broken(f"a message begins with {body[:1].hex() or 'nothing'}")
    taken = _Body(body)
    taken.at = 1
    message = reader(taken)
    if taken.at != len(body):
        raise broken("a frame is longer than its message")
    return message


class FrameReader:
    """Bytes as they come, to the messages that are whole."""

    def __init__(self) -> None:
        self._held = bytearray()

    def receive(self, data: bytes) -> Iterator[AnyMessage]:
        """Raises ProblemError for frames that are too long and messages that are none; nothing can be read after that."""
        self._held += data
        while len(self._held) >= 4:
            length = int.from_bytes(self._held[:4], "big")
            if not 0 < length <= MOST_BYTES:
                raise broken(f"a frame of {length} bytes")
            if len(self._held) < 4 + length:
                return
            body = bytes(self._held[4:4 + length])
            del self._held[:4 + length]
            yield read(body)
