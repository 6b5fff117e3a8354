"""A person at a live terminal: a session of the pool (or one of its own that nobody signed on), its screens and moves as JSON."""

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any, Protocol

from bricola.adapters.engines.terminals.sessions import SocketTerminal, TerminalKind
from bricola.core.calls.call import Call
from bricola.core.calls.callers import Caller
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.film import Shot, plain_screen
from bricola.core.kinds.screens.guessing import propose_name
from bricola.core.kinds.screens.recognise import Recogniser, compile_recogniser, recognise
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.terminals.screen import Screen
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places, bound_backend


class Ports(Protocol):
    drafts: Drafts
    places: Places


QUIET = 0.15  # seconds without a record after which a screen is shown as what came; it is updated when more comes
_ANSWER = 15.0


class LiveTerminal:
    """One person's terminal. `flow` names a screen flow whose screens are known by name too."""

    def __init__(self, session: SocketTerminal, backend: BackendDefinition, screens: tuple[Recogniser, ...]) -> None:
        self.session = session
        self._backend = backend
        self._screens = screens
        self.moves = 0
        self.walk: list[Shot] | None = None  # with all that was typed, hidden fields too, where the host is to be learned
        session.listens = True  # a person's pace is slow enough to hear how late pieces of a screen come

    def view(self) -> dict[str, Any]:
        """The screen now, and by which name it is known."""
        screen = self.session.screen
        return {
            "screen": plain_screen(screen),
            "known": self._name(screen),
            "proposed": propose_name(screen),
            "connected": self.session.lost is None,
            "quiet": self.session.quiet.seconds if self.session.quiet.known else None,
        }

    def opened(self, pooled: bool) -> dict[str, Any]:
        terminal = self._backend.terminal
        assert terminal is not None
        return {"type": "opened", "backend": self._backend.name, "engine": self._backend.engine, "device": self.session.terminal.device,
                "user": self.session.user, "start": terminal.start, "pooled": pooled, "keys": sorted(self.session.terminal.keys),
                "screens": [one.name for one in self._screens], "code_page": terminal.code_page, **self.view()}

    async def press(self, key: str, fields: dict[int, str], cursor: int | None) -> dict[str, Any]:
        """Type, press, and wait for what comes. Answers the move; what went into hidden fields is not told."""
        session = self.session
        before = session.screen
        if before.refused:
            session.reset()
            before = session.screen
        columns = before.columns
        session.fill(fields, {at: f"row {at // columns + 1}, column {at % columns + 1}" for at in fields})
        if cursor is not None and 0 <= cursor < len(before.characters):
            session.place_cursor(cursor)
        since, began = session.records, time.perf_counter()
        await session.press(key)
        answered = await self._answered(since)
        self.moves += 1
        if self.walk is not None:
            self.walk.append(Shot("", before, "", dict(fields), key, session.screen, ""))
        hidden = {one.start for one in before.inputs if one.hidden}
        return {
            "type": "moved",
            "number": self.moves,
            "before": plain_screen(before),
            "was": self._name(before) or propose_name(before),
            "key": key,
            "typed": {str(at): None if at in hidden else text for at, text in fields.items() if text},
            "came": self._name(session.screen) or propose_name(session.screen),
            "ms": round((answered - began) * 1000, 1),
            **self.view(),
        }

    async def _answered(self, since: int) -> float:
        """Until the host has said all; when it did."""
        session = self.session
        deadline = time.perf_counter() + _ANSWER
        heard = time.perf_counter()
        while (left := deadline - time.perf_counter()) > 0:
            settled = session.records > since and session.screen.settled
            if await session.heard(session.records, min(left, QUIET) if settled else left):
                heard = time.perf_counter()
            elif settled:
                break
        return heard

    async def news(self) -> dict[str, Any]:
        """Wait for what the host says unasked."""
        session = self.session
        while not await session.heard(session.records, 60.0):
            pass
        return {"type": "screen", **self.view()}

    def reset(self) -> dict[str, Any]:
        self.session.reset()
        return {"type": "screen", **self.view()}

    def _name(self, screen: Screen) -> str:
        found = recognise(self._screens, screen)
        return found.name if found is not None else ""


@asynccontextmanager
async def live_terminal(ports: Ports, environment: str, backend: str, flow: str, raw: bool, role: str,
                        person: str = "") -> AsyncIterator[LiveTerminal]:
    """A terminal of a pool's session, signed on at the start screen; with `raw` one of its own that nobody signed on."""
    place = ports.drafts.environment(environment)
    definition, binding = bound_backend(place, backend, ports.drafts.catalogue)
    if definition.terminal is None:
        raise ProblemError(
            Problem(
                "terminal.backend",
                f"{backend} is no terminal host.",
                place=f"backend {backend}",
                found=definition.engine,
                expected="tn3270 or tn5250",
            )
        )
    if binding.film:
        raise ProblemError(
            Problem(
                "terminal.film",
                f"{backend} is a film in {environment}.",
                Kind.CONFLICT,
                place=f"environment {environment}",
                mend="Open the terminal where the host is.",
            )
        )
    if place.protected and role != "admin":
        raise ProblemError(Problem("terminal.protected-environment", f"{environment} is protected: only an admin opens a terminal there.",
                                   Kind.PERMISSION, expected="the role admin", found=role, mend="Record in another environment."))
    more = ports.drafts.catalogue.get(ScreenFlowDefinition, flow) if flow else None
    screens = tuple(compile_recogniser(one) for one in (*definition.terminal.screens, *(more.screens if more is not None else ())))
    if raw:
        kind = ports.places.session_kind(place, definition.name, ports.drafts.catalogue)
        assert isinstance(kind, TerminalKind)  # a film was refused above
        session = await dialled(kind, definition, binding)
        try:
            yield LiveTerminal(session, definition, screens)
        finally:
            await kind.close(session)
        return
    lent = Call(operation="live terminal", caller=Caller(person, frozenset()))  # for those who look at the pool
    async with ports.places.visit(place, backend, ports.drafts.catalogue, lent) as borrowed:
        await borrowed.ready()
        try:
            yield LiveTerminal(borrowed, definition, screens)  # the pool brings it back to the start, wherever the person left it
        finally:
            borrowed.listens = False


async def dialled(kind: TerminalKind, backend: BackendDefinition, binding: Binding) -> SocketTerminal:
    """A session at the first endpoint that answers, with the host's first screen."""
    seconds = binding.pool.connect_timeout
    error = ProblemError(Problem("terminal.silent", "The host shows no screen.", Kind.BACKEND, place=backend.name))
    for end in binding.ends:
        try:
            async with asyncio.timeout(seconds):
                session = await kind.dial(end)
        except ProblemError as failure:
            error = failure
            continue
        except TimeoutError:
            continue
        if await session.heard(0, seconds):
            return session
        await kind.close(session)
    raise error
