"""Workflows at a running service: over addresses and files, with traces by policy; looked at, tried and run as drafts."""

import contextlib
import json
import sqlite3
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import httpx
import pytest
from lxml import etree

from bricola.client import Client, FaultError, ProblemError, ServiceClient
from tests.commands import run_command
from tests.serving import Served, serving

ENVIRONMENT = """environment: trial
traces: {{of: {traces}}}
call_seconds: 15
backends:
  store: {{file: trial/store.db}}
  board: {{address: 'http://127.0.0.1:{port}/board', answer_seconds: 2}}
  papers: {{file: trial/papers}}
"""
DEFINITIONS = {
    "store.yaml": "backend: store\nengine: sqlite\n", "board.yaml": "backend: board\nengine: http\n", "papers.yaml": "backend: papers\nengine: files\n",
    "weir.yaml": "object: weir\nbackend: store\ntable: weir\nkey: [code]\nchange_token: version\nfields:\n  code: {type: string, max_length: 8}\n"
                 "  crest: {type: decimal, digits: 6, fraction: 2}\n  keeper: {type: string, max_length: 40, sensitive: true}\n",
    "Level.yaml": "record: Level\nfields:\n  level: {type: decimal, digits: 6, fraction: 2}\n  at: {type: dateTime, required: false}\n",
    "ask.yaml": """
workflow: ask
input: {code: {type: string, sample: W1}, where: {type: string, default: levels}}
output: {level: {type: decimal, digits: 6, fraction: 2}, keeper: {type: string}}
faults: {NotFound: {fields: {code: {type: string}}}}
steps:
  weir: {call: weir.get, input: {code: code}}
  told: {call: http board, path: 'f"{where}/{code}"', gives: Level, tries: 2, headers: {X-Weir: code}}
  answer: {reply: {level: told.body.level, keeper: weir.weir.keeper}}
""",
    "tell.yaml": """
workflow: tell
input: {code: {type: string, sample: W9}, crest: {type: decimal, digits: 6, fraction: 2, sample: '1.00'}}
output: {code: {type: string}}
faults: {AlreadyExists: {fields: {code: {type: string, required: false}}}, Conflict: {}}
steps:
  entered:
    call: weir.create
    input: {weir: {code: code, crest: crest, keeper: '=Imke'}}
    undo: {call: weir.delete, input: {code: entered.code, changeToken: entered.changeToken}}
  told: {call: http board, method: POST, path: '"entries"', body: {code: code, crest: crest, tags: '["new", code]'}, accepts: [201], only_if: not call.trial}
  answer: {reply: {code: entered.code}}
""",
    "paper.yaml": """
workflow: paper
input: {path: {type: string, sample: 2026/a.txt}, text: {type: string, sample: words}}
output: {read: {type: string}}
steps:
  written: {write_file: papers, path: path, text: text}
  again: {read_file: papers, path: written.path}
  answer: {reply: {read: again.text}}
""",
    "tell-all.yaml": """
workflow: tell-all
tells_writes: true
input: {code: {type: string, sample: W9}, stop: {type: boolean, default: 'false'}}
output: {code: {type: string}}
faults: {AlreadyExists: {fields: {code: {type: string, required: false}}}, Conflict: {}, Stopped: {}}
steps:
  entered:
    call: weir.create
    input: {weir: {code: code, crest: 2, keeper: '=Imke'}}
    undo: {call: weir.delete, input: {code: entered.code, changeToken: entered.changeToken}}
  noted: {write_file: papers, path: 'f"told/{code}.txt"', text: code}
  told: {call: http board, method: POST, path: '"entries"', body: {code: code}}
  stopped: {fail: Stopped, only_if: stop}
  answer: {reply: {code: entered.code}}
""",
    "Weirs.yaml": "service: Weirs\ndescription: Weirs\nowner: River office\nnamespace: urn:larkmere:weirs\naccess: {clerk: all}\noperations:\n"
                  "  Ask: {runs: workflow ask}\n  Tell: {runs: workflow tell}\n  TellAll: {runs: workflow tell-all}\n  WritePaper: {runs: workflow paper}\n",
}


