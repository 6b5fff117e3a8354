"""Films of screen flows: made on a live host, held against it later, and told what moved."""

import asyncio
import time
from collections.abc import Callable
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol

import structlog

from bricola.adapters.engines.terminals.sessions import SocketTerminal, TerminalKind
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition, ServiceDefinition
from bricola.core.kinds.registry import needs
from bricola.core.kinds.screens.alarm import compare_shots, filled_places, hidden_texts, inserted, nearest, sound
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.film import Film, Shot, plain_film, read_film
from bricola.core.kinds.screens.recognise import compile_recogniser
from bricola.core.kinds.screens.review import FilmFacts
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.sessions import Quiet, ScreenError
from bricola.core.kinds.screens.shape import ResolvedFlow, resolve_flow
from bricola.core.kinds.screens.walks import compile_walks
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Record
from bricola.server.kinds.kind import Ports as KindPorts
from bricola.server.kinds.kind import Unsound
from bricola.server.ports.changes import Change, Changes, Topic
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.films import Films
from bricola.server.ports.places import Places, bound_backend
from bricola.store import films as store


class Ports(Protocol):
    drafts: Drafts
    places: Places
    changes: Changes
    films: Films


log = structlog.stdlib.get_logger("bricola.screens")
_OPENING_SECONDS = 15.0
_FRESH = timedelta(minutes=10)  # so long a look at the host is good enough for a deployment


def find_flow(ports: Ports, name: str) -> ScreenFlowDefinition:
    found = ports.drafts.catalogue.get(ScreenFlowDefinition, name)
    if found is None:
        raise ProblemError(
            unknown("screen flow", name, sorted(one.name for one in ports.drafts.catalogue if isinstance(one, ScreenFlowDefinition)))
        )
    return found


async def flows(ports: Ports) -> list[dict[str, Any]]:
    """Every screen flow, with its film and the last checks."""
    filmed = {one.flow: one for one in await ports.films.stored()}
    checked = await ports.films.checks()
    found = []
    for one in sorted((one for one in ports.drafts.catalogue if isinstance(one, ScreenFlowDefinition)), key=lambda one: one.name):
        film = filmed.get(one.name)
        users = [service.name for service in ports.drafts.catalogue.services() if any(two.source == ("screen-flow", one.name)
                                                                                for two in service.operations)]
        backend = ports.drafts.catalogue.find_backend(one.backend)
        bound = [place.name for place in ports.drafts.catalogue.environments() if place.binding(one.backend) is not None]
        found.append(
            {
                "flow": one.name,
                "description": one.description,
                "backend": one.backend,
                "engine": backend.engine if backend else "",
                "writes": one.writes,
                "moves": len(one.moves),
                "places": _places(one),
                "lists": _lists(one),
                "services": users,
                "environments": bound,
                "film": {
                    "environment": film.environment,
                    "at": film.at,
                    "author": film.author,
                    "screens": len(film.content["screens"]),
                    "moves": len(film.content["shots"]),
                }
                if film
                else None,
                "checks": [check for check in checked if check["flow"] == one.name],
            }
        )
    return found


def _places(flow: ScreenFlowDefinition) -> list[dict[str, Any]]:
    """What is typed and read where, for the marks on pictures."""
    kinds: dict[tuple[str, str], str] = {}
    for move in (*flow.moves, *flow.back):
        kinds |= {(move.on, name): "output" for name in move.read}
        kinds |= {(move.on, fill.name): "input" if fill.input else "fixed" for fill in move.fill}
    return [{"screen": screen.name, "name": one.name, "kind": kinds[screen.name, one.name], "row": one.row, "column": one.column,
             "length": one.length} for screen in flow.screens for one in screen.places if (screen.name, one.name) in kinds]


def _lists(flow: ScreenFlowDefinition) -> list[dict[str, Any]]:
    return [
        {
            "screen": screen.name,
            "name": one.name,
            "first_row": one.rows[0],
            "last_row": one.rows[1],
            "columns": [{"name": two.name, "column": two.column, "length": two.length, "type": ""} for two in one.columns],
            "goes_on": one.goes_on[0].model_dump(exclude_defaults=True) if one.goes_on else None,
            "ends": one.ends[0].model_dump(exclude_defaults=True) if one.ends else None,
        }
        for screen in flow.screens
        for one in screen.lists
    ]


