"""The vault, the sign-in throttle and backups, without a running service."""

import sqlite3
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.fernet import Fernet
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from bricola.core.jobs.model import Job
from bricola.core.problems import Kind, ProblemError
from bricola.server.backup import restore_backup, write_backup
from bricola.server.ports.storage import Storage
from bricola.server.throttle import Throttle
from bricola.server.vault import KEY_VARIABLE, Vault, read_key_pair
from bricola.store import credentials, definitions, jobs
from bricola.store.database import Db, open_database

NOW = datetime(2026, 11, 25, tzinfo=UTC)


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    return open_database(tmp_path / "bricola.db", "main", durable=True)


def vault_of(tmp_path: Path, db: Db, moment: datetime = NOW) -> Vault:
    vault = Vault(tmp_path / "bricola.key", lambda: moment.timestamp())
    vault.load(credentials.credentials(db))
    return vault


def renew(vault: Vault, db: Db) -> int:
    with vault.renewing() as again, db.transaction():
        count = credentials.reseal(db, again)
    vault.renewed()
    return count


def test_what_a_credential_lacks_is_known_without_opening_it(tmp_path: Path, db: Db) -> None:
    vault = vault_of(tmp_path, db)
    credentials.keep_sealing_check(db, vault.new_check())
    credentials.add_credential(db, "locks", "password", "")
    end = (NOW + timedelta(hours=1)).isoformat()
    credentials.add_version(db, "locks", "clerk", vault.seal("weir-crest"), "", end, "imke", NOW)
    assert (vault_of(tmp_path, db).lack("locks"), vault.lack("weirs")) == ("", "does not exist")
    assert vault_of(tmp_path, db, NOW + timedelta(hours=2)).lack("locks") == "has expired"


def test_secrets_are_sealed_open_again_and_survive_a_new_key(tmp_path: Path, db: Db) -> None:
    vault = vault_of(tmp_path, db)
    credentials.keep_sealing_check(db, vault.new_check())
    credentials.add_credential(db, "locks", "password", "")
    credentials.add_version(db, "locks", "clerk", vault.seal("weir-crest"), "", None, "imke", NOW)
    assert b"weir-crest" not in (tmp_path / "bricola.db").read_bytes()
    assert (tmp_path / "bricola.key").stat().st_mode & 0o077 == 0
    old_key = (tmp_path / "bricola.key").read_text()
    assert renew(vault, db) == 1
    assert old_key.strip() not in (tmp_path / "bricola.key").read_text()
    fresh = vault_of(tmp_path, db)
    assert [(one.user, one.value) for one in fresh.secrets("locks")] == [("clerk", "weir-crest")]
    check = credentials.sealing_check(db)
    assert check is not None
    fresh.verify(check)
    (tmp_path / "bricola.key").write_text(old_key)
    with pytest.raises(ProblemError, match="cannot be opened with this key"):
        vault_of(tmp_path, db).verify(check)
    assert "weir-crest" not in repr(fresh.secrets("locks"))


@pytest.mark.parametrize("content", ["", "not a key", "é"])
def test_a_wrong_key_file_is_told(tmp_path: Path, content: str) -> None:
    (tmp_path / "bricola.key").write_text(content)
    with pytest.raises(ProblemError) as caught:
        Vault(tmp_path / "bricola.key")
    assert caught.value.problem.code == "vault.key"
    assert str(tmp_path / "bricola.key") in caught.value.problem.place


def test_a_key_from_the_environment_is_renewed_by_its_owner(
    tmp_path: Path, db: Db, monkeypatch: pytest.MonkeyPatch
) -> None:
    old, new = Fernet.generate_key().decode(), Fernet.generate_key().decode()
    monkeypatch.setenv(KEY_VARIABLE, old)
    vault = vault_of(tmp_path, db)
    credentials.add_credential(db, "locks", "token", "")
    credentials.add_version(db, "locks", "", vault.seal("t-1"), "", None, "imke", NOW)
    with pytest.raises(ProblemError, match="only its owner"):
        renew(vault, db)
    monkeypatch.setenv(KEY_VARIABLE, f"{new},{old}")
    renew(vault_of(tmp_path, db), db)
    monkeypatch.setenv(KEY_VARIABLE, new)
    assert vault_of(tmp_path, db).secrets("locks")[0].value == "t-1"
    assert not (tmp_path / "bricola.key").exists()


