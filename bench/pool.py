"""Borrow and return of the pool with 1, 64 and 1,000 callers at once, beside psycopg_pool on the same sessions.

Both pools hold 10 sessions that do nothing, on one event loop of the same kind, in alternating rounds of the same run. A
caller borrows a session, yields once to the loop (the least that a call on a real session does), gives it back and
begins again. The garbage collector rests on both sides: its pauses would be the greatest wait. Reported:
microseconds a borrow-and-return, and the fairness of the waits: greatest / median.
"""

import argparse
import asyncio
import gc
import statistics
import sys
import time
from typing import Any

import psycopg_pool
import uvloop
from psycopg.pq import TransactionStatus

from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import PoolSettings
from bricola.core.pool.pool import Pool

SESSIONS = 10
CALLS = 20_000


class Nothing:
    """A session kind whose sessions do nothing."""

    async def open(self, endpoint: Endpoint) -> object:
        return object.__new__(_Session)

    def is_sound(self, session: object) -> bool:
        return True

    def is_clean(self, session: object) -> bool:
        return True

    async def check(self, session: object) -> bool:
        return True

    async def reset(self, session: object) -> bool:
        return True

    async def close(self, session: object) -> None: ...

    def cut(self, session: object) -> None: ...

    def identity(self, session: object) -> str:
        return ""

    async def most_sessions(self, session: object) -> int | None:
        return None


class _Session:
    pass


class FakeConnection:
    """What psycopg_pool asks of a connection, and nothing behind it."""

    closed = False

    class pgconn:  # noqa: N801 — the name that psycopg gives it
        transaction_status = TransactionStatus.IDLE

    def __init__(self) -> None:
        self._pool: Any = None
        self._expire_at = float("inf")

    @classmethod
    async def connect(cls, *_: object, **__: object) -> "FakeConnection":
        return cls()

    async def close(self) -> None: ...


async def run(callers: int, calls: int, once: Any) -> tuple[float, float]:
    """Microseconds a call, and greatest / median wait."""
    waits: list[float] = []
    each = max(1, calls // callers)

    async def caller() -> None:
        for _ in range(each):
            waits.append(await once())

    began = time.perf_counter()
    await asyncio.gather(*(caller() for _ in range(callers)))
    took = time.perf_counter() - began
    return took / (each * callers) * 1e6, max(waits) / max(1e-9, statistics.median(waits))


async def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rounds", type=int, default=7)
    args = options.parse_args()
    ours: Pool[Any] = Pool("bench", Nothing(), (Endpoint(name="main", address="x"),),
                           PoolSettings(min_size=SESSIONS, max_size=SESSIONS, timeout=30, max_waiting=10_000), time.monotonic)
    ours.start()
    gc.disable()
    theirs = psycopg_pool.AsyncConnectionPool(
        "", connection_class=FakeConnection, min_size=SESSIONS, max_size=SESSIONS, timeout=30, open=False)  # type: ignore[type-var]
    await theirs.open(wait=True)

    async def borrow_ours() -> float:
        since = time.perf_counter()
        session = ours.take() or await ours.borrow()
        waited = time.perf_counter() - since
        await asyncio.sleep(0)
        ours.give_back(session)
        return waited

    async def borrow_theirs() -> float:
        since = time.perf_counter()
        session = await theirs.getconn()
        waited = time.perf_counter() - since
        await asyncio.sleep(0)
        await theirs.putconn(session)
        return waited

    print("| callers | pool | µs a borrow and return | greatest / median wait | ratio of µs, ours to psycopg_pool |")
    print("| --- | --- | --- | --- | --- |")
    for callers in (1, 64, 1000):
        pairs = []
        for _ in range(args.rounds):
            pairs.append((await run(callers, CALLS, borrow_ours), await run(callers, CALLS, borrow_theirs)))
        rows = [[statistics.median(pair[side][figure] for pair in pairs) for figure in (0, 1)] for side in (0, 1)]
        ratio = statistics.median(mine[0] / other[0] for mine, other in pairs)
        print(f"| {callers:,} | Bricola | {rows[0][0]:.2f} | {rows[0][1]:.1f} | **{ratio:.2f}** |")
        print(f"| {callers:,} | psycopg_pool {psycopg_pool.__version__} | {rows[1][0]:.2f} | {rows[1][1]:.1f} | |")
        sys.stdout.flush()
    await ours.close()
    await theirs.close()


if __name__ == "__main__":
    uvloop.run(main())
