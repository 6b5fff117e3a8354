"""What the simulated services over HTTP share: a server in threads of its own."""

import asyncio
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import NamedTuple

Headers = Callable[[str], str]


class Answer(NamedTuple):
    status: int
    body: bytes = b""
    media: str = "text/xml; charset=utf-8"


class WebService:
    """One service on one port. `delay` seconds before each answer to a message."""

    def __init__(self, delay: float = 0.0) -> None:
        self.delay = delay
        self._server: ThreadingHTTPServer | None = None

    def respond(self, method: str, path: str, header: Headers, body: bytes) -> Answer:
        """The answer to a request; `header` gives a header field by its name, '' when there is none."""
        raise NotImplementedError

    async def start(self, port: int) -> int:
        server = ThreadingHTTPServer(("127.0.0.1", port), _handler(self))
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self._server = server
        return int(server.server_address[1])

    async def close(self) -> None:
        if self._server is not None:
            await asyncio.to_thread(self._server.shutdown)
            self._server.server_close()


def _handler(service: WebService) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        wbufsize = 1 << 16  # head and body leave in one packet

        def _any(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
            if service.delay and self.command not in ("GET", "OPTIONS"):
                threading.Event().wait(service.delay)
            answer = service.respond(self.command, self.path, lambda name: self.headers.get(name, ""), body)
            self.send_response(answer.status)
            if answer.body:
                self.send_header("Content-Type", answer.media)
            if answer.status != 204:
                self.send_header("Content-Length", str(len(answer.body)))
            self.end_headers()
            self.wfile.write(answer.body)

        do_GET = do_OPTIONS = do_POST = do_DELETE = do_PUT = _any  # noqa: N815 — the names are the base class's

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002 — the name is the base class's
            """Nothing is written down."""

    return Handler
