"""Object operations on a real SQLite database."""

import asyncio
import contextlib
import sqlite3
import subprocess
import sys
import time
from collections.abc import AsyncIterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from bricola.adapters.engines.sqlite.sessions import SqliteKind
from bricola.adapters.folders import Folders
from bricola.core.calls.call import Call
from bricola.core.definitions.engines.engine import Dialect
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import EnvironmentDefinition, PoolSettings
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService, compile_service
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.statements import Keyset
from bricola.store.database import STORE_NUMBER
from tests.core.samples import gauge_catalogue

PLACES = ["Weir", "weir tail", "100% Lock", "100 Lock", "a_b", "aXb", "O'Brien", 'say "hi"', "Łódź", "Ω🚢", "", "Weir"]


def make_database(path: Path) -> None:
    db = sqlite3.connect(path)
    db.execute("CREATE TABLE gauge (code TEXT PRIMARY KEY, place TEXT, datum REAL, automatic INTEGER, readings INTEGER, drift REAL,"
               " installed TEXT, checked TEXT, opens TEXT, every TEXT, since TEXT, photo BLOB, page TEXT, grade TEXT, row_version INTEGER)")
    for number, place in enumerate(PLACES):
        db.execute("INSERT INTO gauge VALUES (?,?,?,?,?,NULL,?,?,NULL,NULL,NULL,?,NULL,?,1)",
                   (f"G{number:02}", place, number + 0.5, number % 2, number * 10, f"2026-01-{number + 1:02}",
                    "2026-01-01 06:30:00", b"\0\1", "ABC"[number % 3]))
    db.commit()
    db.close()


@pytest.fixture
async def live(tmp_path: Path) -> AsyncIterator[LiveService]:
    make_database(tmp_path / "g.db")
    pool = Pool("g", SqliteKind("registry", Folders(tmp_path)), (Endpoint(name="main", address="g.db"),), PoolSettings(), time.monotonic)
    catalogue = gauge_catalogue()
    service = catalogue.find_service("GaugeBook")
    assert service is not None
    yield compile_service(EnvironmentDefinition(name="live"), service, 1, resolve_service(service, catalogue), {"registry": pool})  # type: ignore[dict-item]
    await pool.close()


async def codes(live: LiveService, operation: str, **values: object) -> list[str]:
    answer = await live.by_name[operation].handle(Call(), {"limit": 50, **values})
    live.by_name[operation].encode(answer)
    return [one["code"] for one in answer["gauge"]]


async def test_get_reads_typed_values_that_can_be_encoded(live: LiveService) -> None:
    answer = await live.by_name["GetGauge"].handle(Call(), {"code": "G03"})
    text = live.by_name["GetGauge"].encode(answer)
    assert "<datum>3.50</datum><automatic>true</automatic><readings>30</readings>" in text
    assert "<checked>2026-01-01T06:30:00</checked>" in text
    assert "<photo>AAE=</photo>" in text
    with pytest.raises(DeclaredFaultError) as caught:
        await live.by_name["GetGauge"].handle(Call(), {"code": "G99"})
    assert caught.value.detail == {"message": "There is no gauge with code G99.", "code": "G99"}


async def test_filters_bind_what_is_given_and_nothing_else(live: LiveService) -> None:
    assert await codes(live, "FindGauges", placeContains="WEIR") == ["G00", "G01", "G11"]
    assert await codes(live, "FindGauges", placeContains="100%") == ["G02"]
    assert await codes(live, "FindGauges", placeContains="a_b") == ["G04"]
    assert await codes(live, "FindGauges", placeContains="O'Brien") == ["G06"]
    assert await codes(live, "FindGauges", placeContains="' OR 1=1 --") == []
    assert await codes(live, "FindGauges", placeContains="🚢") == ["G09"]
    assert await codes(live, "FindGauges", grade="B", datumFrom="7") == ["G07", "G10"]
    assert await codes(live, "FindGraded", placeContains="w") == ["G01"]
    assert await codes(live, "ListGauges", placeStarts="1") == ["G03", "G02"]
    assert len(await codes(live, "FindGauges")) == len(PLACES)


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=25, deadline=None)
@given(limit=st.integers(1, 6), operation=st.sampled_from(["FindGauges", "ListGauges"]))
async def test_pages_hold_every_row_once_in_order(live: LiveService, limit: int, operation: str) -> None:
    seen: list[str] = []
    after: dict[str, object] = {}
    while True:
        answer = await live.by_name[operation].handle(Call(), {"limit": limit, **after})
        seen += [one["code"] for one in answer["gauge"]]
        assert answer["more"] is ("after" in answer)
        if not answer["more"]:
            break
        assert len(answer["gauge"]) == limit
        after = {"after": answer["after"]}
    assert seen == await codes(live, operation)
    assert len(set(seen)) == len(PLACES)


