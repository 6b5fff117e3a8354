"""What stands around every operation of a service: steps before and after it, and who is told of failures, environment by environment."""

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from bricola.client import ProblemError, ServiceClient
from tests.serving import Served, serving

DEFINITIONS = {
    "store.yaml": "backend: store\nengine: sqlite\n", "gone.yaml": "backend: gone\nengine: http\n",
    "weir.yaml": "object: weir\nbackend: store\ntable: weir\nkey: [code]\nfields:\n  code: {type: string, max_length: 8, sample: W1}\n"
                 "  keeper: {type: string, max_length: 40, sensitive: true}\n",
    "entry.yaml": "object: entry\nbackend: store\ntable: entry\nkey: [entry]\nfields:\n  entry: {type: string, max_length: 60}\n  words: {type: string, max_length: 4000}\n",
    "check.yaml": """
workflow: check
input: {operation: {type: string}, caller: {type: string}, request: {type: string}}
output: {}
steps:
  closed: {fail: problem, only_if: 'contains(request, "W9")', message: 'f"{operation} of W9 is closed to {caller}"'}
  done: {reply: {}}
""",
    "note-down.yaml": """
workflow: note-down
input: {callId: {type: string}, operation: {type: string}, request: {type: string}, answer: {type: string, required: false}, at: {type: dateTime}}
output: {}
faults: {AlreadyExists: {fields: {entry: {type: string, required: false}}}, Conflict: {}}
steps:
  noted:
    call: entry.create
    input: {entry: {entry: callId, words: 'operation + " " + text(at) + request + coalesce(answer, "")'}}
  done: {reply: {}}
""",
    "report.yaml": """
workflow: report
input: {callId: {type: string}, service: {type: string}, operation: {type: string}, code: {type: string}, sentence: {type: string, max_length: 2000}}
output: {}
faults: {AlreadyExists: {fields: {entry: {type: string, required: false}}}, Conflict: {}}
steps:
  noted:
    call: entry.create
    input: {entry: {entry: 'f"told {callId}"', words: 'f"{service}.{operation} {code} {sentence}"'}}
  done: {reply: {}}
""",
    "ask.yaml": "workflow: ask\ninput: {code: {type: string}}\noutput: {answer: {type: int}}\nsteps:\n"
                "  told: {call: http gone, path: code}\n  answer: {reply: {answer: told.status}}\n",
    "Weirs.yaml": "service: Weirs\nnamespace: urn:larkmere:weirs\nbefore: workflow check\nafter: workflow note-down\nunforeseen: error-desk\n"
                  "operations: {GetWeir: {runs: weir.get}, AddWeir: {runs: weir.create}, Ask: {runs: workflow ask}}\n",
    "Desk.yaml": "service: Desk\nnamespace: urn:larkmere:desk\noperations: {Report: {runs: workflow report}}\n",
    "trial.yaml": "environment: trial\nanonymous: [Weirs]\ntraces: {of: all}\nhandlers: {error-desk: Desk.Report}\nbackends:\n"
                  "  store: {file: trial/store.db}\n  gone: {address: 'http://127.0.0.1:9/'}\n",
}


def rows(data: Path) -> list[tuple[str, str]]:
    with closing(sqlite3.connect(data / "trial" / "store.db")) as db:
        return list(db.execute("SELECT entry, words FROM entry ORDER BY rowid"))


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    data = tmp_path_factory.mktemp("around")
    (data / "trial").mkdir()
    with closing(sqlite3.connect(data / "trial" / "store.db")) as db, db:
        db.execute("CREATE TABLE weir (code TEXT PRIMARY KEY, keeper TEXT NOT NULL)")
        db.execute("CREATE TABLE entry (entry TEXT PRIMARY KEY, words TEXT NOT NULL)")
        db.execute("INSERT INTO weir VALUES ('W1', 'Imke'), ('W9', 'Teo')")
    with serving(data) as made:
        client = made.client()
        client.apply(DEFINITIONS)
        for service in ("Desk", "Weirs"):
            client.release(service, "first")
            client.deploy(service, "trial", 1)
        yield made


@pytest.fixture
def weirs(served: Served) -> Iterator[ServiceClient]:
    with closing(sqlite3.connect(served.data / "trial" / "store.db")) as db, db:
        db.execute("DELETE FROM entry")
    with ServiceClient(f"{served.url}/rest/trial/Weirs") as made:
        yield made


def test_steps_before_and_after_every_operation(served: Served, weirs: ServiceClient) -> None:
    weirs.call("GetWeir", code="W1")
    weirs.call("AddWeir", weir={"code": "W2", "keeper": "Runa"})
    found = rows(served.data)
    assert [words.split(" ")[0] for _, words in found] == ["GetWeir", "AddWeir"]
    assert '"code": "W1"' in found[0][1]
    assert "Imke" not in found[0][1]  # what is sensitive is masked
    assert "Runa" not in found[1][1]


