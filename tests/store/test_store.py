"""Bricola's own files: durable, moved forward, refused when newer; call records that survive trouble."""

import sqlite3
import time
from pathlib import Path

import pytest

from bricola.core.problems import ProblemError
from bricola.core.serving.pipeline import CallRecord
from bricola.store import definitions, people, releases
from bricola.store.calls import CallWriter, figures, recent_calls
from bricola.store.database import open_database


def test_a_newer_store_and_a_foreign_file_are_refused(tmp_path: Path) -> None:
    open_database(tmp_path / "b.db", "main", durable=True).execute("PRAGMA user_version=999")
    with pytest.raises(ProblemError, match="newer Bricola"):
        open_database(tmp_path / "b.db", "main", durable=True)
    (tmp_path / "x.db").write_bytes(b"not a database" * 100)
    with pytest.raises(ProblemError, match="cannot be opened"):
        open_database(tmp_path / "x.db", "main", durable=True)


def test_revisions_are_never_overwritten_and_removal_hides(tmp_path: Path) -> None:
    db = open_database(tmp_path / "b.db", "main", durable=True)
    definitions.add_revisions(db, [("type", "A", "a.yaml", "one"), ("type", "B", "b.yaml", "two")], "imke")
    definitions.add_revisions(db, [("type", "A", "a.yaml", "one more"), ("type", "B", "b.yaml", "")], "teo")
    assert [(one.name, one.text, one.author) for one in definitions.drafts(db)] == [("A", "one more", "teo")]
    assert db.execute("SELECT COUNT(*) FROM definition_revision").fetchone() == (4,)


def test_one_deployment_is_in_force_per_place(tmp_path: Path) -> None:
    db = open_database(tmp_path / "b.db", "main", durable=True)
    for number in (1, 2):
        assert releases.add_release(db, "S", f"d{number}", {"s.yaml": "x"}, "", "imke") == number
    for number in (1, 2):
        releases.start_deployment(db, "live", "S", 1, number, "imke")
    assert [(one.release, one.ended_at is None) for one in releases.deployments(db)] == [(2, True), (1, False)]
    with pytest.raises(sqlite3.IntegrityError):
        releases.start_deployment(db, "live", "S", 1, 3, "imke")
    assert [one.release for one in releases.deployments(db, in_force=True)] == [2]


def test_secrets_are_kept_as_digests_only(tmp_path: Path) -> None:
    db = open_database(tmp_path / "b.db", "main", durable=True)
    assert people.add_user(db, "imke", "admin", "$argon2id$x", only_first=True)
    assert not people.add_user(db, "teo", "admin", "$argon2id$y", only_first=True)
    people.save_caller(db, "desk", "", ["b", "a", "a"])
    people.add_token(db, "desk", b"digest", "brc_abc")
    people.save_caller(db, "desk", "new words", ["c"])
    assert [(one.roles, one.tokens[0].prefix) for one in people.callers(db)] == [(("c",), "brc_abc")]
    assert people.revoke_tokens(db, "desk", "brc_abc") == 1


def record(number: int, result: str = "answered") -> CallRecord:
    return CallRecord(f"c{number}", time.time(), "live", "S", 1, "Get", "desk", "soap 1.1", 200, number * 1000, result,
                      "" if result == "answered" else "NotFound", "", 10, 20)


def test_records_come_in_batches_wait_out_a_lock_and_give_figures(tmp_path: Path) -> None:
    writer = CallWriter(tmp_path / "calls.db")
    reader = open_database(tmp_path / "calls.db", "calls", durable=False)
    for number in range(1, 101):
        writer.add(record(number, "fault" if number % 10 == 0 else "answered"))
    writer.flush()
    assert len(recent_calls(reader, limit=500)) == 100
    assert {one.result for one in recent_calls(reader, failed=True)} == {"fault"}
    now = time.time()
    (one,) = figures(reader, now - 3600, now + 1, 60)
    assert (one["calls"], one["faults"]) == (100, 10)
    assert one["p95_micros"] == pytest.approx(96_000, rel=0.05)
    assert sum(calls for calls, _ in one["slices"]) == 100
    writer._db.execute("PRAGMA busy_timeout=10")
    reader.execute("BEGIN IMMEDIATE")
    writer.add(record(101))
    writer.flush()  # the file is locked: the record waits
    reader.execute("ROLLBACK")
    writer.close()
    assert len(recent_calls(reader, limit=500)) == 101
