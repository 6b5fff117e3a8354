"""Backup while running, by SQLite's online backup, and restore into a new folder.

A backup is a zip file: `manifest.json`, `bricola.db`, and `calls.db` when asked for. Credentials stay sealed in it;
the key of the vault is not in it and is kept apart.
"""

import hashlib
import json
import shutil
import sqlite3
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bricola import __version__
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.store import jobs
from bricola.store.database import Db, newest_schema, timestamp

_FORMAT = 1
_FAMILIES = {"bricola.db": "main", "calls.db": "calls"}
_SCHEMA_WITH_JOBS = 9
_PAGES = 2000  # copied in one step; between steps the service goes on writing


def write_backup(data: Path, target: Path, with_calls: bool, now: Callable[[], str] = timestamp) -> dict[str, Any]:
    """Write a backup of the stores in `data` to the file `target`, whole or not at all; answers its manifest."""
    names = ["bricola.db", *(["calls.db"] if with_calls else [])]
    new = target.with_name(f"{target.name}.new")
    try:
        with tempfile.TemporaryDirectory(dir=target.parent) as folder:
            files = {name: _copy(data / name, Path(folder) / name) for name in names}
            manifest = {"format": _FORMAT, "program": __version__, "made_at": now(), "files": files}
            with zipfile.ZipFile(new, "w", zipfile.ZIP_DEFLATED) as archive:
                archive.writestr("manifest.json", json.dumps(manifest, indent=1))
                for name in names:
                    archive.write(Path(folder) / name, name)
        new.replace(target)
    except (OSError, sqlite3.Error) as error:
        new.unlink(missing_ok=True)
        raise ProblemError(Problem("backup.write", "The backup cannot be written.", Kind.INTERNAL, place=str(target), found=str(error),
                                   mend="Check that there is room and that the folder is writable.")) from None
    return manifest


def _copy(source: Path, target: Path) -> dict[str, Any]:
    reader = sqlite3.connect(f"{source.absolute().as_uri()}?mode=ro", uri=True, timeout=10.0)
    writer = sqlite3.connect(target)
    try:
        reader.backup(writer, pages=_PAGES)
        version = writer.execute("PRAGMA user_version").fetchone()[0]
    finally:
        writer.close()
        reader.close()
    return {"schema": version, "sha256": _digest(target), "bytes": target.stat().st_size}


def _digest(file: Path) -> str:
    with file.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def restore_backup(file: Path, data: Path) -> dict[str, Any]:
    """Put the stores of a backup into a folder that has none; answers the manifest. Raises ProblemError for a file that
    is damaged, comes from a newer program, or would replace a store."""
    existing = [name for name in _FAMILIES if (data / name).exists()]
    if existing:
        raise ProblemError(Problem("restore.occupied", "The folder has a store already.", Kind.CONFLICT, place=str(data),
                                   found=", ".join(existing), mend="Restore into an empty folder, then start the service with it."))
    data.mkdir(parents=True, exist_ok=True)
    try:
        with zipfile.ZipFile(file) as archive, tempfile.TemporaryDirectory(dir=data) as folder:
            manifest: dict[str, Any] = json.loads(archive.read("manifest.json"))
            _check(manifest, file)
            for name, facts in manifest["files"].items():
                target = Path(folder) / name
                with archive.open(name) as source, target.open("wb") as sink:
                    shutil.copyfileobj(source, sink)
                if _digest(target) != facts["sha256"]:
                    raise ProblemError(_damaged(file, f"{name} is not what was written"))
            if manifest["files"]["bricola.db"]["schema"] >= _SCHEMA_WITH_JOBS:
                _hold_jobs(Path(folder) / "bricola.db")
            for name in manifest["files"]:
                (Path(folder) / name).replace(data / name)
    except FileNotFoundError:
        raise ProblemError(Problem("restore.file", "There is no such file.", Kind.MISSING, place=str(file))) from None
    except (zipfile.BadZipFile, KeyError, ValueError, EOFError) as error:
        raise ProblemError(_damaged(file, str(error))) from None
    return manifest


def _hold_jobs(store: Path) -> None:
    """What the service did after the backup, the jobs in it do not know: they would do it once more."""
    connection = sqlite3.connect(store, isolation_level=None)
    try:
        jobs.hold_all(Db(connection))
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    finally:
        connection.close()


def _check(manifest: dict[str, Any], file: Path) -> None:
    if manifest.get("format") != _FORMAT or "bricola.db" not in manifest["files"] or not set(manifest["files"]) <= set(_FAMILIES):
        raise ProblemError(_damaged(file, f"format {manifest.get('format')}"))
    for name, facts in manifest["files"].items():
        newest = newest_schema(_FAMILIES[name])
        if facts["schema"] > newest:
            raise ProblemError(Problem("store.newer", "The backup was written by a newer Bricola.", Kind.CONFLICT, place=str(file),
                                       expected=f"schema version {newest} or older", found=str(facts["schema"]),
                                       mend="Restore it with the newer program."))


def _damaged(file: Path, found: str) -> Problem:
    return Problem("restore.damaged", "This is not a whole backup.", Kind.INPUT, place=str(file), found=found,
                   mend="Take another copy of the file.")
