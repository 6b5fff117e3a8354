"""The 3270 display buffer: what the orders of a host's record do to it, and what the keyboard sends of it.

Positions count from 0. A character is its EBCDIC byte; an attribute takes a position of its own. Anything that does not fit
raises DataStreamError with the byte and its place, and what came before it stands, as on a terminal.
"""

import re
from functools import lru_cache

from bricola.core.terminals.addresses import CODES, read_address, write_address
from bricola.core.terminals.codepages import decode
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


class Attribute:
    """A field attribute with its extended types. `told` is what it says of a field, in the order of Field, worked out once."""

    __slots__ = ("bits", "extended", "told")

    def __init__(self, bits: int, extended: tuple[tuple[int, int], ...] = ()) -> None:
        self.bits, self.extended = bits, extended
        types = dict(extended)
        self.told = (bool(bits & PROTECTED), bool(bits & NUMERIC), bits & DISPLAY == HIDDEN, bits & DISPLAY == INTENSE, bool(bits & MDT),
                     COLOURS.get(types.get(COLOUR, 0), ""), HIGHLIGHTS.get(types.get(HIGHLIGHT, 0), ""), "", False)

    def with_type(self, kind: int, value: int) -> "Attribute":
        if kind == FIELD:
            return attribute(value & 0x3F, self.extended)
        return attribute(self.bits, tuple(sorted({**dict(self.extended), kind: value}.items())))

    def modified(self, is_modified: bool) -> "Attribute":
        return attribute(self.bits | MDT if is_modified else self.bits & ~MDT, self.extended)


@lru_cache(4096)
def attribute(bits: int, extended: tuple[tuple[int, int], ...] = ()) -> Attribute:
    """One attribute of each kind, shared by all that have it."""
    return Attribute(bits, extended)


class Buffer3270:
    """A display of one model. `alternate` is the size that Erase/Write Alternate takes."""

    def __init__(self, rows: int = 24, columns: int = 80, alternate: tuple[int, int] = (24, 80), code_page: str = "cp037") -> None:
        self._default = (rows, columns)
        self._alternate = alternate
        self._code_page = code_page
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
        self._spans: list[tuple[int, int, Attribute]] | None = None

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
            if one.bits & MDT:
                self._mark_at(position, one.modified(False))

    def _mark_at(self, position: int, one: Attribute) -> None:
        """Another attribute where one stands."""
        self.attributes[position] = one
        self._spans = None

    def erase_all_unprotected(self) -> None:
        if not self.attributes:
            self.erase()
        for start, length, one in self.spans():
            if not one.bits & PROTECTED:
                self._null(start, length)
                self._mark_at((start - 1) % self.size, one.modified(False))
        self.cursor = next((start for start, length, one in self.spans() if not one.bits & PROTECTED and length), 0)
        self.locked, self.aid = False, NO_AID

    def _null(self, start: int, length: int) -> None:
        self.put_run(start, bytes(length))

    def put(self, position: int, code: int, graphic: bool = False, extended: tuple[tuple[int, int], ...] = ()) -> None:
        """A character; an attribute that stood there is gone."""
        if self._marks[position]:
            self._marks[position] = 0
            del self.attributes[position]
            self._spans = None
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
                    self._spans = None
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

    def put_attribute(self, position: int, one: Attribute) -> None:
        self.characters[position] = 0
        if self.graphics or self.coloured:
            self.put(position, 0)
        self.attributes[position] = one
        self._marks[position] = 1
        self._spans = None

    def spans(self) -> list[tuple[int, int, Attribute]]:
        """Every field as start, length, attribute, in the order of the buffer from 0."""
        if self._spans is None:
            places = sorted(self.attributes)
            ends = [*places[1:], places[0] + self.size] if places else []
            self._spans = [
                ((place + 1) % self.size, end - place - 1, self.attributes[place]) for place, end in zip(places, ends, strict=True)
            ]
        return self._spans

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
            self._mark_at((start - 1) % self.size, span[2].modified(True))
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
        spans = self.spans()
        shown = self.characters
        secret = [(start, length) for start, length, one in spans if one.bits & DISPLAY == HIDDEN]
        if secret:
            shown = bytearray(shown)
            for start, length in secret:
                end = start + length
                shown[start:min(end, self.size)] = b"\x40" * (min(end, self.size) - start)
                if end > self.size:
                    shown[:end - self.size] = b"\x40" * (end - self.size)
        make = tuple.__new__
        fields = tuple([make(Field, (start, length, *one.told)) for start, length, one in spans])
        return Screen(self.rows, self.columns, decode(shown, self._code_page), fields, self.cursor, self.locked, self.alarm)


