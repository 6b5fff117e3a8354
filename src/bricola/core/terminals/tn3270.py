"""The client's side of a 3270 session: negotiation (RFC 1576, RFC 2355), records of the host, and what answers them.

What goes back at once are options, responses, reads and Query replies; see `terminal` for the strategy.
"""

from collections.abc import Callable

from bricola.core.problems import ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.buffer3270 import Buffer3270, DataStreamError
from bricola.core.terminals.query3270 import query_reply
from bricola.core.terminals.screen import Screen
from bricola.core.terminals.telnet import Subnegotiation
from bricola.core.terminals.terminal import Terminal, TerminalSettings, device_refused, locked

MODELS = {2: (24, 80), 3: (32, 80), 4: (43, 80), 5: (27, 132)}

# Words of TN3270E (RFC 2355, section 7) and its data types and responses (section 8).
_CONNECT, _DEVICE_TYPE, _FUNCTIONS, _IS, _REJECT, _REQUEST, _SEND = 0x01, 0x02, 0x03, 0x04, 0x06, 0x07, 0x08
_REASONS = (
    "conn-partner",
    "device-in-use",
    "inv-associate",
    "inv-name",
    "inv-device-type",
    "type-name-error",
    "unknown-error",
    "unsupported-req",
)
_BIND_IMAGE, _RESPONSES, _SYSREQ = 0x00, 0x02, 0x04
_DATA, _RESPONSE, _BIND, _UNBIND, _NVT = 0x00, 0x02, 0x03, 0x04, 0x05
_ALWAYS_RESPONSE, _ERROR_RESPONSE = 0x02, 0x01
_OPERATION_CHECK, _COMMAND_REJECT = 0x02, 0x00

AIDS = {"Enter": 0x7D, "Clear": 0x6D, "PA1": 0x6C, "PA2": 0x6E, "PA3": 0x6B,
        **{f"PF{number}": code for number, code in enumerate((0xF1, 0xF2, 0xF3, 0xF4, 0xF5, 0xF6, 0xF7, 0xF8, 0xF9, 0x7A, 0x7B, 0x7C,
                                                              0xC1, 0xC2, 0xC3, 0xC4, 0xC5, 0xC6, 0xC7, 0xC8, 0xC9, 0x4A, 0x4B, 0x4C), 1)}}


