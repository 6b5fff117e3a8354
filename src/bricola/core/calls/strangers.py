"""Requests of nobody who is known: counted by the minute, never written down, so that whoever knocks at a door cannot fill the call log."""

from collections import Counter
from collections.abc import Callable

_KEPT = 60  # minutes
_MOST_DOORS = 1000  # a door is an environment and a service that are there; all others are counted together


class Strangers:
    """`now` gives seconds since 1970."""

    def __init__(self, now: Callable[[], float]) -> None:
        self._now = now
        self._minutes: dict[int, Counter[tuple[str, str]]] = {}
        self.total: Counter[tuple[str, str]] = Counter()  # since the start

    def count(self, environment: str, service: str) -> None:
        """One that was turned away at a door; '' and '' where there is none."""
        door = environment, service
        if door not in self.total and len(self.total) >= _MOST_DOORS:
            door = "", ""
        minute = int(self._now() // 60)
        if minute not in self._minutes:
            self._minutes = {one: counted for one, counted in self._minutes.items() if one > minute - _KEPT}
        self._minutes.setdefault(minute, Counter())[door] += 1
        self.total[door] += 1

    def last_hour(self) -> Counter[tuple[str, str]]:
        """How many at which door in the last sixty minutes."""
        found: Counter[tuple[str, str]] = Counter()
        first = int(self._now() // 60) - _KEPT
        for minute, counted in self._minutes.items():
            if minute > first:
                found += counted
        return found
