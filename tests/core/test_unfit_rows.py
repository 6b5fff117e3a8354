"""Rows that break the contract: named by their key, and left out of a page where an object says so."""

from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from bricola.core.calls.call import Call
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService
from tests.core.databases import Database, Servers, call

OBJECT = """
object: buoy
backend: river
table: buoy
key: [reach, number]
fields:
  reach: {type: string}
  number: {type: int}
  colour: {type: string, codes: [red, green]}
  keeper: {type: string, max_length: 4, sensitive: true, required: false}
  words: {type: string, required: false}
  depth: {type: int, required: false}
finders:
  search: {}
  fitting: {unfit: left-out}
  byDepth: {unfit: left-out, order: [depth]}
"""
SERVICE = "service: Buoys\noperations:\n  GetBuoy: {runs: buoy.get}\n  FindBuoys: {runs: buoy.search}\n  FindFitting: {runs: buoy.fitting}\n  FindByDepth: {runs: buoy.byDepth}"
TABLE = ("CREATE TABLE buoy (reach VARCHAR(9), number INTEGER, colour VARCHAR(9), keeper VARCHAR(9), words VARCHAR(20), depth)",
         "INSERT INTO buoy VALUES ('A', 1, 'red', 'ada', 'fine', 1), ('A', 2, 'blue', 'ada', 'fine', 2), ('B', 3, 'green', 'secretive', 'fine', 3),"
         " ('B', 4, 'green', 'bo', 'bell' || char(1), 'deep'), ('B', 5, 'green', 'bo', NULL, x'00')")


@pytest.fixture
async def live(tmp_path: Path, servers: Servers) -> AsyncIterator[LiveService]:
    database = Database("sqlite", tmp_path, servers)
    database.run(*TABLE)
    yield database.publish((OBJECT, SERVICE), "Buoys")
    await database.pool.close()


async def test_a_value_that_breaks_the_contract_names_its_row(live: LiveService) -> None:
    with pytest.raises(ProblemError) as caught:
        await call(live, "FindBuoys", limit=20)
    problem = caught.value.problem
    assert problem.message == "The backend gave a value for colour that the contract does not allow, in the row with reach A and number 2."
    assert (problem.place, problem.found) == ("FindBuoysResponse/buoy[2]/colour", '"blue"')
    with pytest.raises(ProblemError) as caught:
        await call(live, "GetBuoy", reach="B", number=3)
    problem = caught.value.problem
    assert (problem.place, problem.found, "number 3" in problem.message) == ("GetBuoyResponse/buoy/keeper", "a value that is not shown", True)


async def test_a_page_leaves_unfit_rows_out_and_says_which(live: LiveService) -> None:
    first = await call(live, "FindFitting", limit=3)
    assert [one["number"] for one in first["buoy"]] == [1]
    assert first["leftOut"] == {"count": 2, "row": ["reach A and number 2", "reach B and number 3"]}
    assert first["more"]
    rest = await call(live, "FindFitting", limit=3, after=first["after"])
    assert ([one["number"] for one in rest["buoy"]], rest["leftOut"]["count"], rest["more"]) == ([], 2, False)
    assert "leftOut" not in await call(live, "FindFitting", Call(), limit=1)


async def test_a_page_that_ends_with_a_value_nobody_can_order_by_says_so(live: LiveService) -> None:
    """The rows before are told; where the page would go on from a value that has no form, that is no mistake of the service."""
    assert [one["number"] for one in (await call(live, "FindByDepth", limit=3))["buoy"]] == [1]
    with pytest.raises(ProblemError) as caught:
        await call(live, "FindByDepth", limit=4)
    assert caught.value.problem.code == "answer.invalid"
