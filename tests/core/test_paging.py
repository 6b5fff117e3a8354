"""A page far into a large table costs what the first does: found by an index, neither loaded nor scanned."""

from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pytest

from tests.core.databases import ENGINES, Database, Servers, call

ROWS = 60_000
PARTS = (
    """
object: reading
backend: river
table: reading
key: [gauge, number]
fields:
  gauge: {type: string}
  number: {type: int}
  level: {type: decimal, digits: 6, fraction: 2}
finders:
  all: {limit: {default: 200, most: 200}}
  newest: {order: [gauge descending, number descending], limit: {default: 200, most: 200}}
  ofGauge:
    filters:
      gauge: {field: gauge, required: true}
    limit: {default: 200, most: 200}
""",
    "service: Readings\noperations:\n  List: {runs: reading.all}\n  ListNewest: {runs: reading.newest}\n  ListOfGauge: {runs: reading.ofGauge}\n",
)
MOST_ROWS_LOOKED_AT = 1_000  # by the server's own count; a scan looks at all


@pytest.fixture(params=ENGINES)
async def database(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    found = Database(request.param, tmp_path, servers)
    found.run("CREATE TABLE digit (d INTEGER)", *(f"INSERT INTO digit VALUES ({one})" for one in range(10)),
              "CREATE TABLE reading (gauge VARCHAR(4) NOT NULL, number INTEGER NOT NULL, level DECIMAL(6,2) NOT NULL, PRIMARY KEY (gauge, number))",
              "INSERT INTO reading SELECT 'G' || g.d, a.d * 1000 + b.d * 100 + c.d * 10 + e.d, a.d + 0.5"
              " FROM digit g, digit a, digit b, digit c, digit e WHERE g.d < 6",
              {"sqlite": "ANALYZE", "postgresql": "ANALYZE reading", "mariadb": "ANALYZE TABLE reading"}[found.engine])
    yield found
    await found.pool.close()


async def test_pages_are_found_by_the_index(database: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    live = database.publish(PARTS, "Readings")
    asked: list[tuple[str, list[Any], bool]] = []
    async with database.pool.session() as session:
        kind = type(session)
    at_once, rows = kind.rows_at_once, kind.rows

    def note_at_once(self: Any, sql: str, parameters: Any) -> Any:
        found = at_once(self, sql, parameters)
        asked.append((sql, list(parameters), found is not None))
        return found

    monkeypatch.setattr(kind, "rows_at_once", note_at_once)
    for operation, more in (("List", {}), ("ListNewest", {}), ("ListOfGauge", {"gauge": "G4"})):
        seen, after = 0, {}
        while True:
            answer = await call(live, operation, limit=200, **more, **after)
            seen += len(answer["reading"])
            if not answer["more"]:
                break
            after = {"after": answer["after"]}
        assert seen == (10_000 if more else ROWS)
        sql, parameters, done_at_once = asked[len(asked) * 3 // 4]
        if database.engine == "sqlite":
            assert all(found for _, _, found in asked)  # within 20,000 steps of its machine, the last page too
            continue
        async with database.pool.session() as session:
            if database.engine == "postgresql":
                plan = "\n".join(str(row[0]) for row in await rows(session, f"EXPLAIN {sql}", parameters))
                assert "Index" in plan
                assert "Seq Scan" not in plan
                assert "Sort" not in plan
            else:
                before = dict(await rows(session, "SHOW SESSION STATUS LIKE 'Handler_read%'", []))
                await rows(session, sql, parameters)
                after_it = dict(await rows(session, "SHOW SESSION STATUS LIKE 'Handler_read%'", []))
                assert sum(int(after_it[one]) - int(before[one]) for one in before if one != "Handler_read_rnd_next") < MOST_ROWS_LOOKED_AT
        assert not done_at_once
        asked.clear()
