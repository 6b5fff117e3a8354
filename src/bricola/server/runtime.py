"""What is live: the services that answer, and the pools that they share."""

import logging
import time
from pathlib import Path

from bricola.adapters.sqlite import SqliteKind
from bricola.core.definitions.catalogue import Catalogue, backends_of
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition, ServiceDefinition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.live import LiveService, compile_service
from bricola.core.runtime.objects import DatabaseSession
from bricola.core.runtime.pool import Pool

log = logging.getLogger("bricola.runtime")

Place = tuple[str, str]  # environment and service
_Made = tuple[BackendDefinition, Binding]


class Runtime:
    """Live services by environment and name. Swapping one is replacing one reference, so no call is lost:
    those in flight hold the old service and end on it."""

    def __init__(self, data: Path) -> None:
        self._data = data
        self._live: dict[Place, LiveService] = {}
        self._down: dict[Place, ProblemError] = {}
        self._pools: dict[tuple[str, str], tuple[Pool[DatabaseSession], _Made]] = {}

    def find(self, environment: str, service: str) -> LiveService | None:
        return self._live.get((environment, service))

    def down(self, environment: str, service: str) -> ProblemError | None:
        """Why a deployed service does not answer."""
        return self._down.get((environment, service))

    def down_places(self) -> list[Place]:
        return sorted(self._down)

    def services(self) -> list[LiveService]:
        return list(self._live.values())

    def pool_statistics(self) -> list[dict[str, object]]:
        return [{"environment": environment, "backend": backend, **pool.statistics()}
                for (environment, backend), (pool, _) in self._pools.items()]

    async def prepare(self, environment: EnvironmentDefinition, service: ServiceDefinition, release: int,
                      catalogue: Catalogue) -> LiveService:
        """Compile a release for an environment, with its pools started, and try every statement once."""
        pools = {name: self._pool(environment, name, catalogue) for name in backends_of(catalogue, service)}
        live = compile_service(environment.name, service, release, catalogue, pools,
                               anonymous=service.name in environment.anonymous)
        for backend, statement in live.probes:
            pool = pools[backend]
            async with pool.session() as session:
                await session.rows(statement, [])
        return live

    def swap(self, live: LiveService) -> None:
        place = (live.environment, live.name)
        self._live[place] = live
        self._down.pop(place, None)

    def mark_down(self, environment: str, service: str, error: ProblemError) -> None:
        if (environment, service) not in self._down:  # it is tried again and again; once is enough for the log
            log.error("%s in %s does not answer: %s", service, environment, error)
        self._live.pop((environment, service), None)
        self._down[environment, service] = error

    def remove(self, environment: str, service: str) -> None:
        self._live.pop((environment, service), None)
        self._down.pop((environment, service), None)

    async def close(self) -> None:
        for pool, _ in self._pools.values():
            await pool.close()

    def _pool(self, environment: EnvironmentDefinition, name: str, catalogue: Catalogue) -> Pool[DatabaseSession]:
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        if backend is None or binding is None:
            raise ProblemError(Problem("binding.missing", f"The backend {name} has no place in {environment.name}.",
                                       Kind.INPUT, place=f"environment {environment.name}, backends"))
        key = (environment.name, name)
        existing = self._pools.get(key)
        if existing is not None and existing[1] == (backend, binding):
            return existing[0]
        path = (self._data / binding.file).resolve()
        if path in (self._data.resolve() / "bricola.db", self._data.resolve() / "calls.db"):
            raise ProblemError(Problem(
                "binding.own-store", "A backend cannot be Bricola's own store, which holds its people and secrets.",
                Kind.INPUT, place=f"environment {environment.name}, backends, {name}, file", found=binding.file))
        kind = SqliteKind(name, path)
        pool: Pool[DatabaseSession] = Pool(f"{name} in {environment.name}", kind, binding.pool, time.monotonic)  # type: ignore[arg-type]
        pool.start()
        self._pools[key] = (pool, (backend, binding))
        if existing is not None:
            existing[0].retire()
        return pool
