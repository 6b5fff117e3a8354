"""The one path for every change.

A change is one transaction: what is changed, its row of the audit trail, the counters of what it is about, and the reading of everything
that memory is then made from. Only when that is committed does memory take it, before the next change begins. So what the service
answers by is always what is stored, in the order in which it was stored, and what was not stored never shows.
"""

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable
from contextlib import asynccontextmanager
from enum import StrEnum
from typing import Any, Generic, Protocol, TypeVar

from bricola.server.ports.storage import Storage
from bricola.store import audit
from bricola.store.database import Db
from bricola.store.revisions import raise_revisions, revisions

T = TypeVar("T")
S = TypeVar("S")


class Topic(StrEnum):
    """What changes are about."""

    DEFINITIONS = "definitions"
    RELEASES = "releases"
    DEPLOYMENTS = "deployments"
    USERS = "users"
    CALLERS = "callers"
    CREDENTIALS = "credentials"
    FILMS = "films"
    POOLS = "pools"  # what people do with them; nothing of it is stored but who did it
    STORE = "store"  # backups
    JOBS = "jobs"  # what people decide about them


class Holder(Protocol, Generic[S]):
    """Keeps something of the store in memory. `load` runs in the transaction, `take` on the event loop after the commit; what was taken
    is what the revision says that was committed."""

    def load(self, db: Db) -> S: ...
    async def take(self, loaded: S) -> None: ...


class Change:
    """A change while its transaction is open."""

    def __init__(self, db: Db) -> None:
        self.db = db
        self.noted = 0

    def note(self, who: str, action: str, subject: str, before: Any = None, after: Any = None) -> None:
        """Add a row to the audit trail; never with a secret."""
        audit.add_entry(self.db, who, action, subject, before, after)
        self.noted += 1


class Turn:
    """The right to change something, while nobody else does."""

    def __init__(self, storage: Storage, holders: dict[Topic, list[Holder[Any]]]) -> None:
        self._storage, self._holders = storage, holders

    async def commit(self, topics: Iterable[Topic], work: Callable[[Change], T]) -> T:
        """Make a change: all of it or nothing. `work` runs on the store's own thread; what it raises undoes everything. It must leave a
        note of what it did; a `work` that finds nothing to do answers without one."""
        touched = tuple(topics)

        def transaction(db: Db) -> tuple[T, list[tuple[Holder[Any], Any]]]:
            change = Change(db)
            result = work(change)
            if not change.noted:
                return result, []
            raise_revisions(db, touched)
            return result, [(holder, holder.load(db)) for topic in touched for holder in self._holders.get(topic, ())]

        result, loaded = await self._storage.write(transaction)
        for holder, state in loaded:
            await holder.take(state)
        return result


class Changes:
    """All changes of one data folder, one after the other."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._lock = asyncio.Lock()
        self._holders: dict[Topic, list[Holder[Any]]] = {}

    def follow(self, topic: Topic, holder: Holder[Any]) -> None:
        """Let a holder be told of every change of a topic."""
        self._holders.setdefault(topic, []).append(holder)

    async def load_all(self) -> None:
        """At the start: every holder takes what is stored."""
        for holder in dict.fromkeys(one for holders in self._holders.values() for one in holders):
            await holder.take(await self._storage.read(holder.load))

    @asynccontextmanager
    async def turn(self) -> AsyncIterator[Turn]:
        """While the block runs nothing else is changed."""
        async with self._lock:
            yield Turn(self._storage, self._holders)

    async def make(self, topics: Iterable[Topic], work: Callable[[Change], T], then: Callable[[T], Awaitable[None]] | None = None) -> T:
        """One change in a turn of its own. `then` is done with what `work` answered before the turn ends: for what memory must show at
        once and no holder keeps. A caller that goes away does not leave a change half taken up."""
        return await asyncio.shield(self._make(topics, work, then))

    async def _make(self, topics: Iterable[Topic], work: Callable[[Change], T], then: Callable[[T], Awaitable[None]] | None) -> T:
        async with self.turn() as turn:
            result = await turn.commit(topics, work)
            if then is not None:
                await then(result)
            return result

    async def revisions(self) -> dict[str, int]:
        """How often each topic was changed, for whoever keeps something of it elsewhere."""
        return await self._storage.read(revisions)
