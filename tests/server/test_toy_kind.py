"""A kind of source that is registered from outside: with one value it is read, resolved, compiled, probed, reviewed, listed, published
and called, and nothing else was told of it. What CONTRIBUTING.md promises of a new kind is proved here."""

import sqlite3
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import ClassVar

import pytest
from fastapi import APIRouter

from bricola.client import ProblemError, ServiceClient
from bricola.core.calls.call import Call
from bricola.core.definitions.base import Definition, Name
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.definitions.runs import RunsForm
from bricola.core.kinds.kind import Compiled, Entry, Pools, Probe, ResolvedOperation, SourceKind, Subject
from bricola.core.kinds.registry import register, unregister
from bricola.core.problems import Kind, Problem
from bricola.core.problems import ProblemError as CoreProblem
from bricola.core.review.page import write_page
from bricola.core.shapes.forms import Form
from bricola.core.shapes.model import Element, OperationShape, Record, Values
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.sessions import read
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.registry import SERVERS
from tests.serving import serving

RULES = Rules(Rule("tide-gauge.dry", Area.SERVICE, Severity.WARNING, "A gauge below the river's bed measures nothing."))


class TideGauge(Definition):
    """A place where the height of the water is measured; `datum` is added to what stands in the book of the gauges."""

    kind: ClassVar[str] = "tide-gauge"
    name: Name
    backend: str
    datum: Decimal = Decimal(0)


def _resolve(operation: Operation, gauge: TideGauge, catalogue: Catalogue, place: str, form: Form) -> ResolvedOperation:
    shape = OperationShape(operation.name, Record("", (Element("day", SimpleType("date")),)),
                           Record("", (Element("height", SimpleType("decimal")),)), description="The height of the water")
    return ResolvedOperation(shape, TIDE_GAUGES, gauge, operation.verb, (gauge.backend,))


def _compile(operation: ResolvedOperation, environment: EnvironmentDefinition, pools: Pools) -> Compiled:
    gauge: TideGauge = operation.source

    async def handle(call: Call, given: Values) -> Values:
        rows = await read(pools[gauge.backend], call, "SELECT centimetres FROM height WHERE day = ?", [given["day"]])
        if not rows:
            raise CoreProblem(Problem("tide-gauge.no-height", "Nothing was measured on that day.", Kind.MISSING, place="day"))
        return {"height": Decimal(rows[0][0]) / 100 + gauge.datum}

    return Compiled(handle)


def _findings(subject: Subject) -> Iterator[Finding]:
    for gauge, _ in subject.sources(TideGauge):
        if gauge.datum < 0:
            yield RULES.finding("tide-gauge.dry", "The gauge is below the river's bed.", f"tide-gauge {gauge.name}, datum",
                                found=str(gauge.datum))


TIDE_GAUGES = SourceKind(
    title="tide gauge", model=TideGauge, runs=RunsForm(default="height"), backends=lambda gauge, catalogue: (gauge.backend,),
    resolve=_resolve, compile=_compile, runs_on=Family.DATABASE, rules=RULES, findings=_findings,
    probes=lambda operation: (Probe(operation.source.backend, "SELECT centimetres FROM height WHERE 1 = 0"),),
    entry=Entry("tide gauges", "heights of the water", "/tide-gauges"),
)

ROUTER = APIRouter()


@ROUTER.get("/tide-gauges")
async def list_gauges() -> list[str]:
    return ["lock9"]


FILES = {
    "lock9.yaml": "tide-gauge: lock9\nbackend: gauges\ndatum: -0.25\n",
    "gauges.yaml": "backend: gauges\nengine: sqlite\n",
    "Tides.yaml": "service: Tides\ndescription: Tides\nowner: Harbour office\nnamespace: urn:larkmere:tides\n"
                  "access: {reader: all}\noperations:\n  GetHeight: {runs: tide-gauge lock9}\n",
    "live.yaml": "environment: live\nbackends:\n  gauges: {file: gauges.db}\n",
}


@pytest.fixture
def toy() -> Iterator[KindServer]:
    register(TIDE_GAUGES)
    yield KindServer(TIDE_GAUGES, (ROUTER,), nothing_beside=("The height is worked out.", ""))
    unregister("tide-gauge")


def _measure(file: Path, table: str) -> None:
    with sqlite3.connect(file) as db:
        db.execute(f"CREATE TABLE {table} (day TEXT PRIMARY KEY, centimetres INTEGER)")
        db.execute(f"INSERT INTO {table} VALUES ('2026-11-02', 318)")
    db.close()


def test_a_kind_from_outside_is_published_and_called(tmp_path: Path, toy: KindServer) -> None:
    _measure(tmp_path / "gauges.db", "heights")
    with serving(tmp_path, [*SERVERS, toy]) as served, served.client() as client:
        entry = next(one for one in client.kinds() if one["kind"] == "tide-gauge")
        assert entry == {"kind": "tide-gauge", "title": "tide gauge", "plural": "tide gauges", "words": "heights of the water",
                         "page": "/tide-gauges", "runs": "tide-gauge name"}
        assert served.http("/api/v1").get("/tide-gauges").json() == ["lock9"]
        client.apply(FILES)
        assert "tide-gauge: lock9\n" in client.export()["lock9.yaml"]
        assert [one["found"] for one in client.review("Tides", "live")
                if one["code"] == "tide-gauge.dry"] == ["-0.25"]
        hosts = client.overview()["environments"][0]["hosts"]
        assert {"what": "kind", "word": "tide-gauge", "title": "tide gauge", "able": True, "reason": ""} in hosts
        client.release("Tides")

        with pytest.raises(ProblemError, match="gauges does not have what it asks for"):  # the probe looks before anything goes live
            client.deploy("Tides", "live")
        (tmp_path / "gauges.db").unlink()
        _measure(tmp_path / "gauges.db", "height")
        client.deploy("Tides", "live")
        client.save_caller("pilots", ["reader"])
        token = client.new_token("pilots")

        row = client.overview()["services"][0]
        assert (row["sources"], row["backends"]) == ([{"kind": "tide-gauge", "name": "lock9"}], ["gauges"])
        operation = client.operations("Tides", "live")[0]
        assert (operation["source"], operation["verb"]) == ({"kind": "tide-gauge", "name": "lock9"}, "height")
        with ServiceClient(f"{served.url}/rest/live/Tides", token) as tides:
            assert tides.call("GetHeight", day="2026-11-02") == {"height": "2.93"}
            with pytest.raises(ProblemError, match="Nothing was measured"):
                tides.call("GetHeight", day="2026-11-03")
        assert [(one["operation"], one["result"]) for one in client.calls()] == [("GetHeight", "failed"), ("GetHeight", "answered")]


def test_it_is_on_the_page_of_findings_and_gone_when_it_is_taken_out(toy: KindServer) -> None:
    assert "tide-gauge.dry" in write_page()
    unregister("tide-gauge")
    assert "tide-gauge.dry" not in write_page()
