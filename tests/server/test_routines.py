"""Procedures and functions of both servers, as integrators and callers meet them: found, drafted, deployed, called, changed below."""

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
import zeep

from bricola.client import Client, ProblemError
from tests.commands import run_command
from tests.core.databases import Servers
from tests.core.routines import MARKS, ROUTINES, ROWS
from tests.postgres import PASSWORD
from tests.serving import Served, serving


@pytest.fixture(scope="module")
def servers() -> Iterator[Servers]:
    found = Servers()
    yield found
    found.close()


@dataclass
class River:
    served: Served
    admin: Client
    engine: str
    server: Any
    home: Path

    def run(self, *statements: str) -> list[Any]:
        """Past Bricola; the rows of the last one."""
        connection = self.server.connect()
        try:
            with connection.cursor() as cursor:
                for one in statements:
                    cursor.execute(one)
                return list(cursor.fetchall()) if cursor.description else []
        finally:
            connection.close()

    def command(self, *words: str, status: int = 0) -> str:
        environ = {"BRICOLA_TOKEN": Client(self.served.url).sign_in("imke", self.served.password), "HOME": str(self.home), "NO_COLOR": "1", "COLUMNS": "160"}
        done = run_command((*words, "--at", self.served.url), environ)
        assert done.returncode == status, done.stdout + done.stderr
        return done.stdout + done.stderr


@pytest.fixture(params=ROUTINES)
def river(request: pytest.FixtureRequest, servers: Servers, tmp_path: Path) -> Iterator[River]:
    engine: str = request.param
    server = servers.get(engine)
    with serving(tmp_path / "data") as served, served.client() as admin:
        found = River(served, admin, engine, server, tmp_path)
        empty = ("DROP SCHEMA public CASCADE", "CREATE SCHEMA public") if engine == "postgresql" else (
            "DROP DATABASE registry", "CREATE DATABASE registry COLLATE utf8mb4_bin", "USE registry")
        found.run(*empty, *ROUTINES[engine], *ROWS, MARKS)
        admin.save_caller("desk", roles=["all"])
        admin.add_credential("river", PASSWORD, user="bricola")
        admin.apply({"environments/trial.yaml": "environment: trial\n"})
        admin.connect_backend("river", "trial", engine, {"address": server.address, "database": "registry", "credential": "river"})
        yield found


def publish(river: River, routine: str, service: str, **said: Any) -> None:
    river.admin.draft_routine("trial", "river", routine, service=service, roles=["all"], save=True, **said)
    river.admin.release(service)
    river.admin.deploy(service, "trial")


def test_found_beside_tables_drafted_and_called(river: River) -> None:
    told = river.command("discover", "routines", "trial", "river", "toll")
    assert "quote_toll" in told
    assert "p_lock, p_tons, p_reduced" in told
    assert "raise_rate" not in told
    assert "1 routine that mentions it" in river.command("discover", "tables", "trial", "river", "p_steps")
    told = river.command("discover", "routine", "trial", "river", "quote_toll")
    assert "What a passage of a lock costs" in told
    assert "declared to read only" in told
    assert "saved routines/quote-toll.yaml" in river.command(
        "discover", "operation", "trial", "river", "quote_toll", "--service", "Tolls", "--role", "all")
    assert not river.admin.routine("trial", "river", "quote_toll")["serving"]  # a draft is nothing that answers
    river.admin.release("Tolls")
    river.admin.deploy("Tolls", "trial")
    assert river.admin.routine("trial", "river", "quote_toll")["serving"]
    values = {"lock": "LM02", "tons": "2.00", "reduced": True}
    assert river.admin.call("trial", "Tolls", "QuoteToll", values)["answer"] == {"result": "49.50"}
    transport = zeep.Transport()
    transport.session.headers["Authorization"] = f"Bearer {river.admin.new_token('desk')}"
    peer = zeep.Client(f"{river.served.url}/soap/trial/Tolls?wsdl", transport=transport)
    assert str(peer.service.QuoteToll(lock="LM02", tons="2.00", reduced=True)) == "49.50"
    assert "● routine quote-toll, in Tolls" in river.command("discover", "routines", "trial", "river", "quote")