def test_versions_overlap_and_expire(tmp_path: Path, db: Db) -> None:
    vault = vault_of(tmp_path, db)
    credentials.add_credential(db, "locks", "password", "")
    day = timedelta(days=1)
    credentials.add_version(db, "locks", "clerk", vault.seal("one"), "", None, "imke", NOW)
    credentials.add_version(db, "locks", "clerk", vault.seal("two"), "", (NOW + 9 * day).isoformat(), "imke", NOW + day)

    def values(moment: datetime) -> list[str]:
        return [one.value for one in vault_of(tmp_path, db, moment).secrets("locks")]

    assert values(NOW) == ["two", "one"]
    assert values(NOW + 2 * day) == ["two"]
    with pytest.raises(ProblemError, match="has expired"):
        values(NOW + 10 * day)
    with pytest.raises(ProblemError, match="does not exist"):
        vault.secrets("gates")


def test_a_key_pair_must_belong_together(tmp_path: Path) -> None:
    key, other = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "bricola.larkmere.example")])
    certificate = (x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(1)
                   .not_valid_before(NOW).not_valid_after(NOW + timedelta(days=30)).sign(key, hashes.SHA256()))
    pem = certificate.public_bytes(serialization.Encoding.PEM).decode()

    def text(one: ec.EllipticCurvePrivateKey) -> str:
        return one.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()).decode()

    assert read_key_pair(text(key), pem) == "2026-12-25T00:00:00.000Z"
    with pytest.raises(ProblemError, match="does not belong"):
        read_key_pair(text(other), pem)
    with pytest.raises(ProblemError, match="cannot be read"):
        read_key_pair("no key", pem)


def test_the_throttle_pauses_longer_each_time_and_forgives() -> None:
    now = [0.0]
    throttle = Throttle(lambda: now[0])
    for _ in range(5):
        throttle.enter("imke", "10.0.0.9")
        throttle.failed("imke", "10.0.0.9")
    with pytest.raises(ProblemError) as caught:
        throttle.enter("imke", "10.0.0.9")
    assert caught.value.problem.kind is Kind.LIMIT
    throttle.enter("imke", "10.0.0.7")  # the owner at another place is not kept out
    throttle.enter("teo", "10.0.0.9")
    now[0] = 2.1
    throttle.failed("imke", "10.0.0.9")
    now[0] = 5.0
    with pytest.raises(ProblemError):
        throttle.enter("imke", "10.0.0.9")
    throttle.succeeded("imke", "10.0.0.9")
    throttle.enter("imke", "10.0.0.9")
    for number in range(60):
        throttle.failed(f"guess{number}", "10.0.0.8")
    with pytest.raises(ProblemError):
        throttle.enter("somebody", "10.0.0.8")


