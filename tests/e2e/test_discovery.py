"""From a table that nobody prepared to an answered SOAP call, on real servers, with the commands of the tutorial."""

import os
import sqlite3
import time
from collections.abc import Iterator
from typing import Any

import pytest
import zeep
from requests import Session
from requests.auth import HTTPBasicAuth
from zeep.transports import Transport

from bricola.client import Client
from bricola.core.problems import ProblemError
from tests import mariadb, postgres
from tests.conftest import Demo, copied_demo, stop_demo
from tests.e2e.test_cli_operations import ok

SHARED = (
    "CREATE TABLE mooring_kind (code VARCHAR(12) PRIMARY KEY, words VARCHAR(40) NOT NULL)",
    "INSERT INTO mooring_kind VALUES ('quay', 'Along a quay'), ('piles', 'Between piles')",
    "CREATE TABLE yard (\"Yard No.\" {serial}, name VARCHAR(60) NOT NULL, kind VARCHAR(12) NOT NULL REFERENCES mooring_kind (code),"
    " status VARCHAR(8) DEFAULT 'open' NOT NULL CHECK (status IN ('open', 'shut')), \"größe m²\" DECIMAL(9,2), opened DATE, changed {moment},"
    " version INTEGER NOT NULL DEFAULT 1{constraint})",
    "INSERT INTO yard (name, kind, \"größe m²\", opened) VALUES ('Wagtail Yard', 'quay', 812.50, '2019-04-01'), ('Otter Yard', 'piles', 97, NULL)",
    "CREATE TABLE slip (yard INTEGER NOT NULL REFERENCES yard (\"Yard No.\"), number SMALLINT NOT NULL, metres DECIMAL(5,2) NOT NULL,"
    " PRIMARY KEY (yard, number){child})",
    "INSERT INTO slip VALUES (1, 1, 12.5), (1, 2, 18)",
    "CREATE TABLE diary (words VARCHAR(200))",
    "CREATE VIEW open_yard AS SELECT * FROM yard WHERE status = 'open'",
)
WORDS = {
    "postgresql": {"serial": "SERIAL PRIMARY KEY", "moment": "TIMESTAMPTZ DEFAULT now()", "constraint": "", "child": ""},
    "mariadb": {"serial": "INTEGER PRIMARY KEY AUTO_INCREMENT", "moment": "DATETIME DEFAULT CURRENT_TIMESTAMP", "child": "", "constraint": ""},
    "sqlite": {"serial": "INTEGER PRIMARY KEY AUTOINCREMENT", "moment": "DATETIME DEFAULT CURRENT_TIMESTAMP", "constraint": "", "child": ""},
}
MORE = {"postgresql": ("COMMENT ON TABLE yard IS 'Boatyards on the canal'", "COMMENT ON COLUMN yard.name IS 'Name over the gate'",
                       "CREATE TYPE mood AS ENUM ('calm', 'rough')", "CREATE TABLE weather (day DATE PRIMARY KEY, mood mood NOT NULL, at_points point[])"),
        "mariadb": ("ALTER TABLE yard COMMENT = 'Boatyards on the canal'", "CREATE TABLE weather (day DATE PRIMARY KEY, mood ENUM('calm', 'rough') NOT NULL,"
                    " at_points POINT)"), "sqlite": ("CREATE TABLE weather (day DATE PRIMARY KEY, mood TEXT NOT NULL CHECK (mood IN ('calm', 'rough')), at_points GEOMETRY)",)}


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "discovery")
    yield running
    stop_demo(running)