class Board(BaseHTTPRequestHandler):
    """Somebody else's service: answers what it is told to, and keeps what it was asked."""

    protocol_version = "HTTP/1.1"
    answers: ClassVar[list[tuple[int, bytes, float]]] = []  # status, body, seconds before; the last one stays
    seen: ClassVar[list[tuple[str, str, dict[str, str], bytes]]] = []

    def _any(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        if self.command == "OPTIONS":
            self.send_response(204)
            self.end_headers()
            return
        self.seen.append((self.command, self.path, dict(self.headers), body))
        status, content, pause = self.answers.pop(0) if len(self.answers) > 1 else self.answers[0]
        time.sleep(pause)
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    do_GET = do_POST = do_OPTIONS = _any  # noqa: N815 — the names are the base class's

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 — the name is the base class's
        """Nothing is written down."""


@pytest.fixture(scope="module")
def port() -> Iterator[int]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Board)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_address[1]
    server.shutdown()


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory, port: int) -> Iterator[Served]:
    data = tmp_path_factory.mktemp("workflows")
    (data / "trial" / "papers").mkdir(parents=True)
    with sqlite3.connect(data / "trial" / "store.db") as db:
        db.execute("CREATE TABLE weir (code TEXT PRIMARY KEY, crest DECIMAL(6,2) NOT NULL, keeper TEXT NOT NULL, version INTEGER NOT NULL)")
        db.execute("INSERT INTO weir VALUES ('W1', 4.20, 'Teo Marlow', 1)")
    db.close()
    with serving(data, networks=("127.0.0.0/8",)) as running:
        yield running


@pytest.fixture(scope="module")
def client(served: Served, port: int) -> Iterator[Client]:
    with served.client() as made:
        made.apply(DEFINITIONS | {"trial.yaml": ENVIRONMENT.format(traces="all", port=port)})
        made.save_caller("desk", ["clerk"], "Desk")
        made.release("Weirs", "first")
        made.deploy("Weirs", "trial")
        yield made


@pytest.fixture(scope="module")
def token(client: Client) -> str:
    return client.new_token("desk")


@pytest.fixture
def weirs(served: Served, token: str) -> Iterator[ServiceClient]:
    Board.seen.clear()
    Board.answers[:] = [(200, b'{"level": "1.25", "more": {"unknown": 1}}', 0.0)]
    with ServiceClient(f"{served.url}/rest/trial/Weirs", caller_token=token) as made:
        yield made


def test_an_address_is_asked_with_what_the_step_says(weirs: ServiceClient) -> None:
    assert weirs.call("Ask", code="W1") == {"level": "1.25", "keeper": "Teo Marlow"}
    method, path, headers, _ = Board.seen[-1]
    assert (method, path, headers["X-Weir"], headers["Accept"]) == ("GET", "/board/levels/W1", "W1", "application/json")
    with pytest.raises(FaultError, match="W7"):
        weirs.call("Ask", code="W7")
    assert len(Board.seen) == 1


@pytest.mark.parametrize(("answer", "code", "asked"), [
    ((500, b"{}", 0.0), "outside.status", 1), ((204, b"", 0.0), "outside.json", 1), ((200, b"<html>", 0.0), "outside.json", 1), ((200, b"[" * 5000, 0.0), "outside.json", 1),
    ((200, b"[]", 0.0), "outside.contract", 1), ((200, b'{"level": "high"}', 0.0), "outside.contract", 1), ((200, b'{"level": "1.2345"}', 0.0), "outside.contract", 1), ((200, b"{}", 0.0), "outside.contract", 1),
    ((302, b"", 0.0), "outside.status", 1), ((401, b"", 0.0), "outside.sign-in", 2), ((200, b'{"level": 1}', 3.0), "outside.slow", 2), ((200, b'{"level": "' + b"9" * 9_000_000 + b'"}', 0.0), "outside.large", 2),
])
def test_whatever_it_answers_is_told_and_the_next_call_is_answered(weirs: ServiceClient, answer: tuple[int, bytes, float], code: str, asked: int) -> None:
    Board.answers[:] = [answer]
    with pytest.raises(ProblemError) as caught:
        weirs.call("Ask", code="W1")
    assert caught.value.problem.code == code
    assert len(Board.seen) <= asked * 2
    Board.answers[:] = [(200, b'{"level": "2.00"}', 0.0)]
    assert weirs.call("Ask", code="W1")["level"] == "2.00"


def test_what_reads_is_tried_again(weirs: ServiceClient, client: Client) -> None:
    Board.answers[:] = [(200, b'{"level": "1.00"}', 3.0), (200, b'{"level": "3.00"}', 0.0)]
    assert weirs.call("Ask", code="W1")["level"] == "3.00"
    call = client.calls(service="Weirs", limit=1)[0]["id"]
    trace = client.one_call(call)["trace"]
    assert trace is not None
    told = next(one for one in trace["spans"] if one["name"] == "told")
    assert told["tries"] == 2
    assert any("tried again" in line for line in told["lines"])


