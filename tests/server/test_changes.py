"""The one path for every change: all or nothing, memory made from what was committed, in order; one process for one folder."""

import asyncio
import json
import shutil
import sqlite3
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pytest

from bricola.core.problems import ProblemError
from bricola.core.serving.faces import Request
from bricola.server.bricola import Bricola
from bricola.server.kinds.registry import SERVERS
from bricola.server.ports.changes import Topic
from bricola.server.ports.storage import Storage
from bricola.server.settings import Settings
from bricola.server.usecases import credentials, definitions, deployments, people, releases
from bricola.store import audit as stored_audit
from bricola.store import releases as stored_releases
from bricola.store.database import Db
from tests.length import often

OBJECT = "object: note\nbackend: book\ntable: note\nkey: id\nfields:\n  id: {type: string}\n  text: {type: string, required: false}\n"
SERVICE = """service: NoteBook
description: Notes
owner: Registry office
namespace: urn:larkmere:notes
access: {reader: all}
operations:
  GetNote: {runs: note.get}
"""
FILES = {"note.yaml": OBJECT, "book.yaml": "backend: book\nengine: sqlite\n", "NoteBook.yaml": SERVICE}
AUTHOR = "imke"


def environment(name: str, file: str, more: str = "") -> dict[str, str]:
    return {f"{name}.yaml": f"environment: {name}\n{more}backends:\n  book: {{file: {file}}}\n"}


def make_book(file: Path, text: str) -> None:
    with sqlite3.connect(file) as db:
        db.execute("CREATE TABLE note (id TEXT PRIMARY KEY, text TEXT)")
        db.execute("INSERT INTO note VALUES ('A', ?)", [text])
    db.close()


@pytest.fixture
async def bricola(tmp_path: Path) -> AsyncIterator[Bricola]:
    """A service with one object published in live, without a server around it."""
    for name in ("north", "south"):
        make_book(tmp_path / f"{name}.db", name)
    made = Bricola(Settings(tmp_path), SERVERS)
    await made.start()
    await definitions.apply(made, FILES | environment("live", "north.db"), AUTHOR)
    await people.save_caller(made, "tideway-portal", "", ["reader"], [], None, None, AUTHOR)
    await releases.release(made, "NoteBook", "", AUTHOR)
    await deployments.deploy(made, "NoteBook", "live", None, AUTHOR)
    yield made
    await made.stop()


async def answer_of(bricola: Bricola, place: str = "live") -> str:
    """What the live service reads."""
    live = bricola.places.find(place, "NoteBook")
    assert live is not None
    made = await people.new_token(bricola, "tideway-portal", AUTHOR)
    answer = await bricola.pipeline.rest(live, "GetNote", Request(b'{"id": "A"}', "application/json", f"Bearer {made['token']}".encode()))
    return str(json.loads(answer.body)["note"]["text"])


