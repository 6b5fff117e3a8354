"""Films of screen flows, and what came of holding them against the hosts."""

import asyncio
from typing import Any

from bricola.core.kinds.screens.film import Film, read_film
from bricola.server.ports.storage import Storage
from bricola.store import films
from bricola.store.database import Db
from bricola.store.films import StoredFilm


class Films:
    """Stored films; those that may stand in for hosts are kept in memory, as of the last change."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self.by_flow: dict[str, Film] = {}
        self.checked: dict[tuple[str, str], dict[str, Any]] = {}  # the last check, by flow and environment

    def load(self, db: Db) -> tuple[list[StoredFilm], list[dict[str, Any]]]:
        return films.films(db), films.checks(db)

    async def take(self, loaded: tuple[list[StoredFilm], list[dict[str, Any]]]) -> None:
        stored, checks = loaded
        self.checked = {(one["flow"], one["environment"]): one for one in checks}
        films = await asyncio.to_thread(lambda: {one.flow: read_film(one.content) for one in stored})
        self.by_flow.clear()  # in place: sessions to hosts look into it when they are opened
        self.by_flow.update(films)

    async def stored(self) -> list[StoredFilm]:
        return await self._storage.read(films.films)

    async def checks(self) -> list[dict[str, Any]]:
        """The last check of each flow in each environment."""
        return await self._storage.read(films.checks)

    async def keep_check(self, flow: str, environment: str, outcome: dict[str, Any]) -> None:
        """What a check found: an observation, and no change of anything."""
        await self._storage.write(films.keep_check, flow, environment, outcome)
        self.checked[flow, environment] = {"flow": flow, "environment": environment, **outcome}
