"""Pages for callers: the index of services, and one page per service with addresses, operations and samples.

They need no sign-in, like the contract itself, and tell nothing that the contract does not.
"""

from collections.abc import Callable
from typing import Any, TypeVar

from fastapi import APIRouter, Request, Response
from fastapi.responses import HTMLResponse
from jinja2 import Environment, PackageLoader, StrictUndefined

from bricola.api.words import PlaceState
from bricola.core.contracts.kept import hand_out, one_version
from bricola.core.contracts.openapi import write_openapi
from bricola.core.messages.handout import handouts
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.live import LiveService
from bricola.core.shapes.model import Record
from bricola.server.api.access import asked_base, bricola_of
from bricola.server.bricola import Bricola
from bricola.server.usecases.services import addresses, contract_pack
from bricola.server.usecases.soundness import soundness

router = APIRouter(include_in_schema=False)
_Handler = TypeVar("_Handler", bound=Callable[..., Any])
_templates = Environment(loader=PackageLoader("bricola.server"), autoescape=True, undefined=StrictUndefined,
                         trim_blocks=True, lstrip_blocks=True)
_SECURITY = {
    "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; script-src 'self'; base-uri 'none';"
                               " form-action 'none'; frame-ancestors 'none'",
    "X-Content-Type-Options": "nosniff",
}


def _page_route(path: str) -> Callable[[_Handler], _Handler]:
    """A route that answers GET and HEAD."""
    return router.api_route(path, methods=["GET", "HEAD"])


@_page_route("/page.js")
async def script() -> Response:
    """The script of these pages: copy buttons."""
    return Response(_templates.get_template("page.js").render(), media_type="text/javascript")


def _page(name: str, status: int = 200, **values: object) -> HTMLResponse:
    return HTMLResponse(_templates.get_template(name).render(**values), status, headers=_SECURITY)


@_page_route("/soap")
@_page_route("/soap/")
async def index(request: Request) -> HTMLResponse:
    """All live services, by environment."""
    return _index(request, "")


@_page_route("/soap/{environment}")
@_page_route("/soap/{environment}/")
async def environment_index(environment: str, request: Request) -> HTMLResponse:
    bricola = bricola_of(request)
    if bricola.drafts.catalogue.find_environment(environment) is None:
        return _missing(f"There is no environment {environment} here.")
    return _index(request, environment)


def _index(request: Request, only: str) -> HTMLResponse:
    bricola, asked = bricola_of(request), asked_base(request)
    places = []
    for environment in bricola.drafts.catalogue.environments():
        live = sorted((one for one in bricola.places.services() if one.environment == environment.name), key=lambda s: s.name)
        if not only or only == environment.name:
            rows = [(one, addresses(bricola, environment.name, one.segment, asked), _state(bricola, environment.name, one.segment))
                    for one in live]
            down = [segment for where, segment in bricola.places.down_places() if where == environment.name]
            places.append((environment, rows, down))
    return _page("index.html", places=places, organisation=bricola.settings.organisation, only=only)


def _state(bricola: Bricola, environment: str, segment: str) -> str:
    """What callers are told of the state of a service; '' while it is sound. What ails it is for those who run it."""
    return _FOR_CALLERS.get(soundness(bricola, environment, segment).state, "")


_FOR_CALLERS = {
    PlaceState.FAULTING: "Does not answer now", PlaceState.STOPPED: "Stopped for now", PlaceState.ENDED: "Has ended",
}


@_page_route("/soap/{environment}/{service}")
async def service(environment: str, service: str, request: Request) -> Response:
    """The contract with ?wsdl in any letter case (&release=N for an older one); else the page for callers."""
    bricola, asked = bricola_of(request), asked_base(request)
    query = {name.lower(): value for name, value in request.query_params.items()}
    live = bricola.places.find(environment, service)
    found = addresses(bricola, environment, service, asked)
    if "wsdl" in query:
        return await _contract(bricola, environment, service, live, found["soap"], query)
    if live is None:
        return _missing(f"{service} is not live in {environment}.")
    operations = [(one, handouts(live.shape, one, found["soap"], found["rest"], not live.anonymous)) for one in live.shape.operations]
    state = _state(bricola, environment, service)
    base_environment = bricola.drafts.catalogue.find_environment(environment)
    return _page("service.html", live=live, shape=live.shape, operations=operations, addresses=found, state=state,
                 protected=base_environment is not None and base_environment.protected,
                 organisation=bricola.settings.organisation, rows=_rows)


@_page_route("/soap/{environment}/{service}/contract.zip")
async def contract_zip(environment: str, service: str, request: Request) -> Response:
    """All documents of the contract in one file."""
    bricola = bricola_of(request)
    address = addresses(bricola, environment, service, asked_base(request))["soap"]
    if bricola.places.find(environment, service) is None:
        return _missing(f"{service} is not live in {environment}.")
    name, content = await contract_pack(bricola, service, environment, address)
    return Response(content, media_type="application/zip", headers={"Content-Disposition": f'attachment; filename="{name}"'})


async def _contract(bricola: Bricola, environment: str, service: str, live: LiveService | None, address: str,
                    query: dict[str, str]) -> Response:
    release, soap = query.get("release", ""), query.get("soap", "")
    if live is None:
        raise ProblemError(Problem("service.unknown", f"{service} is not live in {environment}.", Kind.MISSING,
                                   mend="The index of services is at /soap/."))
    if soap not in ("", "1.1", "1.2"):
        raise ProblemError(Problem("contract.version", "There is no such SOAP version.", place="soap", expected="1.1 or 1.2",
                                   found=shown(soap)))
    offer, kept = live.offer, ""
    if release and release != str(live.release):
        frozen = await bricola.releases.thaw(await bricola.releases.find(live.name, _number(release)))
        offer, kept = frozen.resolved.offer, frozen.contract
    if offer is not None:
        found = offer.document(_number(query.get("document", "0")), address)
        if found is None:
            raise ProblemError(Problem("contract.document", "The contract has no such document.", Kind.MISSING, place="document",
                                       expected=f"0 to {len(offer.documents) - 1}", found=shown(query.get("document", ""))))
        charset = f"; charset={found[1].removesuffix('-le').removesuffix('-be')}" if found[1] else ""
        return Response(found[0], headers={"content-type": f"text/xml{charset}"})
    body = hand_out(kept, address, live.notice) if kept else live.contract(address)
    if soap:
        body = one_version(body, soap)
    return Response(body, media_type="text/xml; charset=utf-8")


def _number(text: str) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else -1


@_page_route("/rest/{environment}/{service}/openapi.json")
async def openapi(environment: str, service: str, request: Request) -> dict[str, object]:
    bricola = bricola_of(request)
    live = bricola.places.find(environment, service)
    if live is None:
        raise ProblemError(Problem("service.unknown", f"{service} is not live in {environment}.", Kind.MISSING))
    return write_openapi(live.shape, addresses(bricola, environment, service, asked_base(request))["rest"], live.release, live.notice)


def _rows(record: Record, depth: int = 0, around: tuple[str, ...] = ()) -> list[tuple[int, object]]:
    """A record's elements with those of the records inside, each with its depth."""
    rows: list[tuple[int, object]] = []
    for element in record.slots:
        rows.append((depth, element))
        if isinstance(element.type, Record) and depth < _DEEPEST and element.type.id not in around:
            rows += _rows(element.type, depth + 1, (*around, *([element.type.id] if element.type.id else [])))
    return rows


_DEEPEST = 8  # of what a page shows; records may stand inside themselves


def _missing(message: str) -> HTMLResponse:
    return _page("missing.html", 404, message=message, organisation="")
