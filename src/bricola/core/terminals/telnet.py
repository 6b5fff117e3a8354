"""Telnet as terminal hosts use it (RFC 854, 855, 856, 885): commands, options, and records that end with EOR.

Strategy: one reader takes bytes as they come and gives back whole events; what is cut across two reads waits. Doubled FF
bytes are undone here and nowhere else.
"""

from dataclasses import dataclass

from bricola.core.problems import Kind, Problem, ProblemError

# Commands (RFC 854, page 14; EOR: RFC 885) and options (RFC 856, 860, 1091, 885, 1572, 2355).
IAC, DONT, DO, WONT, WILL, SB, SE, EOR = 0xFF, 0xFE, 0xFD, 0xFC, 0xFB, 0xFA, 0xF0, 0xEF
BREAK, INTERRUPT_PROCESS, ABORT_OUTPUT = 0xF3, 0xF4, 0xF5
BINARY, TIMING_MARK, TERMINAL_TYPE, END_OF_RECORD, NEW_ENVIRON, TN3270E = 0x00, 0x06, 0x18, 0x19, 0x27, 0x28

IS, SEND = 0x00, 0x01  # of the terminal type (RFC 1091) and of the environment (RFC 1572)

MOST_RECORD = 1 << 18  # bytes: a screen of 132x62 with every attribute is below 100,000; a host that goes on has lost its way


@dataclass(frozen=True, slots=True)
class TelnetRecord:
    """Data up to an end of record, FF bytes undone."""

    data: bytes


@dataclass(frozen=True, slots=True)
class Option:
    """DO, DONT, WILL or WONT of an option."""

    verb: int
    option: int


@dataclass(frozen=True, slots=True)
class Subnegotiation:
    """What stands between SB and SE, without the option's own byte."""

    option: int
    data: bytes


@dataclass(frozen=True, slots=True)
class Command:
    """A command without an operand, like NOP, BREAK or AYT."""

    code: int


Event = TelnetRecord | Option | Subnegotiation | Command


class TelnetReader:
    """Takes bytes, gives events. After a ProblemError the connection is of no use any more."""

    def __init__(self) -> None:
        self._record = bytearray()
        self._sub: bytearray | None = None
        self._pending = bytearray()  # of a command that is cut: IAC, or IAC and a verb

    def feed(self, data: bytes) -> list[Event]:
        """The events that are complete. Raises ProblemError for a record without end and for a broken subnegotiation."""
        found: list[Event] = []
        stream = bytes(self._pending) + data
        self._pending.clear()
        position = 0
        while position < len(stream):
            at = stream.find(IAC, position)
            target = self._record if self._sub is None else self._sub
            if at != position:
                target += stream[position:at if at >= 0 else len(stream)]
                if len(target) > MOST_RECORD:
                    raise ProblemError(_endless(len(target)))
            if at < 0:
                break
            if at + 1 == len(stream) or (stream[at + 1] in (DO, DONT, WILL, WONT) and at + 2 == len(stream)):
                self._pending += stream[at:]
                break
            position = at + self._command(stream, at, target, found)
        return found

    def _command(self, stream: bytes, at: int, target: bytearray, found: list[Event]) -> int:
        """Handle the command at an IAC; how many bytes it took."""
        code = stream[at + 1]
        if code == IAC:
            target.append(IAC)
        elif code == EOR and self._sub is None:
            found.append(TelnetRecord(bytes(self._record)))
            self._record.clear()
        elif code == SB:
            self._sub = bytearray()
        elif code == SE and self._sub is not None:
            if not self._sub:
                raise ProblemError(Problem("telnet.subnegotiation", "The host sent an empty subnegotiation.", Kind.BACKEND))
            found.append(Subnegotiation(self._sub[0], bytes(self._sub[1:])))
            self._sub = None
        elif code in (DO, DONT, WILL, WONT):
            found.append(Option(code, stream[at + 2]))
            return 3
        else:
            found.append(Command(code))
        return 2


def _endless(size: int) -> Problem:
    return Problem("telnet.record", "The host sends a record that does not end.", Kind.BACKEND, expected=f"at most {MOST_RECORD} bytes",
                   found=f"{size} bytes")


def escaped(data: bytes) -> bytes:
    return data.replace(bytes((IAC,)), bytes((IAC, IAC)))


def record(data: bytes) -> bytes:
    """Data as a record on the wire."""
    return escaped(data) + bytes((IAC, EOR))


def option(verb: int, code: int) -> bytes:
    return bytes((IAC, verb, code))


def subnegotiation(code: int, data: bytes) -> bytes:
    return bytes((IAC, SB, code)) + escaped(data) + bytes((IAC, SE))
