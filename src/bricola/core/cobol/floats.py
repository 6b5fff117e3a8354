"""Floating-point numbers of records: IEEE 754 and the mainframe's hexadecimal form, as decimals that come back to the same bytes.

Hexadecimal (z/Architecture Principles of Operation, chapter 18): a sign bit, seven bits of exponent of 16 in excess 64, and a fraction of
24 or 56 bits. A value is told with as few digits as bring back the same bytes, in either form; at most 9 or 17 (18 for 56 bits).
"""

import math
import struct
from collections.abc import Callable
from decimal import Context, Decimal
from fractions import Fraction


class NotHeldError(ValueError):
    """A number that the form cannot hold, or bytes that are no number."""


def ieee_reader(size: int, little: bool) -> Callable[[bytes], Decimal]:
    form = struct.Struct(("<" if little else ">") + ("f" if size == 4 else "d"))

    def read(data: bytes) -> Decimal:
        value: float = form.unpack(data)[0]
        if not math.isfinite(value):
            raise NotHeldError("it is not a finite number")
        if size == 8:
            return _plain(Decimal(repr(value)))
        return _shortest(Fraction(value), 9, lambda one: form.pack(float(one)) == data) if value else Decimal(0)

    return read


def ieee_writer(size: int, little: bool) -> Callable[[Decimal], bytes]:
    form = struct.Struct(("<" if little else ">") + ("f" if size == 4 else "d"))

    def write(value: Decimal) -> bytes:
        try:
            made = form.pack(float(value))
        except OverflowError:
            made = b""
        if not made or not math.isfinite(form.unpack(made)[0]):
            raise NotHeldError("it is too large")
        if value and not form.unpack(made)[0]:
            raise NotHeldError("it is too small")
        return made

    return write


def hexadecimal_reader(size: int) -> Callable[[bytes], Decimal]:
    bits = size * 8 - 8

    def read(data: bytes) -> Decimal:
        whole = int.from_bytes(data, "big")
        fraction = whole & ((1 << bits) - 1)
        if not fraction:
            return Decimal(0)
        exponent = ((whole >> bits) & 0x7F) - 64
        value = Fraction(fraction, 1 << bits) * Fraction(16) ** exponent
        normal = _hexadecimal(value, size)  # what was not normalised has the same value in other bytes
        told = _shortest(value, 18 if size == 8 else 9, lambda one: _hexadecimal(Fraction(one), size) == normal)
        return -told if whole >> (bits + 7) else told

    return read


def hexadecimal_writer(size: int) -> Callable[[Decimal], bytes]:
    def write(value: Decimal) -> bytes:
        made = bytearray(_hexadecimal(Fraction(abs(value)), size))
        if value < 0:
            made[0] |= 0x80
        return bytes(made)

    return write


def _hexadecimal(value: Fraction, size: int) -> bytes:
    """The bytes of a positive number, rounded to the nearest, a tie to the even one."""
    if not value:
        return bytes(size)
    bits = size * 8 - 8
    exponent = (value.numerator.bit_length() - value.denominator.bit_length()) // 4  # near it
    while value >= Fraction(16) ** exponent:
        exponent += 1
    while value < Fraction(16) ** (exponent - 1):
        exponent -= 1
    fraction = round(value / Fraction(16) ** exponent * (1 << bits))
    if fraction == 1 << bits:
        fraction >>= 4
        exponent += 1
    if not -64 <= exponent <= 63:
        raise NotHeldError("it is too large" if exponent > 0 else "it is too small")
    return ((exponent + 64) << bits | fraction).to_bytes(size, "big")


def _shortest(value: Fraction, most: int, same: Callable[[Decimal], bool]) -> Decimal:
    for digits in range(1, most + 1):
        told = Context(prec=digits).divide(Decimal(value.numerator), Decimal(value.denominator))
        try:
            if same(told):
                return _plain(told)
        except NotHeldError:
            continue
    return _plain(Context(prec=most).divide(Decimal(value.numerator), Decimal(value.denominator)))


def _plain(value: Decimal) -> Decimal:
    """Without a power of ten, and with no sign at zero."""
    if not value:
        return Decimal(0)
    return value if int(value.as_tuple().exponent) <= 0 else Decimal(int(value))
