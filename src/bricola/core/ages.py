"""How old something is, when the clock on the wall may jump.

Beside the clock on the wall there is one that only ever goes on while the service runs, a little at a time. What must not be forgotten too
early (ids of requests, their marks) is dated by whichever is later and judged by whichever is earlier, so that a jump in either direction,
or a service that was down for a week, can only make it be kept longer.
"""

from collections.abc import Callable

MOST_STEP = 60.0  # seconds that one look may add; a clock that leaps by a day is not believed


class Ages:
    """`wall` gives seconds since 1970, `passing` those of a clock that is not set; `own` is where the service's own clock stands."""

    def __init__(self, wall: Callable[[], float], passing: Callable[[], float], own: float | None = None) -> None:
        self._wall, self._passing = wall, passing
        self.own = wall() if own is None else own
        self._seen = passing()

    def go_on(self) -> float:
        """To be called every few seconds; answers where the service's own clock stands now."""
        now = self._passing()
        self.own += min(max(0.0, now - self._seen), MOST_STEP)
        self._seen = now
        return self.own

    def latest(self) -> float:
        """From when on something is kept."""
        return max(self._wall(), self.go_on())

    def earliest(self) -> float:
        """What ended before this moment may be forgotten."""
        return min(self._wall(), self.go_on())
