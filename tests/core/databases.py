"""One set of tables and definitions on every engine that is there: SQLite, and real servers of Debian's packages."""

import os
import sqlite3
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pytest

from bricola.adapters.engines.mariadb.sessions import MariaKind
from bricola.adapters.engines.postgresql.sessions import PostgresKind
from bricola.adapters.engines.sqlite.sessions import SqliteKind
from bricola.adapters.folders import Folders
from bricola.adapters.networks import ANYWHERE
from bricola.adapters.secrets import Secret
from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition, PoolSettings
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.pool.pool import Pool
from bricola.core.serving.live import LiveService, compile_service
from tests import mariadb, postgres

ENGINES = ("sqlite", "postgresql", "mariadb")


class OneSecret:
    def used(self, credential: str) -> None: ...

    def secrets(self, credential: str) -> list[Secret]:
        return [Secret("password", "bricola", postgres.PASSWORD)]


class Servers:
    """The database servers of a test run, started when first asked for."""

    def __init__(self) -> None:
        self._started: dict[str, Any] = {}

    def get(self, engine: str) -> Any:
        module = {"postgresql": postgres, "mariadb": mariadb}[engine]
        if module.find_programs() is None and not os.environ.get("CI"):
            pytest.skip(f"{engine} is not installed: scripts/setup.sh installs it")
        if engine not in self._started:
            self._started[engine] = postgres.PostgresServer() if engine == "postgresql" else mariadb.MariaServer()
        return self._started[engine]

    def close(self) -> None:
        for server in self._started.values():
            server.remove()


class Database:
    """An empty database of one engine, with a pool on it."""

    def __init__(self, engine: str, folder: Path, servers: Servers, sessions: int = 4, **binding: Any) -> None:
        self.engine, self._folder = engine, folder
        self._server = servers.get(engine) if engine != "sqlite" else None
        kind: Any
        address = "t.db" if self._server is None else self._server.address
        self.binding = Binding(name="river", file=address if self._server is None else "", address="" if self._server is None else address,
                               database="registry", credential="x", **binding)
        if engine == "sqlite":
            sqlite3.connect(folder / "t.db").close()
            kind = SqliteKind("river", Folders(folder), self.binding)
        else:
            kind = (PostgresKind if engine == "postgresql" else MariaKind)("river", self.binding, OneSecret(), ANYWHERE)
            self.run(f"DROP {'SCHEMA public CASCADE' if engine == 'postgresql' else 'DATABASE registry'}",
                     f"CREATE {'SCHEMA public' if engine == 'postgresql' else 'DATABASE registry COLLATE utf8mb4_bin'}", *(
                         ("USE registry",) if engine == "mariadb" else ()))
        self.pool: Pool[Any] = Pool("river", kind, (Endpoint(name="main", address=address),), PoolSettings(max_size=sessions), time.monotonic)

    def run(self, *statements: str) -> None:
        """Statements of standard SQL, past Bricola."""
        if self._server is None:
            with sqlite3.connect(self._folder / "t.db") as db:
                for statement in statements:
                    db.execute(statement)
            db.close()
            return
        connection = self._server.connect()
        try:
            with connection.cursor() as cursor:
                for statement in statements:
                    cursor.execute(statement)
        finally:
            connection.close()

    @property
    def server(self) -> Any:
        return self._server

    def publish(self, texts: Iterable[str], service: str, **environment: Any) -> LiveService:
        """The service of these definitions, live on this database; the backend is called river."""
        backend = BackendDefinition(name="river", engine=self.engine)
        catalogue = Catalogue([backend, *(read_definition(text) for text in texts)])
        found = catalogue.find_service(service)
        assert found is not None
        place = EnvironmentDefinition(name="live", backends=(self.binding,), **environment)
        return compile_service(place, found, 1, resolve_service(found, catalogue), {"river": self.pool})


async def call(live: LiveService, operation: str, within: Call | None = None, **values: object) -> dict[str, Any]:
    """The handler's answer, which must be encodable."""
    answer = await live.by_name[operation].handle(within or Call(), values)
    live.by_name[operation].encode(answer)
    return answer