def test_rows_are_seen_by_trying_it_once(river: River) -> None:
    told = river.command("discover", "operation", "trial", "river", "lock_sheet", "--show")
    assert "--try PARAMETER=VALUE" in told
    refused = river.command("discover", "operation", "trial", "river", "lock_sheet", "--try", "p_lock=LM01", status=1)
    assert "Say --yes" in refused
    river.command("discover", "operation", "trial", "river", "lock_sheet", "--try", "p_lock=LM01", "--yes", "--service", "Sheets",
                  "--role", "all")
    river.admin.release("Sheets")
    river.admin.deploy("Sheets", "trial")
    answer = river.admin.call("trial", "Sheets", "LockSheet", {"lock": "LM01"})["answer"]
    assert answer["row1"] == [{"lock": "LM01", "rate": "1.25"}]
    assert [one["number"] for one in answer["row2"]] == [1, 2]
    with pytest.raises(ProblemError, match="no such parameter"):
        river.admin.draft_routine("trial", "river", "lock_sheet", try_with={"p_loch": "LM01"})


def test_a_write_is_tried_repeated_and_checked_like_any_other(river: River) -> None:
    bound = {"address": river.server.address, "database": "registry", "credential": "river"}
    text = json.dumps({"environment": "trial", "backends": {"river": bound | {"requests": "marks"}}})
    river.admin.apply({"environments/trial.yaml": text})
    publish(river, "raise_rate", "Rates")
    values = {"lock": "LM01", "by": "1.00", "steps": 1}
    tried = river.admin.call("trial", "Rates", "RaiseRate", values, trial=True)
    assert tried["answer"]["rate"] == "2.25"
    assert "called" in tried["response"]
    assert str(river.run("SELECT rate FROM tariff ORDER BY rate")[0][0]) == "1.25"
    for _ in range(2):
        reply = river.admin.call("trial", "Rates", "RaiseRate", values, request_id="raise-1")
        assert reply["answer"]["rate"] == "2.25"
    assert str(river.run("SELECT rate FROM tariff ORDER BY rate")[0][0]) == "2.25"
    stages = {one["stage"]: one for one in river.admin.check("trial", "river")[0]["stages"]}
    assert all(one["outcome"] in ("passed", "skipped") for one in stages.values())
    assert stages["allowed"]["detail"] == "may call 1 routine"
    assert stages["sample read"]["detail"] == "routines are not tried"
    told = [one for one in river.admin.review("Rates", "trial") if one["code"] == "credential.administrator"]
    assert 'GRANT EXECUTE ON PROCEDURE "raise_rate"' in told[0]["mend"]


def test_a_parameter_that_changes_below_is_told_before_it_hurts(river: River) -> None:
    path = "routines/quote-toll.yaml"
    text = river.admin.draft_routine("trial", "river", "quote_toll")["files"][path]
    publish(river, "quote_toll", "Tolls")
    assert "All of it fits" in river.command("impact", "river", "--in", "trial")
    change = {"postgresql": "CREATE FUNCTION quote_toll(p_lock text, p_weight numeric, p_reduced boolean DEFAULT false) RETURNS numeric"
                            " LANGUAGE sql AS $$ SELECT 1.0 $$",
              "mariadb": "CREATE FUNCTION quote_toll(p_lock varchar(8), p_weight decimal(9,2), p_reduced boolean) RETURNS decimal(9,2)"
                         " RETURN 1"}[river.engine]
    river.run("DROP FUNCTION quote_toll", change)
    told = river.command("impact", "routine quote-toll", "--in", "trial", status=1)
    assert "Tolls" in told
    assert "QuoteToll" in told
    assert "p_tons" in told
    assert "p_weight" in told
    assert {one["place"] for one in river.admin.review("Tolls", "trial") if one["code"] == "backend.unfit"} == {
        "routine quote-toll, parameters, p_tons", "routine quote-toll, parameters, p_weight"}
    river.admin.apply({path: text.replace("What a passage", "What each passage").replace("label: Lock", "label: Lock of the toll")})
    river.admin.release("Tolls")
    with pytest.raises(ProblemError) as refused:
        river.admin.deploy("Tolls", "trial")
    assert "p_weight" in "".join(one.sentence() for one in refused.value.problems)
    assert "says something else" in river.command("discover", "routines", "trial", "river", "quote")
    told = river.command("discover", "renew", "trial", "quote-toll", "--show")
    assert "no such parameter" in told
    assert "Tolls.QuoteToll by routine quote-toll" in told
    assert "weight: {type: decimal" in told
    began = river.admin.renew_routine("quote-toll", "trial")
    assert (began["saved"], began["problems"], began["open_zones"]) == (False, [], [])
    river.command("discover", "renew", "trial", "quote-toll", status=1)  # nobody is there to be asked
    assert "saved routines/quote-toll.yaml" in river.command("discover", "renew", "trial", "quote-toll", "--yes")
    assert "says what the routine is" in river.command("discover", "renew", "trial", "quote-toll")
    newer = river.admin.export()[path]
    assert "What each passage" in newer
    assert "label: Lock of the toll" in newer
    assert "tons" not in newer
    assert "All of it fits" in river.command("impact", "routine quote-toll", "--in", "trial")
    river.run("DROP FUNCTION quote_toll")
    stages = {one["stage"]: one for one in river.admin.check("trial", "river")[0]["stages"]}
    assert stages["allowed"]["problem"]["message"] == "There is no routine quote_toll that this user may call."
    assert "There is no such routine" in river.command("impact", "river", "--in", "trial", status=1)


