"""Films of screen flows: made on a live host, held against it later, and told what moved."""

import asyncio
import logging
import time
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from bricola.adapters.terminals import SocketTerminal, TerminalKind
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition
from bricola.core.definitions.screens import ScreenFlowDefinition
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.playing import Player
from bricola.core.runtime.terminals import ScreenError
from bricola.core.shapes.flows import ResolvedFlow, resolve_flow
from bricola.core.shapes.model import Record
from bricola.core.terminals.alarm import compare_shots, filled_places, hidden_texts, nearest, sound
from bricola.core.terminals.film import Film, Shot, plain_film, read_film
from bricola.core.terminals.walks import compile_walks
from bricola.server.runtime import bound_backend
from bricola.server.usecases.lookup import find_environment, unknown
from bricola.store import films as store

if TYPE_CHECKING:
    from bricola.server.bricola import Bricola

log = logging.getLogger("bricola.screens")
_OPENING_SECONDS = 15.0


def find_flow(bricola: "Bricola", name: str) -> ScreenFlowDefinition:
    found = bricola.catalogue.find_flow(name)
    if found is None:
        raise ProblemError(
            unknown("screen flow", name, sorted(one.name for one in bricola.catalogue if isinstance(one, ScreenFlowDefinition)))
        )
    return found


async def flows(bricola: "Bricola") -> list[dict[str, Any]]:
    """Every screen flow, with its film and the last checks."""
    filmed = {one.flow: one for one in await bricola.storage.main(store.films)}
    checked = await bricola.storage.main(store.checks)
    found = []
    for one in sorted((one for one in bricola.catalogue if isinstance(one, ScreenFlowDefinition)), key=lambda one: one.name):
        film = filmed.get(one.name)
        users = [service.name for service in bricola.catalogue.services() if any(two.source == ("screen-flow", one.name)
                                                                                for two in service.operations)]
        backend = bricola.catalogue.find_backend(one.backend)
        bound = [place.name for place in bricola.catalogue.environments() if place.binding(one.backend) is not None]
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


async def load_films(bricola: "Bricola") -> None:
    """Films for offline hosts."""
    bricola.runtime.films = {one.flow: read_film(one.content) for one in await bricola.storage.main(store.films)}


async def film(bricola: "Bricola", flow: str, environment: str, inputs: dict[str, Any], author: str, writes: bool) -> dict[str, Any]:
    """Walk a flow on a fresh session from the sign-on to the sign-off, and keep what was seen. One that writes is walked only where
    `writes` consents: the host does what it does at each key."""
    definition, place = find_flow(bricola, flow), find_environment(bricola.catalogue, environment)
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
    source = resolve_flow(definition, bricola.catalogue)
    plain = _effective(source, inputs)
    shots, _, error = await _walk(bricola, source, place, _values(source, plain))
    if error is not None:
        raise error
    made = Film(flow, environment, _plain_inputs(source, plain), tuple(shots))
    problems = sound(made)
    secrets = [f"{name}, at position {one.start}" for name, one in hidden_texts(made.shots)]
    if secrets:
        raise ProblemError(Problem("film.secret", "The walk types into a hidden field outside the sign-on; a film would keep it.",
                                   place="; ".join(secrets), mend="Let the backend sign on, or make the input 'sensitive: true'."))
    await bricola.storage.main(store.keep_film, flow, environment, author, plain_film(made))
    await bricola.changed(author, "film", f"screen-flow {flow}", None, {"environment": environment, "moves": len(shots)})
    await load_films(bricola)
    return {
        "flow": flow,
        "environment": environment,
        "moves": len(shots),
        "screens": len({one.known for one in shots} | {one.came for one in shots}),
        "stages": list(dict.fromkeys(one.stage for one in shots)),
        "problems": problems,
    }


async def one_film(bricola: "Bricola", flow: str) -> dict[str, Any]:
    """A film as JSON, for export and for looking at."""
    found = next((one for one in await bricola.storage.main(store.films) if one.flow == flow), None)
    if found is None:
        raise ProblemError(_no_film(flow))
    return {**found.content, "at": found.at, "author": found.author}


