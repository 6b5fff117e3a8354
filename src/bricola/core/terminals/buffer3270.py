"""The 3270 display buffer: what the orders of a host's record do to it, and what the keyboard sends of it.

Positions count from 0. A character is its EBCDIC byte; an attribute takes a position of its own. Anything that does not fit
raises DataStreamError with the byte and its place, and what came before it stands, as on a terminal.
"""

import re
from dataclasses import dataclass, replace
from functools import lru_cache

from bricola.core.terminals.addresses import CODES, read_address, write_address
from bricola.core.terminals.codepages import displayed
from bricola.core.terminals.screen import COLOURS, HIGHLIGHTS, Field, Screen

SF, SFE, SBA, SA, MF, IC, PT, RA, EUA, GE = 0x1D, 0x29, 0x11, 0x28, 0x2C, 0x13, 0x05, 0x3C, 0x12, 0x08
PROTECTED, NUMERIC, DISPLAY, MDT = 0x20, 0x10, 0x0C, 0x01
HIDDEN, INTENSE = 0x0C, 0x08
FIELD, HIGHLIGHT, COLOUR = 0xC0, 0x41, 0x42
NO_AID = 0x60
_TEXT = re.compile(b"[^" + re.escape(bytes((SF, SFE, SBA, SA, MF, IC, PT, RA, EUA, GE))) + b"]+")
_CLEAR, _PA = 0x6D, (0x6C, 0x6E, 0x6B)
SHORT_AIDS = (_CLEAR, *_PA)


class DataStreamError(Exception):
    """A record that breaks the data stream's rules; `offset` is the byte in it."""

    def __init__(self, message: str, offset: int) -> None:
        super().__init__(f"{message} at byte {offset}")
        self.offset = offset


@dataclass(frozen=True, slots=True)
class Attribute:
    """A field attribute with its extended types."""

    bits: int
    extended: tuple[tuple[int, int], ...] = ()

    def with_type(self, kind: int, value: int) -> "Attribute":
        if kind == FIELD:
            return replace(self, bits=value & 0x3F)
        return replace(self, extended=tuple(sorted({**dict(self.extended), kind: value}.items())))


