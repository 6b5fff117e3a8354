"""Calls of procedures and functions: through Bricola's handler and pool, beside the drivers' own calls on one connection.

    python bench/routines.py [--rounds 3] [--calls 1500]

Needs PostgreSQL and MariaDB (Debian: postgresql, mariadb-server). The driver alone makes the same transaction with the same statements and
reads the same values; nothing is checked, made of a definition, or taken from a pool, and what the routine left on the session stays there.
"""

import argparse
import asyncio
import tempfile
import time
from decimal import Decimal
from pathlib import Path
from typing import Any

from bricola.adapters.engines import DOORS
from bricola.core.calls.call import Call
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.routines.drafting import Wish, draft_routine
from tests.core.databases import Database, Servers
from tests.core.routines import ROUTINES, ROWS

VALUES = {"lock": "LM02", "tons": Decimal("2.00"), "reduced": True}
RATES = {"lock": "XX99", "by": Decimal("0.25"), "steps": 4}
SERVICE = "service: Tolls\noperations:\n  Quote: {runs: routine quote-toll}\n  Raise: {runs: routine raise-rate}\n"


def by_postgresql(server: Any, calls: int) -> dict[str, float]:
    with server.connect() as db:
        def quote() -> None:
            with db.transaction(), db.cursor() as cursor:
                cursor.execute("SELECT * FROM quote_toll(p_lock => %s, p_tons => %s, p_reduced => %s)", ("LM02", Decimal("2.00"), True))
                cursor.fetchall()

        def change() -> None:
            with db.transaction(), db.cursor() as cursor:
                cursor.execute("CALL raise_rate(p_lock => %s, p_by => %s, p_steps => %s, p_rate => NULL, p_state => NULL)",
                               ("XX99", Decimal("0.25"), 4))
                cursor.fetchall()

        return {"Quote": _took(quote, calls), "Raise": _took(change, calls)}


def by_mariadb(server: Any, calls: int) -> dict[str, float]:
    db = server.connect()
    db.autocommit(False)

    def quote() -> None:
        with db.cursor() as cursor:
            cursor.execute("SELECT quote_toll(%s, %s, %s)", ("LM02", Decimal("2.00"), True))
            cursor.fetchall()
        db.commit()

    def change() -> None:
        with db.cursor() as cursor:
            cursor.execute("SET @s = %s", (4,))
            cursor.execute("CALL raise_rate(%s, %s, @s, @r, @t)", ("XX99", Decimal("0.25")))
            cursor.execute("SELECT @s, @r, @t")
            cursor.fetchall()
        db.commit()

    try:
        return {"Quote": _took(quote, calls), "Raise": _took(change, calls)}
    finally:
        db.close()


BY_DRIVER = {"postgresql": by_postgresql, "mariadb": by_mariadb}


def _took(work: Any, calls: int) -> float:
    """Microseconds a call."""
    begun = time.perf_counter()
    for _ in range(calls):
        work()
    return (time.perf_counter() - begun) / calls * 1e6


async def through_bricola(database: Database, calls: int, at_once: int) -> dict[str, float]:
    """Microseconds a call, of so many at once."""
    session = await database.pool.borrow(Call())
    reader = DOORS[database.engine].routines
    assert reader is not None
    known = {one.name: one for one in await reader(session)}
    database.pool.give_back(session, False)
    texts = [write_definition(draft_routine(known[name], Wish("river"))) for name in ("quote_toll", "raise_rate")]
    live = database.publish([*texts, SERVICE], "Tolls")
    found = {}
    for operation, values in (("Quote", VALUES), ("Raise", RATES)):
        handle = live.by_name[operation].handle

        async def some(count: int, handle: Any = handle, values: dict[str, Any] = values) -> None:
            for _ in range(count):
                await handle(Call(), dict(values))

        await some(20)
        begun = time.perf_counter()
        await asyncio.gather(*(some(calls // at_once) for _ in range(at_once)))
        found[operation] = (time.perf_counter() - begun) / calls * 1e6
    await database.pool.close()
    return found


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--rounds", type=int, default=3)
    words.add_argument("--calls", type=int, default=1500)
    said = words.parse_args()
    servers = Servers()
    try:
        for engine, by_driver in BY_DRIVER.items():
            best: dict[tuple[str, int], float] = {}
            for _ in range(said.rounds):
                database = Database(engine, Path(tempfile.mkdtemp()), servers)
                database.run(*ROUTINES[engine], *ROWS)
                alone, one = by_driver(database.server, said.calls), asyncio.run(through_bricola(database, said.calls, 1))
                for at_once, took in ((0, alone), (1, one)):
                    for operation, each in took.items():
                        best[operation, at_once] = min(each, best.get((operation, at_once), each))
                again = Database(engine, Path(tempfile.mkdtemp()), servers)
                again.run(*ROUTINES[engine], *ROWS)
                for operation, each in asyncio.run(through_bricola(again, said.calls, 4)).items():
                    best[operation, 4] = min(each, best.get((operation, 4), each))
            for operation in ("Quote", "Raise"):
                by_hand, single, four = best[operation, 0], best[operation, 1], best[operation, 4]
                print(f"{engine} {operation}: driver {by_hand:.0f} µs; Bricola 1 at once {single:.0f} µs, ratio {single / by_hand:.2f}; "
                      f"4 at once {four:.0f} µs, ratio {four / by_hand:.2f}")
    finally:
        servers.close()


if __name__ == "__main__":
    main()