def test_what_cannot_be_carried_is_named(river: River) -> None:
    more = {"postgresql": ["CREATE FUNCTION sum_of(VARIADIC p_all numeric[]) RETURNS numeric LANGUAGE sql AS $$ SELECT 1.0 $$",
                           "CREATE FUNCTION any_of(p_one anyelement) RETURNS anyelement LANGUAGE sql AS $$ SELECT p_one $$",
                           "CREATE FUNCTION loose() RETURNS SETOF record LANGUAGE sql AS $$ SELECT 1, 2 $$"],
            "mariadb": ["CREATE PROCEDURE at_point(p_spot point) SELECT 1"]}[river.engine]
    river.run(*more)
    reasons = {one["name"]: one["reasons"] for one in river.admin.routines("trial", "river") if one["reasons"]}
    assert set(reasons) == ({"sum_of", "any_of", "loose"} if river.engine == "postgresql" else {"at_point"})
    for name in reasons:
        with pytest.raises(ProblemError, match="cannot be published"):
            river.admin.draft_routine("trial", "river", name)
    with pytest.raises(ProblemError, match="quote_toll"):
        river.admin.draft_routine("trial", "river", "quote_tol")


def test_moments_without_a_zone_are_asked_about_wherever_they_stand(river: River) -> None:
    said = {"try_with": {"p_lock": "LM01"}}
    assert river.admin.draft_routine("trial", "river", "passages", **said)["open_zones"] == ["passed"]
    made = river.admin.draft_routine("trial", "river", "passages", zone="utc", **said)
    assert made["open_zones"] == []
    assert "zone: utc" in made["files"]["routines/passages.yaml"]


def test_one_of_several_of_a_name_is_told_by_its_parameters(river: River) -> None:
    if river.engine == "mariadb":
        pytest.skip("it has one routine of a name")
    river.run("CREATE FUNCTION quote_toll(p_lock text) RETURNS numeric STABLE LANGUAGE sql AS $$ SELECT 7.50 $$")
    with pytest.raises(ProblemError, match="Several routines"):
        river.admin.draft_routine("trial", "river", "quote_toll")
    publish(river, "quote_toll", "Flat", signature="p_lock text", name="flat-toll")
    publish(river, "quote_toll", "Tolls", signature="p_lock text, p_tons numeric, p_reduced boolean")
    assert river.admin.call("trial", "Flat", "FlatToll", {"lock": "LM02"})["answer"] == {"result": "7.50"}
    assert river.admin.call("trial", "Tolls", "QuoteToll", {"lock": "LM02", "tons": "2"})["answer"] == {"result": "99.00"}
    used = {one["signature"]: one["used"] for one in river.admin.routines("trial", "river", "quote_toll")}
    assert used["p_lock text"] == ["routine flat-toll, in Flat"]