class Buffer3270:
    """A display of one model. `alternate` is the size that Erase/Write Alternate takes."""

    def __init__(self, rows: int = 24, columns: int = 80, alternate: tuple[int, int] = (24, 80), code_page: str = "cp037") -> None:
        self._default = (rows, columns)
        self._alternate = alternate
        self._shown = dict(enumerate(displayed(code_page)))
        self.cursor = 0
        self.locked = True
        self.alarm = False
        self.aid = NO_AID
        self._resize(rows, columns)

    def _resize(self, rows: int, columns: int) -> None:
        self.rows, self.columns = rows, columns
        self.size = rows * columns
        self.erase()

    def erase(self) -> None:
        self.characters = bytearray(self.size)
        self.attributes: dict[int, Attribute] = {}
        self._marks = bytearray(self.size)  # 1 where an attribute stands, so that a run of text finds them at once
        self.graphics: set[int] = set()  # positions whose character is of the other set
        self.coloured: dict[int, tuple[tuple[int, int], ...]] = {}  # character attributes
        self.cursor = 0

    def erase_write(self, data: bytes, alternate: bool) -> None:
        self._resize(*(self._alternate if alternate else self._default))
        self.aid = NO_AID
        self.write(data, 0)

    def write(self, data: bytes, start: int | None = None) -> None:
        """WCC, orders and data; the address starts at the cursor."""
        if not data:
            return
        wcc = data[0]
        if wcc & 0x01:
            self._reset_modified()
        try:
            _Writer(self, data, self.cursor if start is None else start).run()
        finally:
            if wcc & 0x02:
                self.locked, self.aid = False, NO_AID
            self.alarm = bool(wcc & 0x04)

    def _reset_modified(self) -> None:
        for position, one in self.attributes.items():
            self.attributes[position] = replace(one, bits=one.bits & ~MDT)

    def erase_all_unprotected(self) -> None:
        if not self.attributes:
            self.erase()
        for start, length, one in self.spans():
            if not one.bits & PROTECTED:
                self._null(start, length)
                self.attributes[(start - 1) % self.size] = replace(one, bits=one.bits & ~MDT)
        self.cursor = next((start for start, length, one in self.spans() if not one.bits & PROTECTED and length), 0)
        self.locked, self.aid = False, NO_AID

    def _null(self, start: int, length: int) -> None:
        self.put_run(start, bytes(length))

    def put(self, position: int, code: int, graphic: bool = False, extended: tuple[tuple[int, int], ...] = ()) -> None:
        """A character; an attribute that stood there is gone."""
        if self._marks[position]:
            self._marks[position] = 0
            del self.attributes[position]
        self.characters[position] = code
        (self.graphics.add if graphic else self.graphics.discard)(position)
        if extended:
            self.coloured[position] = extended
        else:
            self.coloured.pop(position, None)

    def put_run(self, position: int, codes: bytes, extended: tuple[tuple[int, int], ...] = ()) -> int:
        """Characters one after the other, on from the last position at the first; where the next one comes."""
        plain = not (extended or self.coloured or self.graphics)
        end = position + len(codes)
        if plain and end <= self.size and self._marks.find(1, position, end) < 0:  # nearly always
            self.characters[position:end] = codes
            return end % self.size
        for start in range(0, len(codes), self.size):
            for piece, at in self._pieces(position, codes[start:start + self.size]):
                end = at + len(piece)
                self.characters[at:end] = piece
                while (mark := self._marks.find(1, at, end)) >= 0:
                    self._marks[mark] = 0
                    del self.attributes[mark]
                if self.graphics:
                    self.graphics.difference_update(range(at, end))
                if extended or self.coloured:
                    for place in range(at, end):
                        if extended:
                            self.coloured[place] = extended
                        else:
                            self.coloured.pop(place, None)
        return (position + len(codes)) % self.size

    def _pieces(self, position: int, codes: bytes) -> list[tuple[bytes, int]]:
        first = codes[:self.size - position]
        return [(first, position), (codes[len(first):], 0)] if len(first) < len(codes) else [(first, position)]

    def put_attribute(self, position: int, attribute: Attribute) -> None:
        self.put(position, 0)
        self.attributes[position] = attribute
        self._marks[position] = 1

    def spans(self) -> list[tuple[int, int, Attribute]]:
        """Every field as start, length, attribute, in the order of the buffer from 0."""
        places = sorted(self.attributes)
        found = []
        for index, place in enumerate(places):
            following = places[index + 1] if index + 1 < len(places) else places[0] + self.size
            found.append(((place + 1) % self.size, following - place - 1, self.attributes[place]))
        return found

    def protected_at(self, position: int) -> bool:
        """Whether a position takes no typing: it is an attribute, or in a protected field."""
        if not self.attributes:
            return False
        if position in self.attributes:
            return True
        return bool(self._governing(position).bits & PROTECTED)

    def _governing(self, position: int) -> Attribute:
        places = sorted(self.attributes)
        before = [one for one in places if one <= position]
        return self.attributes[before[-1] if before else places[-1]]

    def type_into(self, start: int, codes: bytes) -> None:
        """Fill the field that begins at a position: what is left of it is nulled, and it counts as modified."""
        span = next((one for one in self.spans() if one[0] == start), None)
        length = span[1] if span is not None else self.size - start
        self._null(start, length)
        self.put_run(start, codes)
        if span is not None:
            self.attributes[(start - 1) % self.size] = replace(span[2], bits=span[2].bits | MDT)
        self.cursor = (start + min(len(codes), length - 1)) % self.size

    # what goes back to the host

    def read_modified(self, every: bool = False) -> bytes:
        """AID, cursor and the modified fields; the AID alone after Clear and PA unless `every` is asked."""
        if self.aid in SHORT_AIDS and not every:
            return bytes((self.aid,))
        out = bytearray((self.aid,)) + write_address(self.cursor, self.size)
        if not self.attributes:
            return bytes(out + self._without_nulls(0, self.size))
        for start, length, one in self.spans():
            if one.bits & MDT:
                out += bytes((SBA,)) + write_address(start, self.size) + self._without_nulls(start, length)
        return bytes(out)

    def _without_nulls(self, start: int, length: int) -> bytes:
        out = bytearray()
        for offset in range(length):
            position = (start + offset) % self.size
            code = self.characters[position]
            if code:
                out += bytes((GE, code)) if position in self.graphics else bytes((code,))
        return bytes(out)

    def read_buffer(self, mode: int = 0) -> bytes:
        """AID, cursor and every position. `mode` is the reply mode: 0 field, 1 extended field, 2 character."""
        out = bytearray((self.aid,)) + write_address(self.cursor, self.size)
        current: tuple[tuple[int, int], ...] = ()
        for position in range(self.size):
            attribute = self.attributes.get(position)
            if attribute is not None:
                out += _attribute_bytes(attribute, mode)
                continue
            if mode == 2:
                wanted = self.coloured.get(position, ())
                for kind in sorted({*dict(current), *dict(wanted)}):
                    if dict(current).get(kind, 0) != dict(wanted).get(kind, 0):
                        out += bytes((SA, kind, dict(wanted).get(kind, 0)))
                current = wanted
            code = self.characters[position]
            out += bytes((GE, code)) if position in self.graphics else bytes((code,))
        return bytes(out)

    def screen(self) -> Screen:
        """What is shown now, as a value."""
        hidden = bytearray(self.characters)
        fields = []
        for start, length, one in self.spans():
            if one.bits & DISPLAY == HIDDEN:
                for offset in range(length):
                    hidden[(start + offset) % self.size] = 0x40
            fields.append(Field(start, length, *_told(one)))
        characters = hidden.decode("latin-1").translate(self._shown)
        return Screen(self.rows, self.columns, characters, tuple(fields), self.cursor, self.locked, self.alarm)