@pytest.mark.parametrize("where", ["../secret", "a/../../x", "http://127.0.0.1:1/x", "//127.0.0.1/x", "a b", "a\\b", "ä", "x" * 3000, "./x"])
def test_a_path_leads_nowhere_else(weirs: ServiceClient, where: str) -> None:
    with pytest.raises(ProblemError) as caught:
        weirs.call("Ask", code="W1", where=where)
    assert caught.value.problem.code == "workflow.path"
    assert not Board.seen


def test_what_it_wrote_is_undone_when_the_address_refuses(weirs: ServiceClient, served: Served, token: str) -> None:
    Board.answers[:] = [(409, b"{}", 0.0)]
    with pytest.raises(ProblemError) as caught:
        weirs.call("Tell", code="W2", crest="3.10")
    assert caught.value.problem.code == "outside.status"
    with pytest.raises(FaultError):
        weirs.call("Ask", code="W2")
    Board.answers[:] = [(201, b"{}", 0.0)]
    assert weirs.call("Tell", code="W2", crest="3.10") == {"code": "W2"}
    assert json.loads(Board.seen[-1][3]) == {"code": "W2", "crest": "3.10", "tags": ["new", "W2"]}
    with httpx.Client(headers={"Authorization": f"Bearer {token}", "Idempotency-Key": "once"}) as http:
        answers = [http.post(f"{served.url}/rest/trial/Weirs/Tell", json={"code": "W3", "crest": "1.00"}) for _ in range(2)]
    assert [one.json() for one in answers] == [{"code": "W3"}] * 2
    assert sum(1 for one in Board.seen if b"W3" in one[3]) == 1  # the repeat was answered from what is remembered


def test_what_was_written_is_told_with_the_answer_and_with_the_fault(weirs: ServiceClient, served: Served, token: str) -> None:
    Board.answers[:] = [(200, b"{}", 0.0)]
    told = weirs.call("TellAll", code="W6")
    assert told["@written"] == [
        {"step": "entered", "through": "weir.create", "keys": {"code": "W6", "changeToken": "1"}, "undone": False},
        {"step": "noted", "through": "folder papers", "keys": {"path": "told/W6.txt"}, "undone": False},
        {"step": "told", "through": "http board", "keys": {"method": "POST", "path": "entries", "status": "200"}, "undone": False}]
    body = ('<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><TellAll xmlns="urn:larkmere:weirs"><code>W7</code>'
            "<stop>true</stop></TellAll></s:Body></s:Envelope>")
    with served.http() as http:
        answer = http.post("/soap/trial/Weirs", content=body, headers={"Content-Type": "text/xml", "Authorization": f"Bearer {token}"})
    root = etree.fromstring(answer.content)
    assert root.find(".//{urn:larkmere:weirs}Stopped") is not None
    writes = root.findall("{*}Header/{urn:bricola:written:1}written/{urn:bricola:written:1}write")
    assert [(one.get("step"), one.get("undone")) for one in writes] == [("entered", "true"), ("noted", "false"), ("told", "false")]
    assert writes[0].findtext("{urn:bricola:written:1}key[@name='code']") == "W7"
    assert weirs.call("WritePaper", path="2026/b.txt", text="x") == {"read": "x"}  # this one says nothing of it


def test_files_are_written_below_the_folder_and_nowhere_else(weirs: ServiceClient, served: Served) -> None:
    assert weirs.call("WritePaper", path="2026/11/a.txt", text="Zoë & <x>\n") == {"read": "Zoë & <x>\n"}
    assert (served.data / "trial" / "papers" / "2026" / "11" / "a.txt").read_text() == "Zoë & <x>\n"
    (served.data / "trial" / "papers" / "out").symlink_to(served.data)
    for path in ("../store.db", "/etc/passwd", "a/../../b", "C:/x", "a\\b", "con", "nul.txt", "a.", "a//b", "", "~root", "a\0b", "out/bricola.db", "out/x", "x" * 300, "ä.txt", "a b", ".hidden"):
        with pytest.raises(ProblemError) as caught:
            weirs.call("WritePaper", path=path, text="x")
        assert caught.value.problem.code in ("file.path", "value.type", "text.control", "value.character", "element.value"), path
    assert "folder trial/papers" in caught.value.problem.place
    assert not list((served.data / "trial" / "papers").rglob("*.new"))
    with pytest.raises(ProblemError) as large:
        weirs.call("WritePaper", path="big.txt", text="x" * 1_900_000 + "x" * 200_000)
    assert large.value.problem.code in ("file.size", "request.size", "http.too-large", "xml.size", "json.size", "message.size")


