"""What is live: the services that answer at each address, and the pools that they share."""

import asyncio
import itertools
import time
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import structlog

from bricola.adapters.engines import DOORS
from bricola.adapters.folders import Folders
from bricola.adapters.networks import Networks
from bricola.adapters.secrets import Secrets
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call
from bricola.core.definitions.access import Grants, with_grants
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import presented_at
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition, ServiceDefinition, segment_of
from bricola.core.kinds.registry import backends_of
from bricola.core.kinds.resolve import ResolvedService
from bricola.core.nearness import did_you_mean
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionKind
from bricola.core.pool.states import NOT_LENDING, PoolState
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.live import LiveService, compile_service
from bricola.server.ports.films import Films
from bricola.store import releases
from bricola.store.credentials import CredentialPlace
from bricola.store.database import Db
from bricola.store.releases import StoredRetirement

log = structlog.stdlib.get_logger("bricola.places")

AnyPool = Pool[Any]
Place = tuple[str, str]  # environment, and the service's segment of the address


@dataclass(frozen=True)
class Retirement:
    """When a place stops answering (seconds since 1970), and what callers are told."""

    ends: float
    day: str
    words: str

    @property
    def notice(self) -> str:
        return f"Retired: ends on {self.day}. {self.words}".strip()


@dataclass(frozen=True)
class LivePlace:
    """What answers at one address: one release, or two that share the calls. Replaced as a whole."""

    parts: tuple[tuple[LiveService, int], ...]  # with their shares in percent, the oldest first
    turns: Iterator[LiveService]
    retirement: Retirement | None = None

    @property
    def main(self) -> LiveService:
        """The one that the contract and the pages tell of: the greatest share, the older one of two halves."""
        return max(self.parts, key=lambda one: one[1])[0]


def spread(parts: Sequence[tuple[LiveService, int]]) -> Iterator[LiveService]:
    """The parts in turn, evenly mixed by their shares, without end."""
    if len(parts) == 1:
        return itertools.repeat(parts[0][0])
    owed = [0.0] * len(parts)
    order: list[LiveService] = []
    for _ in range(100):
        owed = [one + share for one, (_, share) in zip(owed, parts, strict=True)]
        chosen = owed.index(max(owed))
        owed[chosen] -= 100
        order.append(parts[chosen][0])
    return itertools.cycle(order)


def bound_backend(environment: EnvironmentDefinition, name: str, catalogue: Catalogue) -> tuple[BackendDefinition, Binding]:
    """A backend with its place in an environment. Raises ProblemError when it has none."""
    backend, binding = catalogue.find_backend(name), environment.binding(name)
    if backend is None or binding is None or not binding.ends:
        raise ProblemError(Problem("binding.missing", f"The backend {name} has no place in {environment.name}.",
                                   Kind.INPUT, place=f"environment {environment.name}, backends",
                                   mend=did_you_mean(name, [one.name for one in environment.backends if one.ends])
                                   or f"Give it one: bricola connect {name} {environment.name} …"))
    return backend, binding


def _one_place(bound: Binding | None, binding: Binding) -> bool:
    """Whether two bindings are equal but for the settings of the pool, so that sessions of one are sessions of the other."""
    return bound is not None and bound.model_copy(update={"pool": binding.pool}) == binding


def retirement_of(one: StoredRetirement) -> Retirement:
    return Retirement(datetime.fromisoformat(one.ends_at).timestamp(), one.ends_at[:10], one.words)