def keeping(film: Film, environment: str, author: str) -> Callable[[Change], None]:
    """The change that keeps a film instead of the one before."""

    def work(change: Change) -> None:
        store.keep_film(change.db, film.flow, environment, author, plain_film(film))
        change.note(author, "film", f"screen-flow {film.flow}", None, {"environment": environment, "moves": len(film.shots)})

    return work


async def film(ports: Ports, flow: str, environment: str, inputs: dict[str, Any], author: str, writes: bool,
               listen: float = 1.0) -> dict[str, Any]:
    """Walk a flow on a fresh session from the sign-on to the sign-off, and keep what was seen. One that writes is walked only where
    `writes` consents: the host does what it does at each key. The first time on each screen it is listened for `listen` seconds whether the
    host goes on writing."""
    definition, place = find_flow(ports, flow), ports.drafts.environment(environment)
    if definition.writes and not writes:
        raise ProblemError(
            Problem(
                "film.writes",
                f"{flow} writes on the host, and filming it would.",
                Kind.CONFLICT,
                place=f"screen-flow {flow}",
                mend=f"Consent: bricola screens film {flow} {environment} --writes, where that does no harm.",
            )
        )
    source = resolve_flow(definition, ports.drafts.catalogue)
    plain = _effective(source, inputs)
    shots, _, error = await _walk(ports, source, place, _values(source, plain), ports.drafts.catalogue, quiet := Quiet(), listen)
    if error is not None:
        raise error
    made = Film(flow, environment, _plain_inputs(source, plain), tuple(shots), definition.backend, quiet.seconds if listen else None)
    problems = sound(made)
    secrets = [f"{name}, at position {one.start}" for name, one in hidden_texts(made.shots)]
    if secrets:
        raise ProblemError(Problem("film.secret", "The walk types into a hidden field outside the sign-on; a film would keep it.",
                                   place="; ".join(secrets), mend="Let the backend sign on, or make the input 'sensitive: true'."))
    await ports.changes.make([Topic.FILMS], keeping(made, environment, author))
    return {
        "flow": flow,
        "environment": environment,
        "quiet": made.quiet,
        "moves": len(shots),
        "screens": len({one.known for one in shots} | {one.came for one in shots}),
        "stages": list(dict.fromkeys(one.stage for one in shots)),
        "problems": problems,
    }


async def one_film(ports: Ports, flow: str) -> dict[str, Any]:
    """A film as JSON, for export and for looking at."""
    found = next((one for one in await ports.films.stored() if one.flow == flow), None)
    if found is None:
        raise ProblemError(_no_film(flow))
    return {**found.content, "at": found.at, "author": found.author}


async def check(ports: Ports, environment: str, flow: str = "", writes: bool = False) -> list[dict[str, Any]]:
    """Hold the film of one flow, or of all that are bound there, against the live host. Flows that write are left out unless
    `writes` consents, and say so."""
    place = ports.drafts.environment(environment)
    filmed = {one.flow: one for one in await ports.films.stored()}
    if flow:
        find_flow(ports, flow)
        if flow not in filmed:
            raise ProblemError(_no_film(flow))
    found = []
    for name, one in filmed.items():
        definition = ports.drafts.catalogue.get(ScreenFlowDefinition, name)
        binding = place.binding(definition.backend) if definition is not None else None
        if definition is None or binding is None or binding.film or flow not in ("", name):
            continue
        if definition.writes and not writes:
            found.append({"flow": name, "environment": environment, "filmed_at": one.at, "filmed_in": one.environment, "passed": True,
                          "skipped": "it writes on the host", "endpoint": "", "screens": [], "moved": [], "stopped": None})
            continue
        outcome = await _check_one(ports, definition, ports.drafts.catalogue, place, read_film(one.content))
        await ports.films.keep_check(name, environment, outcome)
        found.append(
            {"flow": name, "environment": environment, "filmed_at": one.at, "filmed_in": one.environment, "skipped": "", **outcome}
        )
    return found