def test_traces_are_kept_by_policy_and_for_those_who_may(weirs: ServiceClient, client: Client, served: Served, port: int) -> None:
    weirs.call("Ask", code="W1")
    call = client.calls(service="Weirs", limit=1)[0]["id"]
    trace = client.one_call(call)["trace"]
    assert trace is not None
    assert [one["name"] for one in trace["spans"]] == ["Weirs.Ask", "weir", "told", "answer"]
    assert trace["spans"][1]["lent"][0]["pool"] == "store in trial"
    assert "Teo" not in json.dumps(trace)
    client.add_user("runa", "towpath-lantern", "viewer")
    with served.client() as again:
        again.sign_in("runa", "towpath-lantern")
        assert again.one_call(call)["trace"] is None
        with pytest.raises(ProblemError, match="for operators"):
            again.look("ask", call=call)
    for policy, kept in (("none", [False, False]), ("faults", [False, True]), ("share, percent: 100", [True, True]), ("share, percent: 1", [False, True])):
        client.apply({"trial.yaml": ENVIRONMENT.format(traces=policy, port=port)})
        found = []
        for code in ("W1", "W7"):
            with contextlib.suppress(FaultError):
                weirs.call("Ask", code=code)
            found.append(client.one_call(client.calls(service="Weirs", limit=1)[0]["id"])["trace"] is not None)
        assert found == kept, policy
    client.apply({"trial.yaml": ENVIRONMENT.format(traces="all", port=port)})


def test_a_text_that_need_not_be_sound_is_looked_at(client: Client) -> None:
    text = DEFINITIONS["ask.yaml"].replace("told.body.level", "told.body.lvel").replace("input: {code: code}}", "input: {}}")
    found = client.look("ask", text)
    assert [(one["step"], one["part"], one["code"]) for one in found["problems"]] == [("weir", "input", "map.required"), ("answer", "reply.level", "expression.field")]
    assert found["problems"][1]["character"] == 1
    weir = next(one for one in found["steps"] if one["step"] == "weir")
    assert weir["maps"]["input"][0] | {"fits": []} == {"path": "code", "type": "string", "required": True, "list": False, "line": "", "proposal": "code", "fits": []}
    assert [one["path"] for one in weir["known"]] == ["code", "where", "call", "call.id", "call.caller", "call.at", "call.trial"]
    same = client.look("ask", definition=found["definition"])
    assert same["text"] == found["text"]
    assert client.look("ask", "workflow: ask\nsteps: {a: {cal: x}}\n")["problems"][0]["code"] == "definition.unknown-key"
    assert client.look("ask", "object: x\n")["problems"]
    with pytest.raises(ProblemError, match="no such workflow"):
        client.look("nothing")
    with pytest.raises(ProblemError, match="No trace"):
        client.look("ask", call="nothing")


def test_expressions_and_maps_are_tried(client: Client, weirs: ServiceClient) -> None:
    assert client.try_expression("a + 1", {"a": 2}) == {"type": "whole number", "value": 3, "problems": []}
    assert client.try_expression("a + b", {"a": 2})["problems"][0]["code"] == "expression.name"
    assert client.try_expression("[one for one in numbers(1, 1000000) for two in numbers(1, 1000000)]", {})["problems"]
    weirs.call("Ask", code="W1")
    call = client.calls(service="Weirs", limit=1)[0]["id"]
    assert client.try_in_place("ask", "answer", "told.body.level * 2", call=call)["value"] == "2.50"
    assert client.try_in_place("ask", "answer", part="reply", call=call)["value"] == {"level": "1.25", "keeper": "not shown"}
    assert client.try_in_place("ask", "answer", "weir.weir.keeper", call=call)["value"] == "not shown"
    with pytest.raises(ProblemError, match="no such step"):
        client.try_in_place("ask", "nowhere", "1")


