"""Who may do what at the management API: session cookie or bearer token, and the least role of each route."""

from typing import Annotated

from fastapi import Depends, Request

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.bricola import Bricola
from bricola.server.usecases import people
from bricola.store.people import StoredUser

COOKIE = "bricola_session"
_SAFE = ("GET", "HEAD", "OPTIONS")


def bricola_of(request: Request) -> Bricola:
    found: Bricola = request.app.state.bricola
    return found


def presented_secret(request: Request) -> str:
    """The bearer token if there is one, else the session cookie."""
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" else request.cookies.get(COOKIE, "")


class AtLeast:
    """A dependency: the user who is signed in, with at least a role. Raises ProblemError."""

    def __init__(self, role: str) -> None:
        self.role = role

    async def __call__(self, request: Request) -> StoredUser:
        by_cookie = "authorization" not in request.headers
        if by_cookie and request.method not in _SAFE and request.headers.get("sec-fetch-site", "same-origin") not in (
            "same-origin", "none",
        ):
            raise ProblemError(Problem("session.cross-site", "Another site may not act with your session.",
                                       Kind.PERMISSION))
        return await people.who(bricola_of(request), presented_secret(request), self.role)


def asked_base(request: Request) -> str:
    """The base address under which this request was made."""
    return str(request.base_url).rstrip("/")


Running = Annotated[Bricola, Depends(bricola_of)]
Base = Annotated[str, Depends(asked_base)]
Viewer = Annotated[StoredUser, Depends(AtLeast("viewer"))]
Operator = Annotated[StoredUser, Depends(AtLeast("operator"))]
Integrator = Annotated[StoredUser, Depends(AtLeast("integrator"))]
Admin = Annotated[StoredUser, Depends(AtLeast("admin"))]
