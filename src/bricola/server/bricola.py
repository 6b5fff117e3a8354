"""A running service: everything that its faces (gateway, management API, pages) share."""

import asyncio
import itertools
import secrets
import time
from collections.abc import Callable

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import DefinitionFile, as_catalogue
from bricola.core.definitions.text import read_definition
from bricola.core.problems import ProblemError
from bricola.core.runtime.callers import Caller, Callers
from bricola.core.runtime.live import LiveService
from bricola.core.runtime.pipeline import Pipeline
from bricola.server.runtime import Runtime
from bricola.server.settings import Settings
from bricola.server.storage import Storage
from bricola.server.usecases.lookup import find_environment
from bricola.store import definitions, people, releases

_MENDING_SECONDS = 5.0


def call_ids() -> Callable[[], str]:
    """Call ids that sort by time and do not repeat: milliseconds since 1970 and a counter, in hexadecimal."""
    counter = itertools.count(secrets.randbelow(0xFFFFF))
    return lambda: f"{int(time.time() * 1000):011x}-{next(counter) & 0xFFFFF:05x}"


class Bricola:
    """State and wiring only; what is done with it stands in `usecases`."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.storage = Storage(settings.data)
        self.runtime = Runtime(settings.data)
        self.callers = Callers(time.monotonic)
        self.pipeline = Pipeline(self.callers, self.storage.writer, time.time, time.perf_counter, call_ids())
        self.drafts: list[DefinitionFile] = []
        self.catalogue = Catalogue()
        self.draft_digests: dict[str, str] = {}  # by service; see usecases.services.draft_state
        self.setup_code: str | None = None  # while there is no user
        self.swapping = asyncio.Lock()  # held while the stored deployment and what is live change together
        self._mending: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Take up where the service was stopped: drafts, callers, and every deployment in force."""
        await self.load_drafts()
        await self.load_callers()
        if not await self.storage.main(people.count_users):
            self.setup_code = secrets.token_urlsafe(16)
        for deployment in await self.storage.main(releases.deployments, in_force=True, limit=1_000_000):
            await self.bring_up(deployment.environment, deployment.service, deployment.release)
        self._mending = asyncio.create_task(self._mend())

    async def _mend(self) -> None:
        """Try what is down again every few seconds: a backend that comes back needs nobody's hand."""
        while True:
            await asyncio.sleep(_MENDING_SECONDS)
            down = set(self.runtime.down_places())
            for one in await self.storage.main(releases.deployments, in_force=True, limit=1_000_000) if down else ():
                if (one.environment, one.service) in down:
                    await self.bring_up(one.environment, one.service, one.release)

    async def bring_up(self, environment: str, service: str, number: int) -> None:
        """Put a stored deployment into service; when that fails the service says why instead of answering."""
        outcome: LiveService | ProblemError
        try:
            release = await self.storage.main(releases.find_release, service, number)
            definition = find_environment(self.catalogue, environment)
            assert release is not None  # a deployment refers to a stored release by foreign key
            frozen = Catalogue(read_definition(text, path) for path, text in release.bundle.items())
            frozen_service = frozen.find_service(service)
            assert frozen_service is not None
            outcome = await self.runtime.prepare(definition, frozen_service, number, frozen)
        except ProblemError as error:
            outcome = error
        async with self.swapping:
            if await self.storage.main(releases.release_in_force, environment, service) != number:
                return  # somebody deployed or undeployed meanwhile
            if isinstance(outcome, LiveService):
                self.runtime.swap(outcome)
            else:
                self.runtime.mark_down(environment, service, outcome)

    async def load_drafts(self) -> None:
        stored = await self.storage.main(definitions.drafts)
        self.drafts = await asyncio.to_thread(  # reading many takes a while
            lambda: [DefinitionFile(one.path, read_definition(one.text, one.path)) for one in stored])
        self.catalogue = as_catalogue(self.drafts)
        self.draft_digests = {}

    async def load_callers(self) -> None:
        known = {one.name: Caller(one.name, frozenset(one.roles)) for one in await self.storage.main(people.callers)}
        digests = await self.storage.main(people.caller_digests)
        self.callers.replace((digest, known[name]) for digest, name in digests)

    async def stop(self) -> None:
        if self._mending is not None:
            self._mending.cancel()
        await self.runtime.close()
        self.storage.close()