async def prepare(ports: KindPorts, catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition) -> list[Problem]:
    """Before a deployment, every flow of the release that only reads is walked on the host and held against its film, unless that was done
    with the same definition minutes ago. One that writes is held against it by those who say so."""
    filmed = {one.flow: one for one in await ports.films.stored()}
    found = []
    for flow in needs(catalogue, service).all_of(ScreenFlowDefinition):
        binding = environment.binding(flow.backend)
        film = filmed.get(flow.name)
        if flow.writes or film is None or binding is None or binding.film or await _is_fresh(ports, flow, environment.name, film):
            continue
        outcome = await _check_one(ports, flow, catalogue, environment, read_film(film.content))
        await ports.films.keep_check(flow.name, environment.name, outcome)
        if not outcome["passed"]:
            found.append(Problem("flow.moved", f"The host in {environment.name} is not as {flow.name} was filmed.", Kind.CONFLICT,
                                 place=f"screen-flow {flow.name}, screens", found=_told(outcome),
                                 mend=f"See what moved: bricola screens check {environment.name} {flow.name}"))
    return found


async def _is_fresh(ports: KindPorts, flow: ScreenFlowDefinition, environment: str, film: store.StoredFilm) -> bool:
    """Whether the film was made there, or held against the host, within the last minutes, as the draft that is released."""
    if ports.drafts.catalogue.get(ScreenFlowDefinition, flow.name) != flow:
        return False
    moments = [film.at] if film.environment == environment else []
    moments += [one["at"] for one in await ports.films.checks()
                if one["flow"] == flow.name and one["environment"] == environment and one["passed"]]
    return any(datetime.fromisoformat(one) > datetime.now(UTC) - _FRESH for one in moments)


async def _check_one(ports: KindPorts, definition: ScreenFlowDefinition, catalogue: Catalogue, place: EnvironmentDefinition,
                     filmed: Film) -> dict[str, Any]:
    try:
        source = resolve_flow(definition, catalogue)
        shots, endpoint, error = await _walk(ports, source, place, _values(source, _effective(source, dict(filmed.inputs))), catalogue)
    except ProblemError as failure:
        return {"passed": False, "endpoint": "", "screens": [], "moved": [], "stopped": failure.problem.as_dict(for_owners=True)}
    filled = filled_places((*source.host.sign_on, *definition.moves, *definition.back, *source.host.sign_off))
    moved = compare_shots(filmed.shots, shots, dict(source.screens), filled)
    if isinstance(error, ScreenError) and error.screen is not None:
        judged = nearest(error.expected, error.screen)
        if judged is not None and len(judged[1]) == len(judged[0].known.marks):  # it has nothing of what was expected
            stranger = inserted(error.expected, map(compile_recogniser, source.screens.values()), error.screen)
            moved += [stranger] if stranger is not None else []
        elif judged is not None:
            moved += [one for one in judged[1] if one not in moved]
    return {"passed": error is None and not moved, "endpoint": endpoint,
            "screens": list(dict.fromkeys(name for one in shots for name in (one.known, one.came))),
            "moved": [asdict(one) for one in moved], "stopped": error.problem.as_dict(for_owners=True) if error is not None else None}


async def check_due(ports: Ports) -> None:
    """The scheduled checks: of each environment that asks for them, where the last one is older than its hours."""
    known = {(one["flow"], one["environment"]): one["at"] for one in await ports.films.checks()}
    filmed = [one.flow for one in await ports.films.stored()]
    for place in ports.drafts.catalogue.environments():
        if place.screen_check_hours is None:
            continue
        oldest = datetime.now(UTC) - timedelta(hours=place.screen_check_hours)
        for flow in filmed:
            last = known.get((flow, place.name))
            if last is None or datetime.fromisoformat(last) <= oldest:
                for one in await check(ports, place.name, flow):
                    if not one["passed"]:
                        log.warning("the screens are not as filmed", flow=flow, environment=place.name, moved=one["moved"],
                                    stopped=one["stopped"])


