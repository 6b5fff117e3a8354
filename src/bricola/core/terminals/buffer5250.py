"""The 5250 display: what the commands and orders of a host's record do to it, and what the keyboard sends of it.

Positions count from 0 here and from 1 on the wire. A display attribute takes a position, holds until the next one, and goes on over the
ends of lines. Input fields stand in a format table of their own. Unverified against a real host where the reference says so.
"""

from dataclasses import dataclass, replace

from bricola.core.terminals.buffer3270 import DataStreamError
from bricola.core.terminals.codepages import decode
from bricola.core.terminals.screen import Field, Screen

ESC = 0x04
SOH, RA, EA, TD, SBA, WEA, IC, MC, WDSF, SF = 0x01, 0x02, 0x03, 0x10, 0x11, 0x12, 0x13, 0x14, 0x15, 0x1D
BYPASS, MODIFIED = 0x20, 0x08  # of the first byte of a field format word
_MONOCASE = 0x20  # of its second byte
_NUMERIC_ONLY = 3
_ACCEPTS = {1: "letters", 5: "digits", 7: "signed"}
_COLOURS = {
    0x20: ("green", ""), 0x22: ("white", ""), 0x24: ("green", "underscore"), 0x26: ("white", "underscore"),
    0x28: ("red", ""), 0x2A: ("red", "blink"), 0x2C: ("red", "underscore"), 0x2E: ("red", "underscore"),
    0x30: ("turquoise", ""), 0x32: ("yellow", ""), 0x34: ("turquoise", "underscore"), 0x36: ("yellow", "underscore"),
    0x38: ("pink", ""), 0x3A: ("blue", ""), 0x3C: ("pink", "underscore"), 0x3E: ("blue", "underscore"),
}
_HIDDEN = frozenset((0x27, 0x2F, 0x37, 0x3F))
SIZES = ((24, 80), (27, 132))
_MOST_FIELDS = 256  # of one format table, as the Query reply says


def is_attribute(code: int) -> bool:
    return code & 0xE0 == 0x20


@dataclass(frozen=True, slots=True)
class InputField:
    """An entry of the format table. `control` are its field control words."""

    start: int
    length: int
    format: int  # the two bytes of the field format word
    control: tuple[int, ...] = ()

    @property
    def bypass(self) -> bool:
        return bool(self.format >> 8 & BYPASS)

    @property
    def modified(self) -> bool:
        return bool(self.format >> 8 & MODIFIED)

    def marked(self, modified: bool) -> "InputField":
        bits = MODIFIED << 8
        return replace(self, format=self.format | bits if modified else self.format & ~bits)

    @property
    def signed(self) -> bool:
        return self.format >> 8 & 0x07 == 7


