"""What a terminal answers to Query: what it can do, one reply a subject."""

_SUMMARY, _USABLE, _COLOUR, _HIGHLIGHT, _MODES, _IMPLICIT, _NULL = 0x80, 0x81, 0x86, 0x87, 0x88, 0xA6, 0xFF


def query_reply(alternate: tuple[int, int], colour: bool, asked: bytes | None = None) -> bytes:
    """The record: AID 88 and the replies. `asked` are the codes of a Query List; None for all."""
    rows, columns = alternate
    size = rows * columns
    bodies = {
        _USABLE: bytes((0x03 if size > 16_384 else 0x01, 0x00))
        + _sixteen_bits(columns, rows)
        + bytes.fromhex("01000A02E50002006F090C")
        + _sixteen_bits(size),
        _COLOUR: b"\x00\x10\x00\xf4" + b"".join(bytes((code, code if colour else 0xF4)) for code in range(0xF1, 0x100)),
        _HIGHLIGHT: bytes.fromhex("0500F0F1F1F2F2F4F4F8F8"),
        _MODES: b"\x00\x01\x02",
        _IMPLICIT: b"\x00\x00\x0b\x01\x00" + _sixteen_bits(80, 24, columns, rows),
    }
    if not colour:
        del bodies[_COLOUR]
    wanted = [code for code in bodies if asked is None or code in asked]
    replies = [(_SUMMARY, bytes((_SUMMARY, *bodies)))] if asked is None or _SUMMARY in asked else []
    replies += [(code, bodies[code]) for code in wanted]
    if not replies:
        replies = [(_NULL, b"")]
    return b"\x88" + b"".join(_sixteen_bits(len(body) + 4) + bytes((0x81, code)) + body for code, body in replies)


def _sixteen_bits(*numbers: int) -> bytes:
    return b"".join(one.to_bytes(2, "big") for one in numbers)
