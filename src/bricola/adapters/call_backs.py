"""Addresses that are told of the end of a job: only those that the operator named, and what lies below them."""

import re
import ssl
from collections.abc import Iterable
from functools import cache
from urllib.parse import unquote, urlsplit

import httpx

from bricola.core.problems import Problem, ProblemError

SECONDS = 20.0  # that the other side has to take it


def read_addresses(texts: Iterable[str]) -> tuple[str, ...]:
    """Raises ProblemError for what is no address over HTTP."""
    found = []
    for text in texts:
        parts = urlsplit(text.strip())
        if parts.scheme not in ("http", "https") or not parts.hostname or parts.query or parts.fragment or parts.username:
            raise ProblemError(Problem("call-back.address", "This is no address that can be called back.", found=text[:100],
                                       expected="http or https, a host and a path, like https://desk.example/answers/"))
        found.append(text.strip())
    return tuple(found)


def may_tell(address: str, allowed: Iterable[str]) -> bool:
    """Whether an address is one of those, or below one of them; never by a way back up (RFC 3986, section 5.2.4)."""
    asked = _taken_apart(address)
    if asked is None or not {".", ".."}.isdisjoint(re.split(r"[/\\]", unquote(asked[3]))):
        return False
    for text in allowed:
        known = _taken_apart(text)
        if known is not None and asked[:3] == known[:3] and (asked[3] == known[3] or asked[3].startswith(known[3].rstrip("/") + "/")):
            return True
    return False


def _taken_apart(address: str) -> tuple[str, str, int, str] | None:
    try:
        parts = urlsplit(address)
        port = parts.port or {"https": 443, "http": 80}.get(parts.scheme)
    except ValueError:
        return None
    if port is None or not parts.hostname or parts.username or any(not "!" <= one <= "~" for one in address):
        return None
    return parts.scheme, parts.hostname.lower(), port, parts.path or "/"


@cache
def _authorities() -> ssl.SSLContext:
    """Read once: it takes 70 ms, in which the event loop stands still."""
    return httpx.create_ssl_context(trust_env=False)


async def send(address: str, content: bytes, headers: dict[str, str]) -> str:
    """Send a message; '' when the other side took it, else why not, in words. No redirect is followed: it would lead elsewhere."""
    try:
        async with httpx.AsyncClient(timeout=SECONDS, follow_redirects=False, trust_env=False, verify=_authorities()) as client:
            response = await client.post(address, content=content, headers=headers)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        return f"it does not answer ({type(error).__name__})"
    return "" if response.status_code < 300 else f"it answered with status {response.status_code}"