class Places:
    """Live services by place. Swapping is replacing one reference, so no call is lost: those in flight hold the
    service that they began with and end on it."""

    def __init__(self, folders: Folders, networks: Networks, secrets: Secrets, films: Films,
                 require: Callable[[list[CredentialPlace]], None],
                 grants: Callable[[str, str], Grants | None] = lambda environment, segment: None,
                 named: Callable[[EnvironmentDefinition], EnvironmentDefinition] = lambda environment: environment) -> None:
        """`grants` are those that an environment says for what stands at a segment; None where it says none. `named` gives an environment
        with what stands for the names of its context."""
        self._require, self._grants, self._named = require, grants, named
        self._folders, self._networks = folders, networks
        self._secrets, self._films = secrets, films
        self.effective: dict[str, str] = {}  # live setting -> the moment since when it is in effect
        self.seen: dict[tuple[str, str], float] = {}  # environment and backend -> when a service was last held against it, since 1970
        self.powers: dict[tuple[str, str], tuple[str, ...]] = {}  # the same -> what its account may do beyond rows, as it told then
        self._live: dict[Place, LivePlace] = {}
        self._down: dict[Place, ProblemError] = {}
        # By environment, backend and engine: a release from before a backend moved must not take away the pool of the next.
        self._pools: dict[tuple[str, str, str], tuple[AnyPool, Binding]] = {}
        self._retirements: dict[Place, Retirement] = {}

    # the holder of announced ends

    def load(self, db: Db) -> list[StoredRetirement]:
        return releases.retirements(db)

    async def take(self, loaded: list[StoredRetirement]) -> None:
        found = {(one.environment, segment_of(one.service, one.version)): retirement_of(one) for one in loaded}
        before, self._retirements = self._retirements, found
        for place in {*before, *found}:
            if before.get(place) != found.get(place) and place in self._live:
                self.swap(*place, [(replace(one, notice="", _contracts={}), share) for one, share in self._live[place].parts])

    # what answers where

    def place(self, environment: str, segment: str) -> LivePlace | None:
        return self._live.get((environment, segment))

    def find(self, environment: str, segment: str) -> LiveService | None:
        """The main release at a place."""
        place = self._live.get((environment, segment))
        return place.main if place is not None else None

    def down(self, environment: str, segment: str) -> ProblemError | None:
        """Why a deployed service does not answer."""
        return self._down.get((environment, segment))

    def down_places(self) -> list[Place]:
        return sorted(self._down)

    def deployed(self) -> list[Place]:
        """Every place at which something is deployed, whether it answers or not."""
        return sorted({*self._live, *self._down})

    def services(self) -> list[LiveService]:
        """The main releases of all places."""
        return [one.main for one in self._live.values()]

    def pools(self) -> dict[tuple[str, str], AnyPool]:
        """By environment and backend; where a backend moved, the one that live services use."""
        found = {(environment, backend): pool for (environment, backend, _), (pool, _) in self._pools.items()}
        for (environment, _), place in self._live.items():
            found |= {(environment, backend): pool for one, _ in place.parts for backend, pool in one.pools.items()}
        return found

    def pool_statistics(self) -> list[dict[str, Any]]:
        return [{"environment": environment, "backend": backend, "state": pool.state, **pool.statistics()}
                for (environment, backend), pool in self.pools().items()]

    async def prepare(self, environment: EnvironmentDefinition, service: ServiceDefinition, release: int,
                      catalogue: Catalogue, resolved: ResolvedService, kept: str) -> LiveService:
        """Compile a release for an environment, with its pools started, and try every statement once."""
        live = await self.compile(environment, service, release, catalogue, resolved, kept)
        await self.probe(live)
        return live

    async def compile(self, environment: EnvironmentDefinition, service: ServiceDefinition, release: int, catalogue: Catalogue,
                      resolved: ResolvedService, kept: str) -> LiveService:
        """A release for an environment, with its pools started. Compiling is done beside the event loop: a large service takes half a
        second."""
        pools = {name: self.pool(environment, name, catalogue) for name in backends_of(catalogue, service)}
        service = with_grants(service, self._grants(environment.name, service.segment))
        return await asyncio.to_thread(compile_service, self._named(environment), service, release, resolved, pools, kept)

    async def compile_apart(self, environment: EnvironmentDefinition, service: ServiceDefinition, release: int, catalogue: Catalogue,
                            resolved: ResolvedService, kept: str) -> LiveService:
        """The same with pools of its own, which whoever asked for it closes. For tests in which something stands in for a backend."""
        pools: dict[str, AnyPool] = {}
        for name in backends_of(catalogue, service):
            backend, binding = bound_backend(environment, name, catalogue)
            pools[name] = Pool(f"{name} apart", self._kind(backend, binding, environment.name), binding.ends, binding.pool, time.monotonic)
            pools[name].start()
        service = with_grants(service, self._grants(environment.name, service.segment))
        return await asyncio.to_thread(compile_service, self._named(environment), service, release, resolved, pools, kept)

    async def probe(self, live: LiveService) -> None:
        """Try every statement of a release once. Raises ProblemError."""
        for probe in {(one.backend, one.statement): one for one in live.probes}.values():
            pool = live.pools[probe.backend]
            if pool.state is PoolState.ASLEEP:
                continue  # the first call wakes it, not the deployment
            async with pool.session() as session:
                if probe.statement:
                    await session.rows(probe.statement, [])

    def swap(self, environment: str, segment: str, parts: Sequence[tuple[LiveService, int]]) -> None:
        """Put these releases in service at a place, instead of what is there."""
        retirement = self._retirements.get((environment, segment))
        if retirement is not None:
            parts = [(replace(one, notice=retirement.notice, _contracts={}), share) for one, share in parts]
        self._live[environment, segment] = LivePlace(tuple(parts), spread(parts), retirement)
        log.info("service answers", service=segment, environment=environment, releases={str(one.release): share for one, share in parts})
        self._down.pop((environment, segment), None)
        self._retire_moved(environment)

    def mark_down(self, environment: str, segment: str, error: ProblemError) -> None:
        if (environment, segment) not in self._down:  # it is tried again and again; once is enough for the log
            log.error("service does not answer", service=segment, environment=environment, problem=str(error), inner=error.problem.inner)
        self._live.pop((environment, segment), None)
        self._down[environment, segment] = error

    def remove(self, environment: str, segment: str) -> None:
        log.info("service is taken away", service=segment, environment=environment)
        self._live.pop((environment, segment), None)
        self._down.pop((environment, segment), None)

    def _retire_moved(self, environment: str) -> None:
        """Retire pools of an engine that a backend had before, once nothing live uses them any more."""
        used = {id(pool) for place in self._live.values() for one, _ in place.parts for pool in one.pools.values()}
        kept = {backend for (where, backend, _), (pool, _) in self._pools.items() if where == environment and id(pool) in used}
        for key, (pool, _) in list(self._pools.items()):
            if key[0] == environment and key[1] in kept and id(pool) not in used:
                del self._pools[key]
                pool.retire()

    async def close(self) -> None:
        for pool, _ in self._pools.values():
            await pool.close()

    @asynccontextmanager
    async def visit(self, environment: EnvironmentDefinition, name: str, catalogue: Catalogue,
                    call: Call | None = None) -> AsyncIterator[Any]:
        """A session to a backend for those who look around: of its pool when there is one, else one of its own. `call` tells those who look
        at the pool who has it. Raises ProblemError."""
        backend, binding = bound_backend(environment, name, catalogue)
        pool, bound = self._pools.get((environment.name, name, backend.engine), (None, None))
        if pool is not None and _one_place(bound, binding) and pool.state not in NOT_LENDING and pool.state is not PoolState.ASLEEP:
            async with pool.session(call) as borrowed:
                yield borrowed
            return
        kind = self._kind(backend, binding, environment.name)
        try:
            session = await kind.open(binding.ends[0])
        except ProblemError as error:
            way = f"Try the way stage by stage: bricola check {environment.name} {name}"
            raise ProblemError(*(replace(one, mend=way) for one in error.problems)) from None
        try:
            yield session
        finally:
            await kind.close(session)

    def session_kind(self, environment: EnvironmentDefinition, name: str, catalogue: Catalogue) -> SessionKind[Any]:
        """How sessions to a backend are opened: by the running pool's own kind where there is one, so that both know what is taken."""
        backend, binding = bound_backend(environment, name, catalogue)
        return self.running_kind(environment, backend) or self._kind(backend, binding, environment.name)

    def running_kind(self, environment: EnvironmentDefinition, backend: BackendDefinition) -> SessionKind[Any] | None:
        existing = self._pools.get((environment.name, backend.name, backend.engine))
        return existing[0].kind if existing is not None else None

    @property
    def surroundings(self) -> Surroundings:
        """What doors to backends are given."""
        return Surroundings(self._folders, self._secrets, self._films.by_flow, self._networks)

    def pool(self, environment: EnvironmentDefinition, name: str, catalogue: Catalogue) -> AnyPool:
        """The pool of a backend in an environment, made and started at the first need. Raises ProblemError where it has no place."""
        backend, binding = bound_backend(environment, name, catalogue)
        key = (environment.name, name, backend.engine)
        existing = self._pools.get(key)
        if existing is not None:
            pool, bound = existing
            if _one_place(bound, binding):
                if bound.pool != binding.pool:
                    pool.adjust(binding.pool)
                    self._pools[key] = pool, binding
                return pool
        new: AnyPool = Pool(f"{name} in {environment.name}", self._kind(backend, binding, environment.name), binding.ends,
                            binding.pool, time.monotonic)
        new.start()
        self._pools[key] = (new, binding)
        if existing is not None:
            existing[0].retire()
        return new

    def require_credential(self, backend: BackendDefinition, binding: Binding, environment: str) -> None:
        """Raises ProblemError where the binding's credential may not be presented."""
        if binding.credential:
            self._require([CredentialPlace(binding.credential, environment, backend.engine, presented_at(one.address))
                           for one in binding.ends])

    def kind_at(self, backend: BackendDefinition, binding: Binding, environment: str) -> SessionKind[Any]:
        """How sessions are opened to what is bound nowhere yet."""
        return self._kind(backend, binding, environment)

    def _kind(self, backend: BackendDefinition, binding: Binding, environment: str) -> SessionKind[Any]:
        self.require_credential(backend, binding, environment)
        return DOORS[backend.engine].sessions(backend, binding, self.surroundings, environment)