@pytest.fixture(scope="module", params=["sqlite", "postgresql", "mariadb"])
def place(request: pytest.FixtureRequest, own: Demo) -> Iterator[str]:
    """A database of the engine with tables that nobody prepared, connected as a backend of rehearsal."""
    engine = request.param
    statements = [*(one.format(**WORDS[engine]) for one in SHARED), *MORE[engine]]
    server: Any = None
    if engine == "sqlite":
        with sqlite3.connect(own.data / "yards.db") as db:
            for one in statements:
                db.execute(one)
        db.close()
        ok(own, "connect", f"yards-{engine}", "rehearsal", "--engine", engine, "--file", "yards.db")
    else:
        module = {"postgresql": postgres, "mariadb": mariadb}[engine]
        if module.find_programs() is None and not os.environ.get("CI"):
            pytest.skip(f"{engine} is not installed: scripts/setup.sh installs it")
        server = postgres.PostgresServer() if engine == "postgresql" else mariadb.MariaServer()
        connection = server.connect()
        with connection.cursor() as cursor:
            for one in statements:
                cursor.execute(one.encode() if engine == "postgresql" else one)
        connection.close()
        ok(own, "credentials", "add", f"yards-{engine}", "--user", "bricola", stdin=f"{postgres.PASSWORD}\n")
        ok(own, "connect", f"yards-{engine}", "rehearsal", "--engine", engine, "--address", server.address, "--database", "registry",
           "--credential", f"yards-{engine}")
    yield engine
    if server is not None:
        server.remove()


def test_an_unprepared_table_answers_after_five_commands(own: Demo, place: str) -> None:
    backend, service = f"yards-{place}", f"Yards{place.capitalize()}"
    listed = ok(own, "discover", "tables", "rehearsal", backend, "yard")
    assert "open_yard" in listed
    assert "a view has no key of its own" in listed
    weather = ok(own, "discover", "object", "rehearsal", backend, "weather", "--object", f"weather-{place}", "--show")
    left_out = "weather.at_points is left out: messages have no type for"
    assert (left_out in weather) is (place != "postgresql")  # whose own text stands for it
    shown = ok(own, "discover", "object", "rehearsal", backend, "yard", "--object", f"other-{place}", "--show")
    assert ("changed of yard: the database does not say in which zone" in shown) is (place != "postgresql")
    told = ok(own, "discover", "object", "rehearsal", backend, "yard", "--object", f"other-{place}", "--zone", "utc", "--show")
    assert ("zone: utc" in told, "in which zone" in told) == (place != "postgresql", False)
    ok(own, "discover", "object", "rehearsal", backend, "yard", "--service", service, "--role", "auditor", "--object", f"yard-{place}", "--child", "slip",
       "--operations", "get,find,create,update,delete")
    ok(own, "release", service)
    ok(own, "deploy", service, "rehearsal")
    record = f"Yard{place.capitalize()}"
    assert "Wagtail Yard" in ok(own, "call", "rehearsal", service, f"Get{record}", "--sample", "--compare")
    session = Session()
    session.auth = HTTPBasicAuth("toll-audit", own.token("toll-audit"))
    client = zeep.Client(f"{own.url}/soap/rehearsal/{service}?wsdl", transport=Transport(session=session)).service
    item = record[0].lower() + record[1:]
    yard = getattr(client, f"Get{record}")(yardNo=1)
    assert (yard.name, str(yard.groesseM2), yard.status, [one.number for one in yard.slips.slip]) == ("Wagtail Yard", "812.50", "open", [1, 2])
    made = getattr(client, f"Create{record}")(**{item: {"name": "Tern Yard", "kind": "quay", "slips": {"slip": [{"number": 7, "metres": "9.5"}]}}})
    read = getattr(client, f"Get{record}")(yardNo=made.yardNo)
    assert (read.status, read.groesseM2, read.slips.slip[0].metres) == ("open", None, read.slips.slip[0].metres)
    assert getattr(client, f"Find{record}s")(nameContains="tern", kind="quay", status="open")[item][0].yardNo == made.yardNo
    getattr(client, f"Delete{record}")(yardNo=made.yardNo, changeToken=made.changeToken)
    with pytest.raises(zeep.exceptions.Fault, match="kind"):
        getattr(client, f"Create{record}")(**{item: {"name": "X", "kind": "jetty"}})


