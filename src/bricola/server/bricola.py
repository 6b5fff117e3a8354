"""A running service: its ports, put together, and what happens by itself."""

import asyncio
import itertools
import secrets
import time
from collections import OrderedDict
from collections.abc import Awaitable, Callable, Iterator, Sequence
from functools import partial

import structlog

from bricola.adapters.call_backs import may_tell, send
from bricola.adapters.folders import Folders, read_folders
from bricola.adapters.networks import backend_networks, read_networks
from bricola.adapters.patterns import PatternProcess
from bricola.core.ages import Ages
from bricola.core.calls.idempotency import Idempotency
from bricola.core.definitions.access import granted_in
from bricola.core.definitions.contexts import with_context
from bricola.core.definitions.model import EnvironmentDefinition, segment_of
from bricola.core.durations import DAY, MINUTE
from bricola.core.jobs.model import Job
from bricola.core.patterns.matcher import use_fallback
from bricola.core.problems import ProblemError
from bricola.core.serving.jobs import Jobs
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import Pipeline
from bricola.server.kinds.kind import KindServer
from bricola.server.metrics import Metrics
from bricola.server.ports.calls import Calls, StoredRequests
from bricola.server.ports.changes import Changes, Topic
from bricola.server.ports.credentials import Credentials, Retried
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.films import Films
from bricola.server.ports.jobs import StoredJobs
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.ports.storage import Storage
from bricola.server.ports.suites import TestRuns
from bricola.server.settings import Settings
from bricola.server.usecases.bringing_up import bring_up, keep_contracts, places_in_force, release_in
from bricola.server.usecases.credentials import keep_places
from bricola.server.usecases.drift import check_due
from bricola.server.usecases.telling import Telling
from bricola.store import own_clock
from bricola.store.database import STORE_NUMBER

log = structlog.stdlib.get_logger("bricola.service")

ROUND_SECONDS = 5.0
_STORE_SECONDS = 2.0  # within which a store that works answers
_OLDER = 20  # releases that only jobs are of, kept compiled


def call_ids() -> Callable[[], str]:
    """Call ids that sort by time and do not repeat: milliseconds since 1970 and a counter, in hexadecimal."""
    counter = itertools.count(secrets.randbelow(0xFFFFF))
    return lambda: f"{int(time.time() * 1000):011x}-{next(counter) & 0xFFFFF:05x}"


