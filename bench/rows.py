"""Objects on SQLite without the network: find beside the same SELECT by hand, durable creates, and pages far into a table.

By hand means sqlite3, the same SELECT with the same values, fetchall, and a dictionary a row: what a script would do. Ours
adds typed values, the check of every value against the contract, and the answer as XML text.
"""

import argparse
import asyncio
import sqlite3
import statistics
import tempfile
import time
from collections.abc import Awaitable, Callable
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

from bricola.adapters.engines.sqlite.sessions import SqliteKind
from bricola.adapters.folders import Folders
from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, EnvironmentDefinition, PoolSettings
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.pool.pool import Pool
from bricola.core.serving.live import LiveService, compile_service
from bricola.demo.registry import make_registry
from bricola.demo.start import catalogue_files

READING = """
object: reading
backend: registry
table: reading
key: [gauge, number]
fields:
  gauge: {type: string}
  number: {type: int}
  level: {type: decimal, digits: 6, fraction: 2}
finders:
  all: {order: [gauge, number], limit: {default: 200, most: 200}}
"""
READINGS = "service: Readings\noperations:\n  ListReadings: {runs: reading.all}\n"
VESSEL = {"name": "Grey Wagtail", "kind": "barge", "lengthM": Decimal("17.40"), "beamM": Decimal("4.08"), "draughtM": Decimal("0.76"),
          "operatorNumber": "OP-0042", "registeredOn": date(2026, 11, 2)}


def publish(folder: Path, file: str, texts: list[str], service: str) -> tuple[LiveService, Pool[Any]]:
    catalogue = Catalogue(read_definition(text) for text in texts)
    definition = catalogue.find_service(service)
    assert definition is not None
    binding = Binding(name="registry", file=file)
    pool: Pool[Any] = Pool("registry", SqliteKind("registry", Folders(folder), binding), (Endpoint(name="main", address=file),),
                           PoolSettings(max_size=4), time.monotonic)
    place = EnvironmentDefinition(name="live", backends=(binding,))
    return compile_service(place, definition, 1, resolve_service(definition, catalogue), {"registry": pool}), pool


async def timed(work: Callable[[], Awaitable[object]], count: int) -> float:
    """Microseconds a call."""
    began = time.perf_counter()
    for _ in range(count):
        await work()
    return (time.perf_counter() - began) / count * 1e6


async def finds(folder: Path, rounds: int) -> None:
    live, pool = publish(folder, "registry.db", [text for path, text in catalogue_files().items() if not path.startswith("environments/")],
                         "VesselRegistry")
    db = sqlite3.connect(folder / "registry.db")
    columns = (
        "registration",
        "name",
        "kind",
        "length_m",
        "beam_m",
        "draught_m",
        "operator_number",
        "registered_on",
        "status",
        "notes",
        "row_version",
    )
    select = f"SELECT {', '.join(columns)} FROM vessel"
    print("| what | by hand µs | ours µs | ratio (min / median / max) |\n| --- | --- | --- | --- |")
    for name, limit in (("get", 1), ("find 20", 20), ("find 200", 200)):
        operation = live.by_name["GetVessel" if limit == 1 else "FindVessels"]
        values: dict[str, Any] = {"registration": "LK-0412"} if limit == 1 else {"status": "active", "limit": limit}

        async def ours(operation: Any = operation, values: dict[str, Any] = values) -> None:
            operation.encode(await operation.handle(Call(), values))

        async def by_hand(limit: int = limit) -> None:
            if limit == 1:
                cursor = db.execute(f"{select} WHERE registration = ?", ["LK-0412"])
            else:
                cursor = db.execute(f"{select} WHERE status = ? ORDER BY registration LIMIT ?", ["active", limit + 1])
            [dict(zip(columns, row, strict=True)) for row in cursor.fetchall()]

        count = 3000 // limit + 50
        await timed(ours, count)
        pairs = [(await timed(by_hand, count), await timed(ours, count)) for _ in range(rounds)]
        ratios = sorted(mine / hand for hand, mine in pairs)
        hand, mine = (statistics.median(side) for side in zip(*pairs, strict=True))
        print(f"| {name} | {hand:.1f} | {mine:.1f} | {ratios[0]:.2f} / {statistics.median(ratios):.2f} / {ratios[-1]:.2f} |")
    db.close()
    await creates(live, folder)
    await pool.close()