def test_a_backup_is_whole_and_restores_into_an_empty_folder(tmp_path: Path, db: Db) -> None:
    open_database(tmp_path / "calls.db", "calls", durable=False).close()
    definitions.add_revisions(db, [("type", "A", "a.yaml", "one")], "imke")
    for number, state in enumerate(("waiting", "running", "done")):
        one = Job(f"j{number}", "live", "S", "S", 1, "Do", "w", "desk", (), float(number), 99.0, "{}")
        jobs.accept(db, one, 0.0, str.encode)
        db.execute("UPDATE job SET state = ? WHERE id = ?", (state, one.id))
    file = tmp_path / "b.zip"
    assert set(write_backup(tmp_path, file, True)["files"]) == {"bricola.db", "calls.db"}
    restore_backup(file, tmp_path / "new")
    again = open_database(tmp_path / "new" / "bricola.db", "main", durable=True)
    assert [one.text for one in definitions.drafts(again)] == ["one"]
    # What was done after the backup was taken would be done once more.
    assert [one.state for one in jobs.recent(again, "", "", "", None, 9)] == ["done", "outcome unknown", "outcome unknown"]
    with pytest.raises(ProblemError, match="has a store already"):
        restore_backup(file, tmp_path / "new")
    with pytest.raises(ProblemError, match="no such file"):
        restore_backup(tmp_path / "none.zip", tmp_path / "other")
    content = file.read_bytes()
    for damaged in (b"", content[: len(content) // 2], content[:300] + b"\0" * 50 + content[350:]):
        file.write_bytes(damaged)
        with pytest.raises(ProblemError, match="not a whole backup"):
            restore_backup(file, tmp_path / "other")
        assert not list((tmp_path / "other").glob("*.db"))
    with pytest.raises(ProblemError, match="cannot be written"):
        write_backup(tmp_path, tmp_path / "no-such-folder" / "b.zip", False)


def test_an_older_store_is_moved_forward_with_a_copy_kept(tmp_path: Path) -> None:
    from importlib import resources

    old = sqlite3.connect(tmp_path / "bricola.db")
    old.executescript(resources.files("bricola.store").joinpath("migrations/main_0001.sql").read_text())
    old.execute("INSERT INTO caller (name, description, created_at) VALUES ('desk', '', '2026-11-01T00:00:00.000Z')")
    old.execute("INSERT INTO release VALUES ('S', 1, 'd', '{}', '', 'imke', '2026-11-01T00:00:00.000Z')")
    old.execute("INSERT INTO deployment (environment, service, release, author, at) VALUES ('live', 'S', 1, 'imke', '2026-11-01')")
    old.execute("PRAGMA user_version=1")
    old.commit()
    old.close()
    db = open_database(tmp_path / "bricola.db", "main", durable=True)
    assert db.execute("SELECT share, version, how FROM deployment").fetchall() == [(100, 1, "deploy")]
    assert db.execute("SELECT name, networks, per_minute FROM caller").fetchall() == [("desk", "[]", None)]
    copy = sqlite3.connect(tmp_path / "bricola.db.schema-1")
    assert copy.execute("PRAGMA user_version").fetchone() == (1,)
    assert copy.execute("SELECT name FROM caller").fetchall() == [("desk",)]


async def test_a_full_disk_and_a_locked_store_are_told_and_lose_nothing(tmp_path: Path) -> None:
    storage = Storage(tmp_path)
    await storage.write(definitions.add_revisions, [("type", "A", "a.yaml", "one")], "imke")
    pages = await storage.write(lambda db: db.execute("PRAGMA page_count").fetchone()[0])
    await storage.write(lambda db: db.execute(f"PRAGMA max_page_count={pages}").fetchall())
    with pytest.raises(ProblemError) as full:
        await storage.write(definitions.add_revisions, [("type", "A", "a.yaml", "x" * 900_000)], "imke")
    assert full.value.problem.code == "store.full"
    await storage.write(lambda db: db.execute("PRAGMA max_page_count=1000000").fetchall())
    await storage.write(lambda db: db.execute("PRAGMA busy_timeout=10"))
    other = sqlite3.connect(tmp_path / "bricola.db")
    other.execute("BEGIN IMMEDIATE")
    with pytest.raises(ProblemError) as locked:
        await storage.write(definitions.add_revisions, [("type", "A", "a.yaml", "two")], "imke")
    assert locked.value.problem.code == "store.locked"
    other.rollback()
    assert [one.text for one in await storage.read(definitions.drafts)] == ["one"]
    await storage.write(definitions.add_revisions, [("type", "A", "a.yaml", "two")], "imke")
    storage.close()
