"""Credentials: sealed in the store, opened by the vault for whoever signs on."""

from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Protocol

from bricola.server.ports.storage import Storage
from bricola.server.vault import Vault
from bricola.store import credentials
from bricola.store.credentials import CredentialPlace, StoredCredential
from bricola.store.database import Db, timestamp


class Pools(Protocol):
    def pools(self) -> Mapping[Any, Any]: ...


class Retried:
    """Pools whose endpoints are left alone, since a secret was refused, ask again as soon as secrets change."""

    def __init__(self, places: Pools) -> None:
        self._places = places

    def load(self, db: Db) -> None:
        return None

    async def take(self, loaded: None) -> None:
        for pool in self._places.pools().values():
            pool.try_again()


class Credentials:
    """Stored credentials; the vault holds them as of the last change. Raises ProblemError for a key that did not seal the store."""

    def __init__(self, storage: Storage, key_file: Path) -> None:
        self._storage = storage
        check = storage.at_start(credentials.sealing_check)
        self.vault = Vault(key_file, may_make=check is None)
        if check is None:
            storage.at_start(credentials.keep_sealing_check, self.vault.new_check())
        else:
            self.vault.verify(check)

    def load(self, db: Db) -> tuple[list[StoredCredential], list[CredentialPlace]]:
        return credentials.credentials(db), credentials.places(db)

    async def take(self, loaded: tuple[list[StoredCredential], list[CredentialPlace]]) -> None:
        found, places = loaded
        self.vault.load(found)
        self.vault.place(places)

    async def places(self) -> list[CredentialPlace]:
        """Where each credential may be presented."""
        return await self._storage.read(credentials.places)

    async def places_were_kept(self) -> bool:
        return await self._storage.read(credentials.places_were_kept)

    async def known(self) -> list[StoredCredential]:
        return await self._storage.read(credentials.credentials)

    async def note_uses(self) -> None:
        """Write down when credentials were used last."""
        signons = [(timestamp(datetime.fromtimestamp(at, UTC)), name) for at, name in self.vault.uses()]
        if signons:
            await self._storage.write(credentials.note_uses, signons)
