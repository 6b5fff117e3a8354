"""Call records: written in batches by a thread of their own, read for lists and figures.

A record is in the file at most FLUSH_SECONDS after its call; a crash of the machine loses no more than that.
"""

import json
import sqlite3
import threading
from collections import Counter
from collections.abc import Callable
from itertools import chain
from pathlib import Path
from typing import Any

import structlog

from bricola.core.calls.call import Picture
from bricola.core.calls.callers import TEST_MARK
from bricola.core.calls.trace import Trace
from bricola.core.serving.pipeline import CallRecord
from bricola.store.database import Db, bucket_micros, latency_bucket, open_database

FLUSH_SECONDS = 0.1
_MOST_PENDING = 200_000  # records kept while the file cannot be written; about 60 MB
_MOST_TRACES = 2_000  # that wait to be written
_COLUMNS = ", ".join(CallRecord._fields)
_ROW = f"({', '.join('?' * len(CallRecord._fields))})"
_INSERT = f"INSERT INTO call ({_COLUMNS}) VALUES {_ROW}"
# Each step of a statement lets go of the interpreter and takes it back, which costs more than the row itself while
# calls are served. Many rows a step divide that by their number.
_ROWS_AT_ONCE = 50
_INSERT_MANY = f"INSERT INTO call ({_COLUMNS}) VALUES {', '.join([_ROW] * _ROWS_AT_ONCE)}"

_COUNT = ("INSERT INTO call_minute VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET calls = calls + excluded.calls,"
          " faults = faults + excluded.faults")
_COUNT_LATENCY = "INSERT INTO call_latency VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET calls = calls + excluded.calls"

log = structlog.stdlib.get_logger("bricola.calls")