async def creates(live: LiveService, folder: Path) -> None:
    """Each create is one transaction with a durable commit; beside it, INSERT and commit by hand on the same file."""
    mode = sqlite3.connect(folder / "registry.db").execute("PRAGMA synchronous").fetchone()[0]
    handle = live.by_name["CreateVessel"].handle
    count = 300
    began = time.perf_counter()
    for number in range(count):
        await handle(Call(), {"vessel": VESSEL | {"registration": f"LK-{5000 + number}"}})
    ours = count / (time.perf_counter() - began)
    began = time.perf_counter()
    await asyncio.gather(*(handle(Call(), {"vessel": VESSEL | {"registration": f"LK-{6000 + number}"}}) for number in range(count)))
    together = count / (time.perf_counter() - began)
    db = sqlite3.connect(folder / "registry.db", isolation_level=None)
    db.execute("PRAGMA foreign_keys=ON")
    began = time.perf_counter()
    for number in range(count):
        db.execute("BEGIN IMMEDIATE")
        db.execute("INSERT INTO vessel VALUES (?, 'Grey Wagtail', 'barge', 17.4, 4.08, 0.76, 'OP-0042', '2026-11-02', 'active', NULL, 1)",
                   [f"LK-{7000 + number}"])
        db.execute("COMMIT")
    by_hand = count / (time.perf_counter() - began)
    db.close()
    print(
        f"\ncreates a second, durable (synchronous={mode}): one after the other {ours:.0f}, {count} at once {together:.0f},"
        f" by hand {by_hand:.0f}"
    )


async def pages(folder: Path, rows: int, rounds: int) -> None:
    db = sqlite3.connect(folder / "reading.db")
    db.execute(
        "CREATE TABLE reading (gauge TEXT NOT NULL, number INTEGER NOT NULL, level DECIMAL(6,2) NOT NULL,"
        " PRIMARY KEY (gauge, number)) WITHOUT ROWID"
    )
    db.execute(
        "WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < ?)"
        " INSERT INTO reading SELECT printf('G%02d', i / 100000),"
        " i % 100000, i % 997 / 10.0 FROM n",
        [rows - 1],
    )
    db.commit()
    db.close()
    live, pool = publish(folder, "reading.db", ["backend: registry\nengine: sqlite", READING, READINGS], "Readings")
    handle = live.by_name["ListReadings"].handle
    after: dict[str, str] = {}
    positions = []
    for _ in range(1000):
        answer = await handle(Call(), {"limit": 200, **after})
        after = {"after": answer["after"]}
        positions.append(after)
    page_1, page_1000 = {"limit": 200}, {"limit": 200, **positions[998]}
    far = {"limit": 200, **positions[-1]}
    times: dict[str, list[float]] = {"page 1": [], "page 1,000": []}
    for _ in range(rounds * 20):
        times["page 1"].append(await timed(lambda: handle(Call(), page_1), 5))
        times["page 1,000"].append(await timed(lambda: handle(Call(), page_1000), 5))
    assert (await handle(Call(), page_1000))["reading"][0] != (await handle(Call(), far))["reading"][0]
    print(f"\n| page of 200 rows, {rows:,} rows in all | median µs | 95th of 100 µs |\n| --- | --- | --- |")
    for name, found in times.items():
        print(f"| {name} | {statistics.median(found):.0f} | {sorted(found)[int(len(found) * 0.95)]:.0f} |")
    await pool.close()


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rounds", type=int, default=9)
    options.add_argument("--rows", type=int, default=5_000_000)
    args = options.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make_registry(folder / "registry.db")
        asyncio.run(finds(folder, args.rounds))
        asyncio.run(pages(folder, args.rows, args.rounds))


if __name__ == "__main__":
    main()