_CODE = SimpleType("string")
_KEYSET, _OTHER = (Keyset(["code"], {"code": "c"}, {"code": Element("code", _CODE)}, Dialect(), mark) for mark in ("gauge.search", "other.mark"))


@given(st.text(max_size=60) | st.builds(lambda code: _OTHER.position({"code": code}), st.text(max_size=9)))
def test_a_foreign_position_is_refused(text: str) -> None:
    with pytest.raises(ProblemError, match="not a position that this operation gave"):
        _KEYSET.beyond(text, "FindGauges/after")


@given(st.text(max_size=30))
def test_a_position_comes_back_as_it_was(code: str) -> None:
    assert _KEYSET.beyond(_KEYSET.position({"code": code}), "") == ("(c) > (?)", [code])


async def test_a_missing_database_is_never_created_and_hides_its_path(tmp_path: Path) -> None:
    kind, missing = SqliteKind("registry", Folders(tmp_path)), Endpoint(name="main", address="none.db")
    with pytest.raises(ProblemError) as caught:
        await kind.open(missing)
    assert not (tmp_path / "none.db").exists()
    assert str(tmp_path) not in str(caught.value.problem.as_dict())
    assert str(tmp_path) in caught.value.problem.inner
    (tmp_path / "none.db").write_bytes(b"no database at all, but long enough to be looked at" * 50)
    with pytest.raises(ProblemError, match="cannot be reached"):
        await kind.open(missing)


async def test_a_session_opens_beside_a_writer(tmp_path: Path) -> None:
    make_database(tmp_path / "river.db")
    writer = sqlite3.connect(tmp_path / "river.db", isolation_level=None)
    writer.execute("BEGIN EXCLUSIVE")
    kind = SqliteKind("river", Folders(tmp_path))
    opening = asyncio.create_task(kind.open(Endpoint(name="main", address="river.db")))
    await asyncio.sleep(0.1)
    writer.execute("COMMIT")
    session = await opening  # it waited, and was not told that the backend is gone
    assert session.rows_at_once("SELECT COUNT(*) FROM gauge", []) == [(len(PLACES),)]
    writer.execute("BEGIN EXCLUSIVE")
    assert session.rows_at_once("SELECT COUNT(*) FROM gauge", []) is None  # what runs at once never waits
    writer.close()
    await kind.close(session)


async def test_what_a_session_writes_is_there_for_everybody_while_further_ones_open(tmp_path: Path) -> None:
    """When a process closes a file that SQLite has open as well, SQLite's locks go (how to corrupt a database, section 2.2): then another
    program takes itself for the last one, and removes the log that sessions go on writing to."""
    make_database(tmp_path / "river.db")
    with contextlib.closing(sqlite3.connect(tmp_path / "river.db")) as db:
        db.execute("PRAGMA journal_mode=WAL")
    kind, place = SqliteKind("river", Folders(tmp_path, store=STORE_NUMBER)), Endpoint(name="main", address="river.db")
    sessions = []
    for number in range(3):
        sessions.append(await kind.open(place))
        sessions[0].write("CREATE TABLE IF NOT EXISTS told (number INTEGER)", [])
        sessions[0].write("INSERT INTO told VALUES (?)", [number])
        look = "import sqlite3, sys; print(sqlite3.connect(sys.argv[1]).execute('SELECT COUNT(*) FROM told').fetchone()[0])"
        other = await asyncio.create_subprocess_exec(sys.executable, "-c", look, tmp_path / "river.db", stdout=subprocess.PIPE)
        assert int((await other.communicate())[0]) == number + 1
    for session in sessions:
        await kind.close(session)
