"""A text that a pattern takes: the shortest that is easy to find, for samples."""

from collections.abc import Iterator

from bricola.core.patterns.syntax import Chars, Choice, Node, Repeat, Sequence, read_pattern
from bricola.core.patterns.translate import ranges_of

_PREFERRED = "1aAx0-_. ,/"
_LONGEST = 2000


def samples_of(pattern: str) -> Iterator[str]:
    """Texts of a pattern, the shortest first, then longer ones. Raises PatternError."""
    tree = read_pattern(pattern)
    for more in (0, 1, 2, 3, 5, 8, 12, 20, 40):
        for branch in range(4):
            text = _text(tree, more, branch)
            if len(text) <= _LONGEST:
                yield text


def _text(node: Node, more: int, branch: int) -> str:
    if isinstance(node, Chars):
        return _character(node)
    if isinstance(node, Repeat):
        count = node.least + more if node.most is None else min(node.least + more, node.most)
        return _text(node.what, more, branch) * min(count, _LONGEST)
    if isinstance(node, Sequence):
        return "".join(_text(part, more, branch) for part in node.parts)
    assert isinstance(node, Choice)
    return _text(node.branches[branch % len(node.branches)], more, branch)


def _character(node: Chars) -> str:
    ranges = ranges_of(node)
    for one in _PREFERRED:
        if any(low <= ord(one) <= high for low, high in ranges):
            return one
    return next((chr(low) for low, high in ranges if low >= 0x20), "")
