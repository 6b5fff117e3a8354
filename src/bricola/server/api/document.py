"""The OpenAPI document of the management API, as it really answers.

FastAPI knows routes and answers. What is added here: failures are problem documents of RFC 9457 with the statuses that a route can have,
how one signs in, and the live terminal, which is a WebSocket and so no path of OpenAPI 3.1.

`python -m bricola.server.api.document` prints it; `make check` holds the copy in `console/src/api` against it.
"""

import json
import sys
from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi
from pydantic import TypeAdapter

from bricola import __version__
from bricola.api.base import ProblemDocument

PROBLEM_TYPE = "application/problem+json"
_OPEN = {("/api/v1/state", "get"), ("/api/v1/setup", "post"), ("/api/v1/session", "post"), ("/api/v1/session", "delete")}
_WORDS = {
    400: "The request or a definition is wrong", 401: "Nobody is signed in, or the sign-in is not accepted",
    403: "The role may not do this",
    404: "What is named does not exist", 409: "It exists already, or was changed meanwhile", 413: "It is too large",
    429: "Too often; try again later", 500: "A mistake of the service", 502: "A backend does not answer as it should",
    503: "The store or a backend is busy; nothing was stored",
}
_DESCRIPTION = """Everything that the console and the command line do. Failures are problem documents (RFC 9457) with every cause.

Sign in with `POST /api/v1/session`: it sets a cookie, or with `"token": true` answers a bearer token.

## The live terminal

`GET /api/v1/terminals/{environment}/{backend}?flow=&raw=` is a WebSocket (RFC 6455) for integrators, with the same sign-in;
`GET /api/v1/strange-terminals/{environment}?address=&engine=` is one of a host that nobody has defined, which `learn` makes a backend.
Words are JSON objects. The person says `{"type": "press", "key", "fields": {position: text}, "cursor"}`, `{"type": "reset"}` or
`{"type": "leave"}`; the service says `opened`, `moved`, `screen`, `refused` (with `problems`) and `ended` (a problem document).
Screens are rows of text with their fields; positions count from 0.
"""


def describe(app: FastAPI) -> dict[str, Any]:
    """The document of an application's routes."""
    document = get_openapi(title="Bricola management API", version=__version__, openapi_version="3.1.0", description=_DESCRIPTION,
                           routes=app.routes)
    schemas = document.setdefault("components", {}).setdefault("schemas", {})
    problem = TypeAdapter(ProblemDocument).json_schema(ref_template="#/components/schemas/{model}")
    schemas |= problem.pop("$defs", {})
    schemas["ProblemDocument"] = problem
    for name in ("HTTPValidationError", "ValidationError"):
        schemas.pop(name, None)
    document["components"]["securitySchemes"] = {
        "session": {"type": "apiKey", "in": "cookie", "name": "bricola_session", "description": "Set by a sign-in in a browser"},
        "token": {"type": "http", "scheme": "bearer", "description": "A token of a sign-in"},
    }
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            is_open = (path, method) in _OPEN
            operation["security"] = [] if is_open else [{"session": []}, {"token": []}]
            responses = operation["responses"]
            responses.pop("422", None)  # what FastAPI would answer; here it is a problem document of status 400
            for status in _statuses(path, method, is_open):
                responses[str(status)] = {"description": _WORDS[status], "content": {
                    PROBLEM_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemDocument"}}}}
    return document


def _statuses(path: str, method: str, is_open: bool) -> list[int]:
    found = [400, 500, 503]
    if not is_open:
        found += [401, 403]
    if "{" in path:
        found.append(404)
    if method != "get":
        found += [409, 413, 502]
    if path.endswith(("/session", "/setup")) and method == "post":
        found += [401, 403, 429]
    if "discovery" in path or "keys" in path:
        found.append(502)
    return sorted(set(found))


def main() -> None:
    from bricola.server.app import api_routers  # here, since the application itself asks for this document
    from bricola.server.kinds.registry import SERVERS

    app = FastAPI()
    for router in api_routers(SERVERS):
        app.include_router(router, prefix="/api/v1")
    sys.stdout.write(json.dumps(describe(app), indent=1, ensure_ascii=False, sort_keys=True) + "\n")


if __name__ == "__main__":
    main()
