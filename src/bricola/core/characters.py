"""Characters that XML can hold (XML 1.0, section 2.2): what comes in by another way is held against them, so that it can go out as XML."""

import re

_OUTSIDE = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def outside_xml(text: str) -> str:
    """The first character that XML cannot hold, like U+0001; '' where there is none. Half a surrogate pair is one, too."""
    if text.isprintable():  # nearly all text is, and the answer comes from a table in C
        return ""
    found = _OUTSIDE.search(text)
    return f"U+{ord(found.group()):04X}" if found else ""
