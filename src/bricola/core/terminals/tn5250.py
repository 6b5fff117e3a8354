"""The client's side of a 5250 session: negotiation (RFC 1205, RFC 1572, RFC 4777), records of the host, and what answers them.

The facts come from the public data stream and one capture between two independent programs; no real host was there to be asked.
"""

from collections.abc import Callable

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.buffer3270 import DataStreamError
from bricola.core.terminals.buffer5250 import ESC, Buffer5250
from bricola.core.terminals.codepages import displayed
from bricola.core.terminals.codes5250 import (
    AID_INBOUND_STRUCTURED,
    AID_NONE,
    AIDS,
    HEADER,
    NEGATIVE_LENGTH,
    NEGATIVE_NO_COMMAND,
    QUERY,
    RECORD_TYPE,
    START_UP,
    START_UP_RESPONSE,
    UNLOCKS,
    Command,
    Flag,
    Opcode,
    Variable,
)
from bricola.core.terminals.saved5250 import restore_screen, saved_screen
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.telnet import Subnegotiation
from bricola.core.terminals.terminal import Terminal, TerminalSettings, device_in_use, device_refused, locked

_WITHOUT_FIELDS = ("Clear", "Print", "Help")
_RESTORES, _RESTORES_PART = bytes((ESC, Command.RESTORE_SCREEN)), bytes((ESC, Command.RESTORE_PARTIAL_SCREEN))
_IN_USE = "8902"  # of the start-up response: the device is not available


def record(opcode: int, data: bytes = b"", flags: int = 0) -> bytes:
    """A record with its header, on the wire."""
    return telnet.record((len(data) + HEADER).to_bytes(2, "big") + RECORD_TYPE + bytes((0, 0, 4, flags, 0, opcode)) + data)


