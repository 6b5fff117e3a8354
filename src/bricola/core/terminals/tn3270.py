"""The client's side of a 3270 session: negotiation (RFC 1576, RFC 2355), records of the host, and what answers them.

What goes back at once are options, responses, reads and Query replies; see `terminal` for the strategy.
"""

from collections.abc import Callable

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.buffer3270 import Buffer3270, DataStreamError
from bricola.core.terminals.codepages import encode
from bricola.core.terminals.codes3270 import (
    AID_STRUCTURED,
    AIDS,
    ALTERNATE_SIZE,
    ATTENTION,
    BIND_24_BY_80,
    BIND_BOTH,
    BIND_DEFAULT_ONLY,
    COMMANDS,
    DEVICE_END,
    PLAIN_SYSTEM_REQUEST,
    RESETS_REPLY_MODE,
    SYSTEM_REQUEST,
    Command,
    DataType,
    Function,
    ReadPartition,
    Response,
    StructuredField,
    Trouble,
    Wanted,
)
from bricola.core.terminals.query3270 import query_reply
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.sscp3270 import UnformattedText
from bricola.core.terminals.telnet import Subnegotiation
from bricola.core.terminals.terminal import Terminal, TerminalSettings, locked
from bricola.core.terminals.tn3270e import Negotiation

MODELS = {2: (24, 80), 3: (32, 80), 4: (43, 80), 5: (27, 132)}


