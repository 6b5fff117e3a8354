"""The ASGI application: the gateway in front, FastAPI for everything else."""

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from importlib import resources
from pathlib import Path
from typing import cast

import httpx
from asgiref.typing import ASGI3Application
from fastapi import APIRouter, FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse, PlainTextResponse, Response
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Receive, Scope, Send

from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.documents import problem_document
from bricola.server import pages
from bricola.server.api import (
    callers,
    contracts,
    definitions,
    forms,
    grants,
    impact,
    jobs,
    kinds,
    operations,
    packages,
    requests,
    services,
    sessions,
    suites,
)
from bricola.server.api.document import PROBLEM_TYPE, describe
from bricola.server.bricola import Bricola
from bricola.server.gateway import Gateway
from bricola.server.kinds.kind import KindServer
from bricola.server.metrics import CONTENT_TYPE
from bricola.server.usecases.soundness import soundness

_SECRET_FIELDS = {"secret", "password", "certificate", "code"}  # of requests; what was wrong in them is never repeated
_CONSOLE_SECURITY = {
    "Content-Security-Policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:;"
                               " script-src 'self'; base-uri 'none'; frame-ancestors 'none'",
    "X-Content-Type-Options": "nosniff", "Referrer-Policy": "same-origin",
}


def create_app(bricola: Bricola, own_address: str) -> Gateway:
    """`own_address` is where this process itself listens; the test bench sends its requests there."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        await bricola.start()
        async with httpx.AsyncClient(base_url=own_address) as own_endpoint:
            app.state.own_endpoint = own_endpoint
            yield
        await bricola.stop()

    app = FastAPI(lifespan=lifespan, openapi_url="/api/openapi.json", docs_url=None, redoc_url=None)
    app.add_middleware(_Compressed)
    app.state.bricola = bricola
    for router in api_routers(bricola.kinds):
        app.include_router(router, prefix="/api/v1")
    app.openapi = lambda: describe(app)  # type: ignore[method-assign]  # FastAPI's way to another document
    app.include_router(pages.router)
    _add_problem_handlers(app)
    _add_health(app, bricola)
    _add_console(app)
    return Gateway(bricola, cast(ASGI3Application, app))  # starlette types scopes and messages as plain mappings


class _Compressed:
    """What the console loads goes out compressed. Contracts and answers to callers stay as they are: their lengths are promised.

    No answer of the management API holds a secret beside a text that somebody else chose, so its length tells nothing (RFC 3749, 6)."""

    def __init__(self, app: ASGIApp) -> None:
        self._plain = app
        self._compressed = GZipMiddleware(app, minimum_size=1000)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        is_for_callers = scope["type"] != "http" or scope["path"].startswith(("/soap/", "/rest/"))
        await (self._plain if is_for_callers else self._compressed)(scope, receive, send)


def api_routers(servers: Sequence[KindServer]) -> list[APIRouter]:
    """The routes of the management API: its own, then those of the kinds of source."""
    own = [module.router for module in (sessions, callers, grants, definitions, forms, impact, contracts, packages, requests, kinds,
                                        services, suites, jobs, operations)]
    return [*own, *(router for one in servers for router in one.routers)]


def _problem(error: ProblemError, for_owners: bool = False) -> JSONResponse:
    headers = {"WWW-Authenticate": 'Bearer realm="Bricola"'} if error.problem.kind is Kind.IDENTITY else None
    return JSONResponse(problem_document(error, for_owners=for_owners), error.problem.kind.http_status, headers, PROBLEM_TYPE)


def _add_problem_handlers(app: FastAPI) -> None:
    @app.exception_handler(ProblemError)
    async def on_problem(request: Request, error: ProblemError) -> Response:
        # What the management API does needs a sign-in first, so its failures may tell people the inner cause.
        return _problem(error, for_owners=request.url.path.startswith("/api/"))

    @app.exception_handler(RequestValidationError)
    async def on_invalid(_: Request, error: RequestValidationError) -> Response:
        return _problem(ProblemError(*(
            Problem("request.invalid", f"{one['msg']}.", place=".".join(str(step) for step in one["loc"]),
                    found=shown(one["input"]) if isinstance(one["input"], str | int | float)
                    and not _SECRET_FIELDS & set(one["loc"]) else "")
            for one in error.errors()
        )))

    @app.exception_handler(HTTPException)
    async def on_http(request: Request, error: HTTPException) -> Response:
        kind = {404: Kind.MISSING, 405: Kind.METHOD}.get(error.status_code, Kind.INPUT)
        return _problem(ProblemError(Problem(f"http.{error.status_code}", f"{error.detail}.", kind,
                                             place=f"{request.method} {request.url.path}")))

    @app.exception_handler(Exception)
    async def on_mistake(_: Request, __: Exception) -> Response:
        return _problem(ProblemError(Problem(
            "internal.error", "The service made a mistake of its own.", Kind.INTERNAL,
            mend="The log of the service has the cause.")))


def _add_health(app: FastAPI, bricola: Bricola) -> None:
    @app.get("/healthz", include_in_schema=False)
    async def healthz() -> PlainTextResponse:
        """The process answers."""
        return PlainTextResponse("ok\n")

    @app.get("/readyz", include_in_schema=False)
    async def readyz() -> JSONResponse:
        """Whether this node can take calls; beside it each deployed service with what ails it, which is no reason to send calls elsewhere,
        since another node would reach the same backends."""
        ready = await bricola.ready()
        found = [(environment, service, soundness(bricola, environment, service)) for environment, service in bricola.places.deployed()]
        return JSONResponse({"ready": ready, "services": [
            {"environment": environment, "service": service, "state": one.state,
             "ails": [ail.words for ail in one.ails if ail.part != "deployment"]}
            for environment, service, one in found]}, 200 if ready else 503, {"Cache-Control": "no-store"})

    @app.get("/metrics", include_in_schema=False)
    async def metrics() -> Response:
        return Response(bricola.metrics.text(), media_type=CONTENT_TYPE)


def _add_console(app: FastAPI) -> None:
    """The built console: files with hashed names for ever, and the one page for every address of its own."""
    folder = Path(str(resources.files("bricola.server").joinpath("static")))

    @app.get("/assets/{name}", include_in_schema=False)
    async def asset(name: str) -> Response:
        file = folder / "assets" / name
        if "/" in name or name.startswith(".") or not file.is_file():
            raise HTTPException(404, "There is no such file")
        return FileResponse(file, headers={"Cache-Control": "public, max-age=31536000, immutable"})

    @app.get("/theme.js", include_in_schema=False)
    async def theme() -> Response:
        return FileResponse(folder / "theme.js", media_type="text/javascript")

    @app.get("/{path:path}", include_in_schema=False)
    async def console(path: str) -> Response:
        if path.startswith(("api/", "rest/", "assets/")) or "." in path.rpartition("/")[2]:
            raise HTTPException(404, "There is nothing at this address")
        index = folder / "index.html"
        if not index.is_file():
            return HTMLResponse("<p>The console is not built. Run: make setup</p>", 503)
        return HTMLResponse(index.read_text(), headers=_CONSOLE_SECURITY | {"Cache-Control": "no-cache"})
