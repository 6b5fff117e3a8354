"""A film: the screens and moves of one walk, kept to be compared with the live host and to stand in for it."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from bricola.core.terminals.screen import Field, Screen

_FIELD_KEYS = Field._fields


@dataclass(frozen=True)
class Shot:
    """One move: the screen that it was made on, what was typed (position -> text, None for a secret), the key, and what came."""

    stage: str
    before: Screen
    known: str  # the name of the screen it was made on
    typed: Mapping[int, str | None]
    key: str
    after: Screen
    came: str


@dataclass(frozen=True)
class Film:
    """The walk of one flow with the inputs that it was made with, as plain JSON values. `quiet` is what was learned of the host of the
    backend meanwhile: the silence in seconds after which it has written all of a screen; None where nobody listened."""

    flow: str
    environment: str
    inputs: Mapping[str, Any]
    shots: tuple[Shot, ...]
    backend: str = ""
    quiet: float | None = None

    def stage(self, name: str) -> tuple[Shot, ...]:
        return tuple(one for one in self.shots if one.stage == name)


def plain_screen(screen: Screen) -> dict[str, Any]:
    """A screen as JSON: its rows as text, its fields as objects without what is usual."""
    return {
        "rows": screen.rows, "columns": screen.columns, "lines": [line.rstrip() for line in screen.lines],
        "fields": [{key: value for key, value in one._asdict().items() if value or key in ("start", "length")} for one in screen.fields],
        "cursor": screen.cursor, "locked": screen.locked, "alarm": screen.alarm, "refused": screen.refused,
    }


def read_screen(plain: Mapping[str, Any]) -> Screen:
    """The screen of its JSON. Raises KeyError, TypeError and ValueError for what is none."""
    columns, rows = int(plain["columns"]), int(plain["rows"])
    text = "".join(str(line)[:columns].ljust(columns) for line in plain["lines"])
    if len(text) != rows * columns or not 0 <= plain["cursor"] < len(text):
        raise ValueError("the rows do not fit")
    defaults = dict.fromkeys(("protected", "numeric", "hidden", "intensified", "modified", "monocase"), False)
    made = tuple(Field(**{**defaults, **{key: one[key] for key in _FIELD_KEYS if key in one}}) for one in plain["fields"])
    return Screen(
        rows, columns, text, made, int(plain["cursor"]), bool(plain["locked"]), bool(plain.get("alarm")), bool(plain.get("refused"))
    )


def plain_film(film: Film) -> dict[str, Any]:
    """A film as JSON. Screens that are equal are kept once."""
    screens: list[dict[str, Any]] = []
    index: dict[Screen, int] = {}

    def kept(screen: Screen) -> int:
        if screen not in index:
            index[screen] = len(screens)
            screens.append(plain_screen(screen))
        return index[screen]

    heard = {} if film.quiet is None else {"quiet": film.quiet}
    return {"flow": film.flow, "environment": film.environment, "backend": film.backend, **heard, "inputs": dict(film.inputs), "shots": [
        {"stage": one.stage, "before": kept(one.before), "known": one.known, "typed": {str(at): text for at, text in one.typed.items()},
         "key": one.key, "after": kept(one.after), "came": one.came} for one in film.shots], "screens": screens}


def read_film(plain: Mapping[str, Any]) -> Film:
    """The film of its JSON. Raises KeyError, IndexError, TypeError and ValueError for what is none."""
    screens = [read_screen(one) for one in plain["screens"]]
    shots = tuple(Shot(one["stage"], screens[one["before"]], one["known"], {int(at): text for at, text in one["typed"].items()}, one["key"],
                       screens[one["after"]], one["came"]) for one in plain["shots"])
    quiet = plain.get("quiet")
    return Film(plain["flow"], plain["environment"], plain["inputs"], shots, str(plain.get("backend", "")),
                float(quiet) if quiet is not None else None)
