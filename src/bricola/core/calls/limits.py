"""Limits of one caller: from which networks it may call, how often, and how many calls at once."""

from collections.abc import Callable, Iterable
from functools import lru_cache
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from bricola.core.problems import Kind, Problem, ProblemError

Network = IPv4Network | IPv6Network


def read_network(text: str) -> Network:
    """A network in CIDR form (RFC 4632), or one address. Raises ProblemError."""
    try:
        return ip_network(text.strip())
    except ValueError as error:
        raise ProblemError(Problem("caller.network", "This is not a network.", place=text, found=str(error),
                                   expected="CIDR form like 10.20.0.0/16, or one address",
                                   mend="Write the network's own address, with no bits set behind the prefix.")) from None


class Limits:
    """Shared by all calls of one caller. Rates are a bucket of `per_minute` calls that refills evenly over a minute."""

    def __init__(self, name: str, networks: Iterable[str], per_minute: int | None, parallel: int | None,
                 clock: Callable[[], float]) -> None:
        self._name = name
        self._networks = tuple(read_network(one) for one in networks)
        self._per_minute = per_minute
        self._parallel = parallel
        self._clock = clock
        self._room = float(per_minute or 0)
        self._filled = clock()
        self._running = 0
        self._allowed = lru_cache(1024)(self._in_networks)

    def enter(self, peer: str) -> None:
        """Count a call in, or raise ProblemError: of kind permission for the network, limit for the rest."""
        if self._networks and not self._allowed(peer):
            raise ProblemError(Problem(
                "caller.network", f"{self._name} may not call from this address.", Kind.PERMISSION, place=peer,
                expected=f"one of the networks {', '.join(str(one) for one in self._networks)}", found=peer,
                mend="Call from an allowed network, or have an admin add this one to the caller."))
        if self._parallel is not None and self._running >= self._parallel:
            raise _limited("caller.parallel", f"{self._name} has too many calls at once.",
                           f"at most {self._parallel} at once", "Wait for an answer before the next call.")
        if self._per_minute is not None:
            now = self._clock()
            self._room = min(float(self._per_minute), self._room + (now - self._filled) * self._per_minute / 60)
            self._filled = now
            if self._room < 1:
                raise _limited("caller.rate", f"{self._name} calls too often.", f"at most {self._per_minute} calls a minute",
                               f"Try again in {(1 - self._room) * 60 / self._per_minute:.1f} s.")
            self._room -= 1
        self._running += 1

    def leave(self) -> None:
        self._running -= 1

    def _in_networks(self, peer: str) -> bool:
        try:
            address = ip_address(peer)
        except ValueError:
            return False
        mapped = getattr(address, "ipv4_mapped", None) or address
        return any(mapped in one for one in self._networks)


def _limited(code: str, message: str, expected: str, mend: str) -> ProblemError:
    return ProblemError(Problem(code, message, Kind.LIMIT, expected=expected, mend=mend))
