"""A running service: everything that its faces (gateway, management API, pages) share."""

import asyncio
import itertools
import logging
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.folder import DefinitionFile, as_catalogue
from bricola.core.definitions.model import segment_of
from bricola.core.definitions.text import read_definition
from bricola.core.problems import ProblemError
from bricola.core.runtime.callers import Caller, Callers, Token
from bricola.core.runtime.limits import Limits
from bricola.core.runtime.live import LiveService
from bricola.core.runtime.pipeline import Pipeline
from bricola.core.runtime.repeats import Remembered, Repeats, RequestKey
from bricola.server.runtime import Retirement, Runtime
from bricola.server.settings import Settings
from bricola.server.storage import Storage
from bricola.server.throttle import Throttle
from bricola.server.usecases.frozen import thaw
from bricola.server.usecases.lookup import find_environment
from bricola.server.usecases.screens import check_due, load_films
from bricola.server.vault import Vault
from bricola.store import audit, calls, credentials, definitions, people, releases, requests
from bricola.store.database import timestamp
from bricola.store.definitions import StoredDefinition
from bricola.store.people import StoredCaller
from bricola.store.releases import StoredDeployment, StoredRetirement

log = logging.getLogger("bricola.service")

_MENDING_SECONDS = 5.0


def call_ids() -> Callable[[], str]:
    """Call ids that sort by time and do not repeat: milliseconds since 1970 and a counter, in hexadecimal."""
    counter = itertools.count(secrets.randbelow(0xFFFFF))
    return lambda: f"{int(time.time() * 1000):011x}-{next(counter) & 0xFFFFF:05x}"


