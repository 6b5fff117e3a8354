"""The host's side of a 3270 session, for hosts that are simulated: negotiation, screens out, keys and fields in.

Strategy: the host leads. `start` opens the talk; `receive` takes what the terminal sent and gives what goes back and the keys that were
pressed, each with the fields that came with it. TN3270E is offered first; a terminal that does not want it gets plain TN3270.
"""

from collections.abc import Iterable
from functools import lru_cache

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.addresses import CODES, read_address, write_address
from bricola.core.terminals.buffer3270 import COLOUR, FIELD, GE, IC, MDT, NUMERIC, PROTECTED, SBA, SF, SFE
from bricola.core.terminals.codepages import displayed, encode
from bricola.core.terminals.codes3270 import AIDS, Command, DataType, Word
from bricola.core.terminals.host import TURNS, Part, Pressed, TelnetHost
from bricola.core.terminals.screen import COLOURS
from bricola.core.terminals.telnet import DO, DONT, WILL, WONT, Option, Subnegotiation

_KEYS = {code: key for key, code in AIDS.items()}
_COLOUR_CODES = {name: code for code, name in COLOURS.items()}
_SCREEN_SIZE = 24 * 80
_RESTORE, _RESET_MODIFIED, _ALARM = 0x02, 0x01, 0x04


def _attribute(one: Part) -> bytes:
    """The order that starts the field, with its colour where it has one."""
    bits = PROTECTED * one.protected | NUMERIC * one.numeric | MDT * one.modified
    code = CODES[bits | (0x0C if one.hidden else 0x08 if one.intensified else 0)]
    if not one.colour:
        return bytes((SF, code))
    return bytes((SFE, 2, FIELD, code, COLOUR, _COLOUR_CODES[one.colour]))


@lru_cache(8192)
def _piece(one: Part, code_page: str) -> bytes:
    """A part as orders and text; most parts of a host's screens come again and again."""
    at = (one.row - 1) * 80 + one.column - 2  # the attribute takes the position before the text
    out = bytes((SBA,)) + write_address(at % _SCREEN_SIZE, _SCREEN_SIZE) + _attribute(one)
    if one.cursor:
        out += bytes((IC,))
    out += encode(one.text, code_page)
    if one.length:
        out += bytes((SBA,)) + write_address((at + 1 + one.length) % _SCREEN_SIZE, _SCREEN_SIZE) + bytes((SF, CODES[PROTECTED | NUMERIC]))
    return out


def write_screen(parts: Iterable[Part], code_page: str = "cp037", alarm: bool = False, alternate: bool = False) -> bytes:
    """The data of an Erase/Write (Alternate) that shows these parts and opens the keyboard."""
    command = Command.ERASE_WRITE_ALTERNATE if alternate else Command.ERASE_WRITE
    out = bytearray((command, CODES[_RESTORE | _RESET_MODIFIED | (_ALARM if alarm else 0)]))
    for one in parts:
        out += _piece(one, code_page)
    return bytes(out)


class Tn3270Host(TelnetHost):
    """One 3270 terminal's session at a host."""

    def __init__(self, device: str = "TERM0001", code_page: str = "cp037") -> None:
        super().__init__(device, code_page)
        self.extended = False

    def start(self) -> bytes:
        return telnet.option(DO, telnet.TN3270E)

    def screen(self, parts: Iterable[Part], alarm: bool = False, alternate: bool = False) -> bytes:
        """The bytes that show a screen."""
        data = write_screen(parts, self._code_page, alarm, alternate)
        return telnet.record(bytes(5) + data if self.extended else data)

    def _option(self, event: Option) -> bytes:
        if event.option == telnet.TN3270E:
            if event.verb == WILL:
                return telnet.subnegotiation(telnet.TN3270E, bytes((Word.SEND, Word.DEVICE_TYPE)))
            return telnet.option(DO, telnet.TERMINAL_TYPE)
        if event.verb == WONT and event.option in (telnet.TERMINAL_TYPE, *TURNS):
            raise ProblemError(Problem("terminal.no-3270", "The terminal does not talk 3270.", Kind.BACKEND))
        if event.option == telnet.TERMINAL_TYPE and event.verb == WILL:
            return telnet.subnegotiation(telnet.TERMINAL_TYPE, bytes((telnet.SEND,)))
        if event.option in TURNS and event.verb in (DO, WILL):
            self._turn(event)
            return b""
        if event.option not in (telnet.TERMINAL_TYPE, *TURNS) and event.verb in (DO, WILL):
            return telnet.option(WONT if event.verb == DO else DONT, event.option)
        return b""

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        if event.option == telnet.TERMINAL_TYPE and event.data[:1] == bytes((telnet.IS,)):
            self.terminal, _, wanted = event.data[1:].decode("ascii", "replace").partition("@")
            self.device = wanted or self.device
            return b"".join(telnet.option(verb, code) for code in TURNS for verb in (DO, WILL))
        if event.option != telnet.TN3270E:
            return b""
        if event.data[:2] == bytes((Word.DEVICE_TYPE, Word.REQUEST)):
            name, _, device = event.data[2:].partition(bytes((Word.CONNECT,)))
            self.terminal = name.decode("ascii", "replace")
            self.device = device.decode("ascii", "replace") or self.device
            return telnet.subnegotiation(telnet.TN3270E, bytes((Word.DEVICE_TYPE, Word.IS)) + name + bytes((Word.CONNECT,))
                                         + self.device.encode("ascii", "replace"))
        if event.data[:2] == bytes((Word.FUNCTIONS, Word.REQUEST)):
            if not event.data[2:]:
                self.extended = self.ready = True
                return telnet.subnegotiation(telnet.TN3270E, bytes((Word.FUNCTIONS, Word.IS)))
            return telnet.subnegotiation(telnet.TN3270E, bytes((Word.FUNCTIONS, Word.REQUEST)))  # no functions: the basic protocol
        if event.data[:2] == bytes((Word.FUNCTIONS, Word.IS)):
            self.extended = self.ready = True
        return b""

    def _pressed(self, data: bytes) -> Pressed | None:
        if self.extended:
            if data[:1] != bytes((DataType.DATA_3270,)):
                return None  # a response
            data = data[5:]
        key = _KEYS.get(data[0]) if data else None
        if key is None:
            return None  # a reply to a read or a query
        if len(data) < 3:
            return Pressed(key)
        fields: dict[int, str] = {}
        shown = displayed(self._code_page)
        at = 3
        while at + 3 <= len(data) and data[at] == SBA:  # by orders: a byte of an address may be the code of one
            end = data.find(SBA, at + 3)
            end = end if end >= 0 else len(data)
            start = read_address(data[at + 1], data[at + 2])
            if start is not None:
                fields[start] = "".join(shown[code] for code in data[at + 3:end] if code != GE)
            at = end
        return Pressed(key, read_address(data[1], data[2]) or 0, fields)