def _attribute_bytes(attribute: Attribute, mode: int) -> bytes:
    if mode == 0:
        return bytes((SF, CODES[attribute.bits]))
    pairs = ((FIELD, CODES[attribute.bits]), *attribute.extended)
    return bytes((SFE, len(pairs))) + b"".join(bytes(pair) for pair in pairs)


@lru_cache(4096)
def _attribute_of(pairs: bytes) -> Attribute:
    """The attribute of an SFE; without a field attribute among the pairs it is unprotected."""
    made = attribute(0)
    for kind, value in zip(pairs[::2], pairs[1::2], strict=True):
        made = made.with_type(kind, value)
    return made


# What most of every record is made of: an address, the start of a field, perhaps the cursor, and a text.
_USUAL = re.compile(rb"\x11(.)(.)(?:\x1d(.)|\x29\x02([\xc0\x41\x42].[\xc0\x41\x42].))(\x13?)([^\x1d\x29\x11\x28\x2c\x13\x05\x3c\x12\x08]*)",
                    re.DOTALL)


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
            if self._usual():
                continue
            text = _TEXT.match(self._data, self._at)
            if text is not None:
                self._address = self._buffer.put_run(self._address, text[0], tuple(sorted(self._extended.items())))
                self._at = text.end()
                self._after_data = True
                continue
            order = orders[self._take()]
            order()
            self._after_data = order == self._graphic

    def _usual(self) -> bool:
        """Do what usual sequences say at once, as many as stand here; whether one did."""
        if self._extended:
            return False
        buffer, data, match = self._buffer, self._data, _USUAL.match
        characters, marks, attributes, size = buffer.characters, buffer._marks, buffer.attributes, buffer.size
        bare = not (buffer.graphics or buffer.coloured)
        at = begun = self._at
        while (found := match(data, at)) is not None:
            first, second, plain, pairs, cursor, text = found.groups()
            address = read_address(first[0], second[0], size)
            if address is None or address >= size:
                break  # told by the order itself
            if not bare:
                buffer.put(address, 0)
            characters[address] = 0
            attributes[address] = attribute(plain[0] & 0x3F) if plain else _attribute_of(pairs)
            marks[address] = 1
            address = (address + 1) % size
            if cursor:
                buffer.cursor = address
            if text:
                end = address + len(text)
                if bare and end <= size and marks.find(1, address, end) < 0:
                    characters[address:end] = text
                    address = end % size
                else:
                    address = buffer.put_run(address, text)
            self._address = address
            self._after_data = bool(text)
            at = found.end()
        buffer._spans = None
        self._at = at
        return at > begun

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
        self._buffer.put_attribute(self._address, attribute(self._take() & 0x3F))
        self._forward()

    def _start_field_extended(self) -> None:
        self._buffer.put_attribute(self._address, _attribute_of(self._take_pairs()))
        self._forward()

    def _modify_field(self) -> None:
        pairs = self._take_pairs()
        one = self._buffer.attributes.get(self._address)
        if one is None:
            return  # nothing to modify, and a terminal stays where it is
        for kind, value in zip(pairs[::2], pairs[1::2], strict=True):
            one = one.with_type(kind, value)
        self._buffer.put_attribute(self._address, one)
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
