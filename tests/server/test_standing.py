"""Before a deployment, the backends themselves are asked what they make of it: on three engines, with everything that they refuse."""

import contextlib
import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from bricola.client import Client, ProblemError
from tests.core.databases import Servers
from tests.postgres import PASSWORD
from tests.serving import Served, serving

ENGINES = ("sqlite", "postgresql", "mariadb")
TABLES = ("CREATE TABLE weir (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, height DECIMAL(6,2))",
          "CREATE TABLE gate (weir INTEGER NOT NULL REFERENCES weir (id), number INTEGER NOT NULL, word VARCHAR(10), PRIMARY KEY (weir, number))",
          "INSERT INTO weir VALUES (1, 'North', 2.5)")
OBJECT = """object: weir
backend: BACKEND
table: weir
key: id
fields:
  - {name: id, type: int}
  - {name: name, type: string}
  - {name: height, type: decimal}
"""
SERVICE = "service: NAME\nnamespace: urn:weir:NAME\naccess: {all: all}\noperations:\n"


@pytest.fixture(scope="module")
def servers() -> Iterator[Servers]:
    found = Servers()
    yield found
    found.close()


@dataclass
class River:
    """A service with a backend of one engine, and what runs a statement past it."""

    admin: Client
    engine: str
    run: Callable[[str], None]
    binding: dict[str, str]


@pytest.fixture(params=ENGINES)
def river(request: pytest.FixtureRequest, servers: Servers, tmp_path: Any) -> Iterator[River]:
    engine: str = request.param
    with serving(tmp_path / "data") as served, served.client() as admin:
        admin.apply({"environments/trial.yaml": "environment: trial\n"})
        found = _river(admin, served, servers, engine)
        for one in TABLES:
            found.run(one)
        yield found


def _river(admin: Client, served: Served, servers: Servers, engine: str) -> River:
    if engine == "sqlite":
        def run(sql: str) -> None:
            with contextlib.closing(sqlite3.connect(served.data / "river.db")) as db:
                db.execute(sql)
                db.commit()

        run("CREATE TABLE other (x)")
        binding = {"file": "river.db"}
    else:
        server = servers.get(engine)

        def run(sql: str) -> None:
            connection = server.connect()
            with connection.cursor() as cursor:
                cursor.execute(sql)
            connection.close()

        run("DROP TABLE IF EXISTS gate")
        run("DROP TABLE IF EXISTS weir")

        admin.add_credential("river", PASSWORD, user="bricola")
        binding = {"address": server.address, "database": "registry", "credential": "river"}
    admin.connect_backend("river", "trial", engine, binding)
    return River(admin, engine, run, binding)


def apply(admin: Client, definition: str, operations: str, name: str = "Weirs") -> None:
    kind = definition.partition(": ")[0]
    admin.apply({f"{kind}.yaml": definition.replace("BACKEND", "river"), f"{name}.yaml": SERVICE.replace("NAME", name) + operations})


def refusal(admin: Client, name: str = "Weirs") -> list[dict[str, Any]]:
    """What the deployment of the draft says; it must not come about. The review says the same."""
    admin.release(name)
    with pytest.raises(ProblemError) as error:
        admin.deploy(name, "trial")
    told = [one.as_dict() for one in error.value.problems]
    reviewed = [one for one in admin.review(name, "trial") if one["code"] == "backend.unfit"]
    assert [one["message"] for one in reviewed] == [one["message"] for one in told if one["code"] == "backend.unfit"]
    return told


GET = "  - {name: GetWeir, runs: weir.get}\n"


