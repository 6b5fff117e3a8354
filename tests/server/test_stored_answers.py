"""Stored answers: how old they may be, whom they are for, and what empties them."""

import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import httpx
import pytest

from bricola.client import Client
from tests.serving import Served, serving

ENVIRONMENT = """environment: trial
stored_answers:
  Weirs.GetWeir: {seconds: 60, at_most: 3}
  Weirs.Who: {seconds: 60}
  Weirs.Short: {seconds: 0.2}
  Weirs.Slow: {seconds: 60}
  Weirs.Gone: {seconds: 5}
backends:
  store: {file: trial/store.db}
  other: {file: trial/other.db}
"""
OBJECT = "backend: {0}\ntable: weir\nkey: [code]\nchange_token: version\nfields:\n  code: {{type: string, max_length: 8, sample: W1}}\n" \
         "  crest: {{type: decimal, digits: 6, fraction: 2}}\n"
DEFINITIONS = {
    "store.yaml": "backend: store\nengine: sqlite\n", "other.yaml": "backend: other\nengine: sqlite\n", "trial.yaml": ENVIRONMENT,
    "weir.yaml": "object: weir\n" + OBJECT.format("store"), "gate.yaml": "object: gate\n" + OBJECT.format("other"),
    "who.yaml": "workflow: who\ninput: {code: {type: string, sample: W1}}\noutput: {caller: {type: string}, crest: {type: decimal, digits: 6, fraction: 2}}\n"
                "faults: {NotFound: {}}\nsteps:\n  weir: {call: weir.get, input: {code: code}}\n  answer: {reply: {caller: call.caller, crest: weir.weir.crest}}\n",
    "slow.yaml": "workflow: slow\ninput: {code: {type: string, sample: W1}}\noutput: {crest: {type: decimal, digits: 6, fraction: 2}}\n"
                 "faults: {NotFound: {}}\nsteps:\n  weir: {call: weir.get, input: {code: code}}\n  rest: {wait: 0.6}\n  answer: {reply: {crest: weir.weir.crest}}\n",
    "Weirs.yaml": "service: Weirs\ndescription: Weirs\nowner: River office\nnamespace: urn:larkmere:weirs\naccess: {clerk: all}\noperations:\n"
                  "  GetWeir: {runs: weir.get}\n  SetWeir: {runs: weir.update}\n  SetGate: {runs: gate.update}\n  Who: {runs: workflow who}\n"
                  "  Short: {runs: weir.get}\n  Slow: {runs: workflow slow}\n",
}


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    data = tmp_path_factory.mktemp("stored")
    (data / "trial").mkdir()
    for name in ("store", "other"):
        with closing(sqlite3.connect(data / "trial" / f"{name}.db")) as db, db:
            db.execute("CREATE TABLE weir (code TEXT PRIMARY KEY, crest DECIMAL(6,2) NOT NULL, version INTEGER NOT NULL)")
            db.executemany("INSERT INTO weir VALUES (?, 4, 1)", [(f"W{number}",) for number in range(1, 9)])
    with serving(data) as running:
        with running.client() as client:
            client.apply(DEFINITIONS)
            for name in ("desk", "night"):
                client.save_caller(name, ["clerk"], name)
            client.release("Weirs", "first")
            client.deploy("Weirs", "trial")
        yield running


@pytest.fixture(scope="module")
def client(served: Served) -> Iterator[Client]:
    with served.client() as made:
        yield made


@pytest.fixture(scope="module")
def callers(served: Served, client: Client) -> Iterator[dict[str, httpx.Client]]:
    made = {name: httpx.Client(base_url=f"{served.url}/rest/trial/Weirs", timeout=30, headers={"Authorization": f"Bearer {client.new_token(name)}"})
            for name in ("desk", "night")}
    yield made
    for one in made.values():
        one.close()


def write_past(data: Path, code: str, crest: str) -> None:
    with closing(sqlite3.connect(data / "trial" / "store.db")) as db, db:
        db.execute("UPDATE weir SET crest = ?, version = version + 1 WHERE code = ?", (crest, code))


