"""Running the service: one process, uvicorn with uvloop and httptools."""

import asyncio
import errno
import gc
import signal
import socket
import sys
from collections.abc import Callable, Sequence

import uvicorn

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.app import create_app
from bricola.server.bricola import Bricola
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.registry import SERVERS
from bricola.server.settings import Settings

_TURN_SECONDS = 0.001  # after which a thread that compiles lets the calls go on; five times shorter than Python's own
YOUNG_OBJECTS = 20_000  # that are allocated before the collector looks; some hundred calls' worth


def listen(settings: Settings) -> socket.socket:
    """The listening socket; port 0 takes a free one. Raises ProblemError when the port is taken."""
    family = socket.AF_INET6 if ":" in settings.host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((settings.host, settings.port))
        listener.listen(2048)
    except OSError as error:
        listener.close()
        taken = error.errno == errno.EADDRINUSE
        raise ProblemError(Problem(
            "serve.port", "The port is in use." if taken else "The address cannot be listened on.", Kind.CONFLICT,
            place=f"{settings.host}:{settings.port}", found="" if taken else str(error.strerror),
            mend="Stop the other program, or choose another port with --port (0 takes a free one).",
        )) from None
    except OverflowError:
        listener.close()
        raise ProblemError(Problem("serve.port", "This is not a port.", place="--port", expected="0 to 65535",
                                   found=str(settings.port))) from None
    return listener


def serve(settings: Settings, when_ready: Callable[[Bricola, str], None]) -> None:
    """Serve until stopped by a signal. `when_ready` is called in a thread of its own once the service answers,
    with the running service and its local address; an exception from it stops the service and is raised here."""
    listener = listen(settings)
    server = make_server(settings, listener, when_ready, own_process=True)
    signal.signal(signal.SIGTERM, lambda *_: None)  # uvicorn stops in peace, then raises the signal once more
    server.run(sockets=[listener])
    if server.failure is not None:
        raise server.failure


def make_server(settings: Settings, listener: socket.socket, when_ready: Callable[[Bricola, str], None], own_process: bool = False,
                kinds: Sequence[KindServer] = SERVERS) -> "Server":
    """A server on a listening socket, not started yet. `own_process`: nothing else runs in this process, so its collector is set for it."""
    host = "127.0.0.1" if settings.host in ("0.0.0.0", "::", "") else settings.host
    host = f"[{host}]" if ":" in host else host
    address = f"http://{host}:{listener.getsockname()[1]}"
    bricola = Bricola(settings, kinds)
    bricola.storage.lock.tell(address)
    # The public address is a setting of the environment, not a header that anybody may send: no proxy headers.
    config = uvicorn.Config(
        create_app(bricola, address),
        loop="uvloop",
        http="httptools",
        ws="websockets-sansio",
        ws_max_size=1_000_000,
        lifespan="on",
        access_log=False,
        log_config=None,
        server_header=False,
        proxy_headers=False,
        timeout_graceful_shutdown=10,
    )
    return Server(config, lambda: when_ready(bricola, address), own_process)


class Server(uvicorn.Server):
    """uvicorn that tells when it answers."""

    def __init__(self, config: uvicorn.Config, when_ready: Callable[[], None], own_process: bool) -> None:
        super().__init__(config)
        self._own_process = own_process
        self._when_ready = when_ready
        self._telling: asyncio.Future[None] | None = None
        self.failure: BaseException | None = None

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started:
            if self._own_process:
                # What the start has made lives as long as the process. Left in the collector's sight it is walked again
                # and again while calls come and go; the call records that wait to be written make that happen often.
                gc.collect()
                gc.freeze()
                gc.set_threshold(YOUNG_OBJECTS)
                sys.setswitchinterval(_TURN_SECONDS)
            self._telling = asyncio.get_running_loop().run_in_executor(None, self._tell)

    def _tell(self) -> None:
        try:
            self._when_ready()
        except BaseException as error:
            self.failure = error
            self.should_exit = True
