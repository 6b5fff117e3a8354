"""Jobs in the main store, their values sealed. What is written of one is on the disk before its next step begins."""

from bricola.core.jobs.journal import Entry
from bricola.core.jobs.model import Job, JobState
from bricola.server.ports.storage import Storage
from bricola.server.vault import Vault
from bricola.store import jobs


class StoredJobs:
    """Sealing happens on the store's own thread, where the key cannot be renewed between the sealing and the storing."""

    def __init__(self, storage: Storage, vault: Vault) -> None:
        self._storage, self._vault = storage, vault

    async def accept(self, job: Job, since: float) -> str:
        return await self._storage.write(jobs.accept, job, since, self._vault.seal)

    async def claim(self, job: str, worker: str, at: float) -> tuple[Job, list[Entry]] | None:
        return await self._storage.write(jobs.claim, job, worker, at, self._vault.unseal)

    async def write(self, job: str, worker: str, entry: Entry) -> bool:
        return await self._storage.write(jobs.write, job, worker, entry, self._vault.seal)

    async def finish(self, job: str, worker: str, state: JobState, outcome: str, words: str, at: float) -> bool:
        return await self._storage.write(lambda db: jobs.finish(
            db, job, worker, state, self._vault.seal(outcome) if outcome else None, words, at))

    async def find(self, job: str) -> Job | None:
        return await self._storage.read(jobs.find, job, self._vault.unseal)

    async def entries(self, job: str) -> list[Entry]:
        return await self._storage.read(jobs.entries, job, self._vault.unseal)

    async def open_jobs(self) -> list[str]:
        return await self._storage.read(jobs.open_jobs)

    async def recent(self, environment: str = "", service: str = "", state: str = "", before: float | None = None,
                     limit: int = 50) -> list[Job]:
        return await self._storage.read(jobs.recent, environment, service, state, before, limit)

    async def to_tell(self) -> list[str]:
        return await self._storage.read(jobs.to_tell)

    async def note_told(self, job: str, told: str) -> None:
        await self._storage.write(jobs.note_told, job, told)

    async def prune(self, environment: str, before: float) -> int:
        return await self._storage.write(jobs.prune, environment, before)

    @property
    def seal(self) -> jobs.Seal:
        return self._vault.seal

    @property
    def unseal(self) -> jobs.Unseal:
        return self._vault.unseal
