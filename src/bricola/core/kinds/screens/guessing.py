"""What a person points at on a screen, guessed: names from labels and headings, types and looks from content, columns, pages, marks."""

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from bricola.core.definitions.engines.terminals import Mark, Spot
from bricola.core.definitions.names import camel_case
from bricola.core.kinds.screens.alarm import label_of
from bricola.core.kinds.screens.recognise import text_at
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.terminals.screen import Screen

_DATE_LOOKS = (
    (re.compile(r"\d{4}-\d{2}-\d{2}"), "YYYY-MM-DD"), (re.compile(r"(0[1-9]|[12]\d|3[01])/(0[1-9]|1[0-2])/\d{2}"), "DD/MM/YY"),
    (re.compile(r"(0[1-9]|[12]\d|3[01])/(0[1-9]|1[0-2])/\d{4}"), "DD/MM/YYYY"),
    (re.compile(r"(0[1-9]|[12]\d|3[01])\.(0[1-9]|1[0-2])\.\d{4}"), "DD.MM.YYYY"),
    (re.compile(r"(0[1-9]|[12]\d|3[01])\.(0[1-9]|1[0-2])\.\d{2}"), "DD.MM.YY"),
)
_WHOLE = re.compile(r"-?\d{1,9}")
_POINT = re.compile(r"[-+]?\d{1,3}(,\d{3})*\.\d+(-|CR)?|[-+]?\d+\.\d+(-|CR)?")
_COMMA = re.compile(r"[-+]?\d{1,3}(\.\d{3})*,\d+-?")
_CODE = re.compile(r"[A-Z][A-Z0-9]{2,9}")
_MORE = ("more", "+")
_END = ("bottom", "end")
_PAGE_KEYS = {"tn3270": "PF8", "tn5250": "PageDown"}


@dataclass(frozen=True)
class Guess:
    """What a text seems to be: a name from its label, and a type with its look."""

    name: str
    label: str
    type: str
    dates: str = ""
    decimal: Literal["point", "comma"] = "point"
    fraction: int | None = None


def propose_name(screen: Screen) -> str:
    """A name for a screen that nobody knows: the code in its first rows, else its first words. The same screen gets the same one."""
    for row in range(min(3, screen.rows)):
        code = next(
            (one[0] for one in re.finditer(r"\S+", screen.lines[row]) if _CODE.fullmatch(one[0]) and any(map(str.isdigit, one[0]))), ""
        )
        if code:
            return code.lower()
    words = next((re.findall(r"[A-Za-z]{2,}", line) for line in screen.lines if re.search(r"[A-Za-z]{2,}", line)), [])
    return "-".join(one.lower() for one in words[:3])[:40] or "blank"


def guess(screen: Screen, row: int, column: int, length: int | None = None) -> Guess:
    """What stands at a place: named by the label before it, or above it where it is a column."""
    text = text_at(screen, Spot(row=row, column=column, length=length)).strip()
    label = label_of(screen, row, column) or _heading(screen, row, column, length or max(1, len(text)), True)
    return Guess(element_name(label) or "value", label, *_type_of(text))


def guess_column(screen: Screen, rows: Iterable[int], column: int, length: int) -> Guess:
    """A column of a list, from what stands in it on all rows and from its heading."""
    numbers = list(rows)
    texts = [one for row in numbers if (one := screen.lines[row - 1][column - 1:column - 1 + length].strip())]
    kinds = {_type_of(one) for one in texts} or {_type_of("")}
    kind = next(iter(kinds)) if len(kinds) == 1 else _wider(kinds)
    label = _heading(screen, min(numbers), column, length, False)
    return Guess(element_name(label) or f"column{column}", label, *kind)


