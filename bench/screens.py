"""3270 screens in memory: a full colour screen decoded into a value, a form answered, and what an idle session holds."""

import statistics
import time
import tracemalloc

from bricola.core.terminals import telnet
from bricola.core.terminals.addresses import write_address
from bricola.core.terminals.terminal import TerminalSettings
from bricola.core.terminals.tn3270 import Tn3270

NEGOTIATION = bytes.fromhex("fffd18fffd19fffb19fffd00fffb00")


def colour_screen() -> bytes:
    """24 rows of eight fields, each with a colour of its own, full of text: 1,920 positions, 192 attributes."""
    out = bytearray((0xF5, 0xC3))
    for row in range(24):
        for column in range(8):
            out += b"\x11" + write_address(row * 80 + column * 10, 1920)
            out += bytes((0x29, 2, 0xC0, 0x60 if column % 2 else 0x40, 0x42, 0xF1 + (row + column) % 7)) + "Larkmere1".encode("cp037")
    return telnet.record(bytes(out))


def main() -> None:
    data = colour_screen()
    terminal = Tn3270(TerminalSettings())
    terminal.receive(NEGOTIATION)
    times: dict[str, list[float]] = {"record into the buffer": [], "buffer into a screen": [], "Enter with no field": []}
    for _ in range(300):
        began = time.perf_counter()
        terminal.receive(data)
        written = time.perf_counter()
        screen = terminal.screen
        shown = time.perf_counter()
        terminal.press("Enter")
        times["Enter with no field"].append(time.perf_counter() - shown)
        times["record into the buffer"].append(written - began)
        times["buffer into a screen"].append(shown - written)
    assert len(screen.fields) == 192
    print(f"a full colour screen: {len(data):,} bytes, {len(screen.fields)} fields\n\n| what | median µs |\n| --- | --- |")
    for name, found in times.items():
        print(f"| {name} | {statistics.median(found) * 1e6:.0f} |")
    tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    held = []
    for _ in range(200):
        one = Tn3270(TerminalSettings())
        one.receive(NEGOTIATION + data)
        held.append(one)
    print(f"\nan idle session with this screen holds {(tracemalloc.get_traced_memory()[0] - before) / len(held) / 1000:.1f} kB")


if __name__ == "__main__":
    main()
