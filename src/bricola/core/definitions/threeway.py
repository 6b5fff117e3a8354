"""Two changes of one text, line by line (the way of diff3: Khanna, Kunal, Pierce, "A Formal Investigation of Diff3", 2007).

Lines that stand unchanged in both, in one row, are the firm ground. What lies between two such places is taken from whoever changed it, and
where both did, and differently, both stand between marks.
"""

import difflib
from collections.abc import Iterator, Sequence

MINE, BETWEEN, THEIRS = "<<<<<<< this folder", "=======", ">>>>>>> the service"


def merge_lines(base: str, mine: str, theirs: str) -> tuple[str, bool]:
    """The merged text, and whether both changed one place differently."""
    parts, conflict = [], False
    for ours, other, before in _chunks(_lines(base), _lines(mine), _lines(theirs)):
        if ours == other or other == before:
            parts += ours
        elif ours == before:
            parts += other
        else:
            conflict = True
            parts += [f"{MINE}\n", *_ended(ours), f"{BETWEEN}\n", *_ended(other), f"{THEIRS}\n"]
    return "".join(parts), conflict


def _lines(text: str) -> list[str]:
    return text.splitlines(keepends=True)


def _ended(lines: Sequence[str]) -> list[str]:
    return [one if one.endswith("\n") else f"{one}\n" for one in lines]


def _chunks(base: list[str], mine: list[str], theirs: list[str]) -> Iterator[tuple[list[str], list[str], list[str]]]:
    """Mine, theirs and the base's lines of each stretch, firm ground and what lies between."""
    to_mine, to_theirs = _matches(base, mine), _matches(base, theirs)
    at = here = there = 0
    for line in range(len(base)):
        if line not in to_mine or line not in to_theirs:
            continue
        yield mine[here:to_mine[line]], theirs[there:to_theirs[line]], base[at:line]
        yield [base[line]], [base[line]], [base[line]]
        at, here, there = line + 1, to_mine[line] + 1, to_theirs[line] + 1
    yield mine[here:], theirs[there:], base[at:]


def _matches(base: list[str], other: list[str]) -> dict[int, int]:
    """Where each line of the base that was kept stands in the other text; rising in both."""
    found = difflib.SequenceMatcher(None, base, other, autojunk=False).get_matching_blocks()
    return {one.a + offset: one.b + offset for one in found for offset in range(one.size)}
