"""Many tables at once by a rule: the plan, what it makes, and the same again when tables were added."""

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from bricola.client import ProblemError
from tests.serving import Served, serving

TABLES = """
CREATE TABLE toll_class (code CHAR(2) PRIMARY KEY, name TEXT NOT NULL, created_by TEXT);
CREATE TABLE toll_rate (class CHAR(2) NOT NULL REFERENCES toll_class, year INT NOT NULL, amount DECIMAL(8,2), created_by TEXT,
 PRIMARY KEY (class, year));
CREATE TABLE toll_note (words TEXT);
CREATE TABLE crew (id INTEGER PRIMARY KEY, name TEXT);
CREATE VIEW toll_names AS SELECT code, name FROM toll_class;
INSERT INTO toll_class VALUES ('AA', 'barge', 'x');
INSERT INTO toll_rate VALUES ('AA', 2026, 12.5, 'x');
"""


@pytest.fixture
def served(tmp_path: Path) -> Iterator[Served]:
    with contextlib.closing(sqlite3.connect(tmp_path / "river.db")) as db:
        db.executescript(TABLES)
    with serving(tmp_path) as one, one.client() as admin:
        admin.apply({"trial.yaml": "environment: trial\nbackends: {river: {file: river.db}}\n", "river.yaml": "backend: river\nengine: sqlite\n"})
        yield one


def test_a_rule_plans_makes_and_repeats(served: Served) -> None:
    rule = {"tables": ["toll_*"], "service": "Tolls", "left_out": ["created_*"], "roles": ["reader"], "operations": ["get", "find", "save"],
            "keep_as": "tolls"}
    with served.client() as admin:
        plan = admin.publish_tables("trial", "river", **rule)  # type: ignore[arg-type]
        assert {one["table"]: (one["action"], one["operations"], one["left_out"]) for one in plan["tables"]} == {
            "toll_class": ("new", ["GetTollClass", "FindTollClass", "SaveTollClass"], ["created_by"]),
            "toll_rate": ("new", ["GetTollRate", "FindTollRates", "SaveTollRate"], ["created_by"]),
            "toll_note": ("cannot", [], []), "toll_names": ("cannot", [], [])}
        assert not [path for path in admin.export() if "toll" in path], "a plan does nothing"
        admin.publish_tables("trial", "river", **rule, save=True)  # type: ignore[arg-type]
        files = admin.export()
        assert "refers_to: toll-class" in files["objects/toll-rate.yaml"]
        assert "created_by" not in files["objects/toll-class.yaml"]
        assert "left_out: [created_*]" in files["table-rules/tolls.yaml"]
        admin.release("Tolls")
        admin.deploy("Tolls", "trial")
        admin.save_caller("desk", ["reader"])
        admin.new_token("desk")
        answer = admin.call("trial", "Tolls", "GetTollRate", {"class": "AA", "year": 2026}, caller="desk")["answer"]
        assert answer["tollRate"]["amount"] == "12.50"
        again = admin.publish_tables("trial", "river", rule="tolls")
        assert ({one["action"] for one in again["tables"]}, again["files"]) == ({"there", "cannot"}, {})
        with contextlib.closing(sqlite3.connect(served.data / "river.db")) as db:
            db.execute("CREATE TABLE toll_waiver (id INTEGER PRIMARY KEY, class CHAR(2) REFERENCES toll_class)")
        later = admin.publish_tables("trial", "river", rule="tolls", save=True)
        assert [one["table"] for one in later["tables"] if one["action"] == "new"] == ["toll_waiver"]
        assert admin.export()["services/Tolls.yaml"].count("runs:") == 9
        ticked = admin.publish_tables("trial", "river", ["*"], only=["crew"])
        assert [(one["table"], one["service"]) for one in ticked["tables"]] == [("crew", "River")]


def test_what_is_said_wrongly_is_told(served: Served) -> None:
    with served.client() as admin:
        for said, words in (({"tables": ["tol"]}, "No table of river matches"), ({"operations": ["read"]}, "no such operation"),
                            ({"service": "{folder}"}, r"there is no \{folder\}"), ({"rule": "rivers"}, "There is no table-rule"),
                            ({"only": ["crews"]}, "Did you mean crew")):
            with pytest.raises(ProblemError, match=words):
                admin.publish_tables("trial", "river", **said)  # type: ignore[arg-type]
