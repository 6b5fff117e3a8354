"""Screen flows: recordings, films, checks, and the live terminal."""

import asyncio
import contextlib
import json
import time
from collections.abc import Awaitable, Callable
from typing import Annotated, Any, Literal

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import BaseModel, Field

from bricola.api import screens as answers
from bricola.api.words import Role
from bricola.core.definitions.engines.terminals import Mark
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.documents import problem_document
from bricola.server.api.access import COOKIE, Integrator, Operator, Running, Viewer
from bricola.server.api.bodies import Guarded
from bricola.server.bricola import Bricola
from bricola.server.kinds.screens import films, recordings, strange_host
from bricola.server.kinds.screens.live_terminal import LiveTerminal, live_terminal
from bricola.server.ports.changes import Topic
from bricola.server.usecases import people
from bricola.server.usecases.audit import note

router = APIRouter(tags=["screens"], route_class=Guarded)
_IDLE_SECONDS = 900.0  # without a word of the person, after which a live terminal gives its session back
_MOST_MESSAGE = 100_000

Plain = dict[str, Any]
Learn = Callable[[Plain], Awaitable[Plain]]
Length = Annotated[int | None, Field(ge=1, le=4000)]
Spot = Annotated[int, Field(ge=1, le=255)]
Look = Literal["point", "comma"]


class Inputs(BaseModel):
    """What a flow is walked with; what is left out takes its default or its sample."""

    inputs: dict[str, Any] = {}
    writes: bool = False  # walk it although it writes on the host
    listen: float = Field(1.0, ge=0, le=30)  # seconds, the first time on each screen, for further pieces


class Where(BaseModel):
    """A place on a screen, or with `last_row` and `last_column` a region."""

    screen: Plain
    row: Spot
    column: Spot
    length: Length = None
    last_row: int | None = Field(None, ge=1, le=255)
    last_column: int | None = Field(None, ge=1, le=255)
    engine: str = Field("", max_length=20)


class PlaceBody(BaseModel):
    screen: str = Field(max_length=80)
    name: str = Field(max_length=80)
    kind: Literal["input", "fixed", "output"]
    row: Spot
    column: Spot
    length: Length = None
    type: str = Field("string", max_length=80)
    dates: str = Field("", max_length=40)
    decimal: Look = "point"
    fraction: int | None = Field(None, ge=0, le=18)
    required: bool = True
    description: str = Field("", max_length=2000)


class ColumnBody(BaseModel):
    name: str = Field(max_length=80)
    column: Spot
    length: int = Field(ge=1, le=255)
    type: str = Field("string", max_length=80)
    dates: str = Field("", max_length=40)
    decimal: Look = "point"
    fraction: int | None = Field(None, ge=0, le=18)
    line: int = Field(1, ge=1, le=10)


class ListBody(BaseModel):
    screen: str = Field(max_length=80)
    name: str = Field(max_length=80)
    first_row: Spot
    last_row: Spot
    columns: list[ColumnBody] = Field(min_length=1, max_length=60)
    press: str = Field("", max_length=20)
    goes_on: Mark | None = None
    ends: Mark | None = None
    until_same: bool = False
    most: int = Field(1000, ge=1, le=1_000_000)
    lines: int = Field(1, ge=1, le=10)


class FaultBody(BaseModel):
    screen: str = Field(max_length=80)
    message: str = Field(max_length=200)
    name: str = Field(max_length=80)


class ShotBody(BaseModel):
    before: Plain
    known: str = Field("", max_length=80)
    typed: dict[str, str | None] = {}
    key: str = Field(max_length=20)
    after: Plain
    came: str = Field("", max_length=80)


class RecordingBody(BaseModel):
    """A finished recording, and what becomes of it."""

    name: str = Field(max_length=80)
    backend: str = Field(max_length=80)
    environment: str = Field(max_length=80)
    shots: list[ShotBody] = Field(max_length=500)
    places: list[PlaceBody] = Field([], max_length=500)
    lists: list[ListBody] = Field([], max_length=50)
    faults: list[FaultBody] = Field([], max_length=50)
    messages: dict[str, tuple[int, int, int]] = {}
    description: str = Field("", max_length=2000)
    writes: bool = True
    service: str = Field("", max_length=80)
    operation: str = Field("", max_length=80)
    roles: list[str] = Field([], max_length=50)
    save: bool = False
    quiet: float | None = Field(None, ge=0, le=30)  # seconds, as the live terminal told it


