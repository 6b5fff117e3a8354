"""A 5250 display as bytes, for hosts that keep it and send it back (Save Screen, Restore Screen).

The form is this terminal's own affair. It holds all that is shown and can be typed into, so that a host may keep as many as it likes and
bring them back in any order: numbers of a fixed width (rows, columns, cursor, home, error row, command key switches; of each field its
start, length, format word, control words), then the characters.
"""

import struct

from bricola.core.terminals.buffer3270 import DataStreamError
from bricola.core.terminals.buffer5250 import SIZES, Buffer5250, InputField

_HEAD = struct.Struct(">BBHHBIH")
_FIELD = struct.Struct(">HHHB")


def saved_screen(buffer: Buffer5250) -> bytes:
    out = bytearray(_HEAD.pack(buffer.rows, buffer.columns, buffer.cursor, buffer.home, buffer.error_row, buffer.switches,
                               len(buffer.table)))
    for one in buffer.table:
        out += _FIELD.pack(one.start, one.length, one.format, len(one.control)) + struct.pack(f">{len(one.control)}H", *one.control)
    return bytes(out + buffer.characters)


def restore_screen(buffer: Buffer5250, state: bytes, offset: int) -> None:
    """Show what was saved. Raises DataStreamError for what this terminal never saved."""
    try:
        rows, columns, cursor, home, error_row, switches, count = _HEAD.unpack_from(state)
        at, table = _HEAD.size, []
        for _ in range(count):
            start, length, form, controls = _FIELD.unpack_from(state, at)
            at += _FIELD.size
            table.append(InputField(start, length, form, struct.unpack_from(f">{controls}H", state, at)))
            at += 2 * controls
    except struct.error:
        raise DataStreamError("The host restores a screen that was never saved", offset) from None
    characters, size = state[at:], rows * columns
    if len(characters) != size or (rows, columns) not in SIZES or max(cursor, home) >= size or error_row >= rows or any(
            one.start + one.length > size for one in table):
        raise DataStreamError("The host restores a screen that was never saved", offset)
    buffer.show(rows, columns, characters, table, cursor, home)
    buffer.error_row, buffer.switches = error_row, switches
