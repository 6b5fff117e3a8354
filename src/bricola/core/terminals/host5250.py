"""The host's side of a 5250 session, for hosts that are simulated: negotiation, screens out, keys and fields in.

Strategy: the host leads. `start` opens the talk; `receive` takes what the terminal sent and gives what goes back and the keys that were
pressed, each with the fields that came with it. The order of the negotiation is the one of the reference's capture; a terminal that
will not tell its environment is served without a device name.
"""

from collections.abc import Collection, Iterable

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.buffer5250 import BYPASS, ESC, IC, SBA, SF, SOH
from bricola.core.terminals.codepages import displayed, encode
from bricola.core.terminals.codes5250 import AIDS, QUERY, Command, Flag, Opcode, Variable
from bricola.core.terminals.host import TURNS, Part, Pressed, TelnetHost
from bricola.core.terminals.telnet import DO, DONT, WILL, WONT, Option, Subnegotiation
from bricola.core.terminals.tn5250 import record

_KEYS = {code: key for key, code in AIDS.items()}
_ATTRIBUTES = {"": 0x20, "green": 0x20, "white": 0x22, "red": 0x28, "turquoise": 0x30, "yellow": 0x32, "pink": 0x38, "blue": 0x3A}
_UNDERSCORE = 0x04
_SEND_ENVIRONMENT = b"\x01\x00\x03"  # SEND VAR USERVAR
_UNLOCK, _ALARM = 0x08, 0x04


