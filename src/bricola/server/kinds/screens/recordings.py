"""Recordings of walks: what stands at a place, and from a finished recording to drafts and a film."""

from dataclasses import asdict
from typing import Any

from bricola.core.definitions.base import Definition
from bricola.core.definitions.engines.terminals import Mark
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.film import Shot, read_screen
from bricola.core.kinds.screens.guessing import columns_of, guess, guess_column, guess_pages, widened
from bricola.core.kinds.screens.recording import (
    MarkedColumn,
    MarkedFault,
    MarkedList,
    MarkedPlace,
    Recording,
    check,
    draft,
    film_of,
    sample_inputs,
)
from bricola.core.kinds.screens.shape import resolve_flow
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.review import review
from bricola.core.terminals.screen import Screen
from bricola.server.kinds.screens.films import keeping
from bricola.server.ports.changes import Topic
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports


def guess_place(plain: dict[str, Any], row: int, column: int, length: int | None, last_row: int | None, last_column: int | None,
                engine: str) -> dict[str, Any]:
    """The guess of a place; of a region where it has another corner."""
    screen = _screen(plain)
    if row > screen.rows or column > screen.columns:
        raise ProblemError(Problem("screen.place", "This place is off the screen.", expected=f"{screen.rows} x {screen.columns}",
                                   found=f"row {row}, column {column}"))
    if last_row is None or last_column is None:
        return asdict(guess(screen, row, column, length))
    last = min(max(row, last_row), screen.rows)
    edge = min(max(column, last_column), screen.columns)
    spans = columns_of(screen, row, last, column, edge)
    numeric = [guess_column(screen, range(row, last + 1), *one).type in ("int", "decimal") for one in spans]
    spans = widened(spans, numeric, column, edge)
    key, goes_on, ends = guess_pages(screen, last, engine)
    columns, taken = [], set[str]()
    for start, width in spans:
        found = asdict(guess_column(screen, range(row, last + 1), start, width))
        while found["name"] in taken:
            found["name"] += "2"
        taken.add(found["name"])
        columns.append({**found, "column": start, "length": width})
    return {"columns": columns, "press": key, "goes_on": _plain_mark(goes_on), "ends": _plain_mark(ends)}


def _plain_mark(mark: Mark | None) -> dict[str, Any] | None:
    return mark.model_dump(exclude_defaults=True) if mark is not None else None


def _screen(plain: dict[str, Any]) -> Screen:
    try:
        return read_screen(plain)
    except (KeyError, TypeError, ValueError):
        raise ProblemError(Problem("screen.shape", "This is no screen.", expected="a screen as the live terminal sends it")) from None


async def finish(ports: Ports, body: dict[str, Any], author: str) -> dict[str, Any]:
    """Check a recording and make definitions of it. With `save` they become drafts and the recording the film of its flow."""
    backend = ports.drafts.catalogue.find_backend(body["backend"])
    if backend is None or backend.terminal is None:
        raise ProblemError(Problem("flow.backend", "The flow needs a backend that is a terminal host.", Kind.MISSING, place="backend",
                                   found=shown(body["backend"])))
    ports.drafts.environment(body["environment"])
    recording = _recording(body)
    problems = check(recording, backend.terminal)
    if problems and not body["save"]:
        return {"problems": [one.as_dict() for one in problems], "files": {}, "findings": [], "changes": []}
    made = draft(recording, backend.terminal)
    made += _service(ports, body)
    whole = type(ports.drafts.catalogue)([*ports.drafts.catalogue, *made])
    flow = whole.get(ScreenFlowDefinition, recording.name)
    assert flow is not None
    resolve_flow(flow, whole)
    service = whole.find_service(body["service"]) if body["service"] else None
    findings = [one.problem.as_dict() | {"severity": str(one.severity)} for one in review(whole, service)] if service is not None else []
    paths = {one.reference: one.path for one in ports.drafts.files}
    files = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in made}
    changes = []
    if body["save"]:
        film = film_of(recording, body["environment"], sample_inputs(recording))
        made_changes = await definitions.apply(ports, files, author, also=[Topic.FILMS], more=keeping(film, body["environment"], author))
        changes = [definitions.plain_change(one) for one in made_changes]
    return {"problems": [], "files": files, "findings": findings, "changes": changes}


def _recording(body: dict[str, Any]) -> Recording:
    shots = []
    for one in body["shots"]:
        try:
            typed = {int(at): text for at, text in one["typed"].items()}
        except ValueError:
            raise ProblemError(Problem("recording.typed", "Positions are whole numbers.", place="shots")) from None
        shots.append(Shot("", _screen(one["before"]), one["known"], typed, one["key"], _screen(one["after"]), one["came"]))
    return Recording(
        body["name"], body["backend"], tuple(shots), tuple(MarkedPlace(**one) for one in body["places"]),
        tuple(MarkedList(**{**one, "columns": tuple(MarkedColumn(**two) for two in one["columns"]), "goes_on": _mark(one["goes_on"]),
                            "ends": _mark(one["ends"])}) for one in body["lists"]),
        tuple(MarkedFault(**one) for one in body["faults"]), body["description"], body["writes"],
        {name: (row, column, length) for name, (row, column, length) in body["messages"].items()}, body.get("quiet"))


def _mark(plain: dict[str, Any] | None) -> Mark | None:
    return Mark.model_validate(plain) if plain is not None else None


def _service(ports: Ports, body: dict[str, Any]) -> list[Definition]:
    """The service that publishes the flow: the existing one with one operation more, or a new one."""
    if not body["service"]:
        return []
    operation = Operation(name=body["operation"] or "Run", runs=f"screen-flow {body['name']}", description=body["description"])
    existing = ports.drafts.catalogue.find_service(body["service"])
    if existing is None:
        return [ServiceDefinition(name=body["service"], description=body["description"], access=dict.fromkeys(body["roles"], "all"),
                                  operations=(operation,))]
    rest = tuple(one for one in existing.operations if one.name != operation.name)
    return [existing.model_copy(update={"operations": (*rest, operation)})]