@router.get("/screens", response_model=list[answers.Flow])
async def list_flows(_: Viewer, bricola: Running) -> list[Plain]:
    """Every screen flow, with its film and its last checks."""
    return await films.flows(bricola)


@router.get("/screens/{flow}/film", response_model=answers.Film)
async def one_film(flow: str, _: Operator, bricola: Running) -> Plain:
    """The recorded screens and moves; they show what the host showed."""
    return await films.one_film(bricola, flow)


@router.post("/screens/{flow}/film/{environment}", response_model=answers.MadeFilm)
async def film(flow: str, environment: str, body: Inputs, user: Integrator, bricola: Running) -> Plain:
    """Walk a flow on a session of its own, and keep what was seen."""
    return await films.film(bricola, flow, environment, body.inputs, user.name, body.writes, body.listen)


@router.post("/screen-checks/{environment}", response_model=list[answers.FilmCheck])
async def check(environment: str, _: Operator, bricola: Running, flow: str = "", writes: bool = False) -> list[Plain]:
    """Hold the films against the live host; those of flows that write only with consent."""
    return await films.check(bricola, environment, flow, writes)


@router.post("/screens-guess", response_model=answers.Guess)
async def guess(body: Where, _: Integrator) -> Plain:
    """What stands at a place: a name and a type; or of a region: its columns, the key for the next page, and its end."""
    return recordings.guess_place(body.screen, body.row, body.column, body.length, body.last_row, body.last_column, body.engine)


@router.post("/screens-recordings", response_model=answers.Recorded)
async def recorded(body: RecordingBody, user: Integrator, bricola: Running) -> Plain:
    """Check a recording and make definitions of it; with `save` they become drafts, and its screens the film of the flow."""
    return await recordings.finish(bricola, body.model_dump(), user.name)


@router.websocket("/terminals/{environment}/{backend}")
async def terminal(socket: WebSocket, environment: str, backend: str, flow: str = "", raw: bool = False) -> None:
    """A live terminal. The person sends `press`, `reset`, `leave`; the service sends `opened`, `moved`, `screen`, `refused`, `ended`."""
    bricola: Bricola = socket.app.state.bricola
    await socket.accept()
    try:
        user = await _who(socket, bricola)
        async with live_terminal(bricola, environment, backend, flow, raw, user.role, user.name) as live:
            told = {"environment": environment, "raw": raw}
            await note(bricola, Topic.POOLS, user.name, "open-terminal", f"backend {backend}", None, told)
            await socket.send_json(live.opened(not raw))
            await _converse(socket, live)
    except ProblemError as error:
        with contextlib.suppress(RuntimeError, WebSocketDisconnect):
            await socket.send_json({**problem_document(error, for_owners=True), "type": "ended"})
    except WebSocketDisconnect:
        return
    with contextlib.suppress(RuntimeError, WebSocketDisconnect):
        await socket.close()


@router.websocket("/strange-terminals/{environment}")
async def strange(socket: WebSocket, environment: str, address: str, engine: str, tls: str = "off",
                  device: str = "", code_page: str = "cp037", model: int = 2, wide: bool = False) -> None:
    """A live terminal of a host that nobody has defined. Beside what a person says at others there is `learn`, with the `name` of the
    backend that the host becomes and that of its `credential`; the service answers `learned`."""
    bricola: Bricola = socket.app.state.bricola
    await socket.accept()
    try:
        user = await _who(socket, bricola)
        host = strange_host.Strange(environment, address, engine, tls, device, code_page, model, wide)
        async with strange_host.strange_terminal(bricola, host, user.role) as live:
            await note(bricola, Topic.POOLS, user.name, "open-terminal", f"host {address}", None, {"environment": environment, "raw": True})
            await socket.send_json(strange_host.opened(live, host))

            async def learn(said: Plain) -> Plain:
                name, credential = str(said["name"]), str(said.get("credential", ""))
                return await strange_host.connect_learned(bricola, live, host, name, credential, user.name, user.role == Role.ADMIN)

            await _converse(socket, live, learn)
    except ProblemError as error:
        with contextlib.suppress(RuntimeError, WebSocketDisconnect):
            await socket.send_json({**problem_document(error, for_owners=True), "type": "ended"})
    except WebSocketDisconnect:
        return
    with contextlib.suppress(RuntimeError, WebSocketDisconnect):
        await socket.close()