class Tn3270(Terminal):
    """One 3270 session."""

    accepted = Terminal.accepted | {telnet.TN3270E}
    keys = frozenset((*AIDS, ATTENTION, SYSTEM_REQUEST))

    def __init__(self, settings: TerminalSettings) -> None:
        if not settings.extended:
            self.accepted = Terminal.accepted
        super().__init__(settings)
        self._alternate = settings.size or MODELS[settings.model]
        self.buffer = Buffer3270(alternate=self._alternate, code_page=settings.code_page)
        self._negotiation = Negotiation(
            settings.type_name if settings.size else f"IBM-3278-{settings.model}-E", settings.lu)
        self._sequence = 0
        self._reply_mode = 0
        self.bound = False
        self._text: UnformattedText | None = None  # of the network or the server, while no application is shown
        self._text_type = DataType.SSCP_LU_DATA
        self._under: Buffer3270 | None = None  # the application's display, while the person talks to the network

    @property
    def extended(self) -> bool:
        """Whether TN3270E was agreed on."""
        return self._negotiation.has_device

    @property
    def connected(self) -> bool:
        return self.records > 0 if self.extended else super().connected

    def _look(self) -> Screen:
        return self.buffer.screen()

    def _move(self, position: int) -> None:
        self.buffer.cursor = position

    def _fill(self, start: int, codes: bytes) -> None:
        self.buffer.type_into(start, codes)

    def press(self, key: str) -> bytes:
        """The bytes of a key. Raises ProblemError while the keyboard is locked: nothing is typed before the host is ready. Attention and
        System Request go whatever the keyboard does."""
        if key == ATTENTION:
            return bytes((telnet.IAC, telnet.INTERRUPT_PROCESS if self.extended else telnet.BREAK))
        if key == SYSTEM_REQUEST:
            return self._system_request()
        if self.buffer.locked:
            raise ProblemError(locked(key))
        self._changed()
        if self._text is not None:
            return self._press_on_text(key, self._text)
        aid = AIDS[key]
        self.buffer.aid, self.buffer.locked = aid, True
        data = self.buffer.read_modified()
        if key == "Clear":
            self.buffer.erase()
        return self._sent(data)

    def reset(self) -> None:
        """For people at a live terminal; a replay never needs it."""
        self.buffer.locked = False
        self._changed()

    def _sent(self, data: bytes, kind: DataType = DataType.DATA_3270) -> bytes:
        if not self.extended:
            return telnet.record(data)
        number = self._sequence if Function.RESPONSES in self._negotiation.functions else 0
        self._sequence = (self._sequence + 1) % 0x10000
        return telnet.record(bytes((kind, 0, Wanted.NO_RESPONSE)) + number.to_bytes(2, "big") + data)

    # between the application and the network (RFC 2355, section 10.5)

    def _system_request(self) -> bytes:
        """To the network, and back to the application, whose display was kept."""
        self._changed()
        if not self.extended:
            return telnet.record(PLAIN_SYSTEM_REQUEST)
        if Function.SYSREQ not in self._negotiation.functions:
            raise ProblemError(Problem("terminal.key", "The host has not agreed to System Request.", Kind.BACKEND, place=SYSTEM_REQUEST,
                                       mend="Use another key: 'bricola terminal' lists them."))
        if self._text is None:
            self._under, self.buffer = self.buffer, Buffer3270(alternate=self._alternate, code_page=self._settings.code_page)
            self._text, self._text_type = UnformattedText(self.buffer), DataType.SSCP_LU_DATA
        else:
            self._leave_text()
        return bytes((telnet.IAC, telnet.ABORT_OUTPUT))

    def _leave_text(self) -> None:
        self._text = None
        if self._under is not None:
            self.buffer, self._under = self._under, None

    def _press_on_text(self, key: str, text: UnformattedText) -> bytes:
        """Only Enter means something to the network; Clear clears what is shown here."""
        if key == "Clear":
            self._text = UnformattedText(self.buffer)
            return b""
        if key != "Enter":
            raise ProblemError(Problem("terminal.key", "No application is there yet, and the network knows no such key.", Kind.BACKEND,
                                       place=key, expected=f"Enter, Clear or {SYSTEM_REQUEST}"))
        self.buffer.locked = True
        return self._sent(text.typed(), self._text_type)

    def _take_text(self, kind: DataType, codes: bytes) -> None:
        if self._text is None or self._text_type is not kind:
            self._text, self._text_type = UnformattedText(self.buffer), kind
        self.records += 1
        self._text.write(codes)

    def _take_bind(self, image: bytes) -> None:
        """An application takes the terminal: with the sizes that it says (bytes 20 to 24 of the image), where ours is large enough."""
        self.bound = True
        self._text = self._under = None
        default, alternate = _sizes(image)
        most = self._alternate[0] * self._alternate[1]
        fits = [one for one in (default, alternate) if one is not None and 0 < one[0] * one[1] <= max(most, 24 * 80)]
        self.buffer = Buffer3270(*(default if default in fits and default is not None else (24, 80)),
                                 alternate=alternate if alternate in fits and alternate is not None else self._alternate,
                                 code_page=self._settings.code_page)

    def _take_unbind(self) -> None:
        """The application is gone; what follows is the network's."""
        self.bound = False
        self._text = self._under = None
        self.buffer.erase()
        self.buffer.locked = True

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        if event.option == telnet.TERMINAL_TYPE and event.data[:1] == bytes((telnet.SEND,)):
            name = self._settings.type_name + (f"@{self._settings.lu}" if self._settings.lu else "")
            return telnet.subnegotiation(telnet.TERMINAL_TYPE, bytes((telnet.IS,)) + name.encode("ascii"))
        if event.option == telnet.TN3270E and telnet.TN3270E in self._options.mine:
            answer = self._negotiation.receive(event.data)
            if self._negotiation.given_up:
                return self._options.refuse(telnet.TN3270E)
            self._follow_type(self._negotiation.type_name)
            self.device = self._negotiation.device if self.extended else self.device
            return answer
        return b""

    def _follow_type(self, name: str) -> None:
        """The size of the type that the host takes, where it is another one than was asked for first."""
        size = MODELS.get(int(name[9])) if name.startswith("IBM-3278-") and name[9:10].isdigit() else None
        if size is not None and size != self._alternate and not self.extended:
            self._alternate = size
            self.buffer = Buffer3270(alternate=size, code_page=self._settings.code_page)

    # records

    def _record(self, data: bytes) -> bytes:
        if not self.extended:
            return self._obey(data)[0]
        if len(data) < 5:
            return b""
        kind, _, wanted, *sequence = data[:5]
        if kind == DataType.BIND_IMAGE:
            self._take_bind(data[5:])
        elif kind == DataType.UNBIND:
            self._take_unbind()
        elif kind == DataType.SSCP_LU_DATA:
            self._take_text(DataType.SSCP_LU_DATA, data[5:])
        elif kind == DataType.NVT_DATA:
            self._take_text(DataType.NVT_DATA, _as_ebcdic(data[5:], self._settings.code_page))
        if kind != DataType.DATA_3270:
            return b""
        if self._text is not None:
            self._leave_text()
        out, trouble = self._obey(data[5:])
        if trouble is None and wanted == Wanted.ALWAYS_RESPONSE:
            out += telnet.record(bytes((DataType.RESPONSE, 0, Response.POSITIVE, *sequence, DEVICE_END)))
        elif trouble is not None and wanted in (Wanted.ALWAYS_RESPONSE, Wanted.ERROR_RESPONSE):
            out += telnet.record(bytes((DataType.RESPONSE, 0, Response.NEGATIVE, *sequence, trouble)))
        return out

    def _obey(self, data: bytes) -> tuple[bytes, Trouble | None]:
        """Run one record. What answers it, and what is wrong with it."""
        if not data:
            return b"", None
        self.records += 1
        command = COMMANDS.get(data[0])
        if command is None:
            return b"", Trouble.COMMAND_REJECT
        try:
            return _ACTS[command](self, data[1:]), None
        except DataStreamError:
            return b"", Trouble.OPERATION_CHECK

    def _write(self, rest: bytes) -> bytes:
        self.buffer.write(rest)
        return b""

    def _erase_write(self, rest: bytes, alternate: bool = False) -> bytes:
        if rest and rest[0] & RESETS_REPLY_MODE:
            self._reply_mode = 0
        self.buffer.erase_write(rest, alternate)
        return b""

    def _erase_all_unprotected(self, _: bytes) -> bytes:
        self.buffer.erase_all_unprotected()
        return b""

    def _read(self, command: Command) -> bytes:
        if command is Command.READ_BUFFER:
            return self._sent(self.buffer.read_buffer(self._reply_mode))
        return self._sent(self.buffer.read_modified(every=command is Command.READ_MODIFIED_ALL))

    def _structured(self, data: bytes) -> bytes:
        """Structured fields: Query, reads of the partition, erase and reset, reply mode, a write inside."""
        out = b""
        at = 0
        while at + 3 <= len(data):
            length = int.from_bytes(data[at:at + 2], "big") or len(data) - at
            if length < 3 or at + length > len(data):
                raise DataStreamError("A structured field is longer than its record", at)
            field = data[at + 2:at + length]
            at += length
            out += self._structured_field(field[0], field[1:])
        return out

    def _structured_field(self, kind: int, rest: bytes) -> bytes:
        if kind == StructuredField.ERASE_RESET:
            self.buffer.erase_write(b"", rest[:1] == bytes((ALTERNATE_SIZE,)))
        elif len(rest) < 2:  # the others begin with the number of the partition
            return b""
        elif kind == StructuredField.READ_PARTITION:
            return self._read_partition(rest[1], rest[2:])
        elif kind == StructuredField.SET_REPLY_MODE:
            self._reply_mode = rest[1] if rest[1] in (0, 1, 2) else 0
        elif kind == StructuredField.OUTBOUND_3270DS:
            return self._obey(rest[1:])[0]
        return b""

    def _read_partition(self, what: int, more: bytes) -> bytes:
        if what in (ReadPartition.QUERY, ReadPartition.QUERY_LIST):
            asked = more[1:] if what == ReadPartition.QUERY_LIST and more and more[0] == 0x00 else None
            self.buffer.locked = True
            return self._sent(query_reply(self._alternate, self._settings.colour, asked))
        if what not in _READS:
            return b""
        # What answers such a read has an AID of its own; the one of the last key stays for the reads of the plain stream.
        aid, self.buffer.aid = self.buffer.aid, AID_STRUCTURED
        try:
            return self._read(Command(what))
        finally:
            self.buffer.aid = aid


