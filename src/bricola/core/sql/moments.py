"""Moments that go to a database."""

from collections.abc import Iterable

from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Values
from bricola.core.shapes.primitives import lexical


def refuse_zoned(names: Iterable[str], given: Values) -> None:
    """A moment of the clock on the wall has no zone: storing one that has would change what it says. Raises ProblemError."""
    for name in names:
        value = given.get(name)
        if value is not None and value.tzinfo is not None:
            raise ProblemError(Problem("value.zone", f"{name} is told without a time zone.", place=name,
                                       expected="a moment like 2026-02-03T04:05:06", found=shown(lexical(value)),
                                       mend="Send it as the clock on the wall shows it, without Z or +01:00."))
