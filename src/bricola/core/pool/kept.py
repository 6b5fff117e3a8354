"""A session that a call keeps over several steps.

`KeptPool` stands where a pool stands: whoever borrows from it on behalf of a call that keeps a session gets that session, and giving it
back changes nothing. So what runs on a pool needs to know nothing of it, and what borrows while a session is kept can never wait for
itself.
"""

import contextlib
from collections.abc import AsyncIterator
from typing import Any, Protocol, runtime_checkable

from bricola.core.calls.call import Call
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError


@runtime_checkable
class Transacting(Protocol):
    """A session that holds several steps together: all of them are stored, or none."""

    async def begin(self, within: float) -> None: ...
    async def finish(self, commit: bool) -> None: ...


class Kept:
    """A session in a call's hands. `broken`: something failed on it that leaves it in no known state."""

    __slots__ = ("broken", "session")

    def __init__(self, session: Any) -> None:
        self.session = session
        self.broken = False


class KeptPool:
    """The pool of a backend to which calls keep a session. Nothing of it is shared between calls but which sessions are kept."""

    def __init__(self, pool: "Pool[Any]") -> None:
        self._pool = pool
        self.name = pool.name
        self._held: dict[int, Kept] = {}

    async def keep(self, call: Call) -> Kept:
        """Borrow a session that the call keeps from now on. Raises what borrowing raises."""
        kept = Kept(await self._pool.borrow(call))
        self._held[id(kept.session)] = kept
        call.kept = {**(call.kept or {}), self.name: kept}
        return kept

    def release(self, call: Call, kept: Kept) -> None:
        """Give it back to its pool."""
        del self._held[id(kept.session)]
        call.kept = {name: one for name, one in (call.kept or {}).items() if name != self.name}
        self._pool.give_back(kept.session, kept.broken)

    def now(self) -> float:
        return self._pool.now()

    def take(self, call: Call | None = None) -> Any:
        kept = call.kept.get(self.name) if call is not None and call.kept is not None else None
        if kept is None:
            raise ProblemError(Problem("session.none", "No session is kept here.", Kind.INTERNAL, place=self.name))
        if kept.broken or not self._pool.kind.is_sound(kept.session):
            raise SessionLostError(Problem("session.lost", "The session that is kept over several steps is lost.", Kind.BACKEND,
                                           mend="Try again; what was not finished is not stored."), begun=True)
        if call is not None:
            call.note("on the session that is kept")
        return kept.session

    async def borrow(self, call: Call | None = None) -> Any:
        return self.take(call)

    def give_back(self, session: Any, broken: bool = False) -> None:
        kept = self._held[id(session)]
        kept.broken = kept.broken or broken

    @contextlib.asynccontextmanager
    async def session(self, call: Call | None = None) -> AsyncIterator[Any]:
        session, broken = self.take(call), True
        try:
            yield session
            broken = False
        except ProblemError:
            broken = False
            raise
        finally:
            self.give_back(session, broken)