def columns_of(screen: Screen, first_row: int, last_row: int, first_column: int, last_column: int) -> list[tuple[int, int]]:
    """The columns in a region, as first column and length: parted where every row is blank, and by two blanks or a heading's start."""
    lines = [
        screen.lines[row - 1][first_column - 1 : last_column].ljust(last_column - first_column + 1)
        for row in range(first_row, last_row + 1)
    ]
    lines = [one for one in lines if one.strip()]
    if not lines:
        return []
    taken = [any(one[at] != " " for one in lines) for at in range(last_column - first_column + 1)]
    spans: list[list[int]] = []
    for at, full in enumerate(taken):
        if not full:
            continue
        if spans and at - spans[-1][1] <= (1 if _is_prose(lines, spans[-1][1] + 1) else 0) + 1:
            spans[-1][1] = at
        else:
            spans.append([at, at])
    return [(first_column + start, end - start + 1) for start, end in spans]


def widened(spans: Sequence[tuple[int, int]], numeric: Sequence[bool], first_column: int, last_column: int) -> list[tuple[int, int]]:
    """The columns with the room that other rows may need: numbers grow to the left, texts to the right, up to a blank before the next."""
    found: list[tuple[int, int]] = []
    for index, (start, length) in enumerate(spans):
        end = start + length - 1
        if numeric[index]:
            before = found[-1][0] + found[-1][1] - 1 if index else first_column - 2
            start = max(before + 2, first_column)
        else:
            after = spans[index + 1][0] if index + 1 < len(spans) else last_column + 2
            if index + 1 >= len(spans) or not numeric[index + 1]:
                end = max(end, min(after - 2, last_column))
        found.append((start, end - start + 1))
    return found


def _is_prose(lines: Sequence[str], at: int) -> bool:
    """Whether a gap of one blank is inside a text of words: letters stand on both sides in some row."""
    return any(0 < at < len(one) - 1 and one[at] == " " and one[at - 1].isalpha() and one[at + 1].isalpha() for one in lines)


def guess_pages(screen: Screen, last_row: int, engine: str) -> tuple[str, Mark | None, Mark | None]:
    """The key for the next page, and the mark that goes on or ends: a word like More or Bottom below the list."""
    for row in range(last_row + 1, min(last_row + 4, screen.rows) + 1):
        for found in re.finditer(r"\S+(?: \S+)*", screen.lines[row - 1]):
            words = found[0].lower()
            if words.startswith(_MORE):
                return _PAGE_KEYS.get(engine, ""), Mark(row=row, column=found.start() + 1, text=found[0].split(" ")[0].rstrip(".")), None
            if words.startswith(_END):
                return _PAGE_KEYS.get(engine, ""), None, Mark(row=row, column=found.start() + 1, text=found[0].split(" ")[0])
    return "", None, None


def guess_marks(screen: Screen, others: Sequence[Screen], visits: Sequence[Screen] = ()) -> tuple[Mark, ...]:
    """Signs that this screen has and the others have not: the code in its first rows, else its title, else a label further down; and its
    first input. `visits` are the same screen at other times: what did not stand still is no sign."""
    again = [one for one in visits if one != screen]
    found = [(mark, _weight(screen, mark)) for mark in _still(screen, range(1, min(4, screen.rows + 1)), others, again)]
    if not found and again:  # below the first rows stand data, too; what stood there every time is none
        found = [(mark, _weight(screen, mark)) for mark in _still(screen, range(4, screen.rows + 1), others, again)]
    if not found:
        raise ProblemError(Problem("recording.mark", "Nothing that was seen tells this screen from the others.",
                                   found=shown(next((line.strip() for line in screen.lines if line.strip()), "")),
                                   mend="Go through it once more with other data, or give it a mark by hand: a text that it "
                                        "alone has."))
    marks = [max(found, key=lambda one: one[1])[0]]
    if screen.inputs and len(screen.inputs) <= 8:
        first = screen.inputs[0]
        row, column = divmod(first.start, screen.columns)
        marks.append(Mark(row=row + 1, column=column + 1, field="hidden" if first.hidden else "input", length=first.length))
    return tuple(marks)