def test_a_draft_runs_as_a_trial_with_its_trace(client: Client, served: Served, port: int) -> None:
    Board.answers[:] = [(201, b"{}", 0.0)]
    found = client.run_draft("tell", "trial", {"code": "W8", "crest": "2.00"})
    assert (found["answer"], found["trial"]) == ({"code": "W8"}, True)
    assert [one["key"] for one in found["changes"]] == [{"code": "W8"}]
    assert [one["name"] for one in found["trace"]["spans"]] == ["tell", "entered", "answer"]
    failing = client.run_draft("ask", "trial", {"code": "W8"})
    assert (failing["answer"], failing["fault"]) == (None, "NotFound")
    real = client.run_draft("tell", "trial", {"code": "W8", "crest": "2.00"}, trial=False)
    assert real["answer"] == {"code": "W8"}
    changed = DEFINITIONS["ask.yaml"].replace("told.body.level", "told.body.level * 2")
    Board.answers[:] = [(200, b'{"level": "1.25"}', 0.0)]
    assert client.run_draft("ask", "trial", {"code": "W1"}, text=changed)["answer"] == {"level": "2.50", "keeper": "not shown"}
    with pytest.raises(ProblemError) as wrong:
        client.run_draft("ask", "trial", {"code": 3, "more": 1})
    assert wrong.value.problem.code in ("element.unknown", "value.type")
    client.apply({"calm.yaml": ENVIRONMENT.format(traces="none", port=port).replace("environment: trial", "environment: calm\nprotected: true")})
    with pytest.raises(ProblemError, match="protected"):
        client.run_draft("tell", "calm", {"code": "W9", "crest": "2.00"}, trial=False)
    assert client.run_draft("tell", "calm", {"code": "W9", "crest": "2.00"})["answer"] == {"code": "W9"}


def test_a_definition_is_copied_before_it_is_changed(client: Client, tmp_path: Path) -> None:
    before = client.export()["ask.yaml"]
    assert client.copy("workflow", "ask", "ask-2")[0]["path"] == "ask-2.yaml"
    assert client.export()["ask-2.yaml"] == before.replace("workflow: ask", "workflow: ask-2")
    assert client.copy("object", "weir", "weir-2", "others")[0]["path"] == "others/weir-2.yaml"
    for kind, name, new, code in (("workflow", "ask", "ask-2", "copy.taken"), ("workflow", "nothing", "x", "copy.unknown"), ("workflow", "ask", "no name", "definition.name")):
        with pytest.raises(ProblemError) as caught:
            client.copy(kind, name, new)
        assert caught.value.problem.code == code
    rows = {one["name"]: one for one in client.workflows()}
    assert rows["ask"]["run_by"] == [{"service": "Weirs", "operation": "Ask", "environments": ["trial"]}]
    assert (rows["ask-2"]["run_by"], rows["ask-2"]["problems"], rows["tell"]["writes"]) == ([], 0, True)


def test_a_plan_tells_what_it_would_break_elsewhere(served: Served, client: Client, tmp_path: Path) -> None:
    weir = DEFINITIONS["weir.yaml"]
    planned = client.plan_changes({"weir.yaml": weir.replace("  keeper: {type: string, max_length: 40, sensitive: true}\n", "")})
    assert [(one["code"], one["place"]) for one in planned["breaks"] if one["place"].startswith("workflow ask,")] == [
        ("expression.field", "workflow ask, steps, answer, reply, keeper, character 1")]
    assert {one["place"].partition(",")[0] for one in planned["breaks"]} >= {"workflow ask", "workflow tell", "workflow tell-all"}
    assert client.plan_changes({"weir.yaml": weir.replace("max_length: 8", "max_length: 9")})["breaks"] == []
    gone = {name: text for name, text in DEFINITIONS.items() if name not in ("trial.yaml", "Level.yaml")}
    assert "workflow.record" in {one["code"] for one in client.plan_changes(gone, remove_others=True)["breaks"]}
    # What was connected since a text was written is not lost without a word.
    place = client.export()["trial.yaml"]
    assert "binding.dropped" not in {one["code"] for one in client.plan_changes({"trial.yaml": f"# as it was\n{place}"})["breaks"]}
    dropped = [one for one in client.plan_changes({"trial.yaml": "environment: trial\n"})["breaks"] if one["code"] == "binding.dropped"]
    assert dropped
    assert {one["place"] for one in dropped} == {"environment trial"}
    (tmp_path / "weir.yaml").write_text(weir.replace("  crest: {type: decimal, digits: 6, fraction: 2}\n", "  crest: {type: string}\n"))
    token = Client(served.url).sign_in("imke", served.password)
    told = run_command(("apply", str(tmp_path), "--at", served.url), {"BRICOLA_TOKEN": token, "HOME": str(tmp_path), "NO_COLOR": "1"})
    assert told.returncode == 1  # nobody agreed
    assert "This breaks" in told.stdout
    assert "workflow tell" in told.stdout


def test_a_step_that_refers_to_something_removed_is_told_by_the_review(client: Client) -> None:
    files = client.export()
    client.apply({path: text for path, text in files.items() if path != "Level.yaml"}, remove_others=True)
    found = client.review("Weirs", "trial")
    assert any(one["code"] == "workflow.record" and "steps, told, gives" in one["place"] for one in found)
    client.apply(files)
    assert not any(one["code"] == "workflow.record" for one in client.review("Weirs", "trial"))
