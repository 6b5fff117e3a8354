"""Which addresses the service may connect to, when somebody who is not its operator says where."""

import asyncio
import ipaddress
import socket
from collections.abc import Iterable
from dataclasses import dataclass

from bricola.core.problems import Kind, Problem, ProblemError

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address

_EVERYWHERE: tuple[Network, ...] = (ipaddress.ip_network("0.0.0.0/0"), ipaddress.ip_network("::/0"))
# RFC 3927 and RFC 4291, section 2.5.6: neighbours on the wire, among them the services that give machines their secrets.
_LINK_LOCAL: tuple[Network, ...] = (ipaddress.ip_network("169.254.0.0/16"), ipaddress.ip_network("fe80::/10"))


@dataclass(frozen=True)
class Networks:
    """The networks that are `allowed`, public addresses beside them if `public`, none of `never`; `hosts` are names that somebody
    vouched for."""

    allowed: tuple[Network, ...] = ()
    hosts: frozenset[str] = frozenset()
    mend: str = "The operator allows a network with: bricola serve --allow-network NETWORK"
    public: bool = True
    never: tuple[Network, ...] = ()

    def addresses(self, host: str, port: int) -> list[str]:
        """The addresses of a host, in the resolver's order. All of them must be allowed, and they are what to connect to: the name may
        mean something else a moment later. Blocks. Raises ProblemError."""
        try:
            resolved = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError):
            raise ProblemError(Problem("network.name", "There is no host of this name.", Kind.BACKEND, found=host[:100])) from None
        found = list(dict.fromkeys(str(one[4][0]).partition("%")[0] for one in resolved))
        if host.lower() not in self.hosts and not all(self.may(ipaddress.ip_address(one)) for one in found):
            raise ProblemError(Problem("network.private", "The address is inside a network that may not be reached from here.",
                                       Kind.PERMISSION, found=host[:100], mend=self.mend,
                                       expected="a public address, or one in an allowed network" if self.public
                                       else "an address in a network that the operator allows"))
        return found

    def check(self, host: str, port: int) -> str:
        """One address of a host that may be connected to. Blocks. Raises ProblemError."""
        return sorted(self.addresses(host, port))[0]

    async def find(self, host: str, port: int) -> list[str]:
        """The same as `addresses`, beside the event loop."""
        return await asyncio.to_thread(self.addresses, host, port)

    def may(self, address: Address) -> bool:
        inner = getattr(address, "ipv4_mapped", None) or address
        if inner.is_multicast or inner.is_unspecified or _inside(inner, self.never):
            return False
        return (self.public and inner.is_global) or _inside(inner, self.allowed)


def _inside(address: Address, networks: tuple[Network, ...]) -> bool:
    return any(address.version == one.version and address in one for one in networks)


def backend_networks(named: tuple[Network, ...]) -> Networks:
    """Where backends may be: in the networks that the operator named; anywhere but on the wire itself where he named none."""
    mend = "The operator allows a network with: bricola serve --backend-network NETWORK"
    return Networks(named, mend=mend, public=False) if named else Networks(_EVERYWHERE, mend=mend, never=_LINK_LOCAL)


ANYWHERE = backend_networks(())


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