async def _walk(ports: KindPorts, source: ResolvedFlow, place: EnvironmentDefinition, values: dict[str, Any], catalogue: Catalogue,
                quiet: Quiet | None = None, listen: float = 0.0) -> tuple[list[Shot], str, ProblemError | None]:
    """Walk on a session of its own. The moves, the endpoint, and what stopped it. `quiet` learns."""
    backend, binding = bound_backend(place, source.definition.backend, catalogue)
    if binding.film:
        raise ProblemError(Problem("film.is-film", f"{backend.name} is a film in {place.name}, and cannot be filmed.", Kind.CONFLICT,
                                   place=f"environment {place.name}, backends, {backend.name}, film", mend="Film it where the host is."))
    flow = compile_walks(source.definition, source.host, source.screens, source.inputs, source.outputs)
    flow.check(values, source.definition.name)
    shots: list[Shot] = []
    kind = ports.places.session_kind(place, backend.name, catalogue)
    assert isinstance(kind, TerminalKind)  # a film has no session to walk on, and was refused before
    session, endpoint, error = await _open(kind, backend, binding.ends, shots)
    if session is None:
        return shots, endpoint, error
    if quiet is not None:
        session.quiet, session.listens, session.course.listen = quiet, True, listen
    player = Runner(session, flow.ways, time.monotonic)
    try:
        try:
            await player.play(flow, values)
        except DeclaredFaultError:
            pass  # a fault that the flow knows is a walk too
        except ProblemError as failure:
            session.course.made = None
            await player.go_back(flow.screens)
            return shots, endpoint, failure
        if not await player.go_back(flow.screens):
            return (
                shots,
                endpoint,
                ProblemError(
                    Problem(
                        "screen.no-way-back",
                        "The walk does not come back to the start screen.",
                        Kind.BACKEND,
                        place=f"screen-flow {source.definition.name}, back",
                    )
                ),
            )
        await player.sign_off()
    except ProblemError as failure:
        return shots, endpoint, failure
    finally:
        session.course.made = None
        await kind.close(session)
    return shots, endpoint, None


async def _open(kind: TerminalKind, backend: BackendDefinition, ends: Any,
                shots: list[Shot]) -> tuple[SocketTerminal | None, str, ProblemError | None]:
    error: ProblemError | None = None
    for end in ends:
        shots.clear()
        try:
            async with asyncio.timeout(_OPENING_SECONDS):
                return await kind.open(end, shots), end.name, None
        except ProblemError as failure:
            error = failure
        except TimeoutError:
            error = ProblemError(Problem("backend.slow", f"The backend {backend.name} does not accept a session in time.", Kind.BACKEND))
    return None, ends[-1].name, error


def _effective(source: ResolvedFlow, inputs: dict[str, Any]) -> dict[str, Any]:
    """The inputs, with the samples of what is left out and has no default."""
    return {one.name: one.type.write(one.sample) for one in source.inputs  # type: ignore[union-attr]
            if one.sample is not None and one.name not in inputs and one.default is None} | inputs


def _values(source: ResolvedFlow, plain: dict[str, Any]) -> dict[str, Any]:
    """Plain inputs as values. Raises ProblemError."""
    problems: list[Problem] = []
    values = from_plain(Record("input", source.inputs), plain, "input", problems)
    if problems:
        raise ProblemError(*problems)
    return values


def _plain_inputs(source: ResolvedFlow, inputs: dict[str, Any]) -> dict[str, Any]:
    """What a later check walks with; never what is sensitive."""
    private = {one.name for one in source.inputs if one.sensitive}
    return {name: value for name, value in inputs.items() if name not in private}


def _no_film(flow: str) -> Problem:
    return Problem("film.none", f"There is no film of {flow} yet.", Kind.MISSING, place=f"screen-flow {flow}",
                   mend=f"Film it: bricola screens film {flow} ENVIRONMENT")


async def facts(ports: KindPorts, catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition) -> FilmFacts:
    """Which flows have a film, and what the last checks found there, for the review."""
    moved = {one["flow"]: _told(one) for one in await ports.films.checks() if one["environment"] == environment.name and not one["passed"]}
    return FilmFacts(frozenset(one.flow for one in await ports.films.stored()), moved)


def _told(check: dict[str, Any]) -> str:
    """What a check found, in a few words."""
    told = [f"{one['screen']}: {one['what']}, {one['found']}" for one in check["moved"]]
    return "; ".join(told[:3]) or (check["stopped"] or {}).get("message", "")


def unsound(ports: KindPorts, flow: str, environment: str) -> Unsound | None:
    """The last check there, where the host's screens were not as they were filmed."""
    check = ports.films.checked.get((flow, environment))
    if check is None or check["passed"]:
        return None
    return Unsound("film", "The host's screens are not as they were filmed.", f"See what moved: bricola screens check {environment} {flow}",
                   _told(check))
