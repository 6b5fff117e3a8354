"""The figures of the overview with many call records, beside the same figures counted from the records themselves in the same run.

The records are written as a running service writes them, spread over the last hour, over services, results and latencies.
"""

import argparse
import random
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from bricola.core.durations import HOUR
from bricola.core.serving.pipeline import CallRecord
from bricola.store.calls import CallWriter, figures
from bricola.store.database import Db, open_database

SERVICES = [f"Service{number}" for number in range(10)]
BATCH = 50_000


def fill(writer: CallWriter, count: int, now: float) -> float:
    """Write the records; the seconds that it took."""
    rng = random.Random(7)
    start = time.perf_counter()
    for number in range(count):
        result = "answered" if rng.random() < 0.98 else "failed"
        place = rng.choice(("live", "rehearsal")), rng.choice(SERVICES)
        writer.add(CallRecord(f"{number:032x}", now - HOUR + HOUR * number / count, *place, 1, "GetVessel", "tideway-portal", "soap 1.1",
                              200, int(rng.lognormvariate(8, 1)), result, "", "", 600, 500))
        if number % BATCH == BATCH - 1:
            writer.flush()
    writer.flush()
    return time.perf_counter() - start


def counted(db: Db, since: float) -> None:
    """The least that the figures need when nothing was counted before: slices, then a quantile for each place."""
    rows = db.execute("SELECT service, environment, CAST((at - ?) / 60 AS INTEGER), COUNT(*), SUM(result <> 'answered') FROM call"
                      " WHERE at >= ? GROUP BY 1, 2, 3", (since, since)).fetchall()
    totals: dict[tuple[str, str], int] = {}
    for service, environment, _, calls, _ in rows:
        totals[service, environment] = totals.get((service, environment), 0) + calls
    for (service, environment), total in totals.items():
        db.execute("SELECT micros FROM call WHERE service = ? AND environment = ? AND at >= ? ORDER BY micros LIMIT 1 OFFSET ?",
                   (service, environment, since, int(total * 0.95))).fetchone()


def timed(work: Callable[[], object], rounds: int) -> list[float]:
    """Milliseconds of each round."""
    found = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        found.append((time.perf_counter() - start) * 1000)
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--records", type=int, default=2_000_000)
    parser.add_argument("--rounds", type=int, default=20)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        path, now = Path(folder) / "calls.db", time.time()
        writer = CallWriter(path)
        took = fill(writer, given.records, now)
        print(f"{given.records:,} records written in {took:.0f} s, {given.records / took:,.0f} a second, minutes counted with them")
        db = open_database(path, "calls", durable=False)
        ours = timed(lambda: figures(db, now - HOUR, now, 60), given.rounds)
        floor = timed(lambda: counted(db, now - HOUR), 2)
        for word, times in (("from the minutes", ours), ("from the records", floor)):
            print(f"figures {word}: min {min(times):,.1f} ms, median {statistics.median(times):,.1f} ms, max {max(times):,.1f} ms")
        print(f"ratio of medians: {statistics.median(ours) / statistics.median(floor):.5f}")
        writer.close()
        db.close()


if __name__ == "__main__":
    main()