def dump(db: Db) -> list[Any]:
    """Everything that is stored but the counters of use."""
    tables = [name for name, in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'").fetchall()]
    return [(name, db.execute(f'SELECT * FROM "{name}" ORDER BY 1, 2').fetchall()) for name in sorted(tables)]


def memory_of(bricola: Bricola) -> list[Any]:
    return [
        {one.path: one.text for one in bricola.drafts.files},
        sorted(bricola.people.callers._tokens),
        sorted(bricola.credentials.vault._credentials),
        {where: [(live.release, share) for live, share in place.parts] for where, place in bricola.places._live.items()},
    ]


Work = Callable[[Bricola], Awaitable[Any]]
LARGE = "# " + "x" * 100
CHANGES: dict[str, Work] = {
    "definition": lambda one: definitions.apply(one, {"More.yaml": "type: More\nbase: string\ndescription: " + "y" * 1900 + "\n"}, AUTHOR),
    "environment": lambda one: definitions.apply(one, environment("live", "south.db", f"description: {'z' * 1900}\n"), AUTHOR),
    "release": lambda one: _second_release(one),
    "deployment": lambda one: deployments.deploy(one, "NoteBook", "live", 1, AUTHOR, consent="c" * 1900),
    "end": lambda one: deployments.retire(one, "NoteBook", "live", date(2099, 1, 1), "w" * 400, AUTHOR),
    "undeployment": lambda one: deployments.undeploy(one, "NoteBook", "live", AUTHOR),
    "user": lambda one: people.add_user(one, "sanna", "viewer", "a long password", AUTHOR),
    "caller": lambda one: people.save_caller(one, "toll-audit", "d" * 400, ["reader"], [], None, None, AUTHOR),
    "token": lambda one: people.new_token(one, "tideway-portal", AUTHOR),
    "credential": lambda one: credentials.add(one, "clerk", "password", "LKCLERK", "sluice" * 300, "", None, "", AUTHOR),
    "key": lambda one: credentials.renew_key(one, AUTHOR),
}


async def _second_release(bricola: Bricola) -> None:
    changed = {"NoteBook.yaml": SERVICE.replace("Notes", "Notes of the locks")}
    if bricola.drafts.service("NoteBook").description == "Notes":
        await definitions.apply(bricola, changed, AUTHOR)
    await releases.release(bricola, "NoteBook", "n" * 1900, AUTHOR)


async def _fill_audit(storage: Storage) -> None:
    """Leave no room for a row of the audit trail, so that a change fits on the disk and its row does not."""
    await _bound(storage, 0)

    async def add_for_ever() -> None:
        while True:
            await storage.write(stored_audit.add_entry, AUTHOR, "fill", "x", None, None)

    with pytest.raises(ProblemError, match="disk is full"):
        await add_for_ever()


async def _bound(storage: Storage, spare: int) -> None:
    """Let the store grow by so many pages and no more."""
    pages = await storage.read(lambda db: db.execute("PRAGMA page_count").fetchone()[0])
    await storage.write(lambda db: db.execute(f"PRAGMA max_page_count={pages + spare}").fetchall())


@pytest.mark.parametrize("what", CHANGES)
async def test_on_a_full_disk_a_change_is_made_or_it_is_not(bricola: Bricola, what: str) -> None:
    """"The disk is full, so nothing was stored" was said of things that were stored: the change and its audit row were two steps."""
    storage = bricola.storage
    if what == "release":
        await definitions.apply(bricola, {"NoteBook.yaml": SERVICE.replace("Notes", "Notes of the locks")}, AUTHOR)
    refused = 0
    await _fill_audit(storage)
    for spare in range(30):
        before, remembered = await storage.read(dump), memory_of(bricola)
        await _bound(storage, spare)
        try:
            await CHANGES[what](bricola)
        except ProblemError as error:
            assert error.problem.code == "store.full"
            assert await storage.read(dump) == before
            assert memory_of(bricola) == remembered
            refused += 1
            continue
        finally:
            await storage.write(lambda db: db.execute("PRAGMA max_page_count=1000000").fetchall())
        entries = await storage.read(stored_audit.entries, limit=1000)
        assert len(entries) > len(dict(before)["audit"])  # the change and its row came together
        break
    else:
        raise AssertionError("it was never stored")
    assert refused, "the disk was never full for it"


async def test_a_deployment_beside_a_change_of_its_environment_answers_from_the_database_that_is_named(bricola: Bricola) -> None:
    for turn in range(often(12, 200)):
        named = ("south", "north")[turn % 2]

        async def change(file: str = named) -> None:
            await definitions.apply(bricola, environment("live", f"{file}.db"), AUTHOR)

        async def deploy(wait: float = turn % 30 * 0.002) -> None:
            await asyncio.sleep(wait)
            await deployments.deploy(bricola, "NoteBook", "live", 1, AUTHOR)

        await asyncio.gather(deploy(), change(), deploy())
        stored = bricola.drafts.environment("live").binding("book")
        assert stored is not None
        assert await answer_of(bricola) == stored.file.removesuffix(".db") == named


async def test_an_environment_that_cannot_work_is_live_as_it_is_stored(bricola: Bricola) -> None:
    await definitions.apply(bricola, environment("live", "gone.db"), AUTHOR)
    assert bricola.places.find("live", "NoteBook") is None
    assert "cannot be reached" in str(bricola.places.down("live", "NoteBook"))
    await definitions.apply(bricola, environment("live", "south.db"), AUTHOR)
    assert await answer_of(bricola) == "south"


async def test_no_secret_is_lost_when_the_key_is_renewed_beside_an_addition(bricola: Bricola, tmp_path: Path) -> None:
    rounds = often(6, 60)
    for number in range(rounds):
        await asyncio.gather(
            credentials.add(bricola, f"clerk-{number}", "password", "LKCLERK", f"sluice-{number}", "", None, "", AUTHOR),
            credentials.renew_key(bricola, AUTHOR),
            credentials.add(bricola, f"desk-{number}", "password", "LKDESK", f"weir-{number}", "", None, "", AUTHOR))
    copy = tmp_path / "copy"
    copy.mkdir()
    for name in ("bricola.db", "bricola.db-wal", "bricola.key"):
        if (tmp_path / name).exists():
            shutil.copy(tmp_path / name, copy / name)
    other = Bricola(Settings(copy), SERVERS)  # opens the store with the key that is on the disk
    await other.changes.load_all()
    vault = other.credentials.vault
    assert [vault.secrets(f"{who}-{number}")[0].value for number in range(rounds) for who in ("clerk", "desk")] == [
        f"{what}-{number}" for number in range(rounds) for what in ("sluice", "weir")]
    other.storage.close()


async def test_two_admins_cannot_remove_each_other_at_once(bricola: Bricola) -> None:
    for name in ("imke", "teo"):
        await people.add_user(bricola, name, "admin", "a long password", AUTHOR)
    outcomes = await asyncio.gather(*(people.remove_user(bricola, name, AUTHOR) for name in ("imke", "teo")), return_exceptions=True)
    assert [isinstance(one, ProblemError) for one in outcomes] in ([True, False], [False, True])
    assert [one.role for one in await bricola.people.users()] == ["admin"]


async def test_every_change_is_counted_by_what_it_is_about(bricola: Bricola) -> None:
    before = await bricola.changes.revisions()
    assert set(before) >= {Topic.DEFINITIONS, Topic.CALLERS, Topic.RELEASES, Topic.DEPLOYMENTS}
    await definitions.apply(bricola, {"More.yaml": "type: More\nbase: string\n"}, AUTHOR)
    await definitions.apply(bricola, {"More.yaml": "type: More\nbase: string\n"}, AUTHOR)  # changes nothing
    with pytest.raises(ProblemError):
        await people.remove_caller(bricola, "nobody", AUTHOR)
    after = await bricola.changes.revisions()
    assert {topic: after[topic] - before.get(topic, 0) for topic in after if after[topic] != before.get(topic)} == {Topic.DEFINITIONS: 1}


async def test_a_caller_that_goes_away_leaves_no_change_half_taken_up(bricola: Bricola) -> None:
    for _ in range(5):
        task = asyncio.create_task(people.new_token(bricola, "tideway-portal", AUTHOR, overlap=timedelta(0)))
        await asyncio.sleep(0)
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        async with bricola.changes.turn():  # what was begun has ended
            pass
        stored = [token.digest for one in await bricola.people.known_callers() for token in one.tokens]
        assert sorted(bricola.people.callers._tokens) == sorted(stored)


async def test_a_second_process_is_refused_with_the_owner(bricola: Bricola, tmp_path: Path) -> None:
    bricola.storage.lock.tell("http://127.0.0.1:8480")
    with pytest.raises(ProblemError) as taken:
        Storage(tmp_path)
    problem = taken.value.problem
    assert (problem.code, problem.place) == ("store.in-use", str(tmp_path))
    assert "http://127.0.0.1:8480" in problem.found
    assert "process " in problem.found


async def test_nothing_waits_behind_a_slow_list(bricola: Bricola) -> None:
    begun = threading.Event()

    def slow(db: Db) -> int:
        begun.set()
        return int(db.execute("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 6000000) SELECT MAX(i) FROM n"
                              ).fetchone()[0])

    waiting = [asyncio.create_task(bricola.storage.calls(slow)), asyncio.create_task(bricola.storage.read(slow))]
    await asyncio.to_thread(begun.wait)
    began = time.monotonic()
    await people.new_token(bricola, "tideway-portal", AUTHOR)
    assert await answer_of(bricola) == "north"
    await bricola.requests.prune(time.time())
    assert await bricola.calls.recent(limit=1)
    took = time.monotonic() - began
    assert not all(one.done() for one in waiting), f"the slow lists ended before, after {took:.1f} s"
    assert await asyncio.gather(*waiting) == [6000000, 6000000]


async def test_one_release_is_found_without_opening_the_others(bricola: Bricola) -> None:
    """Every bundle of every release was read to pick one, for anybody who asked for an older contract."""

    def spoil(db: Db) -> None:
        for number in range(2, 30):
            stored_releases.add_release(db, "NoteBook", f"d{number}", {"x.yaml": "y"}, "", AUTHOR)
        db.execute("UPDATE release SET bundle = 'not JSON' WHERE number > 1")

    await bricola.storage.write(spoil)
    assert (await bricola.releases.find("NoteBook", 1)).bundle.keys() >= {"services/NoteBook.yaml"}
    assert [one.number for one in await bricola.releases.of("NoteBook")][:2] == [29, 28]
    with pytest.raises(ProblemError, match="There is no release"):
        await bricola.releases.find("NoteBook", 99)
