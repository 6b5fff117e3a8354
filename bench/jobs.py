"""What a job costs beside a call that somebody waits for: the same twenty steps as they are, with a journal in memory, and on the disk.

    python bench/jobs.py [--jobs 100]

Each step calls a workflow that halves a number. Figures are the medians of five rounds in this process; the store is a new one in a
temporary folder, where every step is a transaction of its own (`synchronous=FULL`).
"""

import argparse
import asyncio
import statistics
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from bricola.core.ages import Ages
from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.text import read_definition
from bricola.core.jobs import values
from bricola.core.jobs.journal import Entry, Journal, Ledger, Page
from bricola.core.jobs.model import Job
from bricola.core.kinds.resolve import resolve_service
from bricola.core.serving.live import LiveService, compile_service
from bricola.server.ports.jobs import StoredJobs
from bricola.server.ports.storage import Storage
from bricola.server.vault import Vault

ROUNDS, STEPS = 5, 20
HALF = "workflow: half\ninput: {number: {type: int}}\noutput: {half: {type: int}}\nsteps: {answer: {reply: {half: number // 2}}}\n"

AGES = Ages(time.time, time.monotonic)


def live() -> LiveService:
    steps = "".join(f"  s{number}: {{call: workflow half, input: {{number: number}}}}\n" for number in range(STEPS))
    text = ("workflow: many\nanswers: later\ninput: {number: {type: int}}\noutput: {half: {type: int}}\nsteps:\n"
            f"{steps}  answer: {{reply: {{half: s0.half}}}}\n")
    definitions = [read_definition(one) for one in (text, HALF)]
    service = read_definition("service: Bench\noperations:\n  Now: {runs: workflow many.now}\n  Later: {runs: workflow many}\n")
    assert isinstance(service, ServiceDefinition)
    catalogue = Catalogue([service, *definitions])
    return compile_service(EnvironmentDefinition(name="bench"), service, 1, resolve_service(service, catalogue), {})


class Memory:
    async def write(self, entry: Entry) -> None:
        """Kept nowhere."""


class Disk:
    def __init__(self, store: StoredJobs, job: str) -> None:
        self._store, self._job = store, job

    async def write(self, entry: Entry) -> None:
        assert await self._store.write(self._job, "bench", entry)


async def median(work: Callable[[], Awaitable[Any]], times: int) -> float:
    """Microseconds of one."""
    found = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        for _ in range(times):
            await work()
        found.append((time.perf_counter() - began) / times * 1e6)
    return statistics.median(found)


async def main(jobs: int) -> None:
    service = live()
    now, later = service.by_name["Now"], service.by_name["Later"].job
    assert later is not None

    async def waiting() -> None:
        assert await now.handle(Call(), {"number": 8}) == {"half": 4}

    def journaled(page: Page, number: str) -> Call:
        return Call(id=number, journal=Journal(Ledger(number, page, 1, time.time, AGES)))

    async def in_memory() -> None:
        assert await later.run(journaled(Memory(), "j"), {"number": 8}) == {"half": 4}

    with tempfile.TemporaryDirectory() as folder:
        storage = Storage(Path(folder))
        store = StoredJobs(storage, Vault(Path(folder) / "key"))
        count = 0

        async def on_disk() -> None:
            nonlocal count
            count += 1
            number = f"job-{count}"
            await store.accept(Job(number, "bench", "Bench", "Bench", 1, "Later", "many", "desk", (), time.time(), time.time() + 60,
                                   values.written({"number": 8})), False)
            await store.claim(number, "bench", time.time())
            assert await later.run(journaled(Disk(store, number), number), {"number": 8}) == {"half": 4}

        plain = await median(waiting, jobs * 20)
        memory = await median(in_memory, jobs * 5)
        disk = await median(on_disk, jobs)
        storage.close()
    print(f"{STEPS} steps that call: {plain:.0f} µs; with a journal in memory {memory:.0f} µs, {memory / plain:.1f} times;"
          f" on the disk {disk:.0f} µs, {disk / plain:.1f} times")
    print(f"a step more: {plain / STEPS:.1f} µs; in memory {memory / STEPS:.1f} µs; on the disk {disk / STEPS:.0f} µs")


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--jobs", type=int, default=100)
    asyncio.run(main(parser.parse_args().jobs))
