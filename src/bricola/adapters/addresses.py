"""Network addresses of endpoints."""

from urllib.parse import urlsplit

from bricola.core.problems import Problem, ProblemError


def host_and_port(address: str, default_port: int) -> tuple[str, int]:
    """Of `host:port`; the port may be left out, an IPv6 address stands in brackets. Raises ProblemError."""
    try:
        parts = urlsplit(f"//{address}")
        host, port = parts.hostname or "", parts.port or default_port
    except ValueError:
        host, port = "", 0
    if not host or "/" in address or "@" in address:
        raise ProblemError(Problem("endpoint.address", "This is not an address.", place=address,
                                   expected=f"host:port, like db-north.example:{default_port}"))
    return host, port
