"""Runs of test suites: those that run now, in memory, and those that have ended, in the store."""

import asyncio
from dataclasses import dataclass, field
from typing import Any

from bricola.server.ports.storage import Storage
from bricola.store import suites
from bricola.store.suites import StoredRun

NAMELESS = "generated"  # what the suites of generated tests are called behind the name of their service


@dataclass(eq=False)
class RunningRun:
    """A run while it runs. What became of its cases is added as it comes."""

    stored: StoredRun
    total: int = 0
    results: list[dict[str, Any]] = field(default_factory=list)
    words: str = ""
    task: "asyncio.Task[None] | None" = None
    ended: asyncio.Event = field(default_factory=asyncio.Event)

    @property
    def counts(self) -> dict[str, int]:
        outcomes = [one["outcome"] for one in self.results if one["part"] == "case"]
        broken = sum(one["part"] != "case" and one["outcome"] == "failed" for one in self.results)  # set-ups and clean-ups
        return {"total": self.total, "passed": outcomes.count("passed"), "failed": outcomes.count("failed") + broken,
                "left_out": outcomes.count("left out"),
                "warned": sum(bool(one["warnings"]) for one in self.results)}


class TestRuns:
    """What runs, and what has run."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self.running: dict[int, RunningRun] = {}
        self._writing: dict[tuple[str, str], asyncio.Lock] = {}

    async def start(self) -> None:
        await self._storage.write(suites.break_off_runs)

    def writing(self, environment: str, suite: str) -> asyncio.Lock:
        """Held while a suite that writes runs in an environment: two at once would meet each other's rows."""
        return self._writing.setdefault((environment, suite), asyncio.Lock())

    async def begin(self, run: StoredRun) -> RunningRun:
        number = await self._storage.write(suites.begin_run, run)
        made = self.running[number] = RunningRun(run._replace(number=number))
        return made

    async def end(self, run: RunningRun, state: str, at: float) -> None:
        counts = run.counts
        try:
            # It is "running" until it is stored: who saw it ended looks no more, and would miss what changed since the run before.
            await self._storage.write(suites.end_run, run.stored.number, state, at, counts, run.results)
        finally:
            run.stored = run.stored._replace(state=state, ended_at=at, total=counts["total"], passed=counts["passed"],
                                             failed=counts["failed"], left_out=counts["left_out"], warned=counts["warned"])
            self.running.pop(run.stored.number, None)
            run.ended.set()

    async def recent(self, environment: str = "", suite: str = "", limit: int = 50) -> list[StoredRun]:
        return await self._storage.read(suites.runs, environment, suite, limit)

    async def find(self, number: int) -> StoredRun | None:
        return await self._storage.read(suites.find_run, number)

    async def results(self, number: int, after: int = 0) -> list[dict[str, Any]]:
        return await self._storage.read(suites.results, number, after)

    async def counts(self, number: int, suite: str) -> dict[str, int]:
        return await self._storage.read(suites.suite_counts, number, suite)

    async def before(self, number: int, environment: str, suite: str) -> StoredRun | None:
        return await self._storage.read(suites.run_before, number, environment, suite)

    async def stop(self) -> None:
        """The service ends: what runs is cut off, and cleans up."""
        tasks = [one.task for one in self.running.values() if one.task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


