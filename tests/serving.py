"""The real service on loopback inside this process: for tests in which a process of its own would prove nothing."""

import secrets
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from bricola.client import Client
from bricola.server.bricola import Bricola
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.registry import SERVERS
from bricola.server.main import listen, make_server
from bricola.server.settings import Settings

ORGANISATION = "Larkmere Waterways"


@dataclass
class Served:
    """A service that answers."""

    bricola: Bricola
    url: str
    password: str = ""

    @property
    def data(self) -> Path:
        return self.bricola.settings.data

    def http(self, path: str = "") -> httpx.Client:
        """Plain HTTP, with time enough for a machine that does much at once."""
        return httpx.Client(base_url=self.url + path, timeout=60)

    def client(self, name: str = "imke") -> Client:
        """Signed in."""
        made = Client(self.url)
        made.sign_in(name, self.password)
        return made


@contextmanager
def serving(data: Path, kinds: Sequence[KindServer] = SERVERS, **settings: Any) -> Iterator[Served]:
    """A service on a data folder, new or used before; with its first admin imke where it is new."""
    started_with = Settings(data, port=0, organisation=ORGANISATION, **settings)
    listener = listen(started_with)
    ready, made = threading.Event(), []

    def when_ready(bricola: Bricola, address: str) -> None:
        made.append(Served(bricola, address))
        ready.set()

    server = make_server(started_with, listener, when_ready, kinds=kinds)
    thread = threading.Thread(target=lambda: server.run(sockets=[listener]), daemon=True)
    thread.start()
    try:
        while not ready.wait(0.1):
            if not thread.is_alive():
                raise RuntimeError("the service did not start")
        served = made[0]
        if served.bricola.people.setup_code is not None:
            served.password = secrets.token_urlsafe(12)
            with Client(served.url) as client:
                client.set_up(served.bricola.people.setup_code, "imke", served.password)
        yield served
    finally:
        server.should_exit = True
        thread.join(30)
        listener.close()
