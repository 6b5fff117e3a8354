"""Sign-in throttling: after several wrong passwords the next attempt must wait, twice as long each time.

Counted for a name from one address, for a name from anywhere, and for an address with any name. The last two have
more room: people share an address behind a proxy, and nobody should be kept out by a stranger's five guesses.
Kept in memory: a restart forgives.
"""

from collections import OrderedDict
from collections.abc import Callable

from bricola.core.problems import Kind, Problem, ProblemError

_FREE = {"both": 5, "name": 20, "peer": 50}  # wrong ones before the first pause
_FIRST, _LONGEST = 2.0, 300.0  # seconds
_FORGOTTEN = 900.0  # seconds after the last failure
_MOST = 10_000  # names and addresses that are remembered


class Throttle:
    """`clock` gives monotonic seconds."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._failures: OrderedDict[str, tuple[int, float]] = OrderedDict()  # key -> how many, the last

    def enter(self, name: str, peer: str) -> None:
        """Raises ProblemError of kind limit while a pause lasts."""
        now = self._clock()
        left = max((self._left(key, now) for key in self._keys(name, peer)), default=0.0)
        if left > 0:
            raise ProblemError(Problem("user.throttled", "Too many wrong passwords.", Kind.LIMIT, place="password",
                                       expected=f"a pause of {left:.0f} s", mend="Wait, then try again."))

    def failed(self, name: str, peer: str) -> None:
        now = self._clock()
        for key in self._keys(name, peer):
            count, last = self._failures.pop(key, (0, now))
            self._failures[key] = (count + 1 if now - last < _FORGOTTEN else 1, now)
            if len(self._failures) > _MOST:
                self._failures.popitem(last=False)

    def succeeded(self, name: str, peer: str) -> None:
        for key in self._keys(name, peer)[:2]:  # the address goes on counting: its owner may know one password
            self._failures.pop(key, None)

    @staticmethod
    def _keys(name: str, peer: str) -> list[str]:
        return [f"both {name} {peer}", f"name {name}", f"peer {peer}"]

    def _left(self, key: str, now: float) -> float:
        count, last = self._failures.get(key, (0, 0.0))
        free = _FREE[key.partition(" ")[0]]
        if count < free or now - last >= _FORGOTTEN:
            return 0.0
        return last + min(_LONGEST, _FIRST * 2.0 ** (count - free)) - now
