"""How many sessions a pool needs, from what it measured.

Arrivals and holding times are counted in slices of ten seconds over the last quarter of an hour. The advice is
the least number of sessions with which, by Erlang's C formula (A. K. Erlang, 1917), fewer than one call in
twenty has to wait in the busiest minute.
"""

import math
from collections import deque
from dataclasses import dataclass

_SLICE = 10.0  # seconds
_KEPT = 90  # slices: a quarter of an hour
_WAIT_SHARE = 0.05
_FEWEST = 20  # calls in the busiest minute below which nothing is said


@dataclass(frozen=True, slots=True)
class Load:
    """Measured: arrivals per second in the busiest minute, mean seconds that a session is held, calls in all."""

    arrivals: float
    held: float
    calls: int


class Meter:
    """Counts arrivals and holding times. Cheap: one comparison and one addition a call."""

    def __init__(self, now: float) -> None:
        self._until = now + _SLICE
        self._slices: deque[tuple[int, int, float]] = deque(maxlen=_KEPT)
        self._arrived = 0
        self._served = 0
        self._seconds = 0.0

    def arrived(self, now: float) -> None:
        if now >= self._until:
            self._roll(now)
        self._arrived += 1

    def served(self, now: float, seconds: float) -> None:
        if now >= self._until:
            self._roll(now)
        self._served += 1
        self._seconds += seconds

    def _roll(self, now: float) -> None:
        passed = int((now - self._until) // _SLICE) + 1
        self._slices.append((self._arrived, self._served, self._seconds))
        self._slices.extend([(0, 0, 0.0)] * min(passed - 1, _KEPT))
        self._arrived, self._served, self._seconds = 0, 0, 0.0
        self._until += passed * _SLICE

    def load(self, now: float) -> Load:
        if now >= self._until:
            self._roll(now)
        counts = [one[0] for one in self._slices] + [self._arrived]
        calls = sum(one[1] for one in self._slices) + self._served
        seconds = sum(one[2] for one in self._slices) + self._seconds
        busiest = max(sum(counts[max(0, end - 6) : end]) for end in range(1, len(counts) + 1))
        return Load(busiest / (6 * _SLICE), seconds / calls if calls else 0.0, calls)


def waiting_share(sessions: int, offered: float) -> float:
    """Erlang C: the share of calls that wait, with `offered` = arrivals x holding time, in erlangs."""
    if offered <= 0:
        return 0.0
    if sessions <= offered:
        return 1.0
    inverse = 1.0  # of Erlang B, by its recursion, which does not overflow
    for count in range(1, sessions + 1):
        inverse = 1.0 + inverse * count / offered
    blocked = 1.0 / inverse
    return blocked / (1.0 - (offered / sessions) * (1.0 - blocked))


def advised_size(load: Load) -> int | None:
    """The sessions that the measured load needs; None while too little was measured."""
    if load.calls < _FEWEST:
        return None
    offered = load.arrivals * load.held
    size = max(1, math.ceil(offered))
    while waiting_share(size, offered) > _WAIT_SHARE:
        size += 1
    return size
