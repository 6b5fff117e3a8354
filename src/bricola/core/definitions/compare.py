"""Readable differences between two sets of definition texts."""

import difflib
from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class FileDifference:
    """One file that differs: added, removed or changed, with its lines.

    A line is (sign, old number, new number, text); the sign is '+', '-', ' ', or '…' for lines left out, whose text is
    their number."""

    path: str
    action: str
    lines: tuple[tuple[str, int | None, int | None, str], ...]


def compare_texts(old: Mapping[str, str], new: Mapping[str, str]) -> list[FileDifference]:
    """Every file that differs, in the order of paths."""
    differences = []
    for path in sorted({*old, *new}):
        before, after = old.get(path), new.get(path)
        if before != after:
            action = "added" if before is None else "removed" if after is None else "changed"
            differences.append(FileDifference(path, action, tuple(compare_lines(before or "", after or ""))))
    return differences


def compare_lines(old: str, new: str, around: int = 3) -> list[tuple[str, int | None, int | None, str]]:
    """The lines that differ with `around` lines of context, numbered on both sides."""
    before, after = old.splitlines(), new.splitlines()
    lines: list[tuple[str, int | None, int | None, str]] = []
    shown = 0
    for group in difflib.SequenceMatcher(None, before, after, autojunk=False).get_grouped_opcodes(around):
        if group[0][1] > shown:
            lines.append(("…", None, None, str(group[0][1] - shown)))
        shown = group[-1][2]
        for tag, low, high, new_low, new_high in group:
            if tag == "equal":
                lines += [(" ", low + index + 1, new_low + index + 1, before[low + index]) for index in range(high - low)]
                continue
            lines += [("-", index + 1, None, before[index]) for index in range(low, high)]
            lines += [("+", None, index + 1, after[index]) for index in range(new_low, new_high)]
    return lines