def _attribute_bytes(attribute: Attribute, mode: int) -> bytes:
    if mode == 0:
        return bytes((SF, CODES[attribute.bits]))
    pairs = ((FIELD, CODES[attribute.bits]), *attribute.extended)
    return bytes((SFE, len(pairs))) + b"".join(bytes(pair) for pair in pairs)


@lru_cache(4096)
def _attribute_of(pairs: bytes) -> Attribute:
    """The attribute of an SFE; without a field attribute among the pairs it is unprotected."""
    made = Attribute(0)
    for kind, value in zip(pairs[::2], pairs[1::2], strict=True):
        made = made.with_type(kind, value)
    return made


@lru_cache(4096)
def _told(attribute: Attribute) -> tuple[bool, bool, bool, bool, bool, str, str]:
    """What an attribute says of a field, in the order of Field."""
    bits, extended = attribute.bits, dict(attribute.extended)
    return (bool(bits & PROTECTED), bool(bits & NUMERIC), bits & DISPLAY == HIDDEN, bits & DISPLAY == INTENSE, bool(bits & MDT),
            COLOURS.get(extended.get(COLOUR, 0), ""), HIGHLIGHTS.get(extended.get(HIGHLIGHT, 0), ""))


@lru_cache(64)
def _plain_attribute(bits: int) -> Attribute:
    return Attribute(bits)


