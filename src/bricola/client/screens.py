"""Screen flows: films, checks, and the live terminal."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, cast
from urllib.parse import quote, urlencode

from websockets.exceptions import ConnectionClosed, InvalidHandshake
from websockets.sync.client import ClientConnection
from websockets.sync.client import connect as connect_socket

from bricola.client.transport import ApiConnection, Json, problem_of
from bricola.core.problems import Kind, Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api import screens


class TerminalLine:
    """The line to a live terminal: words go out, what the service tells comes in."""

    def __init__(self, socket: ClientConnection) -> None:
        self._socket = socket

    def press(self, key: str, fields: dict[int, str] | None = None, cursor: int | None = None) -> None:
        """Type into fields (position from 0 -> text) and press a key; the move is told by `hear`."""
        self._say({"type": "press", "key": key, "fields": {str(at): text for at, text in (fields or {}).items()}, "cursor": cursor})

    def reset(self) -> None:
        self._say({"type": "reset"})

    def leave(self) -> None:
        self._say({"type": "leave"})

    def hear(self, seconds: float | None = None) -> Json | None:
        """What the service tells next: `opened`, `moved`, `screen` or `refused`; None when nothing came in time. Raises
        ProblemError when the terminal ended."""
        try:
            told: Json = json.loads(self._socket.recv(timeout=seconds))
        except TimeoutError:
            return None
        except ConnectionClosed:
            raise ProblemError(Problem("terminal.ended", "The terminal is closed.", Kind.BACKEND)) from None
        if told["type"] == "ended":
            raise ProblemError(*(problem_of(one) for one in told["problems"]))
        return told

    def learn(self, name: str, credential: str = "", timeout: float = 60) -> Json:
        """Make a backend of a host that nobody had defined, of what was done at this terminal: its sign-on, its screens, its start; with a
        credential of what was typed there. Raises ProblemError."""
        self._say({"type": "learn", "name": name, "credential": credential})
        while (told := self.hear(timeout)) is not None:
            if told["type"] == "refused":
                raise ProblemError(*(problem_of(one) for one in told["problems"]))
            if told["type"] == "learned":
                return told
        raise ProblemError(Problem("client.no-answer", "The service does not answer.", Kind.BACKEND))

    def _say(self, word: dict[str, Any]) -> None:
        try:
            self._socket.send(json.dumps(word))
        except ConnectionClosed:
            raise ProblemError(Problem("terminal.ended", "The terminal is closed.", Kind.BACKEND)) from None


class ScreenCalls(ApiConnection):
    """The part of the management API about screen flows."""

    def screen_flows(self) -> "list[screens.Flow]":
        """Every screen flow with its film and its last checks."""
        return cast("list[screens.Flow]", self._ask("GET", "/screens"))

    def film(self, flow: str) -> "screens.Film":
        """The recorded screens and moves of a flow."""
        return cast("screens.Film", self._ask("GET", f"/screens/{flow}/film"))

    def make_film(self, flow: str, environment: str, inputs: Json | None = None, writes: bool = False,
                  listen: float = 1.0) -> "screens.MadeFilm":
        """Walk a flow on the live host and keep what was seen; `writes` consents to walk one that writes. The first time on each screen it
        is listened so many seconds whether the host goes on writing."""
        body = {"inputs": inputs or {}, "writes": writes, "listen": listen}
        return cast("screens.MadeFilm", self._ask("POST", f"/screens/{flow}/film/{environment}", json=body))

    def check_screens(self, environment: str, flow: str = "", writes: bool = False) -> "list[screens.FilmCheck]":
        """Hold the films against the live host: per flow whether it passed, what moved, and what stopped the walk. Flows that write
        are skipped, unless `writes` consents."""
        return cast("list[screens.FilmCheck]", self._ask("POST", f"/screen-checks/{environment}", params={"flow": flow, "writes": writes}))

    @contextmanager
    def terminal(self, environment: str, backend: str, flow: str = "", raw: bool = False) -> Iterator[TerminalLine]:
        """A live terminal on a session of the pool, or with `raw` on one that nobody signed on. Raises ProblemError."""
        with self._line(f"/terminals/{quote(environment)}/{quote(backend)}", {"flow": flow, "raw": "true" if raw else "false"}) as line:
            yield line

    @contextmanager
    def strange_terminal(self, environment: str, address: str, engine: str, **settings: Any) -> Iterator[TerminalLine]:
        """A live terminal of a host that nobody has defined. `settings`: tls, device, code_page, model, wide. Raises ProblemError."""
        told = {key: str(value).lower() if isinstance(value, bool) else str(value) for key, value in settings.items()}
        with self._line(f"/strange-terminals/{quote(environment)}", {"address": address, "engine": engine, **told}) as line:
            yield line

    def finish_recording(self, body: Json) -> "screens.Recorded":
        """Check a recording of moves and what was pointed at; with `save` it becomes drafts, and its screens the film of the flow."""
        return cast("screens.Recorded", self._ask("POST", "/screens-recordings", json=body))

    def guess_place(self, screen: Json, row: int, column: int, length: int | None = None) -> Json:
        """What stands at a place of a screen, as far as it can be guessed: its name, type and look."""
        return cast(Json, self._ask("POST", "/screens-guess", json={"screen": screen, "row": row, "column": column, "length": length}))

    def guess_region(self, screen: Json, row: int, column: int, last_row: int, last_column: int, engine: str) -> Json:
        """The columns of a region of rows, and how its list goes on."""
        return cast(Json, self._ask("POST", "/screens-guess", json={
            "screen": screen, "row": row, "column": column, "last_row": last_row, "last_column": last_column, "engine": engine}))

    @contextmanager
    def _line(self, path: str, query: dict[str, str]) -> Iterator[TerminalLine]:
        base = self.url.replace("http", "ws", 1)
        headers = {"Authorization": self._http.headers.get("authorization", "")}
        try:
            socket = connect_socket(f"{base}/api/v1{path}?{urlencode(query)}", additional_headers=headers, max_size=4_000_000)
        except (OSError, InvalidHandshake) as error:
            raise ProblemError(
                Problem("client.no-answer", "The service does not answer.", Kind.BACKEND, place=self.url, found=str(error))
            ) from None
        with socket:
            yield TerminalLine(socket)