def test_what_stands_before_refuses_and_nothing_else_runs(served: Served, weirs: ServiceClient) -> None:
    with pytest.raises(ProblemError) as error:
        weirs.call("GetWeir", code="W9")
    assert error.value.problem.message == "GetWeir of W9 is closed to anonymous"
    assert rows(served.data) == []  # it was foreseen, so nobody is told


def test_a_trial_stores_nothing_around_it_either(served: Served, weirs: ServiceClient) -> None:
    for operation, body in (("GetWeir", {"code": "W1"}), ("AddWeir", {"weir": {"code": "W3", "keeper": "Runa"}})):
        with served.http("/rest/trial/Weirs") as http:
            answer = http.post(f"/{operation}", json=body, headers={"Bricola-Trial": "true"})
        assert answer.status_code == 200, answer.text
    assert rows(served.data) == []


def test_a_handler_is_told_of_what_nobody_foresaw(served: Served, weirs: ServiceClient) -> None:
    with pytest.raises(ProblemError) as error:
        weirs.call("Ask", code="W1")
    [(name, words)] = rows(served.data)
    assert name.startswith("told ")
    assert words.startswith("Weirs.Ask backend.")
    assert error.value.problem.code in words  # its caller has the failure itself
    call = served.client().calls(service="Weirs")[0]
    assert name == f"told {call['id']}"
    trace = json.dumps(served.client().one_call(call["id"]))
    assert "Desk.Report was told of it" in trace


def test_a_handler_that_fails_stands_with_the_call(served: Served, weirs: ServiceClient) -> None:
    client = served.client()
    text = client.export()["trial.yaml"]
    client.apply({"trial.yaml": text.replace("Desk.Report", "Desk.Nowhere")})
    with pytest.raises(ProblemError):
        weirs.call("Ask", code="W1")
    assert "Desk.Nowhere, which should be told of it, failed" in client.calls(service="Weirs")[0]["message"]
    client.apply({"trial.yaml": text.replace("handlers: {error-desk: Desk.Report}\n", "").replace("handlers:\n  error-desk: Desk.Report\n", "")})
    findings = {one["code"] for one in client.review("Weirs", "trial")}
    assert "handler.unbound" in findings
    client.apply({"trial.yaml": text})


def test_when_what_stands_after_fails_the_answer_stands_and_somebody_is_told(served: Served, weirs: ServiceClient) -> None:
    client = served.client()
    failing = "workflow: note-down\ninput: {operation: {type: string}}\noutput: {}\nsteps: {done: {fail: problem, message: 'operation'}}\n"
    was = client.export()["note-down.yaml"]
    client.apply({"note-down.yaml": failing})
    client.release("Weirs", "it fails")
    client.deploy("Weirs", "trial", 2)
    assert weirs.call("GetWeir", code="W1")["weir"]["code"] == "W1"
    [(_, words)] = rows(served.data)
    assert words.startswith("Weirs.GetWeir workflow.stopped")
    client.apply({"note-down.yaml": was})
    client.deploy("Weirs", "trial", 1)


@pytest.mark.parametrize(("before", "code"), [
    ("workflow: check\ninput: {colour: {type: string}}\noutput: {}\nsteps: {told: {note: colour}, done: {reply: {}}}\n", "around.input"),
    ("workflow: check\ninput: {at: {type: int}}\noutput: {}\nsteps: {told: {note: at}, done: {reply: {}}}\n", "around.type"),
    ("workflow: check\ninput: {operation: {type: int}}\noutput: {}\nsteps: {told: {note: operation}, done: {reply: {}}}\n", "around.type"),
])
def test_what_cannot_stand_there_is_a_finding(served: Served, before: str, code: str) -> None:
    client = served.client()
    was = client.export()["check.yaml"]
    client.apply({"check.yaml": before})
    assert code in {one["code"] for one in client.review("Weirs")}
    client.apply({"check.yaml": was})
    assert code not in {one["code"] for one in client.review("Weirs")}


def test_saying_what_stands_around_them(served: Served) -> None:
    client = served.client()
    was = client.service("Weirs")["around"]
    assert was == {"before": "workflow check", "after": "workflow note-down", "unforeseen": "error-desk"}
    assert client.overview()["environments"][0]["handlers"] == [{"name": "error-desk", "operation": "Desk.Report", "live": True}]
    assert client.service("Weirs")["told"] == [{"environment": "trial", "operation": "Desk.Report"}]
    for wrong in ({"before": "nothing at all"}, {"before": "workflow report"}, {"unforeseen": "no name"}):
        with pytest.raises(ProblemError):
            client.surround("Weirs", **{**was, **wrong})
    client.surround("Weirs", before="workflow check")
    assert client.service("Weirs")["around"] == {"before": "workflow check", "after": "", "unforeseen": ""}
    client.surround("Weirs", **was)
