"""Which addresses the service may connect to, when somebody who is not its operator says where."""

import ipaddress
import socket
from collections.abc import Iterable
from dataclasses import dataclass

from bricola.core.problems import Kind, Problem, ProblemError

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


@dataclass(frozen=True)
class Networks:
    """Public addresses, and those of the networks that are allowed. `hosts` are names that somebody vouched for."""

    allowed: tuple[Network, ...] = ()
    hosts: frozenset[str] = frozenset()
    mend: str = "The operator allows a network with: bricola serve --allow-network NETWORK"

    def check(self, host: str, port: int) -> str:
        """An address of a host that may be connected to. All addresses of its name must be allowed, and the one that was looked at is
        the one to connect to: a name may mean something else a moment later. Raises ProblemError."""
        try:
            found = {str(one[4][0]).partition("%")[0] for one in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)}
        except (OSError, UnicodeError):
            raise ProblemError(Problem("network.name", "There is no host of this name.", Kind.BACKEND, found=host[:100])) from None
        addresses = [ipaddress.ip_address(one) for one in sorted(found)]
        refused = [one for one in addresses if not self.may(one)] if host.lower() not in self.hosts else []
        if refused:
            raise ProblemError(Problem("network.private", "The address is inside a network that may not be reached from here.",
                                       Kind.PERMISSION, expected="a public address, or one in an allowed network", found=host[:100],
                                       mend=self.mend))
        return str(addresses[0])

    def may(self, address: Address) -> bool:
        inner = getattr(address, "ipv4_mapped", None) or address
        return (inner.is_global and not inner.is_multicast) or any(
            inner.version == one.version and inner in one for one in self.allowed)


def read_networks(texts: Iterable[str]) -> tuple[Network, ...]:
    """Networks in the notation of RFC 4632, like 10.2.0.0/16. Raises ProblemError."""
    found: list[Network] = []
    for text in texts:
        try:
            found.append(ipaddress.ip_network(text.strip(), strict=False))
        except ValueError:
            raise ProblemError(Problem("network.form", "This is no network.", expected="a network like 10.2.0.0/16",
                                       found=text[:60])) from None
    return tuple(found)
