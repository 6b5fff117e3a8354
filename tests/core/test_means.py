"""A mean has the same places on every engine, and loses none."""

from collections.abc import AsyncIterator
from decimal import Decimal
from pathlib import Path

import pytest

from bricola.core.problems import ProblemError
from tests.core.databases import ENGINES, Database, Servers, call

QUERY = """
query: waits
backend: river
select: SELECT id, lock, minutes, metres FROM wait
columns: {{id: {{type: int}}, lock: {{type: int}}, minutes: {{type: int}}, metres: {{type: decimal, digits: 6, fraction: 2}}}}
key: [id]
groups: [lock]
measures:
  meanMinutes: {{type: {kind}, of: mean, column: minutes}}
  meanMetres: {{type: decimal, fraction: 6, of: mean, column: metres}}
  all: {{type: long}}
"""
SERVICE = "service: Waits\noperations:\n  Waits: {runs: query waits}"
TABLE = ("CREATE TABLE wait (id INTEGER PRIMARY KEY, lock INTEGER, minutes INTEGER, metres DECIMAL(6,2))",
         "INSERT INTO wait VALUES (1, 1, 1, 1.00), (2, 1, 2, 1.00), (3, 1, 2, 2.00), (4, 2, 1, 0.50), (5, 2, 2, NULL)")


@pytest.fixture(params=ENGINES)
async def river(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    database = Database(request.param, tmp_path, servers)
    database.run(*(one.replace(" lock INTEGER", ' "lock" INTEGER') for one in TABLE))
    yield database
    await database.pool.close()


async def test_means_of_whole_numbers_keep_their_places(river: Database) -> None:
    query = QUERY.replace("SELECT id, lock", 'SELECT id, "lock"')
    rows = (await call(river.publish((query.format(kind="decimal"), SERVICE), "Waits"), "Waits"))["row"]
    assert [(one["meanMinutes"], one["meanMetres"], one["all"]) for one in rows] == [
        (Decimal("1.6666666667"), Decimal("1.333333"), 3), (Decimal("1.5"), Decimal("0.500000"), 2)]
    rounded = river.publish((query.format(kind="decimal, fraction: 1"), SERVICE), "Waits")
    assert [str(one["meanMinutes"]) for one in (await call(rounded, "Waits"))["row"]] == ["1.7", "1.5"]
    rows = (await call(river.publish((query.format(kind="double"), SERVICE), "Waits"), "Waits"))["row"]
    assert [one["meanMinutes"] for one in rows] == [pytest.approx(5 / 3, rel=1e-9), 1.5]
    with pytest.raises(ProblemError, match="has places"):
        river.publish((query.format(kind="int"), SERVICE), "Waits")