async def _who(socket: WebSocket, bricola: Bricola) -> Any:
    """The user, at least an integrator. A page of another site may not open a terminal with a person's session."""
    scheme, _, token = socket.headers.get("authorization", "").partition(" ")
    by_cookie = scheme.lower() != "bearer"
    origin = socket.headers.get("origin", "")
    if by_cookie and origin.partition("://")[2] != socket.headers.get("host", ""):
        raise ProblemError(Problem("session.cross-site", "Another site may not act with your session.", Kind.PERMISSION))
    return await people.who(bricola, socket.cookies.get(COOKIE, "") if by_cookie else token.strip(), "integrator")


async def _converse(socket: WebSocket, live: LiveTerminal, learn: Learn | None = None) -> None:
    """Words of the person and news of the host, whichever comes first; a move is finished before the next word is heard."""
    word: asyncio.Task[str] | None = None
    news: asyncio.Task[Plain] | None = None
    idle_at = time.monotonic() + _IDLE_SECONDS  # what the host says by itself is no sign of a person
    try:
        while True:
            word = word or asyncio.create_task(socket.receive_text())
            news = news or asyncio.create_task(live.news())
            left = max(0.0, idle_at - time.monotonic())
            done, _ = await asyncio.wait((word, news), timeout=left, return_when=asyncio.FIRST_COMPLETED)
            if not done or (word not in done and time.monotonic() >= idle_at):
                raise ProblemError(Problem("terminal.idle", "Nobody used the terminal, so its session was given back.", Kind.LIMIT,
                                           expected=f"a key within {_IDLE_SECONDS / 60:g} minutes", mend="Open it again."))
            if word in done:
                try:
                    text, word = word.result(), None
                except WebSocketDisconnect:
                    return  # the page is closed; the session finds its way back
                idle_at = time.monotonic() + _IDLE_SECONDS
                news.cancel()
                await asyncio.gather(news, return_exceptions=True)
                news = None
                if not await _obey(socket, live, text, learn):
                    return
            elif news in done:
                told, news = news.result(), None
                await socket.send_json(told)
    finally:
        for task in (word, news):
            if task is not None:
                task.cancel()
        await asyncio.gather(*(task for task in (word, news) if task is not None), return_exceptions=True)


async def _obey(socket: WebSocket, live: LiveTerminal, text: str, learn: Learn | None) -> bool:
    """Do what the person said. False when it was the last word."""
    try:
        said = json.loads(text) if len(text) <= _MOST_MESSAGE else {}
        kind = said.get("type")
        if kind == "leave":
            return False
        if kind == "reset":
            await socket.send_json(live.reset())
        elif kind == "press":
            fields = {int(at): str(value) for at, value in dict(said.get("fields", {})).items()}
            cursor = said.get("cursor")
            await socket.send_json(await live.press(str(said["key"]), fields, cursor if isinstance(cursor, int) else None))
        elif kind == "learn" and learn is not None:
            await socket.send_json(await learn(said))
        else:
            raise ValueError(kind)
    except ProblemError as error:
        if live.session.lost is not None:
            raise
        await socket.send_json({"type": "refused", "problems": [one.as_dict(for_owners=True) for one in error.problems], **live.view()})
    except (ValueError, KeyError, TypeError, AttributeError):
        problem = Problem("terminal.word", "This is not understood here.",
                          expected="press with key and fields, reset, or leave; learn with a name where a host is learned")
        await socket.send_json({"type": "refused", "problems": [problem.as_dict()], **live.view()})
    return True