class _Writer:
    """Runs the orders of one record."""

    def __init__(self, buffer: Buffer3270, data: bytes, address: int) -> None:
        self._buffer, self._data, self._address = buffer, data, address
        self._at = 1
        self._extended: dict[int, int] = {}  # of SA, until the end of the record
        self._after_data = False  # what PT looks at

    def run(self) -> None:
        orders = {
            SF: self._start_field,
            SFE: self._start_field_extended,
            SBA: self._set_address,
            SA: self._set_attribute,
            MF: self._modify_field,
            IC: self._insert_cursor,
            PT: self._program_tab,
            RA: self._repeat,
            EUA: self._erase_unprotected,
            GE: self._graphic,
        }
        while self._at < len(self._data):
            text = _TEXT.match(self._data, self._at)
            if text is not None:
                self._address = self._buffer.put_run(self._address, text[0], tuple(sorted(self._extended.items())))
                self._at = text.end()
                self._after_data = True
                continue
            order = orders[self._take()]
            order()
            self._after_data = order == self._graphic

    def _take(self) -> int:
        if self._at >= len(self._data):
            raise DataStreamError("The record ends in the middle of an order", self._at)
        self._at += 1
        return self._data[self._at - 1]

    def _take_pairs(self) -> bytes:
        """The pairs of type and value behind their count."""
        count = self._take()
        pairs = self._data[self._at:self._at + 2 * count]
        if len(pairs) < 2 * count:
            raise DataStreamError("The record ends in the middle of an order", len(self._data))
        self._at += 2 * count
        return pairs

    def _take_address(self) -> int:
        begun = self._at
        if begun + 2 > len(self._data):
            raise DataStreamError("The record ends in the middle of an order", len(self._data))
        self._at += 2
        address = read_address(self._data[begun], self._data[begun + 1], self._buffer.size)
        if address is None or address >= self._buffer.size:
            raise DataStreamError("The address is off the screen", begun)
        return address

    def _forward(self) -> None:
        self._address = (self._address + 1) % self._buffer.size

    def _put(self, code: int, graphic: bool = False) -> None:
        self._buffer.put(self._address, code, graphic, tuple(sorted(self._extended.items())))
        self._forward()

    def _graphic(self) -> None:
        self._put(self._take(), True)

    def _start_field(self) -> None:
        self._buffer.put_attribute(self._address, _plain_attribute(self._take() & 0x3F))
        self._forward()

    def _start_field_extended(self) -> None:
        self._buffer.put_attribute(self._address, _attribute_of(self._take_pairs()))
        self._forward()

    def _modify_field(self) -> None:
        pairs = self._take_pairs()
        attribute = self._buffer.attributes.get(self._address)
        if attribute is None:
            return  # nothing to modify, and a terminal stays where it is
        for kind, value in zip(pairs[::2], pairs[1::2], strict=True):
            attribute = attribute.with_type(kind, value)
        self._buffer.attributes[self._address] = attribute
        self._forward()

    def _set_address(self) -> None:
        self._address = self._take_address()

    def _set_attribute(self) -> None:
        kind, value = self._take(), self._take()
        if kind == 0:
            self._extended.clear()
        elif value:
            self._extended[kind] = value
        else:
            self._extended.pop(kind, None)

    def _insert_cursor(self) -> None:
        self._buffer.cursor = self._address

    def _repeat(self) -> None:
        stop, code = self._take_address(), self._take()
        graphic = code == GE
        if graphic:
            code = self._take()
        length = (stop - self._address) % self._buffer.size or self._buffer.size
        if not graphic:
            self._address = self._buffer.put_run(self._address, bytes((code,)) * length, tuple(sorted(self._extended.items())))
            return
        for _ in range(length):
            self._put(code, graphic)

    def _erase_unprotected(self) -> None:
        stop = self._take_address()
        while True:
            if not self._buffer.protected_at(self._address):
                self._buffer.put(self._address, 0)
            self._forward()
            if self._address == stop:
                return

    def _program_tab(self) -> None:
        buffer = self._buffer
        attribute = buffer.attributes.get(self._address)
        if attribute is not None and not attribute.bits & PROTECTED:
            self._forward()
            return
        position = self._address
        while position < buffer.size:
            attribute = buffer.attributes.get(position)
            if attribute is not None:
                if not attribute.bits & PROTECTED:
                    self._address = (position + 1) % buffer.size
                    return
                if self._after_data:
                    self._after_data = False  # the current field ends here: what comes is kept
            elif self._after_data:
                buffer.put(position, 0)
            position += 1
        self._address = 0