class Buffer5250:
    """A display of 24x80, and of 27x132 where `wide`."""

    def __init__(self, wide: bool = False, code_page: str = "cp037") -> None:
        self._wide = wide
        self._code_page = code_page
        self.locked = True
        self.alarm = False
        self.message_waiting = False
        self.cursor = 0
        self._under_error: bytes | None = None  # the error line as it was before the message
        self.clear(0)

    def clear(self, size: int) -> None:
        """Clear Unit of one of the two sizes."""
        self.rows, self.columns = SIZES[size if self._wide else 0]
        self.size = self.rows * self.columns
        self.characters = bytearray(self.size)
        self.table: list[InputField] = []
        self.cursor = self.home = 0
        self.error_row = self.rows - 1
        self.switches = 0  # of the command keys: bit n-1 on, and Fn sends no fields
        self._under_error = None
        self.locked = True

    def clear_format_table(self) -> None:
        self.table = []
        self.switches = 0
        self.locked = True

    # writing

    def control(self, first: int, second: int) -> None:
        """The two control characters of a write or read: keyboard, modified marks, nulls, alarm, message light."""
        kind = first >> 5
        if kind:
            self.locked = True
        nulled = {4: "modified", 5: "all", 6: "modified", 7: "all"}.get(kind)
        for one in self.table:
            if nulled and not one.bypass and (nulled == "all" or one.modified):
                self.characters[one.start:one.start + one.length] = bytes(one.length)
        if kind in (2, 5, 6):
            self.table = [one if one.bypass else one.marked(False) for one in self.table]
        elif kind in (3, 7):
            self.table = [one.marked(False) for one in self.table]
        if second & 0x03:
            self.message_waiting = bool(second & 0x01)
        self.alarm = bool(second & 0x04)

    def write(self, data: bytes, at: int) -> int:
        """Write To Display from its control characters on; where the next command or the end is."""
        if at + 2 > len(data):
            raise DataStreamError("A write ends before its control characters", len(data))
        first, second = data[at], data[at + 1]
        self.control(first, second)
        writer = _Writer(self, data, at + 2)
        end = writer.run()
        if writer.inserted is not None:
            self.home = writer.inserted
        if writer.moved is not None:
            self.cursor = writer.moved
        elif not second & 0x40 and (second & 0x08 or writer.inserted is not None):
            self.cursor = self.home
        if second & 0x08:
            self.locked = False
            self._under_error = None
        return end

    def write_error(self, data: bytes, at: int) -> int:
        """Write Error Code: the message stands on the error line until Reset."""
        start = self.error_row * self.columns
        self._under_error = bytes(self.characters[start:start + self.columns])
        self.characters[start:start + self.columns] = bytes(self.columns)
        writer = _Writer(self, data, at, start)
        end = writer.run()
        if writer.inserted is not None:
            self.cursor = writer.inserted
        self.locked = True
        return end

    @property
    def refused(self) -> bool:
        return self._under_error is not None

    def reset(self) -> None:
        """The Reset key after an error: the line comes back, and the keyboard opens."""
        if self._under_error is not None:
            start = self.error_row * self.columns
            self.characters[start:start + self.columns] = self._under_error
            self._under_error = None
        self.locked = False

    def show(self, rows: int, columns: int, characters: bytes, table: list[InputField], cursor: int, home: int) -> None:
        """Everything anew, as it was once."""
        self.rows, self.columns, self.size = rows, columns, rows * columns
        self.characters, self.table = bytearray(characters), table
        self.cursor, self.home = cursor, home
        self._under_error = None

    def roll(self, how: int, top: int, bottom: int) -> None:
        """Lines `top` to `bottom`, counted from 1, moved up, or down where the first bit says so."""
        lines, down = how & 0x1F, bool(how & 0x80)
        if not 1 <= top <= bottom <= self.rows:
            raise DataStreamError("A roll is off the screen", 0)
        start, end, shift = (top - 1) * self.columns, bottom * self.columns, min(lines, bottom - top + 1) * self.columns
        area = bytes(self.characters[start:end])
        self.characters[start:end] = bytes(shift) + area[:len(area) - shift] if down else area[shift:] + bytes(shift)

    def add_field(self, one: InputField) -> None:
        """A new entry, or a new format of one that begins at the same place."""
        for index, other in enumerate(self.table):
            if other.start == one.start:
                self.table[index] = one
                return
        if len(self.table) >= _MOST_FIELDS:
            raise DataStreamError("There are too many input fields", 0)
        self.table.append(one)
        self.table.sort(key=lambda field: field.start)

    # the keyboard's side

    def type_into(self, start: int, codes: bytes) -> None:
        """Fill the input field that begins at a position, adjusted as it asks; it counts as modified."""
        for index, one in enumerate(self.table):
            if one.start == start:
                self.characters[start:start + one.length] = _adjusted(one, codes)
                self.table[index] = one.marked(True)
                self.cursor = min(start + len(codes), self.size - 1)  # behind a full field, as the capture has it
                return
        self.characters[start:start + len(codes)] = codes

    def modified_fields(self, nulls: bool = False) -> bytes:
        """Every modified field behind its address. Nulls at the end are left out, others become blanks unless `nulls`."""
        out = bytearray()
        for one in self.table:
            if one.modified:
                row, column = divmod(one.start, self.columns)
                out += bytes((SBA, row + 1, column + 1)) + self._sent(one, nulls)
        return bytes(out)

    def _sent(self, one: InputField, nulls: bool) -> bytes:
        codes = bytes(self.characters[one.start:one.start + one.length])
        if one.signed:
            digits, sign = codes[:-1].rstrip(b"\x00"), codes[-1:]
            if sign == b"\x60" and digits:
                digits = digits[:-1] + bytes((digits[-1] & 0x0F | 0xD0,))
            codes = digits
        codes = codes.rstrip(b"\x00")
        return codes if nulls else codes.replace(b"\x00", b"\x40")

    def all_fields(self) -> bytes:
        """Every field in its full length, without addresses, where any was modified (Read Input Fields)."""
        if not any(one.modified for one in self.table):
            return b""
        return b"".join(bytes(self.characters[one.start:one.start + one.length]).replace(b"\x00", b"\x40") for one in self.table)

    def cursor_address(self) -> bytes:
        row, column = divmod(self.cursor, self.columns)
        return bytes((row + 1, column + 1))

    def screen(self) -> Screen:
        """What is shown now, as a value."""
        text = bytearray(self.characters)
        places = [place for place, code in enumerate(self.characters) if is_attribute(code)]
        inputs = {one.start: one for one in self.table}
        starts = sorted({place + 1 for place in places if place + 1 < self.size} | set(inputs))
        codes = dict(zip((place + 1 for place in places), (self.characters[place] for place in places), strict=True))
        fields = []
        attribute = 0x20
        for index, start in enumerate(starts):
            attribute = codes.get(start, attribute)
            following = starts[index + 1] if index + 1 < len(starts) else self.size + 1
            length = max(0, following - start - (1 if following - 1 < self.size and following in codes else 0))
            length = min(length, self.size - start)
            entry = inputs.get(start)
            if entry is not None:
                length = entry.length
            hidden = attribute in _HIDDEN
            if hidden:
                text[start:start + length] = b"\x40" * length
            colour, highlight = _COLOURS[attribute & 0x3E]
            reverse = attribute & 1 and not hidden
            kind = entry.format >> 8 & 0x07 if entry is not None else 0
            fields.append(Field(
                start, length, entry is None or entry.bypass, kind == _NUMERIC_ONLY, hidden, attribute & 0x3E in (0x22, 0x26),
                entry is not None and entry.modified, colour, "reverse" if reverse else highlight,
                _ACCEPTS.get(kind, ""), entry is not None and bool(entry.format & _MONOCASE)))
        for place in places:
            text[place] = 0x40
        characters = decode(text, self._code_page)
        return Screen(self.rows, self.columns, characters, tuple(fields), self.cursor, self.locked, self.alarm, self.refused)