class Tn3270(Terminal):
    """One 3270 session."""

    accepted: tuple[int, ...] = (telnet.BINARY, telnet.TERMINAL_TYPE, telnet.END_OF_RECORD, telnet.TN3270E)
    keys = frozenset(AIDS)

    def __init__(self, settings: TerminalSettings) -> None:
        super().__init__(settings)
        if not settings.extended:
            self.accepted = super().accepted
        self._alternate = settings.size or MODELS[settings.model]
        self.buffer = Buffer3270(alternate=self._alternate, code_page=settings.code_page)
        self._extended = False  # TN3270E
        self._functions: frozenset[int] = frozenset()
        self._sequence = 0
        self._reply_mode = 0
        self.bound = False

    @property
    def extended(self) -> bool:
        """Whether TN3270E was agreed on."""
        return self._extended

    @property
    def connected(self) -> bool:
        return self.records > 0 if self._extended else super().connected

    def _look(self) -> Screen:
        return self.buffer.screen()

    def _move(self, position: int) -> None:
        self.buffer.cursor = position

    def _fill(self, start: int, codes: bytes) -> None:
        self.buffer.type_into(start, codes)

    def press(self, key: str) -> bytes:
        """The bytes of a key. Raises ProblemError while the keyboard is locked: nothing is typed before the host is ready."""
        if self.buffer.locked:
            raise ProblemError(locked(key))
        self._changed()
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

    def _sent(self, data: bytes) -> bytes:
        if not self._extended:
            return telnet.record(data)
        number = self._sequence if _RESPONSES in self._functions else 0
        self._sequence = (self._sequence + 1) % 0x10000
        return telnet.record(bytes((_DATA, 0, 0)) + number.to_bytes(2, "big") + data)

    def _subnegotiation(self, event: Subnegotiation) -> bytes:
        if event.option == telnet.TERMINAL_TYPE and event.data[:1] == b"\x01":
            name = self._settings.type_name + (f"@{self._settings.lu}" if self._settings.lu else "")
            return telnet.subnegotiation(telnet.TERMINAL_TYPE, b"\x00" + name.encode("ascii"))
        if event.option == telnet.TN3270E and telnet.TN3270E in self._mine:
            return self._extended_words(event.data)
        return b""

    def _extended_words(self, data: bytes) -> bytes:
        """The words of TN3270E: device type, then functions."""
        say: Callable[[bytes], bytes] = lambda words: telnet.subnegotiation(telnet.TN3270E, words)  # noqa: E731
        head = tuple(data[:2])
        if head == (_SEND, _DEVICE_TYPE):
            name = (self._settings.type_name if self._settings.size else f"IBM-3278-{self._settings.model}-E").encode("ascii")
            wanted = bytes((_CONNECT,)) + self._settings.lu.encode("ascii") if self._settings.lu else b""
            return say(bytes((_DEVICE_TYPE, _REQUEST)) + name + wanted)
        if head == (_DEVICE_TYPE, _IS):
            self.device = data[2:].partition(bytes((_CONNECT,)))[2].decode("ascii", "replace")
            self._extended = True
            return say(bytes((_FUNCTIONS, _REQUEST, _BIND_IMAGE, _RESPONSES, _SYSREQ)))
        if head == (_DEVICE_TYPE, _REJECT):
            reason = _REASONS[data[3]] if len(data) > 3 and data[3] < len(_REASONS) else "unknown-error"
            raise device_refused(self._settings.lu, reason)
        if head == (_FUNCTIONS, _IS):
            self._functions = frozenset(data[2:])
        elif head == (_FUNCTIONS, _REQUEST):  # a counter offer: less than we asked for is fine
            self._functions = frozenset(data[2:]) & {_BIND_IMAGE, _RESPONSES, _SYSREQ}
            answer = _IS if self._functions == frozenset(data[2:]) else _REQUEST
            return say(bytes((_FUNCTIONS, answer, *sorted(self._functions))))
        return b""

    # records

    def _record(self, data: bytes) -> bytes:
        if not self._extended:
            return self._obey(data)[0]
        if len(data) < 5:
            return b""
        kind, _, wanted, *sequence = data[:5]
        if kind == _BIND:
            self.bound = True
        elif kind == _UNBIND:
            self.bound = False
            self.buffer.erase()
            self.buffer.locked = True
        if kind != _DATA:
            return b""
        out, trouble = self._obey(data[5:])
        if trouble is None and wanted == _ALWAYS_RESPONSE:
            out += telnet.record(bytes((_RESPONSE, 0, 0, *sequence, 0)))
        elif trouble is not None and wanted in (_ALWAYS_RESPONSE, _ERROR_RESPONSE):
            out += telnet.record(bytes((_RESPONSE, 0, 1, *sequence, trouble)))
        return out

    def _obey(self, data: bytes) -> tuple[bytes, int | None]:
        """Run one record. What answers it, and the code of what is wrong with it."""
        if not data:
            return b"", None
        self.records += 1
        command, rest = data[0], data[1:]
        buffer = self.buffer
        try:
            if command in (0xF1, 0x01):
                buffer.write(rest)
            elif command in (0xF5, 0x05, 0x7E, 0x0D):
                if rest:
                    self._reply_mode = 0 if rest[0] & 0x40 else self._reply_mode
                buffer.erase_write(rest, command in (0x7E, 0x0D))
            elif command in (0x6F, 0x0F):
                buffer.erase_all_unprotected()
            elif command in (0xF2, 0x02):
                return self._sent(buffer.read_buffer(self._reply_mode)), None
            elif command in (0xF6, 0x06):
                return self._sent(buffer.read_modified()), None
            elif command in (0x6E, 0x0E):
                return self._sent(buffer.read_modified(every=True)), None
            elif command in (0xF3, 0x11):
                return self._structured(rest), None
            else:
                return b"", _COMMAND_REJECT
        except DataStreamError:
            return b"", _OPERATION_CHECK
        return b"", None

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
            if field[0] == 0x01 and len(field) >= 3:
                out += self._read_partition(field[2], field[3:])
            elif field[0] == 0x03:
                self.buffer.erase_write(b"", len(field) > 1 and field[1] == 0x80)
            elif field[0] == 0x09 and len(field) >= 3:
                self._reply_mode = field[2] if field[2] in (0, 1, 2) else 0
            elif field[0] == 0x40 and len(field) >= 3:
                out += self._obey(field[2:])[0]
        return out

    def _read_partition(self, what: int, more: bytes) -> bytes:
        if what in (0x02, 0x03):
            asked = more[1:] if what == 0x03 and more and more[0] == 0x00 else None
            self.buffer.locked = True
            return self._sent(query_reply(self._alternate, self._settings.colour, asked))
        aid, self.buffer.aid = self.buffer.aid, 0x61
        try:
            reads: dict[int, Callable[[], bytes]] = {
                0xF2: lambda: self.buffer.read_buffer(self._reply_mode), 0xF6: self.buffer.read_modified,
                0x6E: lambda: self.buffer.read_modified(every=True)}
            return self._sent(reads[what]()) if what in reads else b""
        finally:
            self.buffer.aid = aid

