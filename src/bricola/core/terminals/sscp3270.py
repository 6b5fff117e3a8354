"""What stands on a 3270 while no application is bound to it: the text of the network itself (SSCP-LU data, RFC 2355, section 10.5), or
of the server (NVT data, RFC 2355, section 8.1.1). Both are unformatted; what is typed behind the last text goes back with Enter.
"""

from bricola.core.terminals.buffer3270 import Buffer3270

_NEW_LINE, _FORM_FEED, _RETURN, _LINE_FEED = 0x15, 0x0C, 0x0D, 0x25  # EBCDIC, as character-coded data has them
_BLANK = 0x40


class UnformattedText:
    """Writes text onto a display of a 3270, and reads what was typed behind it."""

    def __init__(self, buffer: Buffer3270) -> None:
        self._buffer = buffer
        buffer.erase()
        self._typed_from = 0

    def write(self, codes: bytes) -> None:
        """Character-coded data from the cursor on; lines that run off the end go on at the top. The keyboard opens."""
        buffer = self._buffer
        at, columns = buffer.cursor, buffer.columns
        for code in codes:
            if code in (_NEW_LINE, _LINE_FEED):
                at = (at // columns + 1) * columns % buffer.size if code == _NEW_LINE else (at + columns) % buffer.size
            elif code == _RETURN:
                at -= at % columns
            elif code == _FORM_FEED:
                buffer.erase()
                at = 0
            else:
                buffer.characters[at] = code if code >= _BLANK else 0
                at = (at + 1) % buffer.size
        buffer.cursor = self._typed_from = at
        buffer.locked = False

    def typed(self) -> bytes:
        """What stands behind the last text, up to the last character of it."""
        return bytes(self._buffer.characters[self._typed_from:]).rstrip(b"\x00\x40").replace(b"\x00", b"\x40")
