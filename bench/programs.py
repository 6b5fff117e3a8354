"""Calls of a COBOL program: through Bricola's handler, pool and program host, beside the same process fed by hand over its pipes.

    python bench/programs.py [--rounds 3] [--calls 2000]

Needs GnuCOBOL (Debian: gnucobol3) and a C compiler. The program is the demo's TOLLCALC with its area of 332 bytes. By hand means: bytes
that are there already, written to the process and read back, by one thread that waits; nothing is made of values, and nothing goes over a
socket.
"""

import argparse
import asyncio
import os
import struct
import subprocess
import sys
import tempfile
import time
from decimal import Decimal
from pathlib import Path
from typing import Any

from bricola.adapters.engines import DOORS
from bricola.adapters.folders import Folders
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, EnvironmentDefinition, PoolSettings
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.programs.kind import PROGRAM
from bricola.core.kinds.resolve import resolve_service
from bricola.core.pool.pool import Pool
from bricola.demo.programs.__main__ import described
from bricola.demo.start import catalogue_files

PASSAGE = {"registration": "LM1234", "lockNumber": 7, "lengthM": Decimal("24.80"), "beamM": Decimal("4.55"), "draughtM": Decimal("1.63"),
           "cargoTonnes": Decimal("120.0")}
REQUEST = bytes.fromhex("4c4d31323334202030303730323438303034353500163f0001200f")


class _NoSecrets:
    def secrets(self, credential: str) -> list[Any]:
        return []

    def used(self, credential: str) -> None:
        pass


def by_hand(program: dict[str, Any], calls: int) -> float:
    """Microseconds a call."""
    with subprocess.Popen(program["run"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                          env=os.environ | program["environment"]) as process:
        assert process.stdin is not None
        assert process.stdout is not None
        frame = struct.pack(">BII", 1, 332, len(REQUEST)) + REQUEST
        begun = time.perf_counter()
        for _ in range(calls):
            process.stdin.write(frame)
            process.stdin.flush()
            process.stdout.read(8 + 332)
        took = time.perf_counter() - begun
        process.stdin.close()
    return took / calls * 1e6


async def through_bricola(port: int, calls: int, at_once: int) -> float:
    """Microseconds a call, of so many at once."""
    catalogue = Catalogue(read_definition(text, path) for path, text in catalogue_files().items())
    service, backend = catalogue.find_service("TollCalculator"), catalogue.find_backend("toll-office")
    assert service is not None
    assert backend is not None
    settings = PoolSettings(min_size=at_once, max_size=at_once)
    ends = (Endpoint(name="counter", address=f"127.0.0.1:{port}"),)
    binding = Binding(name="toll-office", endpoints=ends, pool=settings)
    kind = DOORS["program-host"].sessions(backend, binding, Surroundings(Folders(Path(".")), _NoSecrets()), "live")
    pool: Pool[Any] = Pool("toll-office", kind, ends, settings, time.monotonic)
    pool.start()
    handle = PROGRAM.compile(resolve_service(service, catalogue).operations[0], EnvironmentDefinition(name="live"),
                             {"toll-office": pool}).handle
    assert (await handle(Call(), dict(PASSAGE)))["total"] == Decimal("60.78")

    async def many() -> None:
        for _ in range(calls // at_once):
            await handle(Call(), dict(PASSAGE))

    await asyncio.gather(*(many() for _ in range(at_once)))
    begun = time.perf_counter()
    await asyncio.gather(*(many() for _ in range(at_once)))
    took = time.perf_counter() - begun
    await pool.close()
    return took / calls * 1e6


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--calls", type=int, default=2000)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        description = described(Path(folder))
        print(f"{description['words']}\n\n| how | µs a call | calls a second | ratio |\n| --- | --- | --- | --- |")
        hand = min(by_hand(description["programs"][0], words.calls) for _ in range(words.rounds))
        print(f"| by hand | {hand:.0f} | {1e6 / hand:.0f} | |")
        process = subprocess.Popen([sys.executable, "-m", "bricola.demo.programs", "--folder", folder], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        port = int(process.stdout.readline())
        for at_once in (1, 4):
            took = min(asyncio.run(through_bricola(port, words.calls, at_once)) for _ in range(words.rounds))
            print(f"| Bricola, {at_once} at once | {took:.0f} | {1e6 / took:.0f} | **{took / hand:.1f}** |")
        process.terminate()
        process.wait()


if __name__ == "__main__":
    main()
