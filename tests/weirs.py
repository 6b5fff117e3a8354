"""A service of one table in two environments, with two callers of two roles: what tests of doors and rights knock at."""

import contextlib
import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from tests.serving import Served, serving

PLACES = {
    "trial.yaml": "environment: trial\nbackends: {river: {file: river.db}}\n",
    "live.yaml": "environment: live\nfollows: trial\nbackends: {river: {file: river.db}}\n",
    "river.yaml": "backend: river\nengine: sqlite\n",
    "weir.yaml": "object: weir\nbackend: river\ntable: weir\nkey: id\nfields: [{name: id, type: int}, {name: name, type: string}]\n",
}


@contextmanager
def weirs(folder: Path, files: Mapping[str, str]) -> Iterator[Served]:
    """Weirs as `files` define it, deployed to both; the caller desk has the role reader, pilots the role pilot."""
    with contextlib.closing(sqlite3.connect(folder / "river.db")) as db:
        db.executescript("CREATE TABLE weir (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO weir VALUES (1, 'North');")
    with serving(folder) as one, one.client() as admin:
        admin.apply(dict(files))
        admin.release("Weirs")
        for place in ("trial", "live"):
            admin.deploy("Weirs", place)
        admin.save_caller("desk", ["reader"])
        admin.save_caller("pilots", ["pilot"])
        yield one
