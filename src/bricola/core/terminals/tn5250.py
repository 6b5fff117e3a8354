"""The client's side of a 5250 session: negotiation (RFC 1205, RFC 1572, RFC 4777), records of the host, and what answers them.

The facts come from the public data stream and one capture between two independent programs; no real host was there to be asked.
"""

from collections.abc import Callable

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.buffer3270 import DataStreamError
from bricola.core.terminals.buffer5250 import ESC, Buffer5250
from bricola.core.terminals.codepages import displayed
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.telnet import Subnegotiation
from bricola.core.terminals.terminal import Terminal, TerminalSettings, device_refused, locked

AIDS = {"Enter": 0xF1, "Help": 0xF3, "PageUp": 0xF4, "PageDown": 0xF5, "Print": 0xF6, "Clear": 0xBD, "RecordBackspace": 0xF8,
        **{f"F{number}": 0x30 + number for number in range(1, 13)}, **{f"F{number}": 0xB0 + number - 12 for number in range(13, 25)}}
_WITHOUT_FIELDS = ("Clear", "Print", "Help")
OUTPUT, INVITE, PUT_GET, SAVE, RESTORE, READ_NOW, READ_SCREEN, CANCEL = 0x02, 0x01, 0x03, 0x04, 0x05, 0x06, 0x08, 0x0A
MESSAGE_ON, MESSAGE_OFF = 0x0B, 0x0C
_IS, _SEND, _INFO = 0x00, 0x01, 0x02
_VAR, _VALUE, _ESCAPE, _USERVAR = 0x00, 0x01, 0x02, 0x03
_READ_INPUT, _READ_MODIFIED, _READ_ALTERNATE = 0x42, 0x52, 0x82
_START_UP = {  # RFC 4777, section 10: codes of the start-up response
    "2702": "the device description is not found", "2703": "the controller description is not found",
    "2777": "the device description is damaged", "8901": "the device is not varied on", "8902": "the device is not available",
    "8903": "the device is not valid for the session", "8906": "the session is not initiated", "8907": "the session fails",
    "8910": "the controller is not valid for the session", "8916": "no matching device is found",
    "8917": "not authorised to the object", "8918": "the job is cancelled", "8920": "the object is partly damaged",
    "8921": "a communications error", "8922": "a negative response is received", "8923": "the start-up record is made wrongly",
    "8925": "the device cannot be created", "8928": "the device cannot be changed", "8929": "the device cannot be varied on or off",
    "8930": "the message queue does not exist", "8934": "a start-up for a remote device is received", "8935": "the session is refused",
    "8936": "security failure on the session attempt", "8937": "automatic sign-on is refused", "8940": "automatic configuration failed",
}


def record(opcode: int, data: bytes = b"", flags: int = 0) -> bytes:
    """A record with its header, on the wire."""
    return telnet.record((len(data) + 10).to_bytes(2, "big") + bytes((0x12, 0xA0, 0, 0, 4, flags, 0, opcode)) + data)


