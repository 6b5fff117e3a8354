"""Context by name: an environment says the company as people call it, and the operation gets the number that stands for it."""

import contextlib
import sqlite3
from collections.abc import Iterator
from typing import Any

import pytest

from bricola.client import Client, ProblemError
from tests.serving import serving

DEFINITIONS = {
    "backends/river.yaml": "backend: river\nengine: sqlite\n",
    "objects/weir.yaml": """object: weir
backend: river
table: weir
key: id
fields:
  - {name: id, type: int}
  - {name: name, type: string}
  - {name: company, type: int}
finders:
  search: {filters: {company: {field: company}}}
""",
    "objects/company.yaml": """object: company
backend: river
table: company
key: id
fields:
  - {name: id, type: int}
  - {name: title, type: string}
""",
    "contexts/company.yaml": """context-list: company
feed: {object: company, name: title, value: id}
values: {Ashbeck: '7'}
""",
    "services/Weirs.yaml": """service: Weirs
namespace: urn:weirs
access: {all: all}
operations:
  FindWeirs:
    runs: weir.search
    input:
      company: {given: context, value: company}
""",
}
TRIAL = "environment: trial\nanonymous: [Weirs]\nbackends:\n  river: {file: river.db}\ncontext: {company: Ashbeck}\n"


@pytest.fixture
def admin(tmp_path: Any) -> Iterator[Client]:
    with serving(tmp_path / "data") as served, served.client() as admin:
        with contextlib.closing(sqlite3.connect(served.data / "river.db")) as db:
            db.executescript("CREATE TABLE company (id INTEGER PRIMARY KEY, title TEXT);"
                             "CREATE TABLE weir (id INTEGER PRIMARY KEY, name TEXT, company INTEGER);"
                             "INSERT INTO company VALUES (7, 'Ashbeck'), (8, 'Thornmill'), (9, NULL);"
                             "INSERT INTO weir VALUES (1, 'North', 7), (2, 'South', 8)")
        admin.apply(DEFINITIONS | {"environments/trial.yaml": TRIAL})
        admin.release("Weirs")
        admin.deploy("Weirs", "trial")
        yield admin


def found(admin: Client) -> list[str]:
    answer: Any = admin.call("trial", "Weirs", "FindWeirs")["answer"]
    return [one["name"] for one in answer["weir"]]


def test_a_name_stands_for_its_number_and_a_change_is_in_effect_at_once(admin: Client) -> None:
    assert found(admin) == ["North"]
    admin.apply({"contexts/company.yaml": DEFINITIONS["contexts/company.yaml"].replace("'7'", "'8'")})
    assert found(admin) == ["South"]


def test_a_name_that_is_in_no_list_is_refused_with_what_is_near(admin: Client) -> None:
    with pytest.raises(ProblemError) as error:
        admin.apply({"environments/trial.yaml": TRIAL.replace("Ashbeck", '"Ashbek"')})
    told = error.value.problems[0]
    assert (told.code, told.place, told.found) == ("context.name", "environment trial, context, company", '"Ashbek"')
    assert "Ashbeck" in (told.mend or "")
    assert found(admin) == ["North"]


def test_a_list_is_taken_from_its_table(admin: Client) -> None:
    plan = admin.take_context("company", "trial", plan_only=True)
    assert any("Thornmill" in line[-1] for one in plan["changes"] for line in one["lines"])
    admin.take_context("company", "trial")
    admin.apply({"environments/trial.yaml": TRIAL.replace("Ashbeck", "Thornmill")})
    assert found(admin) == ["South"]
    again = admin.take_context("company", "trial", plan_only=True)
    assert [one["action"] for one in again["changes"]] == ["unchanged"]


def test_an_account_of_another_company_never_serves(admin: Client) -> None:
    elsewhere = TRIAL.replace("{file: river.db}", "{file: river.db, context: {company: Thornmill}}")
    with pytest.raises(ProblemError) as error:
        admin.apply({"environments/trial.yaml": elsewhere})  # it would be in effect at once
    told = error.value.problems[0]
    assert (told.code, told.expected, told.found) == ("context.pool", '"Ashbeck"', '"Thornmill"')
    assert found(admin) == ["North"]


def test_a_list_without_a_table_and_a_list_that_there_is_not_are_told(admin: Client) -> None:
    admin.apply({"contexts/site.yaml": "context-list: site\nvalues: {North: N}\n"})
    for name, code in (("site", "context.feed"), ("sight", "context-list.unknown")):
        with pytest.raises(ProblemError) as error:
            admin.take_context(name, "trial")
        assert error.value.problems[0].code == code