def test_types_keys_codes_and_obstacles_are_told(own: Demo, place: str) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        yard = client.table("rehearsal", f"yards-{place}", "yard")
        columns = {one["name"]: one for one in yard["columns"]}
        assert (yard["rows"], yard["exact"], yard["key"], yard["key_from"]) == (2, True, ["Yard No."], "primary key")
        assert (columns["Yard No."]["made"], columns["changed"]["filled"], columns["version"]["default"]) == (True, True, "1")
        assert columns["kind"]["codes"] == []  # rows of a lookup table are data
        assert (columns["status"]["codes"], columns["status"]["codes_from"], columns["status"]["default"]) == (["open", "shut"], "check constraint", "open")
        assert (columns["größe m²"]["type"], columns["opened"]["type"], columns["changed"]["type"]) == ("decimal", "date", "dateTime")
        assert [(one["table"], one["columns"]) for one in yard["children"]] == [("slip", ["yard"])]
        if place != "sqlite":
            assert yard["comment"] == "Boatyards on the canal"
        weather = {one["name"]: one for one in client.table("rehearsal", f"yards-{place}", "weather")["columns"]}
        # What messages have no type for is the server's own text where it has one.
        assert (weather["mood"]["codes"], weather["at_points"]["type"]) == (["calm", "rough"], "string" if place == "postgresql" else "")
        made = client.draft_object("rehearsal", f"yards-{place}", "yard", name="other")["files"]["objects/other.yaml"]
        assert "change_token: version" in made
        number = "long" if place == "sqlite" else "int"
        assert f"yardNo: {{type: {number}, label: Yard no, sample: '1', column: Yard No., read_only: true}}" in made
        assert "label: Groesse m 2" in made
        with pytest.raises(ProblemError, match="no key"):
            client.draft_object("rehearsal", f"yards-{place}", "diary")
        with pytest.raises(ProblemError, match="is a view"):
            client.draft_object("rehearsal", f"yards-{place}", "open_yard", key=["Yard No."], operations=["get", "create"])
        view = client.draft_object("rehearsal", f"yards-{place}", "open_yard", key=["Yard No."], operations=["get"])
        assert "key: [yardNo]" in view["files"]["objects/open-yard.yaml"]
        with pytest.raises(ProblemError, match="There is no table"):
            client.table("rehearsal", f"yards-{place}", "yards")


@pytest.mark.parametrize("place", ["mariadb"], indirect=True)
def test_the_way_to_mariadb_is_checked_stage_by_stage(own: Demo, place: str) -> None:
    checked = own.run("check", "rehearsal", "yards-mariadb")
    assert checked.returncode == 0, checked.stdout
    assert "as bricola" in checked.stdout
    ok(own, "credentials", "rotate", "yards-mariadb", "--user", "bricola", "--overlap", "0", stdin="wrong\n")
    refused = own.run("check", "rehearsal", "yards-mariadb")
    assert refused.returncode == 1
    assert "refused the sign-on" in refused.stdout
    ok(own, "credentials", "rotate", "yards-mariadb", "--user", "bricola", stdin=f"{postgres.PASSWORD}\n")
    ok(own, "check", "rehearsal", "yards-mariadb")


@pytest.mark.parametrize("place", ["mariadb"], indirect=True)
def test_a_rotated_secret_is_used_at_once(own: Demo, place: str) -> None:
    """While the breaker leaves the endpoint alone: the change itself is the sign to ask again, and not the end of a pause."""
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        ok(own, "credentials", "rotate", "yards-mariadb", "--user", "bricola", "--overlap", "0", stdin="wrong\n")
        client.act_on_pool("rehearsal", "yards-mariadb", "recycle")
        deadline = time.monotonic() + 60
        while client.pool("rehearsal", "yards-mariadb")["state"] != "faulting":
            assert time.monotonic() < deadline
            own.run("call", "rehearsal", "YardsMariadb", "GetYardMariadb", "yardNo=1")
        (end,) = client.pool("rehearsal", "yards-mariadb")["endpoints"]
        assert (end["circuit"], "refused" in end["reason"].lower() or "denied" in end["reason"].lower()) == ("open", True)
        ok(own, "credentials", "rotate", "yards-mariadb", "--user", "bricola", stdin=f"{postgres.PASSWORD}\n")
        assert "Wagtail Yard" in ok(own, "call", "rehearsal", "YardsMariadb", "GetYardMariadb", "yardNo=1")
        assert client.pool("rehearsal", "yards-mariadb")["state"] == "serving"
