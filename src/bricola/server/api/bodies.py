"""Bodies of the management API: read after the sign-in, within the bound of their route, and as JSON within bounds.

FastAPI reads a body before it asks what a route depends on, so a stranger could fill the memory. `Guarded` is the class of all routes.
"""

import asyncio
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

from fastapi import Request, Response
from fastapi.dependencies.models import Dependant
from fastapi.routing import APIRoute

from bricola.core.json_text import read_json
from bricola.core.problems import ProblemError
from bricola.core.xml import too_large
from bricola.server.api.access import AtLeast

MOST_BYTES = 4 * 1024 * 1024
MOST_STRANGERS = 16 * 1024  # of a route that needs no sign-in
MOST_FILES = 64 * 1024 * 1024  # of a route that takes definitions, contracts or packages
_IN_THIS_THREAD = 100_000  # bytes that are read as JSON in a few milliseconds


_Endpoint = TypeVar("_Endpoint", bound=Callable[..., Any])


def takes_files(endpoint: _Endpoint) -> _Endpoint:
    """For routes whose body holds files."""
    endpoint.most_bytes = MOST_FILES  # type: ignore[attr-defined]  # functions take attributes
    return endpoint


class Guarded(APIRoute):
    """A route whose body is not read before its sign-in was found good, and never beyond its bound."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        answer = super().get_route_handler()
        if self.body_field is None:
            return answer
        sign_ins = _sign_ins(self.dependant)
        most: int = getattr(self.endpoint, "most_bytes", MOST_BYTES if sign_ins else MOST_STRANGERS)

        async def guarded(request: Request) -> Response:
            for sign_in in sign_ins:
                await sign_in(request)
            return await answer(await _Bounded.read(request, most))

        return guarded


class _Bounded(Request):
    """A request whose body was read."""

    _plain: Any = None

    @classmethod
    async def read(cls, request: Request, most: int) -> "_Bounded":
        declared = request.headers.get("content-length", "")
        if declared.isdecimal() and int(declared) > most:
            raise ProblemError(too_large(most))
        pieces: list[bytes] = []
        size = 0
        async for piece in request.stream():
            size += len(piece)
            if size > most:
                    raise ProblemError(too_large(most))
            pieces.append(piece)
        made = cls(request.scope, request.receive)
        made._body = body = b"".join(pieces)
        if body and "json" in request.headers.get("content-type", "json").lower():
            long = len(body) > _IN_THIS_THREAD
            made._plain = await asyncio.to_thread(read_json, body, exact=False) if long else read_json(body, exact=False)
        return made

    async def json(self) -> Any:
        return self._plain


def _sign_ins(dependant: Dependant) -> list[AtLeast]:
    """What a route, or something that it depends on, asks of the person."""
    own = [dependant.call] if isinstance(dependant.call, AtLeast) else []
    return [*own, *(found for one in dependant.dependencies for found in _sign_ins(one))]
