"""The call log: records, figures, who calls what; and the ids of requests that may be repeated."""

from typing import Any

from bricola.core.calls.idempotency import Remembered, RequestKey
from bricola.core.serving.pipeline import CallRecord
from bricola.server.ports.storage import Storage
from bricola.store import calls, requests
from bricola.store.calls import CallWriter


class Calls:
    """What is recorded of calls."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage

    @property
    def recorder(self) -> CallWriter:
        return self._storage.writer

    async def figures(self, since: float, now: float, parts: int) -> list[dict[str, Any]]:
        return await self._storage.calls(calls.figures, since, now, parts)

    async def users_of(self, service: str, since: float, environment: str = "") -> list[dict[str, Any]]:
        """Who called which operation of a service since a moment."""
        return await self._storage.calls(calls.users_of, service, since, environment)

    async def recent(self, environment: str = "", service: str = "", caller: str = "", failed: bool = False, call: str = "",
                     before: float | None = None, limit: int = 50) -> list[CallRecord]:
        return await self._storage.calls(calls.recent_calls, environment, service, caller, failed, call, before, limit)

    async def usual_bytes(self, service: str, operation: str) -> list[int]:
        return await self._storage.calls(calls.usual_bytes, service, operation)

    async def picture(self, call: str) -> dict[str, Any] | None:
        return await self._storage.calls(calls.picture_of, call)

    async def trace(self, call: str) -> dict[str, Any] | None:
        return await self._storage.calls(calls.trace_of, call)

    async def prune(self, environment: str, before: float) -> int:
        return await self._storage.prune_calls(calls.prune, environment, before)

    async def prune_traces(self, environment: str, before: float) -> int:
        return await self._storage.prune_calls(calls.prune_traces, environment, before)


class StoredRequests:
    """The log of requests in the main store: durable before the write begins."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage

    async def begin(self, key: RequestKey, digest: str, call: str, at: float, expires: float) -> Remembered | None:
        return await self._storage.request(requests.begin, key, digest, call, at, expires)

    async def finish(self, key: RequestKey, answer: str) -> None:
        await self._storage.request(requests.finish, key, answer)

    async def forget(self, key: RequestKey) -> None:
        await self._storage.request(requests.forget, key)

    async def prune(self, now: float) -> None:
        await self._storage.request(requests.prune, now)