def _sizes(image: bytes) -> tuple[tuple[int, int] | None, tuple[int, int] | None]:
    """The default and the alternate size of a BIND image, None where it leaves them open."""
    if len(image) < 25:
        return None, None
    default, alternate = (image[20], image[21]), (image[22], image[23])
    if image[24] == BIND_BOTH:
        return default, alternate
    if image[24] == BIND_DEFAULT_ONLY:
        return default, default
    return (24, 80), ((24, 80) if image[24] == BIND_24_BY_80 else None)


def _as_ebcdic(data: bytes, code_page: str) -> bytes:
    """Text of the server in the terminal's own codes, with the controls of its lines."""
    codes = bytearray()
    for one in data.decode("latin-1"):
        codes += _CONTROLS.get(one) or encode(one if one.isprintable() else " ", code_page)
    return bytes(codes)


_CONTROLS = {"\r": b"\x0d", "\n": b"\x25", "\f": b"\x0c"}
_READS = frozenset((Command.READ_BUFFER, Command.READ_MODIFIED, Command.READ_MODIFIED_ALL))
_ACTS: dict[Command, Callable[[Tn3270, bytes], bytes]] = {
    Command.WRITE: Tn3270._write,
    Command.ERASE_WRITE: Tn3270._erase_write,
    Command.ERASE_WRITE_ALTERNATE: lambda terminal, rest: terminal._erase_write(rest, alternate=True),
    Command.ERASE_ALL_UNPROTECTED: Tn3270._erase_all_unprotected,
    Command.WRITE_STRUCTURED_FIELD: Tn3270._structured,
    Command.READ_BUFFER: lambda terminal, _: terminal._read(Command.READ_BUFFER),
    Command.READ_MODIFIED: lambda terminal, _: terminal._read(Command.READ_MODIFIED),
    Command.READ_MODIFIED_ALL: lambda terminal, _: terminal._read(Command.READ_MODIFIED_ALL),
}
