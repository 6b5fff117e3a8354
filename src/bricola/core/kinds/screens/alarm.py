"""The layout-change alarm: what of the filmed screens is not where it was on the live host."""

from collections.abc import Iterable, Sequence

from bricola.core.definitions.engines.terminals import KnownScreen, Move
from bricola.core.kinds.screens.film import Film, Shot
from bricola.core.kinds.screens.list_alarm import moved_lists
from bricola.core.kinds.screens.recognise import Moved, Recogniser, differences, spot_of
from bricola.core.terminals.screen import Field, Screen

_MOST_LABEL = 40


def filled_places(moves: Iterable[Move]) -> dict[str, set[str]]:
    """The places that moves type into, by screen."""
    found: dict[str, set[str]] = {}
    for move in moves:
        found.setdefault(move.on, set()).update(one.name for one in move.fill)
    return found


def compare_shots(
    filmed: Iterable[Shot], live: Iterable[Shot], screens: dict[str, KnownScreen], filled: dict[str, set[str]]
) -> list[Moved]:
    """Every difference in the layout of the screens that both walks met, each told once."""
    was, now = _met(filmed), _met(live)
    found: list[Moved] = []
    for name, pages in now.items():
        known = screens.get(name)
        if known is None:
            continue
        found += differences(known, pages[0], filled.get(name, ()))
        if name in was:
            found += _layout(known, was[name][0], pages[0])
            found += moved_lists(known, was[name], pages)
    return list(dict.fromkeys(found))


def _met(shots: Iterable[Shot]) -> dict[str, list[Screen]]:
    """By name, the screens of a walk as they came: of a list every page."""
    found: dict[str, list[Screen]] = {}
    for shot in shots:
        for name, screen in ((shot.known, shot.before), (shot.came, shot.after)):
            if screen not in found.setdefault(name, []):
                found[name].append(screen)
    return found


def inserted(expected: Sequence[Recogniser], known: Iterable[Recogniser], screen: Screen) -> Moved | None:
    """A screen that none of the expected has anything of: it stands before them, or took their place."""
    if any(one.matches(screen) for one in known):
        return None
    names = " or ".join(dict.fromkeys(one.name for one in expected))
    title = next((line.strip() for line in screen.lines if line.strip()), "")[:_MOST_LABEL]
    return Moved(names, "a screen that was not there", f"{names} comes next",
                 f"{title!r} comes before it, or instead of it: film the walk anew where it is meant to be there")


def _layout(known: KnownScreen, filmed: Screen, live: Screen) -> list[Moved]:
    """What a film knows beyond the marks: the size, the inputs, and the labels beside the places that are named."""
    if (filmed.rows, filmed.columns) != (live.rows, live.columns):
        return [Moved(known.name, "the size", f"{filmed.rows} x {filmed.columns}", f"{live.rows} x {live.columns}")]
    found = []
    was, is_now = _inputs(filmed), _inputs(live)
    for start, length in was.items():
        if start in is_now and is_now[start] != length:
            found.append(
                Moved(known.name, f"the input at {spot_of(filmed, start)}", f"{length} characters long", f"{is_now[start]} characters")
            )
    began = {one.start for one in filmed.fields}
    begins = {one.start for one in live.fields}
    for place in known.places:
        start = filmed.position(place.row, place.column)
        if start in began and start not in was and begins and start not in begins and place.row <= live.rows:
            near = min(begins - began or begins, key=lambda one: _distance(live, one, start))
            found.append(Moved(known.name, f"the field {place.name}", f"at {spot_of(filmed, start)}",
                               f"the nearest field begins at {spot_of(live, near)}"))
        label = _label(filmed, place.row, place.column)
        if not label or place.row > live.rows:
            continue
        start, text = label
        if live.characters.startswith(text, start):
            continue
        at = live.characters.find(text)
        found.append(Moved(known.name, f"the label {text!r} of {place.name}", f"at {spot_of(filmed, start)}",
                           f"it stands at {spot_of(live, at)}" if at >= 0 else "it is gone"))
    return found


def _distance(screen: Screen, one: int, other: int) -> tuple[int, int]:
    rows, columns = divmod(one, screen.columns), divmod(other, screen.columns)
    return abs(rows[0] - columns[0]), abs(rows[1] - columns[1])


def _inputs(screen: Screen) -> dict[int, int]:
    return {one.start: one.length for one in screen.inputs}


def _label(screen: Screen, row: int, column: int) -> tuple[int, str] | None:
    """The text in the row before a place: where it begins, and what it says. None where there is none with letters."""
    if row > screen.rows:
        return None
    before = screen.lines[row - 1][:column - 1].rstrip(" .:=>_-")
    at = max(before.rfind("  "), before.rfind(" . "))
    text = before[at + 2:].strip() if at >= 0 else before.strip()
    if not any(one.isalpha() for one in text):
        return None
    return screen.position(row, before.rfind(text) + 1), text[:_MOST_LABEL]


def label_of(screen: Screen, row: int, column: int) -> str:
    """What stands before a place in its row."""
    found = _label(screen, row, column)
    return found[1] if found is not None else ""


def nearest(expected: Iterable[Recogniser], screen: Screen) -> tuple[Recogniser, list[Moved]] | None:
    """Of the screens that were expected, the one that has most of its marks, and what is not where it was on it."""
    judged = [(one, differences(one.known, screen)) for one in expected]
    return min(judged, key=lambda pair: len(pair[1]) / len(pair[0].known.marks), default=None)


def sound(film: Film) -> list[str]:
    """What is missing in a film: it is back at the start, and has every stage."""
    problems = []
    task, walked = film.stage("task"), [one for one in film.shots if one.stage != "sign-off"]
    if not task:
        problems.append("it has no move of the task")
    elif walked[-1].came != task[0].known:
        problems.append(f"it does not end on {task[0].known}, where the task began")
    return problems


def hidden_texts(shots: Iterable[Shot]) -> list[tuple[str, Field]]:
    """What was typed into hidden fields outside the sign-on: the screen's name and the field."""
    found = []
    for shot in shots:
        if shot.stage == "sign-on":
            continue
        for one in shot.before.inputs:
            if one.hidden and shot.typed.get(one.start):
                found.append((shot.known, one))
    return found