class CallWriter:
    """Takes records without blocking; a thread writes them, a transaction a batch."""

    def __init__(self, path: Path, counted: Callable[[CallRecord], None] = lambda record: None) -> None:
        """`counted` is told of every call once, kept or not, by the thread that writes."""
        self._tell = counted
        self._db = open_database(path, "calls", durable=False)
        self._pending: list[CallRecord] = []
        self._counted: list[CallRecord] = []  # for the totals only: their environment keeps no record of them
        self._unwritten: list[CallRecord] = []  # counted, and to be written again
        self._unrolled: list[CallRecord] = []  # not kept, and still to be counted in the minutes
        self._pictures: list[tuple[str, str, float, str, str]] = []
        self._traces: list[tuple[CallRecord, Trace]] = []
        self._lost = 0
        self._stop = threading.Event()
        self._flushing = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="call-writer", daemon=True)
        self._thread.start()

    def add(self, record: CallRecord, keep: bool = True) -> None:
        (self._pending if keep else self._counted).append(record)

    def keep_picture(self, record: CallRecord, picture: Picture) -> None:
        """Keep the screen that a call stopped at."""
        self._pictures.append((record.id, record.environment, record.at, picture.title, "\n".join(picture.lines)))

    def keep_trace(self, record: CallRecord, trace: Trace) -> None:
        """Keep what every step took and gave. While more wait than can be written, further ones are let go."""
        if len(self._traces) < _MOST_TRACES:
            self._traces.append((record, trace))

    def flush(self) -> None:
        """Write what is pending now; for those who read right after a call. Runs on any thread."""
        with self._flushing:
            new, self._pending = self._pending, []
            counted, self._counted = self._counted, []
            for one in chain(new, counted):
                self._tell(one)
            batch, self._unwritten = self._unwritten + new, []
            unkept, self._unrolled = self._unrolled + counted, []
            if not batch and not unkept:
                return
            try:
                self._db.execute("BEGIN")
                whole = len(batch) - len(batch) % _ROWS_AT_ONCE
                for start in range(0, whole, _ROWS_AT_ONCE):
                    self._db.execute(_INSERT_MANY, tuple(chain.from_iterable(batch[start : start + _ROWS_AT_ONCE])))
                self._db.executemany(_INSERT, batch[whole:])
                self._roll_up(batch + unkept)
                pictures, self._pictures = self._pictures, []
                self._db.executemany("INSERT OR REPLACE INTO call_picture VALUES (?, ?, ?, ?, ?)", pictures)
                traces, self._traces = self._traces, []
                self._db.executemany("INSERT OR REPLACE INTO call_trace VALUES (?, ?, ?, ?)", (
                    (one.id, one.environment, one.at, json.dumps(trace.as_plain())) for one, trace in traces))
                self._db.execute("COMMIT")
            except sqlite3.Error as error:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
                self._lost += max(0, len(batch) - _MOST_PENDING)
                self._unwritten, self._unrolled = batch[-_MOST_PENDING:], unkept[-_MOST_PENDING:]
                log.error("call records cannot be written", problem=str(error), waiting=len(self._unwritten), lost=self._lost)

    def _roll_up(self, batch: list[CallRecord]) -> None:
        """Count the calls of each minute, in the transaction that writes them."""
        minutes: Counter[tuple[int, str, str]] = Counter()
        faults: Counter[tuple[int, str, str]] = Counter()
        latencies: Counter[tuple[int, str, str, int]] = Counter()
        for one in batch:
            key = (int(one.at // 60), one.environment, one.service)
            minutes[key] += 1
            faults[key] += one.result != "answered"
            latencies[(*key, latency_bucket(one.micros))] += 1
        self._db.executemany(_COUNT, [(*key, count, faults[key]) for key, count in minutes.items()])
        self._db.executemany(_COUNT_LATENCY, [(*key, count) for key, count in latencies.items()])

    def close(self) -> None:
        self._stop.set()
        self._thread.join(10)
        self.flush()
        self._db.close()

    def _run(self) -> None:
        while not self._stop.wait(FLUSH_SECONDS):
            self.flush()


def recent_calls(db: Db, environment: str = "", service: str = "", caller: str = "",
                 failed: bool = False, call: str = "", before: float | None = None, limit: int = 50) -> list[CallRecord]:
    """The newest calls that match, the newest first. Empty filters match all."""
    clauses: list[str] = ["1"]
    parameters: list[object] = []
    for column, value in (("environment", environment), ("service", service), ("caller", caller), ("id", call)):
        if value:
            clauses.append(f"{column} = ?")
            parameters.append(value)
    if failed:
        clauses.append("result <> 'answered'")
    sql = f"SELECT {_COLUMNS} FROM call WHERE {' AND '.join(clauses)}"
    if before is not None:
        sql += " AND at < ?"
        parameters.append(before)
    rows = db.execute(f"{sql} ORDER BY at DESC LIMIT ?", (*parameters, limit))
    return [CallRecord(*row) for row in rows]


def usual_bytes(db: Db, service: str, operation: str, limit: int = 50) -> list[int]:
    """The sizes of the newest answers of an operation over SOAP, wherever it was called."""
    return [row[0] for row in db.execute(
        "SELECT response_bytes FROM call WHERE service = ? AND operation = ? AND result = 'answered' AND face LIKE 'soap%'"
        " ORDER BY at DESC LIMIT ?", (service, operation, limit))]


def picture_of(db: Db, call: str) -> dict[str, Any] | None:
    """The screen that a call stopped at."""
    row = db.execute("SELECT title, rows FROM call_picture WHERE call = ?", (call,)).fetchone()
    return {"title": row[0], "lines": row[1].split("\n")} if row is not None else None


def trace_of(db: Db, call: str) -> dict[str, Any] | None:
    """What every step of a call took and gave; None where no trace was kept."""
    row = db.execute("SELECT body FROM call_trace WHERE call = ?", (call,)).fetchone()
    return dict(json.loads(row[0])) if row is not None else None


def prune_traces(db: Db, environment: str, before: float) -> int:
    """Remove the traces of an environment from before a moment, a batch at a time; answers how many."""
    return db.execute("DELETE FROM call_trace WHERE rowid IN (SELECT rowid FROM call_trace WHERE environment = ? AND at < ? LIMIT 1000)",
                      (environment, before)).rowcount


def prune(db: Db, environment: str, before: float) -> int:
    """Remove the records of an environment from before a moment, a batch at a time; answers how many."""
    db.execute("DELETE FROM call_picture WHERE environment = ? AND at < ?", (environment, before))
    for table in ("call_minute", "call_latency"):
        db.execute(f"DELETE FROM {table} WHERE environment = ? AND minute < ?", (environment, int(before // 60)))
    return db.execute("DELETE FROM call WHERE rowid IN (SELECT rowid FROM call WHERE environment = ? AND at < ? LIMIT 5000)",
                      (environment, before)).rowcount


def users_of(db: Db, service: str, since: float, environment: str = "") -> list[dict[str, Any]]:
    """Who called which operation of a service since a moment, test runs in their place left out: calls, and the last one."""
    only, parameters = (" AND environment = ?", (environment,)) if environment else ("", ())
    rows = db.execute("SELECT operation, caller, COUNT(*), MAX(at) FROM call WHERE service = ? AND at >= ? AND caller <> ''"
                      f" AND caller NOT LIKE '%{TEST_MARK}'{only} GROUP BY 1, 2 ORDER BY 3 DESC", (service, since, *parameters))
    return [{"operation": operation, "caller": caller, "calls": count, "last": last} for operation, caller, count, last in rows]


def figures(db: Db, since: float, now: float, parts: int) -> list[dict[str, Any]]:
    """Per service and environment since a moment, by whole minutes: calls, faults, p95 in microseconds (within 5 %), and counts in
    `parts` slices. Read from the counts of each minute, so it takes the same time however many calls there were."""
    first, last = int(since // 60), int(now // 60)
    width = max(1.0, (last + 1 - first) / parts)
    found: dict[tuple[str, str], dict[str, Any]] = {}
    for minute, environment, service, calls, faults in db.execute(
            "SELECT minute, environment, service, calls, faults FROM call_minute WHERE minute BETWEEN ? AND ?", (first, last)):
        one = found.setdefault((service, environment), {
            "service": service, "environment": environment, "calls": 0, "faults": 0,
            "slices": [[0, 0] for _ in range(parts)],
        })
        one["calls"] += calls
        one["faults"] += faults
        part = one["slices"][min(parts - 1, int((minute - first) / width))]
        part[0] += calls
        part[1] += faults
    latencies: dict[tuple[str, str], list[tuple[int, int]]] = {}
    for environment, service, bucket, calls in db.execute(
            "SELECT environment, service, bucket, SUM(calls) FROM call_latency WHERE minute BETWEEN ? AND ? GROUP BY 1, 2, 3 ORDER BY 3",
            (first, last)):
        latencies.setdefault((service, environment), []).append((bucket, calls))
    for key, one in found.items():
        one["p95_micros"] = _quantile(latencies.get(key, []), 0.95)
    return list(found.values())


def _quantile(buckets: list[tuple[int, int]], share: float) -> int:
    """The time below which a share of the calls stayed, from counts by bucket in ascending order."""
    total = sum(count for _, count in buckets)
    seen = 0
    for bucket, count in buckets:
        seen += count
        if seen > total * share or seen == total:
            return bucket_micros(bucket)
    return 0