class Tn5250(Terminal):
    """One 5250 session. `device` is the name that was asked for; '' lets the host make one."""

    accepted = Terminal.accepted | {telnet.NEW_ENVIRON}
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
            return record(Opcode.NONE, flags=Flag.ATTENTION if key == "Attention" else Flag.SYSTEM_REQUEST)
        buffer = self.buffer
        if buffer.locked or not self._open_read:
            raise ProblemError(locked(key))
        self._changed()
        buffer.locked = True
        read, self._open_read = self._open_read, 0
        return record(Opcode.PUT_GET, buffer.cursor_address() + bytes((AIDS[key],)) + (b"" if self._bare(key) else self._fields(read)))

    def reset(self) -> None:
        if self._open_read:
            self.buffer.reset()
            self._changed()

    def _bare(self, key: str) -> bool:
        """Whether a key sends no fields: some never do, command keys where their switch is on."""
        return key in _WITHOUT_FIELDS or (key[0] == "F" and key[1:].isdigit() and bool(self.buffer.switches >> (int(key[1:]) - 1) & 1))

    def _fields(self, read: int) -> bytes:
        if read == Command.READ_INPUT_FIELDS:
            return self.buffer.all_fields()
        return self.buffer.modified_fields(nulls=read == Command.READ_MODIFIED_ALTERNATE)

    # negotiation

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        if event.option == telnet.TERMINAL_TYPE and event.data[:1] == bytes((telnet.SEND,)):
            return telnet.subnegotiation(telnet.TERMINAL_TYPE, bytes((telnet.IS,)) + self.type_name.encode("ascii"))
        if event.option == telnet.NEW_ENVIRON and event.data[:1] == bytes((telnet.SEND,)):
            return self._environment()
        return b""

    def _environment(self) -> bytes:
        """The variables that name the device, the code page and, where the backend says so, who signs on."""
        self._asked_environment += 1
        settings = self._settings
        if self._asked_environment > 1 and settings.lu:
            raise device_in_use(settings.lu, "its name is in use, or not accepted")
        pairs = [(Variable.VAR, "USER", settings.user)] if settings.user else []
        if settings.lu:
            pairs.append((Variable.USERVAR, "DEVNAME", settings.lu))
        pairs += [(Variable.USERVAR, "CODEPAGE", settings.code_page.removeprefix("cp").lstrip("0"))]
        if settings.user:
            pairs += [(Variable.USERVAR, "IBMRSEED", ""), (Variable.USERVAR, "IBMSUBSPW", settings.password)]
        body = b"".join(bytes((kind,)) + _escaped(name) + bytes((Variable.VALUE,)) + _escaped(value) for kind, name, value in pairs)
        return telnet.subnegotiation(telnet.NEW_ENVIRON, bytes((telnet.IS,)) + body)

    # records

    def _record(self, data: bytes) -> bytes:
        if len(data) < HEADER or data[2:4] != RECORD_TYPE:
            raise ProblemError(Problem("terminal.record", "The host sent a record that is none of 5250.", Kind.BACKEND,
                                       expected="a header with the record type 12A0", found=data[:HEADER].hex()))
        if data[4:6] == START_UP_RESPONSE:
            self._start_up(data)
            return b""
        body = data[6 + data[6]:]
        opcode = data[9]
        self.records += 1
        if opcode == Opcode.CANCEL_INVITE:
            self._open_read = 0
            self.buffer.locked = True
            return record(Opcode.CANCEL_INVITE)
        if opcode in (Opcode.MESSAGE_LIGHT_ON, Opcode.MESSAGE_LIGHT_OFF):
            self.buffer.message_waiting = opcode == Opcode.MESSAGE_LIGHT_ON
        try:
            return self._commands(body)
        except DataStreamError as error:
            # A terminal answers with a negative response and waits; ours does the same, and the walk stops at the screen.
            return record(Opcode.NONE, NEGATIVE_LENGTH if error.offset else NEGATIVE_NO_COMMAND, flags=Flag.ERROR)

    def _start_up(self, data: bytes) -> None:
        code = "".join(displayed("cp037")[one] for one in data[16:20])
        if not code.startswith("I9"):
            words = START_UP.get(code, "the session is not started") + f" ({code})"
            raise (device_in_use if code == _IN_USE else device_refused)(self._settings.lu, words)

    def _commands(self, data: bytes) -> bytes:
        out, at = b"", 0
        while at + 1 < len(data):
            if data[at] != ESC:
                raise DataStreamError("This is no command", at)
            act = _ACTS.get(data[at + 1])
            if act is None:
                raise DataStreamError(f"The command {data[at + 1]:02X} is not known", at + 2)
            answer, at = act(self, data, at + 2)
            out += answer
        return out

    # Commands: what goes back at once, and where the next one begins.

    def _write_to_display(self, data: bytes, at: int) -> tuple[bytes, int]:
        return b"", self.buffer.write(data, at)

    def _clear_unit(self, data: bytes, at: int) -> tuple[bytes, int]:
        self.buffer.clear(0)
        self._open_read = 0
        return b"", at

    def _clear_unit_alternate(self, data: bytes, at: int) -> tuple[bytes, int]:
        self.buffer.clear(1)
        self._open_read = 0
        return b"", at + 1

    def _clear_format_table(self, data: bytes, at: int) -> tuple[bytes, int]:
        self.buffer.clear_format_table()
        self._open_read = 0
        return b"", at

    def _read(self, data: bytes, at: int) -> tuple[bytes, int]:
        """A read that the next key answers."""
        if at + 2 > len(data):
            raise DataStreamError("A read ends before its control characters", len(data))
        locked_before = self.buffer.locked
        self.buffer.control(data[at], data[at + 1])
        self.buffer.locked = locked_before and not data[at + 1] & UNLOCKS
        self._open_read = data[at - 1]
        return b"", at + 2

    def _write_error_code(self, data: bytes, at: int) -> tuple[bytes, int]:
        return b"", self.buffer.write_error(data, at)

    def _write_error_code_to_window(self, data: bytes, at: int) -> tuple[bytes, int]:
        return b"", self.buffer.write_error(data, at + 2)  # behind the window's first and last column

    def _roll(self, data: bytes, at: int) -> tuple[bytes, int]:
        if at + 3 > len(data):
            raise DataStreamError("A roll ends before its operands", len(data))
        self.buffer.roll(data[at], data[at + 1], data[at + 2])
        return b"", at + 3

    def _restore(self, data: bytes, at: int) -> tuple[bytes, int]:
        """What was saved comes back as it was sent: its first two bytes are this command. Some hosts put it behind a further one."""
        if data[at:at + 2] in (_RESTORES, _RESTORES_PART):
            at += 2
        length = int.from_bytes(data[at:at + 2], "big")
        if length < 2 or at + length > len(data):
            raise DataStreamError("The host restores a screen that is cut off", at)
        restore_screen(self.buffer, data[at + 2:at + length], at)
        self.buffer.locked = not self._open_read
        return b"", at + length

    def _save(self, data: bytes, at: int) -> tuple[bytes, int]:
        return record(Opcode.SAVE_SCREEN, self._saved(_RESTORES)), at

    def _save_partial(self, data: bytes, at: int) -> tuple[bytes, int]:
        return record(Opcode.SAVE_SCREEN, self._saved(_RESTORES_PART)), at + 5  # behind a flag and the corners of the part

    def _saved(self, command: bytes) -> bytes:
        state = saved_screen(self.buffer)
        return command + (len(state) + 2).to_bytes(2, "big") + state

    def _read_at_once(self, data: bytes, at: int) -> tuple[bytes, int]:
        """Reads that no key answers: fields, modified fields, the whole screen."""
        buffer, command = self.buffer, data[at - 1]
        if command == Command.READ_IMMEDIATE:
            found = buffer.all_fields()
        elif command == Command.READ_MODIFIED_IMMEDIATE_ALTERNATE:
            found = buffer.modified_fields(nulls=True)
        else:
            found = bytes(buffer.characters)
        return record(Opcode.NONE, buffer.cursor_address() + bytes((AID_NONE,)) + found), at

    def _structured(self, data: bytes, at: int) -> tuple[bytes, int]:
        length = int.from_bytes(data[at:at + 2], "big")
        if length < 4 or at + length > len(data):
            raise DataStreamError("A structured field is longer than its record", at)
        answer = b""
        if data[at + 2:at + 4] == QUERY:
            answer = record(Opcode.NONE, bytes((0, 0, AID_INBOUND_STRUCTURED)) + self._query_reply())
        return answer, at + length

    def _query_reply(self) -> bytes:
        """58 bytes: an emulator, its device type and model, and what it can show."""
        device, model = ("3477", "FC ") if self._settings.wide else ("3179", "002")
        sizes, colours = 0x30 if self._settings.wide else 0x10, 0x01 if self._settings.colour else 0x00
        return (bytes.fromhex("003ad970800600010100") + bytes(16) + b"\x01" + _ebcdic(device) + _ebcdic(model) + b"\x02\x00\x00" + bytes(4)
                + b"\x01\x00" + bytes(3) + bytes((0x18, sizes | colours)) + bytes(10))