def test_what_fits_is_deployed_and_says_when_the_backend_was_seen(river: River) -> None:
    admin, run = river.admin, river.run
    apply(admin, OBJECT, GET + "  - {name: CreateWeir, runs: weir.create}\n  - {name: UpdateWeir, runs: weir.update}\n"
                         "  - {name: SaveWeir, runs: weir.save}\n  - {name: DeleteWeir, runs: weir.delete}\n")
    assert admin.uses("Weirs", "trial") == [{"backend": "river", "state": "not started", "seen": None}]
    admin.release("Weirs")
    admin.deploy("Weirs", "trial")
    assert admin.uses("Weirs", "trial")[0]["seen"]
    told = [one for one in admin.review("Weirs", "trial") if one["code"] == "credential.administrator"]
    assert len(told) == (river.engine != "sqlite")  # the users of the tests' servers are their administrators
    if told:
        assert {"postgresql": "SUPERUSER", "mariadb": "CREATE USER"}[river.engine] in told[0]["found"]
        assert "GRANT SELECT, INSERT, UPDATE, DELETE ON weir TO" in told[0]["mend"].replace('"', "")
    run("DROP TABLE gate")
    run("ALTER TABLE weir DROP COLUMN height")  # it went behind our back
    found = [one for one in admin.review("Weirs", "trial") if one["severity"] == "error"]
    assert [one["code"] for one in found] == ["backend.unfit"]
    assert "height" in found[0]["found"]
    assert found[0]["place"] == "object weir"


def test_a_type_that_the_column_does_not_have_never_deploys(river: River) -> None:
    admin = river.admin
    apply(admin, OBJECT.replace("name: name, type: string", "name: name, type: int"), GET)
    told = refusal(admin)
    assert [(one["code"], one["place"], one["expected"], one["found"]) for one in told] == [
        ("backend.unfit", "object weir, fields, name", "a column that holds int", "string")]
    apply(admin, OBJECT, GET)  # and what could not be deployed is nothing that a correction breaks
    admin.release("Weirs")
    admin.deploy("Weirs", "trial")


def test_a_query_that_the_database_does_not_take_never_deploys(river: River) -> None:
    admin = river.admin
    query = """query: heights
backend: BACKEND
select: SELECT name AS name, height AS height FROM weir WHERE height > :least AND WRONG
prompts: [{name: least, type: decimal}]
columns: [{name: name, type: string}, {name: height, type: decimal}]
key: name
"""
    operation = "  - {name: Heights, runs: query heights}\n"
    apply(admin, query.replace("WRONG", "weight = 1"), operation, "Heights")
    assert [one["place"] for one in refusal(admin, "Heights") if one["code"] == "backend.unfit"] == ["query heights"]
    apply(admin, query.replace(" AND WRONG", "").replace("name: name, type: string", "name: name, type: date")
          .replace("name: height, type: decimal", "name: height, type: boolean"), operation, "Heights")
    wrong = [one["place"] for one in refusal(admin, "Heights")]
    assert wrong == ["query heights, columns, height"]  # a text may hold a date; each value is looked at when it comes


@pytest.mark.parametrize("river", ["postgresql", "mariadb"], indirect=True)
def test_a_user_who_may_not_write_is_told_before_the_first_write(river: River) -> None:
    admin, engine, run = river.admin, river.engine, river.run
    word = "'lock-gate-18'"
    run(f"CREATE USER reader {'PASSWORD' if engine == 'postgresql' else 'IDENTIFIED BY'} {word}")
    try:
        run("GRANT SELECT ON weir TO reader")
        admin.add_credential("reader", "lock-gate-18", user="reader")
        as_reader = "".join(f"      {name}: {value}\n" for name, value in {**river.binding, "credential": "reader"}.items())
        admin.apply({"environments/trial.yaml": f"environment: trial\nbackends:\n  river:\n{as_reader}"})
        apply(admin, OBJECT, GET)
        admin.release("Weirs")
        admin.deploy("Weirs", "trial")
        apply(admin, OBJECT, GET + "  - {name: SaveWeir, runs: weir.save}\n  - {name: DeleteWeir, runs: weir.delete}\n")
        assert not [one for one in admin.review("Weirs", "trial") if one["code"] == "credential.administrator"]
        said = {one["message"] for one in refusal(admin)}
        acts = ("lock rows of it", "make rows of it", "change rows of it", "remove rows of it")
        assert said <= {f"The user of river there may not {act}." for act in acts}
        assert len(said) >= 3
    finally:
        run("REVOKE ALL ON weir FROM reader" if engine == "postgresql" else "SELECT 1")
        run("DROP USER reader")