def _adjusted(one: InputField, codes: bytes) -> bytes:
    """The field's content with what was typed at its side."""
    adjust = one.format & 0x07
    if one.signed:
        negative = codes.endswith(b"\x60")
        digits = codes[:-1] if negative else codes
        return digits.rjust(one.length - 1, b"\x40") + (b"\x60" if negative else b"\x40")
    if adjust == 5:
        return codes.rjust(one.length, b"\xf0")
    if adjust == 6:
        return codes.rjust(one.length, b"\x40")
    return codes.ljust(one.length, b"\x00")


class _Writer:
    """Runs the orders of a write, up to the next command."""

    def __init__(self, buffer: Buffer5250, data: bytes, at: int, address: int = 0) -> None:
        self._buffer, self._data, self._at, self._address = buffer, data, at, address
        self.inserted: int | None = None
        self.moved: int | None = None

    def run(self) -> int:
        orders = {SOH: self._header, RA: self._repeat, EA: self._erase, TD: self._transparent, SBA: self._set_address,
                  WEA: self._extended, IC: self._insert_cursor, MC: self._move_cursor, WDSF: self._structured, SF: self._field}
        data, buffer = self._data, self._buffer
        while self._at < len(data) and data[self._at] != ESC:
            code = data[self._at]
            self._at += 1
            order = orders.get(code)
            if order is not None:
                order()
            else:
                buffer.characters[self._address] = code
                self._address = (self._address + 1) % buffer.size
        return self._at

    def _take(self) -> int:
        if self._at >= len(self._data):
            raise DataStreamError("The record ends in the middle of an order", self._at)
        self._at += 1
        return self._data[self._at - 1]

    def _take_address(self) -> int:
        row, column = self._take(), self._take()
        if not (1 <= row <= self._buffer.rows and 1 <= column <= self._buffer.columns):
            raise DataStreamError("The address is off the screen", self._at - 2)
        return (row - 1) * self._buffer.columns + column - 1

    def _header(self) -> None:
        length = self._take()
        body = [self._take() for _ in range(length)]
        self._buffer.table = []
        if length >= 4 and 1 <= body[3] <= self._buffer.rows:
            self._buffer.error_row = body[3] - 1
        self._buffer.switches = int.from_bytes(bytes(body[4:7]).ljust(3, b"\x00"), "big") if length > 4 else 0

    def _repeat(self) -> None:
        stop, code = self._take_address(), self._take()
        if stop < self._address:
            raise DataStreamError("A repeat goes backwards", self._at)
        self._buffer.characters[self._address:stop + 1] = bytes((code,)) * (stop + 1 - self._address)
        self._address = (stop + 1) % self._buffer.size

    def _erase(self) -> None:
        stop = self._take_address()
        for _ in range(self._take() - 1):
            self._take()
        if stop < self._address:
            raise DataStreamError("An erase goes backwards", self._at)
        self._buffer.characters[self._address:stop + 1] = bytes(stop + 1 - self._address)
        self._address = (stop + 1) % self._buffer.size

    def _transparent(self) -> None:
        length = self._take() << 8 | self._take()
        for _ in range(length):
            self._buffer.characters[self._address] = self._take()
            self._address = (self._address + 1) % self._buffer.size

    def _set_address(self) -> None:
        self._address = self._take_address()

    def _extended(self) -> None:
        self._take()
        self._take()  # extended colours of an attribute; the plain ones are shown

    def _insert_cursor(self) -> None:
        self.inserted = self._take_address()

    def _move_cursor(self) -> None:
        self.moved = self._take_address()

    def _structured(self) -> None:
        """Windows and the like: a window is cleared and framed, the others change nothing that is text."""
        begun = self._at
        length = self._take() << 8 | self._take()
        body = bytes(self._take() for _ in range(length - 2))
        if len(body) >= 7 and body[0] == 0xD9 and body[1] == 0x51:
            self._window(body[5], body[6], begun)

    def _window(self, depth: int, width: int, begun: int) -> None:
        columns = self._buffer.columns
        row, column = divmod(self._address, columns)
        if row + depth + 2 > self._buffer.rows or column + width + 4 > columns:
            raise DataStreamError("A window is off the screen", begun)
        for line in range(depth + 2):
            start = (row + line) * columns + column
            edge = line in (0, depth + 1)
            inner = (b"\x4b" if edge else b"\x00") * width
            frame = b"\x4b" if edge else b"\x7a"  # a full stop, a colon
            self._buffer.characters[start:start + width + 4] = frame + b"\x20" + inner + b"\x20" + frame

    def _field(self) -> None:
        """An attribute, and behind it a field: an input where a format word stands, else only what is shown."""
        form, control, first = 0, [], self._take()
        is_input = not is_attribute(first)
        if is_input:
            form = first << 8 | self._take()
            while not is_attribute(first := self._take()):
                control.append(first << 8 | self._take())
        length = self._take() << 8 | self._take()
        buffer = self._buffer
        buffer.characters[self._address] = first
        start = self._address + 1
        if is_input and start + length > buffer.size:
            raise DataStreamError("A field goes past the end of the screen", self._at)
        if is_input:
            buffer.add_field(InputField(start, length, form, tuple(control)))  # what stands there is its content
        self._address = start % buffer.size
        end = start + length
        if end < buffer.size and not is_attribute(buffer.characters[end]):
            buffer.characters[end] = 0x20
