"""What both clients share: sending, and turning problem documents back into problems."""

import ssl
from collections.abc import Mapping
from functools import cache
from typing import Any, Self

import httpx

from bricola.core.problems import Kind, Problem, ProblemError


class Connection:
    """An HTTP client with a base address, usable in a `with` block."""

    def __init__(self, base: str, token: str, timeout: float) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._http = httpx.Client(base_url=base, headers=headers, timeout=timeout, verify=trusted(base))

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()


@cache
def _authorities() -> ssl.SSLContext:
    """Those that the environment trusts. Reading them takes 70 ms: a tenth of what a command takes."""
    return httpx.create_ssl_context()


def trusted(base: str) -> ssl.SSLContext:
    """Whose certificates are believed. Without TLS in the address nobody's: should anything lead to TLS, it fails."""
    return ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT) if base.startswith("http://") else _authorities()


Json = dict[str, Any]


class ApiConnection(Connection):
    """The management API of one service. Every method raises ProblemError."""

    def __init__(self, url: str, token: str = "", timeout: float = 60.0) -> None:
        self.url = url.rstrip("/")
        super().__init__(f"{self.url}/api/v1", token, timeout)

    def _ask(self, method: str, path: str, **options: Any) -> Any:
        response = send(self._http, method, path, **options)
        raise_problems(response)
        return response.json() if response.content else None


def send(http: httpx.Client, method: str, path: str, **options: Any) -> httpx.Response:
    """One request. Raises ProblemError when nothing answers; the status is left to the caller."""
    try:
        return http.request(method, path, **options)
    except httpx.HTTPError as error:
        raise ProblemError(Problem(
            "client.no-answer", "The service does not answer.", Kind.BACKEND, place=str(http.base_url),
            found=str(error) or type(error).__name__,
            mend="Check that it runs and that the address is right (--at, or BRICOLA_URL).",
        )) from None


def raise_problems(response: httpx.Response) -> None:
    """Raise the ProblemError that an answer of status 400 or above carries."""
    if response.status_code < 400:
        return
    try:
        document = response.json()
        found = [problem_of(one) for one in document.get("problems", [])]
    except (ValueError, AttributeError, TypeError):
        found = []
    if not found:
        found = [Problem("client.status", f"The service answered with status {response.status_code}.",
                         Kind.BACKEND, place=str(response.url), found=response.text[:200])]
    raise ProblemError(*found)


_WORDS = frozenset(Problem.__dataclass_fields__) - {"kind", "wait"}


def problem_of(parts: Mapping[str, Any]) -> Problem:
    """A problem of its JSON."""
    known: dict[str, Any] = {name: str(value) for name, value in parts.items() if name in _WORDS}
    kind = parts.get("kind", "")
    return Problem(**known, kind=Kind(kind) if kind in list(Kind) else Kind.INTERNAL)
