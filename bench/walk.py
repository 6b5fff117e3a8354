"""The demo's ledger walked by Bricola and by s3270 driven by a script, the same walk in turns: screens a second and CPU a screen.

s3270 is measured twice: led, as a program that looks at each screen before it types has to lead it; and piped, with the whole script
written at once, which no program that decides anything could do. A walk is menu, enquiry, and the pages of a list, then back to the menu.
All sides read every screen: Bricola its rows as typed values, s3270 its text by `Ascii()`. The simulated host is a process of its own, one
per `--hosts`; its CPU is not counted. The collector of Bricola's process is set as in the service.
"""

import argparse
import asyncio
import gc
import json
import os
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
import tracemalloc
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import uvloop

from bricola.adapters.engines import DOORS
from bricola.adapters.folders import Folders
from bricola.adapters.secrets import Secret
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, PoolSettings
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.kinds.screens.handlers import compile_flow
from bricola.core.pool.pool import Pool
from bricola.demo.registry import make_registry
from bricola.demo.start import catalogue_files
from bricola.server.main import YOUNG_OBJECTS

PAGES = 20
SCREENS = 1 + PAGES + 1  # of one walk: the enquiry, the pages, the menu again
USER, PASSWORD = "LKCLERK", "BENCH412"


class Passwords:
    def secrets(self, credential: str) -> list[Secret]:
        return [Secret("password", USER, PASSWORD)]

    def used(self, credential: str) -> None:
        pass


async def walk_ours(ports: list[int], sessions: int, walks: int) -> tuple[float, float]:
    """Seconds and CPU seconds of `walks` walks on each of so many sessions, signed on before."""
    catalogue = Catalogue(read_definition(text, path) for path, text in catalogue_files().items())
    backend, service = catalogue.find_backend("ledger"), catalogue.find_service("LockLedger")
    assert backend is not None
    assert service is not None
    ends = tuple(Endpoint(name=f"end{number}", address=f"127.0.0.1:{port}") for number, port in enumerate(ports))
    settings = PoolSettings(min_size=sessions, max_size=sessions, timeout=300, connect_timeout=60, check_after=600, health_every=600)
    binding = Binding(name="ledger", endpoints=ends, credential="clerk", pool=settings)
    kind = DOORS[backend.engine].sessions(backend, binding, Surroundings(Folders(Path(".")), Passwords()), "bench")
    pool: Pool[Any] = Pool("ledger", kind, ends, settings, time.monotonic)
    operation = resolve_service(service, catalogue).operations[0]
    handle = compile_flow(operation, operation.source, pool)
    if not walks:
        tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    pool.start()
    while pool.statistics()["pool_available"] < sessions:  # noqa: ASYNC110 - a pool tells nobody when it is full
        await asyncio.sleep(0.05)
    if not walks:
        gc.collect()
        each = (tracemalloc.get_traced_memory()[0] - before) / sessions / 1000
        print(f"{sessions} sessions, signed on and idle at the menu: {each:.1f} kB each")
        tracemalloc.stop()

    async def one() -> None:
        for _ in range(walks):
            answer = await handle(Call(), {"registration": "LK-0412", "maxRows": 500})
            assert len(answer["passage"]) == 300

    began, cpu = time.perf_counter(), time.process_time()
    await asyncio.gather(*(one() for _ in range(sessions)))
    while pool.statistics()["pool_available"] < sessions:  # noqa: ASYNC110 - until all are back at the menu
        await asyncio.sleep(0.005)
    took = time.perf_counter() - began, time.process_time() - cpu
    await pool.close()
    return took


def lead_s3270(ports: list[int], sessions: int, walks: int) -> tuple[float, float]:
    """The same by s3270 as a program has to lead it: an action, its answer, the screen read, and the next action after it."""
    async def lead(port: int, done: asyncio.Event, ready: list[int]) -> None:
        process = await asyncio.create_subprocess_exec("s3270", "-model", "3279-2", "-codepage", "cp037", stdin=subprocess.PIPE,
                                                       stdout=subprocess.PIPE)
        out = process.stdout
        assert process.stdin is not None
        assert out is not None

        async def act(word: str) -> list[bytes]:
            process.stdin.write(f"{word}\n".encode())  # type: ignore[union-attr]
            lines = []
            while (line := await out.readline()) not in (b"ok\n", b"error\n"):
                lines.append(line)
            return lines

        async def press(*words: str) -> list[bytes]:
            for word in (*words, "Wait(60,Unlock)"):
                await act(word)
            return await act("Ascii()")

        for word in (f"Connect(127.0.0.1:{port})", "Wait(60,InputField)", f'String("{USER}")', "Tab()", f'String("{PASSWORD}")'):
            await act(word)
        await press("Enter()")
        ready.append(port)
        await done.wait()
        for _ in range(walks):
            await press('String("1")', "Enter()")
            screen = await press('String("LK-0412")', "Enter()")
            rows = 0
            for page in range(PAGES):
                rows += sum(line[66:68] in (b"PS", b"PL") or b" PS-" in line or b" PL-" in line for line in screen[7:22])
                screen = await press("PF(8)" if page + 1 < PAGES else "PF(12)")
            assert rows == 300, rows
        process.stdin.write(b"Quit()\n")
        await process.wait()

    async def all_of_them() -> tuple[float, float]:
        done, ready = asyncio.Event(), []  # type: ignore[var-annotated]
        tasks = [asyncio.create_task(lead(ports[number % len(ports)], done, ready)) for number in range(sessions)]
        while len(ready) < sessions:  # noqa: ASYNC110 - all are signed on before the clock starts
            await asyncio.sleep(0.05)
        began, own = time.perf_counter(), time.process_time()
        done.set()
        await asyncio.gather(*tasks)
        return time.perf_counter() - began, time.process_time() - own

    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    took, own = uvloop.run(all_of_them())
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return took, own + after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def walk_s3270(ports: list[int], sessions: int, walks: int) -> tuple[float, float]:
    """The same by s3270, a process for each session; the sign-on is taken off by a run without walks."""
    return tuple(with_walks - without for with_walks, without in  # type: ignore[return-value]
                 zip(_run_s3270(ports, sessions, walks), _run_s3270(ports, sessions, 0), strict=True))


