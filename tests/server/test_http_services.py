"""HTTP services of others as backends: how they are signed in to, checked and asked, and how they fail."""

import base64
import json
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest

from bricola.adapters.engines.web.sessions import WebServiceKind
from bricola.adapters.folders import Folders
from bricola.adapters.secrets import Secret
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, PoolSettings
from bricola.core.messages.http import WebSession
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import ProblemError
from tests.serving import Served, serving

SIGNED = "Basic " + base64.b64encode(b"LARK\\keeper:weir-88").decode()


class Levels(BaseHTTPRequestHandler):
    """Somebody's levels as JSON, for who signs in."""

    protocol_version = "HTTP/1.1"
    wbufsize = 1 << 16
    seen: ClassVar[list[tuple[str, str, bytes, str]]] = []

    def _answer(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        self.seen.append((self.command, self.path, body, self.headers.get("Host", "")))
        if self.path.endswith("/failing"):
            self._send(503, b"{}")
        elif self.path.endswith("/dropping"):
            self.send_response(200)
            self.send_header("Content-Length", "1000")
            self.end_headers()
            for _ in range(40):
                self.wfile.write(b" ")
                self.wfile.flush()
                time.sleep(0.1)
        elif self.path.endswith("/half"):
            self.send_response(200)
            self.send_header("Content-Length", "1000")
            self.end_headers()
            self.wfile.write(b"{")
            self.close_connection = True
        elif self.headers.get("Authorization") != SIGNED:
            self._send(401, b'{"error": "who?"}')
        elif self.path.endswith("/large"):
            self._send(200, b"x" * 50_000)
        else:
            self._send(200 if "/levels" in self.path else 404, json.dumps({"asked": self.path, "sent": body.decode()}).encode())

    do_GET = do_POST = do_OPTIONS = _answer  # noqa: N815 — names of the base class

    def _send(self, status: int, body: bytes) -> None:
        self.send_response(status)
        self.send_header("Content-Type", "application/json; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: Any) -> None:
        """Nothing to say."""


@pytest.fixture(scope="module")
def theirs() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Levels)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://localhost:{server.server_address[1]}/station"
    server.shutdown()


class Keeper:
    """A vault with one secret."""

    def __init__(self, password: str = "weir-88") -> None:
        self._secret = Secret("password", "keeper", password)

    def secrets(self, credential: str) -> list[Secret]:
        return [self._secret]

    def used(self, credential: str) -> None:
        """Nothing to note."""


def pool_of(address: str, password: str = "weir-88") -> Pool[WebSession]:
    binding = Binding(name="levels", address=address, credential="keeper", sign_in="basic", user_form="LARK\\{user}", answer_bytes=20_000)
    kind = WebServiceKind("levels", binding, Surroundings(Folders(Path(".")), Keeper(password)))
    made: Pool[Any] = Pool("levels", kind, (Endpoint(name="main", address=address),), PoolSettings(max_size=2), time.monotonic)
    made.start()
    return made


async def test_a_session_of_the_pool_asks_below_its_address_and_signs_in(theirs: str) -> None:
    pool = pool_of(f"{theirs}?key=1")
    try:
        for path, body, asked in (("levels/G01?since=2026", b"", "/station/levels/G01?since=2026"), ("/levels", b'{"a": 1}', "/station/levels")):
            session = await pool.borrow(Call())
            answer = await session.ask("POST" if body else "GET", path, {"Content-Type": "application/json"}, body, 5)
            pool.give_back(session, broken=False)
            assert (answer.status, answer.content_type) == (200, "application/json; charset=utf-8")
            assert json.loads(answer.body) == {"asked": asked, "sent": body.decode()}
        assert Levels.seen[-1][3].startswith("localhost:")  # by its name, over the address that was looked at
        session = await pool.borrow(Call())
        assert (await session.ask("GET", "nothing", {}, b"", 5)).status == 404  # an answer like any other
        pool.give_back(session, broken=False)
    finally:
        await pool.close()


@pytest.mark.parametrize(("path", "code"), [("large", "outside.large"), ("dropping", "outside.slow"), ("half", "backend.unreachable")])
async def test_what_goes_wrong_is_told_and_the_next_one_is_answered(theirs: str, path: str, code: str) -> None:
    pool = pool_of(theirs)
    try:
        session = await pool.borrow(Call())
        began = time.monotonic()
        with pytest.raises((ProblemError, SessionLostError)) as caught:
            await session.ask("GET", path, {}, b"", 0.5)
        pool.give_back(session, broken=True)
        assert caught.value.problem.code == code
        assert time.monotonic() - began < 3
        session = await pool.borrow(Call())
        assert (await session.ask("GET", "levels", {}, b"", 5)).status == 200
        pool.give_back(session, broken=False)
    finally:
        await pool.close()


async def test_a_sign_in_that_is_refused_is_told_without_its_secret(theirs: str) -> None:
    pool = pool_of(theirs, "wrong-words")
    try:
        session = await pool.borrow(Call())
        with pytest.raises(ProblemError) as caught:
            await session.ask("GET", "levels", {}, b"", 5)
        pool.give_back(session, broken=False)
        assert caught.value.problem.code == "outside.sign-in"
        assert "wrong-words" not in str(caught.value.problem.as_dict(for_owners=True))
    finally:
        await pool.close()


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("http")) as one, one.client() as admin:
        admin.add_credential("keeper", "weir-88", user="keeper")
        admin.add_credential("stranger", "weir-99", user="stranger")
        yield one


@pytest.mark.parametrize(("path", "credential", "failed", "says"), [
    ("", "keeper", "", "application/json, status 404"), ("/levels", "keeper", "", "application/json, status 200"),
    ("/levels", "stranger", "signed on", "refuses the sign-in"), ("/failing", "keeper", "version", "has failed"),
])
def test_the_way_to_it_is_checked_in_stages(served: Served, theirs: str, path: str, credential: str, failed: str, says: str) -> None:
    with served.client() as admin:
        admin.apply({"b.yaml": "backend: levels\nengine: http\n", "e.yaml":
                     f"environment: live\nbackends:\n  levels: {{address: '{theirs}{path}', credential: {credential}, sign_in: basic, "
                     "user_form: 'LARK\\{user}'}\n"})
        stages = admin.check("live", "levels")[0]["stages"]
    assert [one["stage"] for one in stages if one["outcome"] == "failed"] == ([failed] if failed else [])
    assert says in str(stages)
    assert "weir-" not in str(stages)