def _still(screen: Screen, rows: Iterable[int], others: Sequence[Screen], again: Sequence[Screen]) -> Iterator[Mark]:
    """Texts that stood at their place every time, and on no other screen."""
    inputs = {at for one in screen.inputs for at in range(one.start, one.start + one.length)}
    for row in rows:
        for word in re.finditer(r"\S+(?: \S+)*", screen.lines[row - 1]):
            text, at = word[0], word.start()
            if any(one.isdigit() for one in text) and not _CODE.fullmatch(text):
                continue  # a date, a time, a number: it is another one tomorrow
            if (row - 1) * screen.columns + at in inputs or not any(map(str.isalpha, text)):
                continue
            stands = all(row <= one.rows and one.lines[row - 1].startswith(text, at) for one in again)
            if stands and not any(row <= one.rows and one.lines[row - 1].startswith(text, at) for one in others):
                yield Mark(row=row, column=at + 1, text=text)


def _weight(screen: Screen, mark: Mark) -> tuple[bool, bool, bool, int]:
    """How much a text looks like what names a screen: a code, a title in the middle of its row or shown brightly; the upper one of two."""
    assert mark.row is not None
    assert mark.column is not None
    middle = mark.column - 1 + len(mark.text) / 2
    bright = screen.field_at((mark.row - 1) * screen.columns + mark.column - 1)
    return (bool(_CODE.fullmatch(mark.text)) and any(map(str.isdigit, mark.text)), abs(middle - screen.columns / 2) <= screen.columns / 10,
            bool(bright and bright.intensified), -mark.row)


def element_name(label: str) -> str:
    """A name for what stands beside a label: of its first words, since some labels are sentences."""
    name = camel_case(" ".join(re.findall(r"[A-Za-z0-9]+", label)[:4]))
    return name if name[:1].isalpha() or not name else f"field{name}"


def _type_of(text: str) -> tuple[str, str, Literal["point", "comma"], int | None]:
    for pattern, look in _DATE_LOOKS:
        if pattern.fullmatch(text):
            return "date", look, "point", None
    if _COMMA.fullmatch(text) and not _POINT.fullmatch(text):
        return "decimal", "", "comma", len(text.rstrip("-").rpartition(",")[2])
    if _POINT.fullmatch(text):
        return "decimal", "", "point", len(re.sub(r"(-|CR)$", "", text).rpartition(".")[2])
    if _WHOLE.fullmatch(text) and not (len(text) > 1 and text.startswith("0")):
        return "int", "", "point", None
    return "string", "", "point", None


def _wider(kinds: set[tuple[str, str, Literal["point", "comma"], int | None]]) -> tuple[str, str, Literal["point", "comma"], int | None]:
    names = {one[0] for one in kinds}
    if names == {"int", "decimal"}:
        return next(one for one in kinds if one[0] == "decimal")
    return "string", "", "point", None


def _heading(screen: Screen, row: int, column: int, length: int, inside: bool) -> str:
    """The word above a column: the nearest row above in which letters stand over it, up to a blank row. `inside` says that the row may
    be inside a list, whose other rows are no headings."""
    for above in range(row - 1, max(0, row - 14), -1):
        line = screen.lines[above - 1]
        if not line.strip():
            return ""
        for word in re.finditer(r"\S+(?: \S+)*", line):
            start, end = word.start() + 1, word.end()
            if start <= column + length - 1 and end >= column and any(one.isalpha() for one in word[0]):
                if inside and _is_data(screen, above, row, column, length):
                    continue
                return word[0]
    return ""


def _is_data(screen: Screen, above: int, row: int, column: int, length: int) -> bool:
    """Whether the row above is a row of the same list: the same kind of text stands in the column."""
    upper = screen.lines[above - 1][column - 1:column - 1 + length].strip()
    lower = screen.lines[row - 1][column - 1:column - 1 + length].strip()
    return bool(upper) and _type_of(upper) == _type_of(lower) and any(one.isdigit() for one in upper) == any(one.isdigit() for one in lower)
