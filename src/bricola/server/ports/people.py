"""People and callers: who may use the management API, and who may call services."""

import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime

from bricola.core.calls.callers import Caller, Callers, Token
from bricola.core.calls.limits import Limits
from bricola.server.ports.storage import Storage
from bricola.server.throttle import Throttle
from bricola.store import people
from bricola.store.database import Db, timestamp
from bricola.store.people import StoredCaller, StoredUser


class People:
    """Stored users and callers; the tokens of callers are kept in memory, as of the last change."""

    def __init__(self, storage: Storage, now: Callable[[], float] = time.time, clock: Callable[[], float] = time.monotonic) -> None:
        self._storage, self._clock = storage, clock
        self.callers = Callers(now)
        self.signins = Throttle(clock)
        self.setup_code: str | None = None  # while there is no user
        self._limits: dict[str, tuple[StoredCaller, Limits]] = {}

    # the holder of callers

    def load(self, db: Db) -> tuple[list[StoredCaller], list[tuple[bytes, str]]]:
        return people.callers(db), people.revoked_tokens(db)

    async def take(self, loaded_all: tuple[list[StoredCaller], list[tuple[bytes, str]]]) -> None:
        loaded, revoked = loaded_all
        self._limits = {one.name: self._limits_of(one) for one in loaded}
        tokens = []
        for one in loaded:
            stored, limits = self._limits[one.name]
            limited = stored.networks or stored.per_minute is not None or stored.parallel is not None
            caller = Caller(one.name, frozenset(one.roles), limits=limits if limited else None)
            tokens += [Token(token.digest, caller, datetime.fromisoformat(token.expires_at).timestamp() if token.expires_at else None)
                       for token in one.tokens]
        self.callers.replace(tokens, {digest: Caller(name, frozenset()) for digest, name in revoked})

    def _limits_of(self, caller: StoredCaller) -> tuple[StoredCaller, Limits]:
        """A caller keeps its counters while its limits stay the same."""
        old = self._limits.get(caller.name)
        if old is not None and (old[0].networks, old[0].per_minute, old[0].parallel) == (
                caller.networks, caller.per_minute, caller.parallel):
            return old
        return caller, Limits(caller.name, caller.networks, caller.per_minute, caller.parallel, self._clock)

    # looking up

    async def start(self) -> None:
        """Make the one-time code where there is no user yet."""
        if not await self._storage.read(people.count_users):
            self.setup_code = secrets.token_urlsafe(16)

    async def known_callers(self) -> list[StoredCaller]:
        return await self._storage.read(people.callers)

    async def users(self) -> list[StoredUser]:
        return await self._storage.read(people.users)

    async def user(self, name: str) -> StoredUser | None:
        return await self._storage.read(people.find_user, name)

    async def sessions(self, name: str) -> list[tuple[str, str, str, str]]:
        return await self._storage.read(people.user_sessions, name)

    async def session_user(self, digest: bytes) -> StoredUser | None:
        return await self._storage.read(people.session_user, digest)

    # sign-ins: neither a definition nor a right, so they are no change with a row of the audit trail

    async def open_session(self, digest: bytes, user: str, label: str, expires: datetime) -> None:
        await self._storage.write(people.add_session, digest, user, label, expires)

    async def close_session(self, digest: bytes) -> None:
        await self._storage.write(people.end_session, digest)

    async def note_uses(self) -> None:
        """Write down when tokens were used last."""
        tokens = [(timestamp(datetime.fromtimestamp(at, UTC)), digest) for at, digest in self.callers.uses()]
        if tokens:
            await self._storage.write(people.note_token_uses, tokens)
