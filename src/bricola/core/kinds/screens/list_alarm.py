"""What of a list is not where it was filmed: its headings, the fields of its rows, and texts that go over the edges of their columns.

Rows come and go, so no row is compared with another. Of all filmed pages together it is known in which columns fields begin, what stands
above them, and that no text reached over an edge; the live pages have to be the same in that.
"""

from collections.abc import Iterator, Sequence

from bricola.core.definitions.engines.terminals import KnownScreen, ListColumn, ListRegion
from bricola.core.kinds.screens.recognise import Moved, spot_of
from bricola.core.terminals.screen import Screen

_MOST_HEADING_ROWS = 3  # above a list


def moved_lists(known: KnownScreen, filmed: Sequence[Screen], live: Sequence[Screen]) -> Iterator[Moved]:
    """The differences of all lists of a screen, from the pages that were filmed and those that came now."""
    for region in known.lists:
        for column in region.columns:
            told = _heading(known, region, column, filmed[0], live[0]) or _field(known, region, column, filmed, live) \
                or _edges(known, region, column, filmed, live)
            if told is not None:
                yield told


def _heading(known: KnownScreen, region: ListRegion, column: ListColumn, filmed: Screen, live: Screen) -> Moved | None:
    found = _heading_of(filmed, region, column)
    if found is None:
        return None
    start, text = found
    if live.characters.startswith(text, start):
        return None
    row = start // filmed.columns
    line = live.lines[row] if row < live.rows else ""
    at = row * live.columns + line.find(text) if text in line else live.characters.find(text)
    return Moved(known.name, f"the heading {text!r} over {column.name} of {region.name}", f"at {spot_of(filmed, start)}",
                 f"it stands at {spot_of(live, at)}" if at >= 0 else "it is gone")


def _heading_of(screen: Screen, region: ListRegion, column: ListColumn) -> tuple[int, str] | None:
    """The words over a column, in the nearest row above that has some there: where they begin, and what they say."""
    first, last = column.column - 1, column.column - 2 + column.length
    for row in range(region.rows[0] - 2, max(region.rows[0] - 2 - _MOST_HEADING_ROWS, -1), -1):
        line = screen.lines[row] if row < screen.rows else ""
        for start, text in _words(line):
            if start <= last and start + len(text) > first and any(one.isalpha() for one in text):
                return row * screen.columns + start, text
    return None


def _words(line: str) -> Iterator[tuple[int, str]]:
    """The texts of a line that at least two blanks stand between."""
    at = 0
    for part in line.split("  "):
        text = part.strip()
        if text:
            yield at + part.find(text), text
        at += len(part) + 2


def _field(known: KnownScreen, region: ListRegion, column: ListColumn, filmed: Sequence[Screen], live: Sequence[Screen]) -> Moved | None:
    """Where fields of rows begin: at a column where some began, some still do, if any row has fields at all."""
    was, now = _starts(region, column.line, filmed), _starts(region, column.line, live)
    at = column.column - 1
    if at not in was or at in now or not now:
        return None
    near = min(now - was or now, key=lambda one: abs(one - at))
    return Moved(known.name, f"the column {column.name} of {region.name}", f"fields that begin at column {at + 1}",
                 f"the nearest begin at column {near + 1}")


def _starts(region: ListRegion, line: int, screens: Sequence[Screen]) -> set[int]:
    found = set()
    for screen in screens:
        rows = set(_rows(region, line, screen))
        found |= {one.start % screen.columns for one in screen.fields
                  if one.start // screen.columns in rows and screen.text_of(one).strip()}
    return found


def _rows(region: ListRegion, line: int, screen: Screen) -> Iterator[int]:
    """The rows of a region, from 0, that a line of its entries stands in. Where lines are skipped it may be any."""
    first, last = region.rows[0] - 1, min(region.rows[1], screen.rows)
    step = 1 if region.skip else region.lines
    return iter(range(first + (0 if region.skip else line - 1), last, step))


def _edges(known: KnownScreen, region: ListRegion, column: ListColumn, filmed: Sequence[Screen], live: Sequence[Screen]) -> Moved | None:
    """A text that goes over an edge of the column now, where none did: part of it would be read."""
    was, now = _crossed(region, column, filmed), _crossed(region, column, live)
    for side in ("left", "right"):
        if side in now and side not in was:
            return Moved(known.name, f"the column {column.name} of {region.name}",
                         f"texts within columns {column.column} to {column.column + column.length - 1}",
                         f"{now[side]!r} goes over the {side} edge")
    return None


def _crossed(region: ListRegion, column: ListColumn, screens: Sequence[Screen]) -> dict[str, str]:
    """By side of the column: a text that goes over that edge."""
    found: dict[str, str] = {}
    start, end = column.column - 1, column.column - 1 + column.length
    for screen in screens:
        for row in _rows(region, column.line, screen):
            line = screen.lines[row]
            if any(one.text in line if one.column is None else line.startswith(one.text, one.column - 1) for one in region.skip):
                continue
            if start > 0 and line[start - 1:start + 1].strip() and " " not in line[start - 1:start + 1]:
                found.setdefault("left", _around(line, start))
            if end < len(line) and " " not in line[end - 1:end + 1]:
                found.setdefault("right", _around(line, end))
    return found


def _around(line: str, at: int) -> str:
    """The text without blanks that goes over a place."""
    return line[line.rfind(" ", 0, at) + 1:].split(" ", 1)[0]