def test_an_answer_is_stored_for_a_while_and_says_its_age(served: Served, callers: dict[str, httpx.Client]) -> None:
    desk = callers["desk"]
    first = desk.post("/GetWeir", json={"code": "W1"})
    assert (first.json()["weir"]["crest"], first.headers["Age"]) == ("4.00", "0")
    write_past(served.data, "W1", "4.10")
    time.sleep(1.1)
    again = callers["night"].post("/GetWeir", json={"code": "W1"})  # what one caller asked for is there for another
    assert again.json() == first.json()
    assert int(again.headers["Age"]) >= 1
    soap = ('<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><GetWeir xmlns="urn:larkmere:weirs"><code>W1</code></GetWeir>'
            "</s:Body></s:Envelope>")
    with served.http() as http:
        other = http.post("/soap/trial/Weirs", content=soap, headers={"Content-Type": "text/xml", "Authorization": desk.headers["Authorization"]})
    assert b"4.00" in other.content
    assert int(other.headers["Age"]) >= int(again.headers["Age"])
    live = desk.post("/GetWeir", json={"code": "W1"}, headers={"Cache-Control": "no-cache"})
    assert (live.json()["weir"]["crest"], live.headers["Age"]) == ("4.10", "0")
    assert desk.post("/GetWeir", json={"code": "W1"}).json() == live.json()
    assert "Age" not in desk.post("/SetGate", json={"code": "W8", "changeToken": "1", "crest": "5"}).headers  # a write is never stored


def test_it_is_as_old_as_it_may_be_and_no_older(served: Served, callers: dict[str, httpx.Client]) -> None:
    desk = callers["desk"]
    desk.post("/Short", json={"code": "W2"})
    write_past(served.data, "W2", "4.20")
    time.sleep(0.25)
    assert desk.post("/Short", json={"code": "W2"}).json()["weir"]["crest"] == "4.20"
    for number in (3, 4, 5, 6):  # only three are kept: the first goes
        desk.post("/GetWeir", json={"code": f"W{number}"})
        write_past(served.data, f"W{number}", "9.00")
    assert [desk.post("/GetWeir", json={"code": f"W{number}"}).json()["weir"]["crest"] for number in (4, 5, 6, 3)] == ["4.00", "4.00", "4.00", "9.00"]


def test_a_write_to_the_same_backend_empties_what_is_stored(served: Served, callers: dict[str, httpx.Client]) -> None:
    desk = callers["desk"]
    was = desk.post("/GetWeir", json={"code": "W7"}, headers={"Cache-Control": "no-cache"}).json()["weir"]
    other = desk.post("/SetGate", json={"code": "W7", "changeToken": "1", "crest": "5"})
    assert other.status_code == 200
    write_past(served.data, "W7", "4.70")
    assert desk.post("/GetWeir", json={"code": "W7"}).json()["weir"] == was  # that was another backend
    token = desk.post("/Short", json={"code": "W8"}).json()["weir"]["changeToken"]
    assert desk.post("/SetWeir", json={"code": "W8", "changeToken": token, "crest": "6"}, headers={"Bricola-Trial": "true"}).status_code == 200
    assert desk.post("/SetWeir", json={"code": "W8", "changeToken": token, "crest": "6"}).status_code == 200
    assert desk.post("/GetWeir", json={"code": "W7"}).json()["weir"]["crest"] == "4.70"


def test_what_was_read_while_something_was_written_is_not_stored(served: Served, callers: dict[str, httpx.Client]) -> None:
    desk = callers["desk"]
    token = desk.post("/Short", json={"code": "W6"}, headers={"Cache-Control": "no-cache"}).json()["weir"]["changeToken"]
    slow = threading.Thread(target=lambda: callers["night"].post("/Slow", json={"code": "W6"}))
    slow.start()
    time.sleep(0.3)  # it has read, and has not answered
    assert desk.post("/SetWeir", json={"code": "W6", "changeToken": token, "crest": "7"}).status_code == 200
    slow.join()
    assert desk.post("/Slow", json={"code": "W6"}).json()["crest"] == "7.00"


def test_an_answer_that_depends_on_who_asks_is_for_that_caller(callers: dict[str, httpx.Client]) -> None:
    for _ in range(2):
        assert {name: one.post("/Who", json={"code": "W1"}).json()["caller"] for name, one in callers.items()} == {"desk": "desk", "night": "night"}


def test_the_review_says_what_is_not_seen(client: Client) -> None:
    found = {one["code"]: one for one in client.review("Weirs", "trial")}
    assert "Weirs.GetWeir answers from memory for up to 60 s: what others write to store meanwhile is not seen." in {
        one["message"] for one in client.review("Weirs", "trial") if one["code"] == "stored.unseen"}
    assert "Weirs.Gone" in found["stored.operation"]["message"]