class StoredRequests:
    """The log of requests in the main store: durable before the write begins."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage

    async def begin(self, key: RequestKey, digest: str, call: str, at: float, expires: float) -> Remembered | None:
        return await self._storage.main(requests.begin, key, digest, call, at, expires)

    async def finish(self, key: RequestKey, answer: str) -> None:
        await self._storage.main(requests.finish, key, answer)

    async def forget(self, key: RequestKey) -> None:
        await self._storage.main(requests.forget, key)


class Bricola:
    """State and wiring only; what is done with it stands in `usecases`.

    Raises ProblemError when a store cannot be opened, or when the vault's key is not the one that sealed it."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.storage = Storage(settings.data)
        check = self.storage.at_start(credentials.sealing_check)
        self.vault = Vault(settings.key_file or settings.data / "bricola.key", may_make=check is None)
        if check is None:
            self.storage.at_start(credentials.keep_sealing_check, self.vault.new_check())
        else:
            self.vault.verify(check)
        self.runtime = Runtime(settings.data, self.vault)
        self.callers = Callers(time.time)
        self.signins = Throttle(time.monotonic)
        self.pipeline = Pipeline(self.callers, self.storage.writer, time.time, time.perf_counter, call_ids(),
                                 Repeats(StoredRequests(self.storage)))
        self.drafts: list[DefinitionFile] = []
        self.catalogue = Catalogue()
        self.revisions: dict[Reference, StoredDefinition] = {}  # the newest of each draft
        self.draft_digests: dict[str, str] = {}  # by service; see usecases.services.draft_state
        self.setup_code: str | None = None  # while there is no user
        self.swapping = asyncio.Lock()  # held while the stored deployment and what is live change together
        self.effective: dict[str, str] = {}  # live setting -> the moment since when it is in effect
        self._limits: dict[str, tuple[StoredCaller, Limits]] = {}
        self._mending: asyncio.Task[None] | None = None
        self._checking: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Take up where the service was stopped: drafts, callers, credentials, and every deployment in force."""
        await self.load_drafts()
        await self.load_callers()
        await self.load_credentials()
        await load_films(self)
        if not await self.storage.main(people.count_users):
            self.setup_code = secrets.token_urlsafe(16)
        for one in await self.storage.main(releases.retirements):
            self.runtime.retire(one.environment, segment_of(one.service, one.version), retirement_of(one))
        for environment, service, version in await self._places_in_force():
            await self.bring_up(environment, service, version)
        self._mending = asyncio.create_task(self._mend())

    async def changed(self, who: str, action: str, subject: str, before: Any = None, after: Any = None) -> None:
        """Add to the audit trail; never with a secret."""
        await self.storage.main(audit.add_entry, who, action, subject, before, after)

    async def _places_in_force(self) -> list[tuple[str, str, int]]:
        found = await self.storage.main(releases.deployments, in_force=True, limit=1_000_000)
        return list(dict.fromkeys((one.environment, one.service, one.version) for one in reversed(found)))

    async def _mend(self) -> None:
        """Every few seconds: try what is down again, write down who used what, drop records that are too old."""
        while True:
            await asyncio.sleep(_MENDING_SECONDS)
            try:
                down = set(self.runtime.down_places())
                for environment, service, version in await self._places_in_force() if down else ():
                    if (environment, segment_of(service, version)) in down:
                        await self.bring_up(environment, service, version)
                await self.note_uses()
                if self._checking is None or self._checking.done():  # a slow host must not hold up the rest
                    if self._checking is not None and not self._checking.cancelled() and (failure := self._checking.exception()):
                        log.error("checking screens failed", exc_info=failure)
                    self._checking = asyncio.create_task(check_due(self))
                await self.storage.main(requests.prune, time.time())
                for one in self.catalogue.environments():
                    await self.storage.calls(calls.prune, one.name, time.time() - one.records.keep_days * 86_400)
            except Exception:  # the store may be locked or full for a while; the next round tries again
                log.exception("mending failed")

    async def note_uses(self) -> None:
        """Write down when tokens and credentials were used last."""
        tokens = [(timestamp(datetime.fromtimestamp(at, UTC)), digest) for at, digest in self.callers.uses()]
        if tokens:
            await self.storage.main(people.note_token_uses, tokens)
        signons = [(timestamp(datetime.fromtimestamp(at, UTC)), name) for at, name in self.vault.uses()]
        if signons:
            await self.storage.main(credentials.note_uses, signons)
            await self.load_credentials()

    async def compile_place(self, environment: str, deployed: list[StoredDeployment]) -> list[tuple[LiveService, int]]:
        """The live services of what is deployed at one place, with their shares. Raises ProblemError."""
        definition = find_environment(self.catalogue, environment)
        parts = []
        for one in deployed:
            release = await self.storage.main(releases.find_release, one.service, one.release)
            assert release is not None  # a deployment refers to a stored release by foreign key
            frozen = await thaw(release)
            live = await self.runtime.prepare(definition, frozen.definition, one.release, frozen.catalogue, frozen.resolved)
            parts.append((live, one.share))
        return parts

    async def bring_up(self, environment: str, service: str, version: int) -> None:
        """Put what is deployed at a place into service; when that fails the place says why instead of answering."""
        deployed = await self.storage.main(releases.in_force, environment, service, version)
        outcome: list[tuple[LiveService, int]] | ProblemError
        try:
            outcome = await self.compile_place(environment, deployed)
        except ProblemError as error:
            outcome = error
        segment = segment_of(service, version)
        async with self.swapping:
            if not deployed or await self.storage.main(releases.in_force, environment, service, version) != deployed:
                return  # somebody deployed or undeployed meanwhile
            if isinstance(outcome, ProblemError):
                self.runtime.mark_down(environment, segment, outcome)
            else:
                self.runtime.swap(environment, segment, outcome)

    async def load_drafts(self) -> None:
        stored = await self.storage.main(definitions.drafts)
        self.drafts = await asyncio.to_thread(  # reading many takes a while
            lambda: [DefinitionFile(one.path, read_definition(one.text, one.path)) for one in stored])
        self.catalogue = as_catalogue(self.drafts)
        self.revisions = {(one.kind, one.name): one for one in stored}
        self.draft_digests = {}

    async def load_callers(self) -> None:
        known = await self.storage.main(people.callers)
        self._limits = {one.name: self._limits_of(one) for one in known}
        tokens = []
        for one in known:
            stored, limits = self._limits[one.name]
            limited = stored.networks or stored.per_minute is not None or stored.parallel is not None
            caller = Caller(one.name, frozenset(one.roles), limits=limits if limited else None)
            tokens += [Token(token.digest, caller, datetime.fromisoformat(token.expires_at).timestamp() if token.expires_at else None)
                       for token in one.tokens]
        self.callers.replace(tokens)

    def _limits_of(self, caller: StoredCaller) -> tuple[StoredCaller, Limits]:
        """A caller keeps its counters while its limits stay the same."""
        old = self._limits.get(caller.name)
        if old is not None and (old[0].networks, old[0].per_minute, old[0].parallel) == (
                caller.networks, caller.per_minute, caller.parallel):
            return old
        return caller, Limits(caller.name, caller.networks, caller.per_minute, caller.parallel, time.monotonic)

    async def load_credentials(self) -> None:
        self.vault.load(await self.storage.main(credentials.credentials))

    async def stop(self) -> None:
        if self._mending is not None:
            self._mending.cancel()
        if self._checking is not None:
            self._checking.cancel()
        await self.note_uses()
        await self.runtime.close()
        self.storage.close()


def retirement_of(one: StoredRetirement) -> Retirement:
    return Retirement(datetime.fromisoformat(one.ends_at).timestamp(), one.ends_at[:10], one.words)
