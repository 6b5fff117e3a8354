"""Releases: frozen services, as texts, and as definitions and shapes again."""

import asyncio
import hashlib
from collections import OrderedDict
from dataclasses import dataclass

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.registry import needs
from bricola.core.kinds.resolve import ResolvedService, resolve_service
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.forms import Form
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.storage import Storage
from bricola.store import releases
from bricola.store.releases import ReleaseNote, StoredDeployment, StoredRelease

_MOST_THAWED = 128


def freeze(catalogue: Catalogue, service: ServiceDefinition) -> tuple[dict[str, str], str]:
    """The bundle of a service and its digest: SHA-256 over the canonical texts in the order of their paths. Test suites are in the bundle
    and not in the digest: whoever adds a case changes nothing of what is live."""
    needed = needs(catalogue, service)
    bundle = {default_path(one): write_definition(one) for one in needed}
    serving = sorted(default_path(one) for one in needed if not isinstance(one, SuiteDefinition))
    digest = hashlib.sha256("".join(f"{path}\0{bundle[path]}\0" for path in serving).encode()).hexdigest()
    return bundle, digest


@dataclass(frozen=True)
class Thawed:
    """A release as definitions again, and what they resolve to."""

    catalogue: Catalogue
    definition: ServiceDefinition
    resolved: ResolvedService
    contract: str  # as callers got it, with its address marked


class Releases:
    """What is stored of releases and deployments."""

    def __init__(self, storage: Storage, drafts: Drafts) -> None:
        self._storage, self._drafts = storage, drafts
        self._thawed: OrderedDict[str, Thawed] = OrderedDict()  # by digest, which stands for the whole content

    async def of(self, service: str) -> list[ReleaseNote]:
        """The releases of a service without what is in them, the newest first."""
        return await self._storage.read(releases.releases, service)

    async def newest(self) -> dict[str, tuple[int, str]]:
        """For every service that has releases: the number and digest of the newest."""
        return await self._storage.read(releases.newest_releases)

    async def find(self, service: str, number: int | None) -> StoredRelease:
        """A release by its number, or the newest one. Raises ProblemError with those that there are."""
        found = await self._storage.read(releases.find_release, service, number)
        if found is not None:
            return found
        known = await self.of(service)
        if not known:
            self._drafts.service(service)
            raise ProblemError(Problem("release.none", f"{service} has no release yet.", Kind.MISSING,
                                       place=f"service {service}", mend=f"Make one: bricola release {service}"))
        raise ProblemError(unknown("release", str(number), [str(one.number) for one in reversed(known)]))

    async def newest_of_version(self, service: str, version: int) -> StoredRelease | None:
        return await self._storage.read(releases.newest_of_version, service, version)

    async def newest_served(self, service: str, version: int) -> StoredRelease | None:
        """The newest that was ever deployed: one that never was has no callers, and is nothing that could be broken."""
        return await self._storage.read(releases.newest_served, service, version)

    async def thaw(self, release: StoredRelease) -> Thawed:
        """The definitions of a release. Reading a large one takes a while, so it is done beside the event loop."""
        key = f"{release.service} {release.digest} {release.form} {release.number}"
        found = self._thawed.get(key)
        if found is None:
            found = self._thawed[key] = await asyncio.to_thread(_thaw, release)
            while len(self._thawed) > _MOST_THAWED:
                self._thawed.popitem(last=False)
        return found

    async def without_contract(self) -> list[tuple[str, int]]:
        """The releases of older programs, whose contracts are not stored yet."""
        return await self._storage.read(releases.without_contract)

    async def deployments(self, in_force: bool = False, service: str | None = None, limit: int = 1_000_000) -> list[StoredDeployment]:
        """Deployments, the newest first; with `in_force` only those that are live now."""
        return await self._storage.read(releases.deployments, in_force, service, limit)

    async def in_force(self, environment: str, service: str, version: int) -> list[StoredDeployment]:
        """What is deployed at one place now: the oldest first, two while they share the calls."""
        return await self._storage.read(releases.in_force, environment, service, version)

    async def last_before(self, environment: str, service: str, version: int, release: int) -> int | None:
        return await self._storage.read(releases.last_before, environment, service, version, release)


def _thaw(release: StoredRelease) -> Thawed:
    catalogue = Catalogue(read_definition(text, path) for path, text in release.bundle.items())
    definition = catalogue.find_service(release.service)
    assert definition is not None  # it was frozen with everything that it needs
    resolved = resolve_service(definition, catalogue, Form(release.form))
    return Thawed(catalogue, definition, resolved, release.contract or resolved.kept_contract())
