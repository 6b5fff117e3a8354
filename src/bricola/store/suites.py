"""Runs of test suites. Results are written when a run ends, all at once; a run that is still said to run at the start was broken off."""

import json
from collections.abc import Sequence
from typing import Any, NamedTuple

from bricola.store.database import Db

KEPT_RUNS = 200  # of each environment
_COLUMNS = ("number, environment, author, begun_at, ended_at, state, purpose, suites, releases, texts, asked,"
            " total, passed, failed, left_out, warned")
_JSON = ("suites", "releases", "texts", "asked")


class StoredRun(NamedTuple):
    """One run. Moments are seconds since 1970."""

    number: int
    environment: str
    author: str
    begun_at: float
    ended_at: float | None
    state: str
    purpose: str
    suites: list[str]
    releases: dict[str, int]
    texts: dict[str, str]
    asked: dict[str, Any]
    total: int = 0
    passed: int = 0
    failed: int = 0
    left_out: int = 0
    warned: int = 0


def _run(row: Sequence[Any]) -> StoredRun:
    found = dict(zip(_COLUMNS.split(", "), row, strict=True))
    return StoredRun(**{name: json.loads(value) if name in _JSON else value for name, value in found.items()})


def begin_run(db: Db, run: StoredRun) -> int:
    """Note that a run has begun; its number."""
    names = [one for one in StoredRun._fields if one != "number"]
    values = [json.dumps(value) if name in _JSON else value for name, value in zip(StoredRun._fields, run, strict=True) if name != "number"]
    number = db.execute(f"INSERT INTO test_run ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})", values).lastrowid
    assert number is not None
    return number


def end_run(db: Db, number: int, state: str, at: float, counts: dict[str, int], results: Sequence[dict[str, Any]]) -> None:
    """Keep what became of a run, and let the oldest of its environment go."""
    db.execute("UPDATE test_run SET state = ?, ended_at = ?, total = ?, passed = ?, failed = ?, left_out = ?, warned = ? WHERE number = ?",
               (state, at, counts["total"], counts["passed"], counts["failed"], counts["left_out"], counts["warned"], number))
    db.executemany("INSERT INTO test_result VALUES (?, ?, ?, ?, ?, ?, ?)", (
        (number, one["number"], one["suite"], one["case"], one["part"], one["outcome"], json.dumps(one)) for one in results))
    db.execute("DELETE FROM test_run WHERE environment = (SELECT environment FROM test_run WHERE number = ?) AND number NOT IN ("
               "SELECT number FROM test_run WHERE environment = (SELECT environment FROM test_run WHERE number = ?)"
               " ORDER BY number DESC LIMIT ?)", (number, number, KEPT_RUNS))


def break_off_runs(db: Db) -> None:
    """At the start: what is said to run does not."""
    db.execute("UPDATE test_run SET state = 'broken off' WHERE state = 'running'")


def runs(db: Db, environment: str = "", suite: str = "", limit: int = 50) -> list[StoredRun]:
    """The newest first."""
    rows = db.execute(f"SELECT {_COLUMNS} FROM test_run WHERE (? = '' OR environment = ?) AND (? = '' OR EXISTS ("
                      "SELECT 1 FROM json_each(suites) WHERE value = ?)) ORDER BY number DESC LIMIT ?",
                      (environment, environment, suite, suite, limit))
    return [_run(row) for row in rows]


def find_run(db: Db, number: int) -> StoredRun | None:
    row = db.execute(f"SELECT {_COLUMNS} FROM test_run WHERE number = ?", (number,)).fetchone()
    return _run(row) if row is not None else None


def results(db: Db, number: int, after: int = 0) -> list[dict[str, Any]]:
    """What became of the cases of a run, from a number on."""
    return [json.loads(row[0]) for row in db.execute("SELECT body FROM test_result WHERE run = ? AND number > ? ORDER BY number",
                                                     (number, after))]


def suite_counts(db: Db, number: int, suite: str) -> dict[str, int]:
    """The counts of one suite of a run that has ended."""
    found = {"passed": 0, "failed": 0, "left_out": 0, "warned": 0}
    for outcome, part, count, warned in db.execute(
            "SELECT outcome, part, COUNT(*), SUM(json_array_length(body, '$.warnings') > 0) FROM test_result"
            " WHERE run = ? AND suite = ? GROUP BY 1, 2", (number, suite)):
        name = str(outcome).replace(" ", "_")
        if part == "case" or name == "failed":
            found[name] += count
        found["warned"] += warned
    return found | {"total": found["passed"] + found["failed"] + found["left_out"]}


def run_before(db: Db, number: int, environment: str, suite: str) -> StoredRun | None:
    """The last run of all of a suite there that ended before another."""
    row = db.execute(f"SELECT {_COLUMNS} FROM test_run WHERE number < ? AND environment = ? AND state = 'ended' AND"
                     " json_array_length(asked, '$.only') = 0 AND EXISTS (SELECT 1 FROM json_each(suites) WHERE value = ?)"
                     " ORDER BY number DESC LIMIT 1",
                     (number, environment, suite)).fetchone()
    return _run(row) if row is not None else None