class Bricola:
    """The ports of one process and one data folder. What is done with them stands in `usecases` and in `kinds`.

    Raises ProblemError when the folder is another process's, when a store cannot be opened, or when the vault's key is not the one
    that sealed it."""

    def __init__(self, settings: Settings, kinds: Sequence[KindServer] = ()) -> None:
        self.settings = settings
        self.kinds: Sequence[KindServer] = tuple(kinds)
        self.metrics = Metrics()
        self.storage = Storage(settings.data, self.metrics.count)
        try:
            self.credentials = Credentials(self.storage, settings.key_file or settings.data / "bricola.key")
        except BaseException:
            self.storage.close()
            raise
        self.ages = Ages(time.time, time.monotonic, self.storage.at_start(own_clock.stands))
        self._kept_age = 0.0
        self.changes = Changes(self.storage)
        self.drafts = Drafts()
        self.releases = Releases(self.storage, self.drafts)
        self.patterns = PatternProcess()
        self.films = Films(self.storage)
        folders = Folders(settings.data.resolve(), read_folders(settings.backend_folders), STORE_NUMBER)
        networks = backend_networks(read_networks(settings.backend_networks))
        self.places = Places(folders, networks, self.credentials.vault, self.films, self.credentials.vault.require_places,
                             lambda environment, segment: granted_in(self.drafts.catalogue, environment, segment),
                             lambda environment: with_context(environment, self.drafts.catalogue))
        self.metrics.follow(self)
        self.people = People(self.storage)
        self.calls = Calls(self.storage)
        self.requests = StoredRequests(self.storage)
        self.test_runs = TestRuns(self.storage)
        new_id = call_ids()
        self.stored_jobs = StoredJobs(self.storage, self.credentials.vault)
        self.pipeline: Pipeline = Pipeline(self.people.callers, self.calls.recorder, time.time, time.monotonic, new_id,
                                 Idempotency(self.requests, self.ages), lambda service, operation: self.jobs.desk(service, operation),
                                 self.places.find)
        # Their numbers are what callers show to be told of them, so nobody may guess one.
        self.jobs: Jobs = Jobs(self.stored_jobs, self.job_service, self.pipeline.job, time.time, self.ages,
                         lambda: f"{new_id()}-{secrets.token_hex(12)}", secrets.token_hex(8), ended=self._job_ended,
                         may_tell=lambda address: may_tell(address, settings.call_backs))
        self.telling = Telling(self, send)
        self._older: OrderedDict[tuple[str, str, int], tuple[EnvironmentDefinition | None, LiveService]] = OrderedDict()
        self.changes.follow(Topic.DEFINITIONS, self.drafts)
        self.changes.follow(Topic.CALLERS, self.people)
        self.changes.follow(Topic.CREDENTIALS, self.credentials)
        self.changes.follow(Topic.CREDENTIALS, Retried(self.places))
        self.changes.follow(Topic.FILMS, self.films)
        self.changes.follow(Topic.DEPLOYMENTS, self.places)
        self._chores: dict[str, asyncio.Task[None]] = {}  # by name; one that still runs is not begun again
        self._keeping: asyncio.Task[None] | None = None

    async def start(self) -> None:
        use_fallback(self.patterns.run)
        await self._take_up()

    async def _take_up(self) -> None:
        """Take up where the service was stopped: drafts, callers, credentials, and every deployment in force."""
        await self.changes.load_all()
        await self.people.start()
        await self.test_runs.start()
        await keep_places(self)
        await keep_contracts(self)
        for environment, service, version in await places_in_force(self):
            await bring_up(self, environment, service, version)
        await self.jobs.take_up()
        log.info("service is up", data=str(self.settings.data), services=len(self.places.services()), down=len(self.places.down_places()))
        self._keeping = asyncio.create_task(self._keep_house())

    async def _keep_house(self) -> None:
        """Every few seconds: try what is down again, write down who used what, drop records that are too old."""
        while True:
            await asyncio.sleep(ROUND_SECONDS)
            try:
                await self._round()
            except ProblemError as error:  # the store may be locked or full for a while; the next round tries again
                log.warning("housekeeping waits", problem=str(error))
            except Exception:
                log.exception("housekeeping failed")

    async def _round(self) -> None:
        down = set(self.places.down_places())
        for environment, service, version in await places_in_force(self) if down else ():
            if (environment, segment_of(service, version)) in down:
                await bring_up(self, environment, service, version)
        await self.note_uses()
        for name, chore in self._work():
            self._start_chore(name, partial(chore, self))
        await self.jobs.take_up()
        self._start_chore("call-backs", self.telling.round)
        before = await self._forget_before()
        await self.requests.prune(before)
        for one in self.drafts.catalogue.environments():
            dropped = await self.calls.prune(one.name, before - one.records.keep_days * DAY)
            if dropped:
                log.info("old call records are dropped", environment=one.name, records=dropped, keep_days=one.records.keep_days)
            await self.stored_jobs.prune(one.name, before - one.job_days * DAY)
            await self.calls.prune_traces(one.name, before - one.traces.keep_days * DAY)

    async def ready(self) -> bool:
        """Whether this process can take calls: it has taken up what was live, and its store answers."""
        if self._keeping is None or self._keeping.done():
            return False
        try:
            async with asyncio.timeout(_STORE_SECONDS):
                await self.storage.read(own_clock.stands)
        except (ProblemError, TimeoutError):
            return False
        return True

    async def _forget_before(self) -> float:
        """The moment before which what has ended may be forgotten. How far the service's own clock is is written down every minute."""
        if self.ages.go_on() - self._kept_age >= MINUTE:
            await self.storage.write(own_clock.keep, self.ages.own)
            self._kept_age = self.ages.own
        return self.ages.earliest()

    def _job_ended(self, job: str) -> None:
        self._start_chore("call-backs", self.telling.round)

    def _start_chore(self, name: str, chore: Callable[[], Awaitable[None]]) -> None:
        running = self._chores.get(name)
        if running is not None and not running.done():
            return  # a slow host must not hold up the rest
        if running is not None and not running.cancelled() and (failure := running.exception()):
            log.error("a chore failed", chore=name, exc_info=failure)
        self._chores[name] = asyncio.ensure_future(_await(chore()))

    def _work(self) -> Iterator[tuple[str, Callable[["Bricola"], Awaitable[None]]]]:
        yield "contracts", check_due
        for kind in self.kinds:
            if kind.chore is not None:
                yield kind.kind.word, kind.chore

    async def job_service(self, job: Job) -> LiveService:
        """The release that accepted a job, in its environment, whatever is deployed there by now."""
        place = self.places.place(job.environment, job.segment)
        for one, _ in place.parts if place is not None else ():
            if one.release == job.release:
                return one
        key, environment = (job.environment, job.service, job.release), self.drafts.catalogue.find_environment(job.environment)
        known = self._older.get(key)
        if known is None or known[0] is not environment:  # compiling takes half a second, and people look at a job every few seconds
            known = self._older[key] = environment, await release_in(self, *key)
        self._older.move_to_end(key)
        while len(self._older) > _OLDER:
            self._older.popitem(last=False)
        return known[1]

    async def note_uses(self) -> None:
        """Write down when tokens and credentials were used last."""
        await self.people.note_uses()
        await self.credentials.note_uses()

    async def stop(self) -> None:
        for task in (self._keeping, *self._chores.values()):
            if task is not None:
                task.cancel()
        await self.test_runs.stop()
        await self.jobs.stop()
        try:
            await self.note_uses()
        except ProblemError as error:
            log.warning("the last uses of tokens and credentials are not written down", problem=str(error))
        await self.places.close()
        self.patterns.end()
        self.storage.close()
        log.info("service is stopped")


async def _await(work: Awaitable[None]) -> None:
    await work
