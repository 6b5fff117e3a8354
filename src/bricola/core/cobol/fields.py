"""The value of one elementary item, to bytes and back.

The strategy: for each item a reader (bytes to value) and a writer (value to bytes) are made once, from the item and from how the record is
held. Numbers are Decimal with the digits of their scale, texts are str with their blanks. What cannot be read or written raises
NotHeldError with the reason in words; who calls knows the item and its place.

A number is read only where a compiler's class test calls it numeric: zoned digits with their sign, packed C and D for signed, F for
either. Minus zero is zero. Written are C, D and F alone.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Context, Decimal, DecimalException, Inexact, InvalidOperation, Overflow, Underflow
from typing import Any

from bricola.core.cobol.alphabets import UNDEFINED, Alphabet, Floats, Order, Signs
from bricola.core.cobol.clauses import Literal
from bricola.core.cobol.floats import NotHeldError, hexadecimal_reader, hexadecimal_writer, ieee_reader, ieee_writer
from bricola.core.cobol.items import Item
from bricola.core.problems import shown

# Nothing is rounded: a number with more digits than any item holds is refused.
EXACT = Context(prec=80, Emin=-9999, Emax=9999, traps=[Inexact, InvalidOperation, Overflow, Underflow])
_NUMBER = re.compile(r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)")

Reader = Callable[[bytes], Any]
Writer = Callable[[Any], bytes]


@dataclass(frozen=True)
class Ways:
    """How a record is held: code page, order of COMP-5 and floats, form of floats and of zoned signs, whether COMP ends at its digits."""

    alphabet: Alphabet
    order: Order
    floats: Floats
    signs: Signs
    truncate: bool = True


def sign_table(ways: Ways) -> dict[int, tuple[str, str]]:
    """Bytes that hold a digit and the sign of a number, with both: ('-', '5')."""
    if ways.alphabet.mainframe:
        zones = {0xC0: "", 0xD0: "-", 0xF0: ""}
        return {zone + digit: (sign, str(digit)) for zone, sign in zones.items() for digit in range(10)}
    plain = {0x30 + digit: ("", str(digit)) for digit in range(10)}
    if ways.signs == "ascii":
        return plain | {0x70 + digit: ("-", str(digit)) for digit in range(10)}
    # what EBCDIC's letters become when a whole record went through a code page
    return plain | {ord("{ABCDEFGHI"[d]): ("", str(d)) for d in range(10)} | {ord("}JKLMNOPQR"[d]): ("-", str(d)) for d in range(10)}


def _signing(ways: Ways) -> dict[tuple[str, str], int]:
    written: dict[tuple[str, str], int] = {}
    for code, (sign, digit) in sign_table(ways).items():
        if ways.alphabet.mainframe:
            written[sign or "+", digit] = code if sign or code < 0xD0 else written.get(("+", digit), code)
        else:
            translated = ways.signs == "translated"
            if sign or (code < 0x3A) != translated:
                written[sign or "+", digit] = code
    return written


def decimal_of(negative: bool, digits: str, item: Item) -> Decimal:
    """A number of stored digits, exact, with the digits of the scale."""
    number = int(digits)
    if item.scale <= 0:
        number *= 10**-item.scale
        return Decimal(-number if negative else number)
    return EXACT.scaleb(Decimal(-number if negative else number), -item.scale)


def reader_of(item: Item, ways: Ways) -> Reader:
    """What reads the bytes of one occurrence."""
    return _READERS[item.kind](item, ways)


def _read_text(item: Item, ways: Ways) -> Reader:
    page = ways.alphabet

    def read(data: bytes) -> str:
        text = page.decode(data)
        if UNDEFINED in text:
            code = data[text.index(UNDEFINED)]
            raise NotHeldError(f"the byte {code:02X} is no letter of {page.name}")
        return text

    return read


def _read_national(item: Item, ways: Ways) -> Reader:
    def read(data: bytes) -> str:
        try:
            return data.decode("utf-16-be")
        except UnicodeDecodeError:
            raise NotHeldError("it is not UTF-16") from None

    return read


def _read_bytes(item: Item, ways: Ways) -> Reader:
    return lambda data: data.hex().upper()


def _read_zoned(item: Item, ways: Ways) -> Reader:
    page, signs = ways.alphabet, sign_table(ways)
    marks = {page.encode("+")[0]: "", page.encode("-")[0]: "-"} if not page.mainframe else {0x4E: "", 0x60: "-"}

    def read(data: bytes) -> Decimal:
        sign, middle, edge = "", data, ""
        if item.signed and item.separate:
            code, middle = (data[0], data[1:]) if item.leading else (data[-1], data[:-1])
            if code not in marks:
                raise NotHeldError("it has no sign")
            sign = marks[code]
        elif item.signed:
            code, middle = (data[0], data[1:]) if item.leading else (data[-1], data[:-1])
            if code not in signs:
                raise NotHeldError("it is not a number")
            sign, edge = signs[code]
        digits = page.decode(middle)
        digits = edge + digits if item.leading else digits + edge
        if not digits.isdecimal():
            raise NotHeldError("it is not a number")
        return decimal_of(bool(sign), digits, item)

    return read


def _read_packed(item: Item, ways: Ways) -> Reader:
    signs = {"c": False, "d": True, "f": False} if item.signed else {"f": False}
    unsigned = item.kind == "unsigned-packed"

    def read(data: bytes) -> Decimal:
        text = data.hex()
        digits, sign = (text, "f") if unsigned else (text[:-1], text[-1])
        if sign not in signs or not digits.isdecimal():
            raise NotHeldError("it is not a packed number")
        if len(digits) > item.stored and digits[0] != "0":
            raise NotHeldError(f"it has more digits than {item.picture}")
        return decimal_of(signs[sign], digits, item)

    return read


def _read_binary(item: Item, ways: Ways) -> Reader:
    order = ways.order if item.native else "big"
    scale, power = item.scale, 10 ** max(0, -item.scale)

    def read(data: bytes) -> Decimal:
        number = Decimal(int.from_bytes(data, order, signed=item.signed) * power)
        return EXACT.scaleb(number, -scale) if scale > 0 else number

    return read


def _read_float(item: Item, ways: Ways) -> Reader:
    return hexadecimal_reader(item.length) if ways.floats == "hexadecimal" else ieee_reader(item.length, ways.order == "little")


_READERS: dict[str, Callable[[Item, Ways], Reader]] = {
    "text": _read_text,
    "text-edited": _read_text,
    "number-edited": _read_text,
    "national": _read_national,
    "bytes": _read_bytes,
    "zoned": _read_zoned,
    "packed": _read_packed,
    "unsigned-packed": _read_packed,
    "binary": _read_binary,
    "float": _read_float,
    "double": _read_float,
}


def number_of(value: Any) -> Decimal:
    """A number as it is given: Decimal, int, or decimal text. Anything else is not made one."""
    if isinstance(value, bool) or not isinstance(value, int | Decimal | str):
        raise NotHeldError("it is not a decimal number")
    if isinstance(value, str):
        if not _NUMBER.fullmatch(value):
            raise NotHeldError("it is not a decimal number")
        return Decimal(value)
    if isinstance(value, int):
        return Decimal(value)
    if not value.is_finite():
        raise NotHeldError("it is not a decimal number")
    return value


def _digits(value: Any, item: Item) -> tuple[bool, int]:
    """Whether it is negative, and the number that the stored digits hold. Refused is what they cannot hold, digits and decimals alike."""
    number = number_of(value)
    try:
        moved = EXACT.scaleb(number, item.scale)
    except DecimalException:
        raise NotHeldError("it has more digits") from None
    whole = moved.to_integral_value()
    if moved != whole:
        raise NotHeldError("it has more decimals" if item.scale >= 0 else f"it is no multiple of {10**-item.scale}")
    held = int(whole)
    if held < 0 and not item.signed:
        raise NotHeldError("it is negative")
    return held < 0, abs(held)


def writer_of(item: Item, ways: Ways) -> Writer:
    """What writes the bytes of one occurrence."""
    return _WRITERS[item.kind](item, ways)


def _write_text(item: Item, ways: Ways) -> Writer:
    page, length, right = ways.alphabet, item.length, item.justified
    blank = page.encode(" ")

    def write(value: Any) -> bytes:
        if not isinstance(value, str):
            raise NotHeldError("it is not a text")
        try:
            data = page.encode(value)
        except UnicodeEncodeError as error:
            raise NotHeldError(f"{page.name} has no {shown(value[error.start])}") from None
        if len(data) > length:
            raise NotHeldError(f"it has {len(data)} characters, and {length} fit")
        return data.rjust(length, blank) if right else data.ljust(length, blank)

    return write


def _write_national(item: Item, ways: Ways) -> Writer:
    def write(value: Any) -> bytes:
        if not isinstance(value, str):
            raise NotHeldError("it is not a text")
        try:
            data = value.encode("utf-16-be")
        except UnicodeEncodeError:
            raise NotHeldError("it has half a character") from None
        if len(data) > item.length:
            raise NotHeldError(f"it has {len(data) // 2} characters, and {item.length // 2} fit")
        blanks = "\x00 ".encode("latin-1") * ((item.length - len(data)) // 2)
        return blanks + data if item.justified else data + blanks

    return write


def _write_bytes(item: Item, ways: Ways) -> Writer:
    def write(value: Any) -> bytes:
        if not isinstance(value, str) or not re.fullmatch(f"(?:[0-9A-Fa-f]{{2}}){{{item.length}}}", value):
            raise NotHeldError(f"it is not {item.length} bytes in hexadecimal")
        return bytes.fromhex(value)

    return write


def _write_zoned(item: Item, ways: Ways) -> Writer:
    stored, signed, leading, separate = item.stored, item.signed, item.leading, item.separate
    mainframe = ways.alphabet.mainframe
    signing = _signing(ways)
    plus, minus = (b"\x4e", b"\x60") if mainframe else (b"+", b"-")
    raise_zone = bytes(range(0xF0, 0xFA))
    table = bytes.maketrans(b"0123456789", raise_zone) if mainframe else None

    def write(value: Any) -> bytes:
        negative, held = _digits(value, item)
        text = str(held).rjust(stored, "0")
        if len(text) > stored:
            raise NotHeldError("it has more digits")
        data = text.encode("ascii")
        if table is not None:
            data = data.translate(table)
        if not signed:
            return data
        if separate:
            mark = minus if negative else plus
            return mark + data if leading else data + mark
        edge = text[0] if leading else text[-1]
        code = signing["-" if negative else "+", edge]
        return bytes((code,)) + data[1:] if leading else data[:-1] + bytes((code,))

    return write


def _write_packed(item: Item, ways: Ways) -> Writer:
    length, stored, signed = item.length, item.stored, item.signed
    unsigned = item.kind == "unsigned-packed"

    def write(value: Any) -> bytes:
        negative, held = _digits(value, item)
        text = str(held)
        if len(text) > stored:
            raise NotHeldError("it has more digits")
        sign = "" if unsigned else ("d" if negative else "c") if signed else "f"
        return bytes.fromhex((text + sign).rjust(length * 2, "0"))

    return write


def _write_binary(item: Item, ways: Ways) -> Writer:
    order = ways.order if item.native else "big"
    cut = None if item.native or not ways.truncate else 10**item.stored

    def write(value: Any) -> bytes:
        negative, held = _digits(value, item)
        if cut is not None and held >= cut:
            raise NotHeldError("it has more digits")
        try:
            return (-held if negative else held).to_bytes(item.length, order, signed=item.signed)
        except OverflowError:
            raise NotHeldError(f"it is more than {item.length} bytes hold") from None

    return write


def _write_float(item: Item, ways: Ways) -> Writer:
    put = hexadecimal_writer(item.length) if ways.floats == "hexadecimal" else ieee_writer(item.length, ways.order == "little")

    def write(value: Any) -> bytes:
        return put(Decimal(repr(value)) if isinstance(value, float) else number_of(value))

    return write


_WRITERS: dict[str, Callable[[Item, Ways], Writer]] = {
    "text": _write_text,
    "text-edited": _write_text,
    "number-edited": _write_text,
    "national": _write_national,
    "bytes": _write_bytes,
    "zoned": _write_zoned,
    "packed": _write_packed,
    "unsigned-packed": _write_packed,
    "binary": _write_binary,
    "float": _write_float,
    "double": _write_float,
}

_FIGURES = {"SPACE": " ", "ZERO": "0", "QUOTE": '"', "LOW-VALUE": "\x00", "HIGH-VALUE": "\xff"}


def literal_bytes(literal: Literal, item: Item, ways: Ways) -> bytes:
    """What a literal of VALUE puts into an item. Raises NotHeldError where it does not fit there."""
    if literal.kind == "figurative" and literal.text in ("LOW-VALUE", "HIGH-VALUE"):
        return (b"\x00" if literal.text == "LOW-VALUE" else b"\xff") * item.length
    if literal.kind == "hex":
        data = bytes.fromhex(literal.text)
        return (data * item.length)[: item.length] if literal.all else data.ljust(item.length, ways.alphabet.encode(" "))[: item.length]
    text = _FIGURES[literal.text] if literal.kind == "figurative" else literal.text
    if item.kind in ("zoned", "packed", "unsigned-packed", "binary", "float", "double"):
        return writer_of(item, ways)(text)
    if literal.all:
        text = (text * item.length)[: item.length // (2 if item.kind == "national" else 1)]
    return b"\x00" * item.length if item.kind == "bytes" else writer_of(item, ways)(text)


def initial_bytes(item: Item, ways: Ways) -> bytes:
    """What an item holds before anything is put in: its VALUE, else zero or blanks; of a group, that of its items."""
    if item.children:
        made = bytearray(item.length)
        for child in item.children:
            if child.redefines is None:
                one = initial_bytes(child, ways)
                at = child.offset - item.offset
                made[at : at + child.total] = one * (child.occurs[1] if child.occurs else 1)
        if item.values:
            blank = ways.alphabet.encode(" ")
            low = item.values[0][0]
            text = Item(0, item.name, item.spot, "text", length=item.length)
            made[:] = literal_bytes(low, text, ways).ljust(item.length, blank)
        return bytes(made)
    if item.values:
        try:
            return literal_bytes(item.values[0][0], item, ways)
        except NotHeldError:
            pass  # a VALUE that does not fit is the compiler's to tell; nothing is made of it
    if item.kind in ("text", "text-edited", "number-edited", "national"):
        return writer_of(item, ways)("")
    return b"\x00" * item.length if item.kind == "bytes" else writer_of(item, ways)(0)