class Tn5250Host(TelnetHost):
    """One 5250 terminal's session at a host. `taken` are the device names that are in use."""

    def __init__(self, device: str = "DSP0001", code_page: str = "cp037", taken: Collection[str] = ()) -> None:
        super().__init__(device, code_page)
        self.variables: dict[str, str] = {}
        self._taken = taken
        self._columns = 80

    def start(self) -> bytes:
        return telnet.option(DO, telnet.NEW_ENVIRON)

    def screen(self, parts: Iterable[Part], alarm: bool = False, alternate: bool = False, error_row: int = 24) -> bytes:
        """The bytes that show a screen and read its modified fields at the next key."""
        self._columns = 132 if alternate else 80
        out = bytearray((ESC, Command.CLEAR_UNIT_ALTERNATE, 0) if alternate else (ESC, Command.CLEAR_UNIT))
        out += bytes((ESC, Command.WRITE_TO_DISPLAY, 0, _UNLOCK | (_ALARM if alarm else 0), SOH, 7, 0, 0, 0, error_row, 0, 0, 0))
        cursor = b""
        for one in parts:
            out += self._part(one)
            if one.cursor:
                cursor = bytes((IC, one.row, one.column))
        return record(Opcode.PUT_GET, bytes(out) + cursor + bytes((ESC, Command.READ_MODIFIED_FIELDS, 0, 0)))

    def _part(self, one: Part) -> bytes:
        row, column = (one.row, one.column - 1) if one.column > 1 else (one.row - 1, self._columns)
        text = encode(one.text, self._code_page)
        attribute = 0x27 if one.hidden else _ATTRIBUTES[one.colour] | (0x02 if one.intensified and one.colour in ("", "green") else 0)
        out = bytes((SBA, row, column))
        if one.protected:
            return out + bytes((attribute,)) + text + (b"\x20" if one.colour or one.intensified else b"")
        if not one.hidden:
            attribute |= _UNDERSCORE
        form = 0x4000 | (0x0300 if one.numeric else 0) | (0x20 if one.monocase else 0) | (0x0800 if one.modified else 0)
        form &= ~(BYPASS << 8)
        return out + bytes((SF, *form.to_bytes(2, "big"), attribute, *one.length.to_bytes(2, "big"))) + text

    def error(self, text: str) -> bytes:
        """An input error: the message on the error line, the keyboard locked until Reset, the fields read again."""
        message = bytes((ESC, Command.WRITE_ERROR_CODE)) + b"\x22" + encode(text, self._code_page) + b"\x20"
        return record(Opcode.PUT_GET, message + bytes((ESC, Command.READ_MODIFIED_FIELDS, 0, 0)))

    def message_light(self) -> bytes:
        return record(Opcode.MESSAGE_LIGHT_ON)

    def query(self) -> bytes:
        """Ask what the terminal can do."""
        return record(Opcode.OUTPUT, bytes((ESC, Command.WRITE_STRUCTURED_FIELD, 0, 5)) + QUERY + b"\x00")

    def _option(self, event: Option) -> bytes:
        code = event.option
        if code == telnet.NEW_ENVIRON:
            ask = telnet.subnegotiation(code, _SEND_ENVIRONMENT) if event.verb == WILL else b""
            return telnet.option(DO, telnet.TERMINAL_TYPE) + ask
        if event.verb == WONT and code in (telnet.TERMINAL_TYPE, *TURNS):
            raise ProblemError(Problem("terminal.no-5250", "The terminal does not talk 5250.", Kind.BACKEND))
        if code == telnet.TERMINAL_TYPE and event.verb == WILL:
            return telnet.subnegotiation(code, bytes((telnet.SEND,)))
        if code in TURNS and event.verb in (DO, WILL):
            self._turn(event)
            return b""
        if event.verb in (DO, WILL):
            return telnet.option(WONT if event.verb == DO else DONT, code)
        return b""

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        if event.option == telnet.NEW_ENVIRON and event.data[:1] == bytes((telnet.IS,)):
            self.variables = read_variables(event.data[1:])
            wanted = self.variables.get("DEVNAME", "")
            if wanted in self._taken:
                return telnet.subnegotiation(telnet.NEW_ENVIRON, _SEND_ENVIRONMENT)  # RFC 4777, section 4: choose another
            self.device = wanted or self.device
        elif event.option == telnet.TERMINAL_TYPE and event.data[:1] == bytes((telnet.IS,)):
            self.terminal = event.data[1:].decode("ascii", "replace")
            return b"".join(telnet.option(verb, code) for code in TURNS for verb in (DO, WILL))
        return b""

    def _pressed(self, data: bytes) -> Pressed | None:
        """Rows and columns of the record as positions of the screen that was sent last."""
        if len(data) < 10:
            return None
        if data[7] & (Flag.ATTENTION | Flag.SYSTEM_REQUEST):
            return Pressed("Attention" if data[7] & Flag.ATTENTION else "SystemRequest")
        body = data[6 + data[6]:]
        key = _KEYS.get(body[2]) if len(body) >= 3 else None
        if key is None:
            return None
        fields: dict[int, str] = {}
        letters = displayed(self._code_page)
        at = 3
        while at + 3 <= len(body) and body[at] == SBA:  # by orders: a row or a column may be the number of one
            end = body.find(SBA, at + 3)
            end = end if end >= 0 else len(body)
            fields[(body[at + 1] - 1) * self._columns + body[at + 2] - 1] = "".join(letters[code] for code in body[at + 3:end])
            at = end
        return Pressed(key, (body[0] - 1) * self._columns + body[1] - 1, fields)


def read_variables(data: bytes) -> dict[str, str]:
    """The names and values of an environment (RFC 1572)."""
    found: dict[str, str] = {}
    name, value, into_value, escaped = bytearray(), bytearray(), False, False

    def keep() -> None:
        if name:
            found[name.decode("ascii", "replace")] = value.decode("ascii", "replace")
        name.clear()
        value.clear()

    for code in data:
        if not escaped and code in (Variable.VAR, Variable.USERVAR):
            keep()
            into_value = False
        elif not escaped and code == Variable.VALUE:
            into_value = True
        elif not escaped and code == Variable.ESC:
            escaped = True
            continue
        else:
            (value if into_value else name).append(code)
        escaped = False
    keep()
    return found