async def check(bricola: "Bricola", environment: str, flow: str = "", writes: bool = False) -> list[dict[str, Any]]:
    """Hold the film of one flow, or of all that are bound there, against the live host. Flows that write are left out unless
    `writes` consents, and say so."""
    place = find_environment(bricola.catalogue, environment)
    filmed = {one.flow: one for one in await bricola.storage.main(store.films)}
    if flow:
        find_flow(bricola, flow)
        if flow not in filmed:
            raise ProblemError(_no_film(flow))
    found = []
    for name, one in filmed.items():
        definition = bricola.catalogue.find_flow(name)
        binding = place.binding(definition.backend) if definition is not None else None
        if definition is None or binding is None or binding.film or flow not in ("", name):
            continue
        if definition.writes and not writes:
            found.append({"flow": name, "environment": environment, "filmed_at": one.at, "filmed_in": one.environment, "passed": True,
                          "skipped": "it writes on the host", "endpoint": "", "screens": [], "moved": [], "stopped": None})
            continue
        outcome = await _check_one(bricola, definition, place, read_film(one.content))
        await bricola.storage.main(store.keep_check, name, environment, outcome)
        found.append(
            {"flow": name, "environment": environment, "filmed_at": one.at, "filmed_in": one.environment, "skipped": "", **outcome}
        )
    return found


async def _check_one(bricola: "Bricola", definition: ScreenFlowDefinition, place: EnvironmentDefinition, filmed: Film) -> dict[str, Any]:
    try:
        source = resolve_flow(definition, bricola.catalogue)
        shots, endpoint, error = await _walk(bricola, source, place, _values(source, _effective(source, dict(filmed.inputs))))
    except ProblemError as failure:
        return {"passed": False, "endpoint": "", "screens": [], "moved": [], "stopped": failure.problem.as_dict(for_owners=True)}
    filled = filled_places((*source.host.sign_on, *definition.moves, *definition.back, *source.host.sign_off))
    moved = compare_shots(filmed.shots, shots, dict(source.screens), filled)
    if isinstance(error, ScreenError) and error.screen is not None:
        judged = nearest(error.expected, error.screen)
        if judged is not None:
            moved = [*moved, *(one for one in judged[1] if one not in moved)]
    return {"passed": error is None and not moved, "endpoint": endpoint,
            "screens": list(dict.fromkeys(name for one in shots for name in (one.known, one.came))),
            "moved": [asdict(one) for one in moved], "stopped": error.problem.as_dict(for_owners=True) if error is not None else None}


async def check_due(bricola: "Bricola") -> None:
    """The scheduled checks: of each environment that asks for them, where the last one is older than its hours."""
    known = {(one["flow"], one["environment"]): one["at"] for one in await bricola.storage.main(store.checks)}
    filmed = [one.flow for one in await bricola.storage.main(store.films)]
    for place in bricola.catalogue.environments():
        if place.screen_check_hours is None:
            continue
        oldest = datetime.now(UTC) - timedelta(hours=place.screen_check_hours)
        for flow in filmed:
            last = known.get((flow, place.name))
            if last is None or datetime.fromisoformat(last) <= oldest:
                for one in await check(bricola, place.name, flow):
                    if not one["passed"]:
                        log.warning("the screens of %s in %s are not as filmed: %s", flow, place.name, one["moved"] or one["stopped"])


async def _walk(bricola: "Bricola", source: ResolvedFlow, place: EnvironmentDefinition,
                values: dict[str, Any]) -> tuple[list[Shot], str, ProblemError | None]:
    """Walk on a session of its own. The moves, the endpoint, and what stopped it."""
    backend, binding = bound_backend(place, source.definition.backend, bricola.catalogue)
    flow = compile_walks(source.definition, source.host, source.screens, source.inputs, source.outputs)
    flow.check(values, source.definition.name)
    shots: list[Shot] = []
    kind = bricola.runtime.terminals(place, backend, binding)
    session, endpoint, error = await _open(kind, backend, binding.ends, shots)
    if session is None:
        return shots, endpoint, error
    player = Player(session, flow.ways, time.monotonic)
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

