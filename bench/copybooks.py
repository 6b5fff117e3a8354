"""What records of copybooks cost: both directions beside a decoder written by hand with `struct`, and reading long copybooks.

    python bench/copybooks.py [--rounds 5]

The record has 2,000 bytes and 100 items: texts, zoned and packed numbers of each sign, binaries, in cp037. The decoder by hand
knows every offset and checks what ours checks: that digits are digits and signs are signs. Best of the rounds, CPU time.
"""

import argparse
import random
import struct
import time
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from bricola.core.cobol.layout import records_of
from bricola.core.cobol.record import Options, codec_of

LINES = 5000


def copybook() -> str:
    """Twenty times five items: X(62), 9(7), S9(7)V99 COMP-3, S9(9) COMP, S9(9)V99 zoned; with them 2,000 bytes."""
    lines = ["       01  LEDGER-PAGE."]
    for number in range(20):
        lines += [f"           05  TEXT-{number}      PIC X(73).", f"           05  COUNT-{number}     PIC 9(7).",
                  f"           05  AMOUNT-{number}    PIC S9(7)V99 COMP-3.", f"           05  BINARY-{number}    PIC S9(9) COMP.",
                  f"           05  SIGNED-{number}    PIC S9(9)V99."]
    return "\n".join(lines)


_ROW = struct.Struct(">73s7s5si11s")
_PAGE = struct.Struct(">" + "73s7s5si11s" * 20)
_SIGNS = {0xC0 + digit: ("", str(digit)) for digit in range(10)} | {0xD0 + digit: ("-", str(digit)) for digit in range(10)} \
    | {0xF0 + digit: ("", str(digit)) for digit in range(10)}
_PACKED = {"c": "", "d": "-", "f": ""}


def by_hand(data: bytes) -> dict[str, Any]:
    """The record as somebody writes it who has this one copybook."""
    parts = _PAGE.unpack(data)
    values: dict[str, Any] = {}
    for number in range(20):
        text, count, amount, binary, signed = parts[number * 5:number * 5 + 5]
        digits = count.decode("cp037")
        packed = amount.hex()
        sign, last = _SIGNS[signed[-1]]
        zoned = signed[:-1].decode("cp037") + last
        if not (digits + packed[:-1] + zoned).isdecimal():
            raise ValueError(number)
        values[f"TEXT-{number}"] = text.decode("cp037")
        values[f"COUNT-{number}"] = Decimal(digits)
        values[f"AMOUNT-{number}"] = Decimal(f"{_PACKED[packed[-1]]}{packed[:-3]}.{packed[-3:-1]}") or Decimal("0.00")
        values[f"BINARY-{number}"] = Decimal(binary)
        values[f"SIGNED-{number}"] = Decimal(f"{sign}{zoned[:-2]}.{zoned[-2:]}") or Decimal("0.00")
    return {"LEDGER-PAGE": values}


_ZONES = bytes.maketrans(b"0123456789", bytes(range(0xF0, 0xFA)))


def to_hand(values: dict[str, Any]) -> bytes:
    """The same back, refusing what does not fit."""
    page = values["LEDGER-PAGE"]
    parts: list[Any] = []
    for number in range(20):
        text = page[f"TEXT-{number}"].encode("cp037")
        count, binary = page[f"COUNT-{number}"], page[f"BINARY-{number}"]
        amount, signed = page[f"AMOUNT-{number}"] * 100, page[f"SIGNED-{number}"] * 100
        if len(text) > 73 or count != int(count) or binary != int(binary) or amount != int(amount) or signed != int(signed):
            raise ValueError(number)
        packed = bytes.fromhex(f"{abs(int(amount)):09}{'d' if amount < 0 else 'c'}")
        digits = f"{int(count):07}"
        zoned = f"{abs(int(signed)):011}"
        if len(packed) != 5 or len(digits) != 7 or len(zoned) != 11 or abs(int(binary)) > 999_999_999 or count < 0:
            raise ValueError(number)
        last = (0xD0 if signed < 0 else 0xC0) + int(zoned[-1])
        parts += [text.ljust(73, b"\x40"), digits.encode().translate(_ZONES), packed, int(binary),
                  zoned[:-1].encode().translate(_ZONES) + bytes((last,))]
    return _PAGE.pack(*parts)


def best(work: Callable[[], object], times: int, rounds: int) -> float:
    """Microseconds of CPU time a turn."""
    found = []
    for _ in range(rounds):
        begun = time.process_time()
        for _ in range(times):
            work()
        found.append((time.process_time() - begun) / times)
    return min(found) * 1e6


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=5)
    rounds = parser.parse_args().rounds
    dice = random.Random(1)
    values: dict[str, Any] = {}
    for number in range(20):
        values |= {f"TEXT-{number}": "".join(dice.choice("ABCDEFGH IJK") for _ in range(73)),
                   f"COUNT-{number}": Decimal(dice.randrange(10**7)), f"BINARY-{number}": Decimal(dice.randrange(10**9)),
                   f"AMOUNT-{number}": Decimal(dice.randrange(-10**9, 10**9)).scaleb(-2),
                   f"SIGNED-{number}": Decimal(dice.randrange(-10**11, 10**11)).scaleb(-2)}
    page = {"LEDGER-PAGE": values}
    codec = codec_of(copybook(), "cp037", Options(source_format="fixed"))
    data = to_hand(page)
    assert len(data) == 2000
    assert codec.decode(data) == by_hand(data) == page
    assert codec.encode(page) == data
    print("| direction | ours, µs | MB/s | by hand, µs | ratio |\n| --- | --- | --- | --- | --- |")
    for name, ours, theirs in (("bytes to values", lambda: codec.decode(data), lambda: by_hand(data)),
                               ("values to bytes", lambda: codec.encode(page), lambda: to_hand(page))):
        mine, hand = best(ours, 2000, rounds), best(theirs, 2000, rounds)
        print(f"| {name} | {mine:.0f} | {2000 / mine:.1f} | {hand:.0f} | **{mine / hand:.2f}** |")
    long = "       01  LONG-ONE.\n" + "\n".join(
        f"           05  ITEM-{number:05}          PIC S9(5)V99 COMP-3." for number in range(LINES - 1))
    took = best(lambda: records_of(long, "fixed"), 1, rounds) / 1000
    made = best(lambda: codec_of(copybook(), "cp037", Options(source_format="fixed")), 1, rounds) / 1000
    print(f"\nA copybook of {LINES} lines is laid out in {took:.0f} ms ({took / LINES * 1000:.0f} µs a line).")
    print(f"The codec of the record above is made in {made:.0f} ms.")


if __name__ == "__main__":
    main()
