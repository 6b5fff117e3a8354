"""Stands in for TOLLCALC where no COBOL compiler is installed: the same record, the same answers (TOLLCALC.cbl, statement by statement).

A process as host.py wants it. It stands alone, with numbers and texts where the copybook puts them; nothing of the codec is used.
"""

import struct
import sys
from decimal import ROUND_HALF_UP, Decimal
from typing import BinaryIO

SIZE = 332
LOCKS = {
    "001": ("HARROW STAIRS", "4.50", "0.125", "22", "5.0", "1.8", True),
    "002": ("MILL POUND", "3.25", "0.090", "22", "4.3", "1.5", True),
    "007": ("LARKMERE GATE", "12.00", "0.310", "65", "11.0", "3.2", True),
    "014": ("OSIER CUT", "2.75", "0.080", "18", "4.1", "1.2", True),
    "021": ("TARN BASIN", "6.00", "0.150", "30", "6.2", "2.0", False),
}
_CENT = Decimal("0.01")


def packed(number: Decimal, size: int) -> bytes:
    """A signed packed number with two decimals."""
    digits = str(abs(int(number * 100)))
    return bytes.fromhex((digits + ("d" if number < 0 else "c")).rjust(size * 2, "0"))


def unpacked(data: bytes, decimals: int) -> Decimal | None:
    text = data.hex()
    return Decimal(text[:-1]).scaleb(-decimals) if text[:-1].isdigit() and text[-1] == "f" else None


def zoned(data: bytes, decimals: int) -> Decimal | None:
    return Decimal(data.decode("ascii")).scaleb(-decimals) if data.isdigit() else None


def worked_out(area: bytes) -> tuple[int, str, Decimal, list[tuple[str, str, Decimal]]]:
    """Return code, message, total and lines."""
    registration = area[:8].decode("latin-1")
    number = area[8:11].decode("latin-1")
    length, beam = zoned(area[11:16], 2), zoned(area[16:20], 2)
    draught, cargo = unpacked(area[20:23], 2), unpacked(area[23:27], 1)
    nothing: list[tuple[str, str, Decimal]] = []
    zero = Decimal(0)
    if registration in (" " * 8, "\x00" * 8):
        return 16, "VESSEL REGISTRATION MISSING", zero, nothing
    if not number.isdigit() or length is None or beam is None or draught is None or cargo is None:
        return 16, "A MEASURE IS NOT A NUMBER", zero, nothing
    if not length or not beam or not draught:
        return 16, "LENGTH, BEAM OR DRAUGHT IS ZERO", zero, nothing
    if number not in LOCKS:
        return 8, f"NO LOCK {number}", zero, nothing
    name, fee, rate, most_length, most_beam, most_draught, open_ = LOCKS[number]
    if not open_:
        return 8, f"{name} CLOSED FOR THE SEASON", zero, nothing
    for measure, most, word in ((length, most_length, "LONG"), (beam, most_beam, "WIDE"), (draught, most_draught, "DEEP")):
        if measure > Decimal(most):
            return 12, f"VESSEL TOO {word} FOR THIS LOCK", zero, nothing
    lines = [("BASE", name, Decimal(fee))]

    def total() -> Decimal:
        return sum((amount for _, _, amount in lines), zero)

    def rounded(amount: Decimal) -> Decimal:
        return amount.quantize(_CENT, ROUND_HALF_UP)

    if length > 12:
        lines.append(("LOA ", "METRES OVER TWELVE", int(length - 12) * Decimal("0.85")))
    if beam > Decimal("4.20"):
        lines.append(("BEAM", "BROAD BEAM", rounded(total() * Decimal("0.15"))))
    if draught > Decimal("1.50"):
        lines.append(("DEEP", "DEEP DRAUGHT", int((draught - Decimal("1.50")) * 10 + Decimal("0.9")) * Decimal("2.40")))
    if cargo > 0:
        lines.append(("CARG", "CARGO BY THE TONNE", rounded(cargo * Decimal(rate))))
    elif registration.startswith("W"):
        lines.append(("EMPT", "WORKING BOAT, EMPTY", Decimal("-3.50")))
    if registration.startswith("LM"):
        lines.append(("REBT", "LARKMERE REBATE", rounded(total() * Decimal("-0.10"))))
    if total() > 950:
        lines.append(("CAP ", "DAY CEILING", 950 - total()))
        return 4, "TOLL HELD AT THE DAY CEILING", total(), lines
    return 0, "TOLL WORKED OUT", total(), lines


def called(area: bytes) -> bytes:
    """The area as the program leaves it."""
    code, message, total, lines = worked_out(area)
    reply = struct.pack(">h", code) + message.encode().ljust(40) + packed(total, 5) + struct.pack(">H", len(lines))
    reply += b"".join(one.encode().ljust(4) + text.encode().ljust(24) + packed(amount, 4) for one, text, amount in lines)
    return area[:27] + reply + area[27 + len(reply):]


def serve(taken: BinaryIO, given: BinaryIO) -> None:
    while taken.read(1):
        room, length = struct.unpack(">II", taken.read(8))
        area = taken.read(length).ljust(room, b"\x00")
        given.write(struct.pack(">iI", 0, SIZE) + called(area[:SIZE].ljust(SIZE, b"\x00")))
        given.flush()


if __name__ == "__main__":
    serve(sys.stdin.buffer, sys.stdout.buffer)