class Tn5250(Terminal):
    """One 5250 session. `device` is the name that was asked for; '' lets the host make one."""

    accepted = (telnet.BINARY, telnet.TERMINAL_TYPE, telnet.END_OF_RECORD, telnet.NEW_ENVIRON)
    keys = frozenset((*AIDS, "Attention", "SystemRequest"))

    def __init__(self, settings: TerminalSettings) -> None:
        super().__init__(settings)
        self.buffer = Buffer5250(settings.wide, settings.code_page)
        self._open_read = 0  # the read that the next key answers
        self._asked_environment = 0

    @property
    def type_name(self) -> str:
        if self._settings.wide:
            return "IBM-3477-FC" if self._settings.colour else "IBM-3477-FG"
        return "IBM-3179-2" if self._settings.colour else "IBM-5251-11"

    def _look(self) -> Screen:
        return self.buffer.screen()

    def _move(self, position: int) -> None:
        self.buffer.cursor = position

    def _fill(self, start: int, codes: bytes) -> None:
        self.buffer.type_into(start, codes)

    def press(self, key: str) -> bytes:
        """See Terminal. Attention and System Request go whatever the keyboard does."""
        if key in ("Attention", "SystemRequest"):
            return record(0, flags=0x40 if key == "Attention" else 0x04)
        buffer = self.buffer
        if buffer.locked or not self._open_read:
            raise ProblemError(locked(key))
        self._changed()
        buffer.locked = True
        read, self._open_read = self._open_read, 0
        return record(PUT_GET, buffer.cursor_address() + bytes((AIDS[key],)) + (b"" if self._bare(key) else self._fields(read)))

    def reset(self) -> None:
        if self._open_read:
            self.buffer.reset()
            self._changed()

    def _bare(self, key: str) -> bool:
        """Whether a key sends no fields: some never do, command keys where their switch is on."""
        return key in _WITHOUT_FIELDS or (key[0] == "F" and key[1:].isdigit() and bool(self.buffer.switches >> (int(key[1:]) - 1) & 1))

    def _fields(self, read: int) -> bytes:
        if read == _READ_INPUT:
            return self.buffer.all_fields()
        return self.buffer.modified_fields(nulls=read == _READ_ALTERNATE)

    # negotiation

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        if event.option == telnet.TERMINAL_TYPE and event.data[:1] == b"\x01":
            return telnet.subnegotiation(telnet.TERMINAL_TYPE, b"\x00" + self.type_name.encode("ascii"))
        if event.option == telnet.NEW_ENVIRON and event.data[:1] == bytes((_SEND,)):
            return self._environment()
        return b""

    def _environment(self) -> bytes:
        """The variables that name the device, the code page and, where the backend says so, who signs on."""
        self._asked_environment += 1
        settings = self._settings
        if self._asked_environment > 1 and settings.lu:
            raise device_refused(settings.lu, "its name is not accepted, or in use")
        pairs = [(_VAR, "USER", settings.user)] if settings.user else []
        if settings.lu:
            pairs.append((_USERVAR, "DEVNAME", settings.lu))
        pairs += [(_USERVAR, "CODEPAGE", settings.code_page.removeprefix("cp").lstrip("0"))]
        if settings.user:
            pairs += [(_USERVAR, "IBMRSEED", ""), (_USERVAR, "IBMSUBSPW", settings.password)]
        body = b"".join(bytes((kind,)) + _escaped(name) + bytes((_VALUE,)) + _escaped(value) for kind, name, value in pairs)
        return telnet.subnegotiation(telnet.NEW_ENVIRON, bytes((_IS,)) + body)

    # records

    def _record(self, data: bytes) -> bytes:
        if len(data) < 10 or data[2:4] != b"\x12\xa0":
            raise ProblemError(Problem("terminal.record", "The host sent a record that is none of 5250.", Kind.BACKEND,
                                       expected="a header with the record type 12A0", found=data[:10].hex()))
        if data[4:6] == b"\x90\x00":
            self._start_up(data)
            return b""
        body = data[6 + data[6]:]
        opcode = data[9]
        self.records += 1
        if opcode == CANCEL:
            self._open_read = 0
            self.buffer.locked = True
            return record(CANCEL)
        if opcode in (MESSAGE_ON, MESSAGE_OFF):
            self.buffer.message_waiting = opcode == MESSAGE_ON
        try:
            return self._commands(body)
        except DataStreamError as error:
            # A terminal answers with a negative response and waits; ours does the same, and the walk stops at the screen.
            return record(0, bytes.fromhex("10050122") if error.offset else bytes.fromhex("10050121"), flags=0x80)

    def _start_up(self, data: bytes) -> None:
        code = "".join(displayed("cp037")[one] for one in data[16:20])
        if not code.startswith("I9"):
            raise device_refused(self._settings.lu, _START_UP.get(code, "the session is not started") + f" ({code})")

    def _commands(self, data: bytes) -> bytes:
        buffer, out, at = self.buffer, b"", 0
        while at + 1 < len(data):
            if data[at] != ESC:
                raise DataStreamError("This is no command", at)
            command = data[at + 1]
            at += 2
            if command == 0x11:
                at = buffer.write(data, at)
            elif command == 0x40:
                buffer.clear(0)
                self._open_read = 0
            elif command == 0x20:
                buffer.clear(1)
                self._open_read = 0
                at += 1
            elif command == 0x50:
                buffer.clear_format_table()
                self._open_read = 0
            elif command in (_READ_MODIFIED, _READ_INPUT, _READ_ALTERNATE):
                if at + 2 > len(data):
                    raise DataStreamError("A read ends before its control characters", len(data))
                locked_before = buffer.locked
                buffer.control(data[at], data[at + 1])
                buffer.locked = locked_before and not data[at + 1] & 0x08
                self._open_read = command
                at += 2
            elif command in (0x21, 0x22):
                at = buffer.write_error(data, at + 2 if command == 0x22 else at)
            elif command == 0x23:
                if at + 3 > len(data):
                    raise DataStreamError("A roll ends before its operands", len(data))
                buffer.roll(data[at], data[at + 1], data[at + 2])
                at += 3
            elif command == 0x12 or command == 0x13:
                at = buffer.restore(data, at)
                buffer.locked = not self._open_read
            elif command == 0xF3:
                answer, at = self._structured(data, at)
                out += answer
            elif command in (0x02, 0x03):
                out += record(SAVE, buffer.save())
                at += 5 if command == 0x03 else 0
            else:
                out += self._immediate(command, at)
        return out

    def _immediate(self, command: int, at: int) -> bytes:
        """Reads that are answered at once: fields, modified fields, the whole screen."""
        buffer = self.buffer
        reads: dict[int, Callable[[], bytes]] = {
            0x72: buffer.all_fields, 0x83: lambda: buffer.modified_fields(nulls=True), 0x62: lambda: bytes(buffer.characters),
            0x64: lambda: bytes(buffer.characters)}
        if command not in reads:
            raise DataStreamError(f"The command {command:02X} is not known", at)
        return record(0, buffer.cursor_address() + b"\x00" + reads[command]())

    def _structured(self, data: bytes, at: int) -> tuple[bytes, int]:
        length = int.from_bytes(data[at:at + 2], "big")
        if length < 4 or at + length > len(data):
            raise DataStreamError("A structured field is longer than its record", at)
        answer = b""
        if data[at + 2:at + 4] == b"\xd9\x70":
            answer = record(0, b"\x00\x00\x88" + self._query_reply())
        return answer, at + length

    def _query_reply(self) -> bytes:
        """58 bytes: an emulator, its device type and model, and what it can show."""
        device, model = ("3477", "FC ") if self._settings.wide else ("3179", "002")
        sizes, colours = 0x30 if self._settings.wide else 0x10, 0x01 if self._settings.colour else 0x00
        return (bytes.fromhex("003ad970800600010100") + bytes(16) + b"\x01" + _ebcdic(device) + _ebcdic(model) + b"\x02\x00\x00" + bytes(4)
                + b"\x01\x00" + bytes(3) + bytes((0x18, sizes | colours)) + bytes(10))


def _ebcdic(text: str) -> bytes:
    return text.encode("cp037")


def _escaped(text: str) -> bytes:
    """A name or value of the environment; bytes that mean something there stand behind an escape."""
    return b"".join(bytes((_ESCAPE, one)) if one <= _USERVAR else bytes((one,)) for one in text.encode("ascii", "replace"))