_ACTS: dict[int, Callable[[Tn5250, bytes, int], tuple[bytes, int]]] = {
    Command.WRITE_TO_DISPLAY: Tn5250._write_to_display,
    Command.CLEAR_UNIT: Tn5250._clear_unit,
    Command.CLEAR_UNIT_ALTERNATE: Tn5250._clear_unit_alternate,
    Command.CLEAR_FORMAT_TABLE: Tn5250._clear_format_table,
    Command.READ_INPUT_FIELDS: Tn5250._read,
    Command.READ_MODIFIED_FIELDS: Tn5250._read,
    Command.READ_MODIFIED_ALTERNATE: Tn5250._read,
    Command.WRITE_ERROR_CODE: Tn5250._write_error_code,
    Command.WRITE_ERROR_CODE_TO_WINDOW: Tn5250._write_error_code_to_window,
    Command.ROLL: Tn5250._roll,
    Command.RESTORE_SCREEN: Tn5250._restore,
    Command.RESTORE_PARTIAL_SCREEN: Tn5250._restore,
    Command.SAVE_SCREEN: Tn5250._save,
    Command.SAVE_PARTIAL_SCREEN: Tn5250._save_partial,
    Command.READ_SCREEN: Tn5250._read_at_once,
    Command.READ_SCREEN_EXTENDED: Tn5250._read_at_once,
    Command.READ_IMMEDIATE: Tn5250._read_at_once,
    Command.READ_MODIFIED_IMMEDIATE_ALTERNATE: Tn5250._read_at_once,
    Command.WRITE_STRUCTURED_FIELD: Tn5250._structured,
}


def _ebcdic(text: str) -> bytes:
    return text.encode("cp037")


def _escaped(text: str) -> bytes:
    """A name or value of the environment; bytes that mean something there stand behind an escape."""
    return b"".join(bytes((Variable.ESC, one)) if one <= Variable.USERVAR else bytes((one,)) for one in text.encode("ascii", "replace"))
