"""Buffer addresses of the 3270 data stream: 12-bit in printable bytes, 14-bit binary, or 16-bit on screens that need it."""

# Six bits as the byte that carries them: the code table of the data stream.
CODES = bytes.fromhex(
    "40C1C2C3C4C5C6C7C8C94A4B4C4D4E4F50D1D2D3D4D5D6D7D8D95A5B5C5D5E5F"
    "6061E2E3E4E5E6E7E8E96A6B6C6D6E6FF0F1F2F3F4F5F6F7F8F97A7B7C7D7E7F")
_LARGEST_12_BIT = 4096
_LARGEST_14_BIT = 16_384  # positions; a larger screen is addressed by all sixteen bits


def read_address(first: int, second: int, size: int = _LARGEST_14_BIT) -> int | None:
    """The address in two bytes, on a screen of so many positions; None for the reserved form."""
    if size > _LARGEST_14_BIT:
        return first << 8 | second
    form = first >> 6
    if form == 0:
        return (first & 0x3F) << 8 | second
    if form == 2:
        return None
    return (first & 0x3F) << 6 | second & 0x3F


def write_address(address: int, size: int) -> bytes:
    """An address on a screen of so many positions: 12-bit while they suffice."""
    if size <= _LARGEST_12_BIT:
        return bytes((CODES[address >> 6], CODES[address & 0x3F]))
    return bytes((address >> 8 & (0xFF if size > _LARGEST_14_BIT else 0x3F), address & 0xFF))