def _run_s3270(ports: list[int], sessions: int, walks: int) -> tuple[float, float]:
    look = ("Wait(60,Unlock)", "Ascii()")
    walk = ('String("1")', "Enter()", *look, 'String("LK-0412")', "Enter()", *look, *("PF(8)", *look) * (PAGES - 1), "PF(12)", *look)
    running, before, began = [], resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    for number in range(sessions):
        script = (
            f"Connect(127.0.0.1:{ports[number % len(ports)]})",
            "Wait(60,InputField)",
            f'String("{USER}")',
            "Tab()",
            f'String("{PASSWORD}")',
            "Enter()",
            *look,
            *walk * walks,
            "Quit()",
        )
        one = subprocess.Popen(
            ["s3270", "-model", "3279-2", "-codepage", "cp037"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert one.stdin is not None
        one.stdin.write("\n".join(script) + "\n")
        one.stdin.close()
        running.append(one)
    pages = 0
    for one in running:
        assert one.stdout is not None
        pages += sum("More ... +" in line or "Bottom" in line for line in one.stdout)
        one.wait()
    took = time.perf_counter() - began
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    assert pages == sessions * walks * PAGES, pages
    return took, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--sessions", default="1,100")
    options.add_argument("--rounds", type=int, default=5)
    options.add_argument("--hosts", type=int, default=1)
    options.add_argument("--idle", type=int, default=300, help="sessions whose memory is measured")
    args = options.parse_args()
    if shutil.which("s3270") is None:
        options.error("s3270 is not installed: scripts/setup.sh installs it")
    with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
        registry, accounts = Path(folder, "registry.db"), Path(folder, "accounts.json")
        make_registry(registry)
        accounts.write_text(json.dumps({USER: {"password": PASSWORD, "most": 10_000}}))
        ports = []
        for _ in range(args.hosts):
            host = stack.enter_context(
                subprocess.Popen(
                    [sys.executable, "-m", "bricola.demo.hosts", "ledger", "--registry", registry, "--accounts", accounts],
                    stdout=subprocess.PIPE,
                    text=True,
                )
            )
            stack.callback(host.terminate)
            assert host.stdout is not None
            ports.append(int(host.stdout.readline()))
        gc.collect()
        gc.freeze()
        gc.set_threshold(YOUNG_OBJECTS)
        uvloop.run(walk_ours(ports, args.idle, 0))
        print(f"\n{args.hosts} host(s), {SCREENS} screens a walk, {args.rounds} rounds in turns, load average {os.getloadavg()[0]:.1f}\n")
        print("| sessions | side | screens/s (min / median / max) | CPU µs a screen (median) |")
        print("| --- | --- | --- | --- |")
        for sessions in (int(one) for one in args.sessions.split(",")):
            walks = 20 if sessions == 1 else 1
            found: dict[str, list[tuple[float, float]]] = {"Bricola": [], "s3270, led": [], "s3270, piped": []}
            for _ in range(args.rounds):
                found["Bricola"].append(uvloop.run(walk_ours(ports, sessions, walks)))
                found["s3270, led"].append(lead_s3270(ports, sessions, walks))
                found["s3270, piped"].append(walk_s3270(ports, sessions, walks))
            screens = sessions * walks * SCREENS
            for side, times in found.items():
                rates = sorted(screens / took for took, _ in times)
                cpu = statistics.median(1e6 * used / screens for _, used in times)
                print(f"| {sessions} | {side} | {rates[0]:,.0f} / **{statistics.median(rates):,.0f}** / {rates[-1]:,.0f} | {cpu:,.0f} |")
            mine = found["Bricola"]
            for side in ("s3270, led", "s3270, piped"):
                speed = statistics.median(theirs[0] / ours[0] for ours, theirs in zip(mine, found[side], strict=True))
                cost = statistics.median(ours[1] / theirs[1] for ours, theirs in zip(mine, found[side], strict=True))
                print(f"| {sessions} | Bricola to {side} | {speed:.2f} times the screens a second | {cost:.2f} of the CPU |")


if __name__ == "__main__":
    main()
