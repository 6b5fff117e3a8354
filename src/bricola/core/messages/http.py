"""What is asked of a session to a service over HTTP (RFC 9110)."""

from collections.abc import Mapping
from typing import NamedTuple, Protocol


class Answered(NamedTuple):
    """An HTTP answer: status, media type, body."""

    status: int
    content_type: str
    body: bytes


class WebSession(Protocol):
    async def ask(self, method: str, path: str, headers: Mapping[str, str], body: bytes, seconds: float) -> Answered:
        """Ask with what signs in, at the session's address and a path below it ('' for the address itself), and wait for the answer at most
        so long. Raises SessionLostError when the connection breaks, and ProblemError when time is up, the sign-in is refused or the answer
        is too large. Any other status is an answer."""
        ...
