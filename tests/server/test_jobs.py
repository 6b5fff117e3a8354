"""Jobs at a running service: accepted, asked for, told of, decided about by people, and killed with it."""

import random
import signal
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

import httpx
import pytest
from lxml import etree

from bricola.client import Client, FaultError, ProblemError, ServiceClient
from tests.commands import run_command
from tests.e2e.test_processes import served as process_on
from tests.length import often
from tests.serving import Served, serving

ENVIRONMENT = """environment: trial
traces: {of: all}
backends:
  store: {file: trial/store.db, requests: marks}
  plain: {file: trial/plain.db}
"""
WEIR = "backend: {0}\ntable: weir\nkey: [code]\nchange_token: version\nfields:\n  code: {{type: string, max_length: 8}}\n" \
       "  crest: {{type: decimal, digits: 6, fraction: 2}}\n  keeper: {{type: string, max_length: 40, sensitive: true, required: false}}\n"
RAISE = """
workflow: raise
answers: later
call_back: true
input:
  codes: {type: string, repeats: true}
  pause: {type: decimal, default: '0'}
  keeper: {type: string, sensitive: true, default: Imke Roeland}
output: {raised: {type: int}}
faults: {NotFound: {fields: {code: {type: string}}}, Conflict: {}}
steps:
  all:
    for_each: codes
    item: code
    steps:
      weir: {call: weir.get, input: {code: code}}
      change:
        call: weir.update
        input: {code: code, changeToken: weir.weir.changeToken, crest: weir.weir.crest + 1, keeper: keeper}
        undo: {call: weir.update, input: {code: code, changeToken: change.changeToken, crest: weir.weir.crest}}
      rest: {wait: pause}
  answer: {reply: {raised: count(codes)}}
"""
DEFINITIONS = {
    "store.yaml": "backend: store\nengine: sqlite\n", "plain.yaml": "backend: plain\nengine: sqlite\n", "trial.yaml": ENVIRONMENT,
    "weir.yaml": "object: weir\n" + WEIR.format("store"), "other.yaml": "object: other\n" + WEIR.format("plain"),
    "raise.yaml": RAISE,
    "plainly.yaml": """
workflow: plainly
answers: later
input: {code: {type: string}, crest: {type: decimal, digits: 6, fraction: 2}}
output: {token: {type: string}}
faults: {NotFound: {fields: {code: {type: string}}}, Conflict: {}}
steps:
  was: {call: other.get, input: {code: code}}
  change: {call: other.update, input: {code: code, changeToken: was.other.changeToken, crest: crest}}
  rest: {wait: 0.2}
  answer: {reply: {token: change.changeToken}}
""",
    "note-it.yaml": """
workflow: note-it
answers: nothing
input: {code: {type: string}}
faults: {AlreadyExists: {fields: {code: {type: string, required: false}}}, Conflict: {}}
steps:
  entered: {call: weir.create, input: {weir: {code: code, crest: 1}}}
""",
    "patient.yaml": """
workflow: patient
caller_leaves: stop
input: {code: {type: string}}
output: {code: {type: string}}
faults: {AlreadyExists: {fields: {code: {type: string, required: false}}}, Conflict: {}}
steps:
  entered:
    call: weir.create
    input: {weir: {code: code, crest: 1}}
    undo: {call: weir.delete, input: {code: code, changeToken: entered.changeToken}}
  rest: {wait: 20}
  answer: {reply: {code: code}}
""",
    "Weirs.yaml": "service: Weirs\ndescription: Weirs\nowner: River office\nnamespace: urn:larkmere:weirs\naccess: {clerk: all}\noperations:\n"
                  "  Raise: {runs: workflow raise, input: {keeper: {given: default, value: Teo}}}\n  RaiseNow: {runs: workflow raise.now}\n"
                  "  Plainly: {runs: workflow plainly}\n  NoteIt: {runs: workflow note-it}\n  Patient: {runs: workflow patient}\n"
                  "  GetWeir: {runs: weir.get}\n",
}


def make_stores(data: Path) -> None:
    (data / "trial").mkdir(parents=True, exist_ok=True)
    for name in ("store", "plain"):
        with closing(sqlite3.connect(data / "trial" / f"{name}.db")) as db, db:
            db.execute("CREATE TABLE weir (code TEXT PRIMARY KEY, crest DECIMAL(6,2) NOT NULL, keeper TEXT, version INTEGER NOT NULL)")
            db.executemany("INSERT INTO weir VALUES (?, 4, 'Teo', 1)", [(f"W{number}",) for number in range(1, 25)])
            db.execute("CREATE TABLE marks (id CHAR(64) PRIMARY KEY, expires BIGINT NOT NULL, answer TEXT NOT NULL)")


def publish(client: Client) -> str:
    """The token of a caller."""
    client.apply(DEFINITIONS)
    for name in ("desk", "other"):
        client.save_caller(name, ["clerk"], name)
    client.release("Weirs", "first")
    client.deploy("Weirs", "trial")
    return client.new_token("desk")


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory, desk: str) -> Iterator[Served]:
    data = tmp_path_factory.mktemp("jobs")
    make_stores(data)
    # What happens by itself every few seconds happens here every few tenths of one.
    with (mock.patch("bricola.server.bricola.ROUND_SECONDS", 0.2), mock.patch("bricola.server.usecases.telling._PAUSES", (0.2, 0.2)),
          serving(data, call_backs=(f"{desk}/answers",)) as running):
        yield running


@pytest.fixture(scope="module")
def desk() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Desk)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


@pytest.fixture(scope="module")
def client(served: Served) -> Iterator[Client]:
    with served.client() as made:
        yield made


@pytest.fixture(scope="module")
def token(client: Client) -> str:
    return publish(client)


@pytest.fixture(scope="module")
def admin(served: Served) -> str:
    with Client(served.url) as made:
        return made.sign_in("imke", served.password)


@pytest.fixture
def weirs(served: Served, token: str) -> Iterator[ServiceClient]:
    with ServiceClient(f"{served.url}/rest/trial/Weirs", caller_token=token) as made:
        yield made


def until(done: Callable[[], Any], seconds: float = 60.0) -> Any:
    end = time.monotonic() + seconds
    while True:
        found = done()
        if found:
            return found
        assert time.monotonic() < end
        time.sleep(0.02)


def rests(client: Client, job: str) -> Any:
    return until(lambda: found if (found := client.job(job))["state"] not in ("waiting", "running") else None)


def crest(data: Path, code: str, name: str = "store") -> float:
    with closing(sqlite3.connect(data / "trial" / f"{name}.db")) as db:
        row = db.execute("SELECT crest FROM weir WHERE code = ?", (code,)).fetchone()
        return float(row[0]) if row else 0.0


def test_a_caller_has_a_job_accepted_and_asks_for_it(served: Served, client: Client, token: str, weirs: ServiceClient) -> None:
    before = crest(served.data, "W1")
    job = weirs.call("Raise", codes=["W1", "W2"])["job"]
    until(lambda: weirs.call("RaiseStatus", job=job)["state"] == "done")
    told = weirs.call("RaiseStatus", job=job)
    assert (told["stepsDone"], told["lastStep"]) == (6, "all[1].rest")
    assert weirs.call("RaiseResult", job=job) == {"raised": 2}
    assert crest(served.data, "W1") == before + 1
    found = client.job(job)
    assert [one["step"] for one in found["journal"]] == [f"all[{index}].{name}" for index in (0, 1) for name in ("weir", "change", "rest")]
    assert found["input"]["keeper"] == "not shown"
    assert found["journal"][0]["value"]["weir"]["crest"] == f"{before:.2f}"
    assert found["journal"][0]["value"]["weir"]["keeper"] == "not shown"
    assert client.one_call(job)["trace"]["spans"][0]["name"] == "Weirs.Raise"
    with closing(sqlite3.connect(served.data / "bricola.db")) as db:
        assert b"Teo" not in b"".join(row[0] for row in db.execute("SELECT given FROM job UNION SELECT held FROM job_step"))
    assert weirs.call("RaiseNow", codes=["W1"]) == {"raised": 1}
    with ServiceClient(f"{served.url}/rest/trial/Weirs", caller_token=client.new_token("other")) as other, pytest.raises(ProblemError, match="no such job of yours"):
        other.call("RaiseResult", job=job)


def test_what_is_published_with_it_is_shown_with_the_service(client: Client, token: str) -> None:
    shown = {one["name"]: (one["runs"], one["roles"]) for one in client.service("Weirs")["operations"]}
    assert shown["RaiseStatus"] == ("workflow raise.status", ["clerk"])
    assert shown["RaiseResult"] == ("workflow raise.result", ["clerk"])
    assert "sample" not in " ".join(one["message"] for one in client.review("Weirs") if "job" in one["message"])
    for environment in ("trial", ""):
        listed = {one["name"]: (one["runs"], one["roles"]) for one in client.operations("Weirs", environment)}
        assert listed == shown


def test_its_failure_is_told_as_the_fault_that_it_is(served: Served, client: Client, admin: str, weirs: ServiceClient) -> None:
    before = crest(served.data, "W1")
    job = weirs.call("Raise", codes=["W1", "none"])["job"]
    assert rests(client, job)["state"] == "fault"
    with pytest.raises(FaultError, match="none"):
        weirs.call("RaiseResult", job=job)
    assert crest(served.data, "W1") == before
    with closing(sqlite3.connect(served.data / "trial" / "store.db")) as db, db:
        db.execute("INSERT INTO weir VALUES ('none', 1, 'Teo', 1)")
    environ = {"BRICOLA_URL": served.url, "BRICOLA_TOKEN": admin, "HOME": str(served.data), "NO_COLOR": "1"}
    result = run_command(("jobs", "again", job, "--yes", "--at", served.url), environ)
    assert result.returncode == 0, result.stderr
    assert rests(client, job)["state"] == "done"  # what was undone is done anew
    assert (crest(served.data, "W1"), crest(served.data, "none")) == (before + 1, 2)
    shown = run_command(("jobs", "show", job, "--at", served.url), environ).stdout
    assert "attempt 2" in shown
    assert "all[1].change" in shown
    assert job in run_command(("jobs", "--state", "done", "--at", served.url), environ).stdout
    with pytest.raises(ProblemError, match="is not for that"):
        client.decide_job(job, "again")


def test_the_same_request_is_one_job(served: Served, client: Client, token: str) -> None:
    before = crest(served.data, "W3")
    with served.http("/rest/trial/Weirs") as http:
        headers = {"Authorization": f"Bearer {token}", "Idempotency-Key": "spring-1"}
        answers = [http.post("/Raise", json={"codes": ["W3"]}, headers=headers) for _ in range(3)]
    assert len({one.json()["job"] for one in answers}) == 1
    rests(client, answers[0].json()["job"])
    assert crest(served.data, "W3") == before + 1
    with closing(sqlite3.connect(served.data / "bricola.db")) as db, db:
        db.execute("UPDATE request SET expires = 1")  # what was remembered of it is forgotten, as if a clock had jumped
    with served.http("/rest/trial/Weirs") as http:
        assert http.post("/Raise", json={"codes": ["W3"]}, headers=headers).json()["job"] == answers[0].json()["job"]
    with closing(sqlite3.connect(served.data / "bricola.db")) as db, db:
        db.execute("UPDATE request SET expires = 1")
        db.execute("UPDATE job SET accepted_at = accepted_at - 25 * 3600")  # and now it is that long ago
    with served.http("/rest/trial/Weirs") as http:
        later = http.post("/Raise", json={"codes": ["W3"]}, headers=headers).json()["job"]
    assert later != answers[0].json()["job"]
    rests(client, later)
    assert crest(served.data, "W3") == before + 2


def test_a_job_is_cancelled(served: Served, client: Client, weirs: ServiceClient) -> None:
    before = crest(served.data, "W4")
    job = weirs.call("Raise", codes=["W4"], pause=60)["job"]
    until(lambda: crest(served.data, "W4") == before + 1)
    until(lambda: any(one["step"] == "all[0].rest" for one in client.job(job)["journal"]))
    assert client.decide_job(job, "cancel")["cancelled_by"] == "imke"
    found = rests(client, job)
    assert (found["state"], crest(served.data, "W4")) == ("cancelled", before)
    assert [one["step"] for one in found["journal"] if one["undoing"]] == ["all[0].change:0"]
    with pytest.raises(ProblemError, match="cancelled by imke"):
        weirs.call("RaiseResult", job=job)
    assert [one["action"] for one in client.audit() if one["subject"] == f"job {job}"] == ["cancel"]


def test_a_person_says_what_became_of_a_step_that_was_cut_off(served: Served, client: Client, admin: str, weirs: ServiceClient) -> None:
    environ = {"BRICOLA_TOKEN": admin, "HOME": str(served.data), "NO_COLOR": "1"}

    def cut_off(code: str) -> str:
        """A job as a kill between the backend's commit and our note of it leaves it, on a backend without marks."""
        job: str = weirs.call("Plainly", code=code, crest="9.00")["job"]
        rests(client, job)
        with closing(sqlite3.connect(served.data / "bricola.db")) as db, db:
            db.execute("DELETE FROM job_step WHERE job = ? AND key = 'rest'", (job,))
            db.execute("UPDATE job_step SET mark = 'began', held = NULL WHERE job = ? AND key = 'change'", (job,))
            db.execute("UPDATE job SET state = 'running', worker = 'gone', outcome = NULL WHERE id = ?", (job,))
        assert rests(client, job)["state"] == "outcome unknown"
        return job

    job = cut_off("W5")
    assert "The step change was cut off" in client.job(job)["words"]
    with pytest.raises(ProblemError, match="no result yet"):
        weirs.call("PlainlyResult", job=job)
    wrong = run_command(("jobs", "settle", job, "--stored", '{"token": 2}', "--yes", "--at", served.url), environ)
    assert wrong.returncode == 1
    assert "token does not belong here" in wrong.stderr.replace('"', "")
    asked = run_command(("jobs", "settle", job, "--not-stored", "--at", served.url), environ, "n\n")
    assert asked.returncode == 1
    assert client.job(job)["state"] == "outcome unknown"
    done = run_command(("jobs", "settle", job, "--stored", '{"code": "W5", "changeToken": "77"}', "--yes", "--at", served.url), environ)
    assert done.returncode == 0, done.stderr
    assert rests(client, job)["state"] == "done"
    assert weirs.call("PlainlyResult", job=job) == {"token": "77"}
    job = cut_off("W6")
    client.decide_job(job, "not stored")
    assert rests(client, job)["state"] == "fault"  # it was stored after all: the change token that was read says so
    assert crest(served.data, "W6", "plain") == 9
    job = cut_off("W7")
    client.decide_job(job, "cancel")
    found = rests(client, job)
    assert (found["state"], [one["code"] for one in found["problems"]]) == ("cancelled", ["job.cancelled", "job.outcome-unknown"])
    assert client.decide_job(job, "leave")["state"] == "ended by hand"
    with pytest.raises(ProblemError, match="ended this job"):
        weirs.call("PlainlyResult", job=job)


def test_what_says_nothing_is_accepted_and_done(served: Served, client: Client, token: str, weirs: ServiceClient) -> None:
    contract = etree.fromstring(client.contract("Weirs", "trial"))
    names = {"w": "http://schemas.xmlsoap.org/wsdl/"}
    assert not contract.xpath("//w:portType/w:operation[@name='NoteIt']/w:output", namespaces=names)
    assert contract.xpath("//w:portType/w:operation[@name='RaiseStatus']/w:output", namespaces=names)
    body = ('<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><NoteIt xmlns="urn:larkmere:weirs"><code>N1</code></NoteIt>'
            "</s:Body></s:Envelope>")
    with served.http() as http:
        answer = http.post("/soap/trial/Weirs", content=body, headers={"Content-Type": "text/xml", "Authorization": f"Bearer {token}"})
    assert (answer.status_code, answer.content) == (202, b"")
    until(lambda: crest(served.data, "N1"))
    assert weirs.call("NoteIt", code="N2") == {}
    until(lambda: crest(served.data, "N2"))


class Desk(BaseHTTPRequestHandler):
    """Where a caller is told of the end of its jobs. The first message is not taken."""

    told: ClassVar[list[tuple[str, dict[str, str], bytes]]] = []

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        self.told.append((self.path, dict(self.headers), body))
        self.send_response(503 if len(self.told) == 1 else 202)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 — the name is the base class's
        """Nothing is written down."""


@pytest.mark.parametrize("version", ["1.1", "1.2"])
def test_a_caller_is_told_at_the_address_that_it_names(served: Served, client: Client, token: str, desk: str, version: str) -> None:
    envelope = {"1.1": "http://schemas.xmlsoap.org/soap/envelope/", "1.2": "http://www.w3.org/2003/05/soap-envelope"}[version]
    media = {"1.1": "text/xml", "1.2": "application/soap+xml"}[version]
    wsa = "http://www.w3.org/2005/08/addressing"

    def send(address: str, number: str, *codes: str, operation: str = "Raise") -> httpx.Response:
        inner = "".join(f"<codes>{one}</codes>" for one in codes) if operation == "Raise" else f"<code>{codes[0]}</code>"
        body = (f'<s:Envelope xmlns:s="{envelope}" xmlns:a="{wsa}"><s:Header><a:MessageID s:mustUnderstand="1">urn:{version}-{number}</a:MessageID>'
                f'<a:ReplyTo s:mustUnderstand="1"><a:Address>{address}</a:Address></a:ReplyTo></s:Header><s:Body>'
                f'<{operation} xmlns="urn:larkmere:weirs">{inner}</{operation}></s:Body></s:Envelope>')
        with served.http() as http:
            return http.post("/soap/trial/Weirs", content=body, headers={"Content-Type": media, "Authorization": f"Bearer {token}"})

    Desk.told.clear()
    assert send(f"{desk}/answers/1", "good", "W8").status_code == 200
    path, headers, body = until(lambda: len(Desk.told) > 1 and Desk.told[1], 30)
    assert path == "/answers/1"
    assert headers["Content-Type"].startswith(media)
    root = etree.fromstring(body)
    assert root.findtext(f".//{{{wsa}}}RelatesTo") == f"urn:{version}-good"
    assert root.findtext(f".//{{{wsa}}}To") == f"{desk}/answers/1"
    assert root.findtext(".//{urn:larkmere:weirs}RaiseResultResponse/{urn:larkmere:weirs}raised") == "1"
    until(lambda: [one for one in client.jobs() if one["told"] == "told"])
    Desk.told.append(("", {}, b""))
    assert send(f"{desk}/answers/2", "bad", "nobody").status_code == 200
    until(lambda: any(path == "/answers/2" for path, _, _ in Desk.told), 30)
    fault = etree.fromstring(Desk.told[-1][2])
    assert fault.find(f".//{{{envelope}}}Fault") is not None
    assert fault.findtext(".//{urn:larkmere:weirs}NotFound/{urn:larkmere:weirs}code") == "nobody"
    for address in ("http://127.0.0.1:1/answers/", f"{desk}/answers/../other", f"{desk}/answersandmore", "file:///etc/passwd",
                    f"{desk}/answers/.%2e/other", f"{desk}/answers/%2E./other", f"{desk}/answers/..%2fother", f"{desk}/answers/..%5Cother"):
        refused = send(address, f"no-{address}", "W8")
        assert refused.status_code == 403
        assert b"No answer is sent to this address" in refused.content
    assert send(f"{wsa}/anonymous", "asks", "W8").status_code == 200
    assert b"MustUnderstand</" in send(f"{desk}/answers/3", "never", "X1", operation="NoteIt").content  # it answers nothing, to nobody
    assert crest(served.data, "X1") == 0


def test_a_call_whose_caller_is_gone_is_stopped_and_undone(served: Served, client: Client, token: str) -> None:
    with served.http("/rest/trial/Weirs") as http, pytest.raises(httpx.ReadTimeout):
        http.post("/Patient", json={"code": "P1"}, headers={"Authorization": f"Bearer {token}"}, timeout=1.5)
    found = until(lambda: [one for one in client.calls(service="Weirs", failed=True) if one["fault"] == "caller.left"])
    assert found[0]["micros"] < 15_000_000
    assert crest(served.data, "P1") == 0


def test_a_job_goes_on_with_the_release_that_accepted_it_when_the_service_is_stopped(tmp_path: Path) -> None:
    make_stores(tmp_path)
    with serving(tmp_path) as first:
        with first.client() as client:
            token = publish(client)
            with ServiceClient(f"{first.url}/rest/trial/Weirs", caller_token=token) as weirs:
                job = weirs.call("Raise", codes=["W1", "W2"], pause="2")["job"]
                until(lambda: crest(tmp_path, "W1") == 5)
            client.apply({"raise.yaml": RAISE.replace("crest + 1", "crest + 2")})
            client.release("Weirs", "by two")
            client.deploy("Weirs", "trial")
        password = first.password
    with closing(sqlite3.connect(tmp_path / "bricola.db")) as db:
        assert db.execute("SELECT state FROM job").fetchone()[0] == "running"
    with serving(tmp_path) as second:
        second.password = password
        with second.client() as client:
            assert rests(client, job)["state"] == "done"
            assert client.job(job)["release"] == 1
    assert (crest(tmp_path, "W1"), crest(tmp_path, "W2")) == (5, 5)


@pytest.mark.parametrize("seed", range(often(1, 30)))
def test_jobs_survive_sigkill(tmp_path: Path, seed: int) -> None:
    """Twelve jobs, each on rows of its own, killed once (three times at length): every change is made once, whatever was cut off."""
    chance = random.Random(seed)
    make_stores(tmp_path)
    jobs: list[str] = []
    token = ""
    kills = often(1, 3)
    for number in range(kills + 1):
        with process_on(tmp_path) as (process, facts):
            with Client(facts["url"]) as client:
                if number == 0:
                    client.set_up(facts["setup"].partition("code=")[2], "imke", "a long password")
                    client.sign_in("imke", "a long password")
                    token = publish(client)
                    with ServiceClient(f"{facts['url']}/rest/trial/Weirs", caller_token=token) as weirs:
                        for one in range(12):
                            codes = [f"W{2 * one + 1}", f"W{2 * one + 2}", *(["none"] if one % 4 == 3 else [])]
                            jobs.append(weirs.call("Raise", codes=codes, pause="0.02")["job"])
            if number == kills:
                with Client(facts["url"]) as client:
                    client.sign_in("imke", "a long password")
                    states = [rests(client, job) for job in jobs]
                break
            time.sleep(chance.uniform(0.0, 0.2))
            process.send_signal(signal.SIGKILL)
            process.wait(60)
    assert [one["state"] for one in states] == ["fault" if number % 4 == 3 else "done" for number in range(12)], states
    for number in range(12):
        expected = 4 if number % 4 == 3 else 5
        assert (crest(tmp_path, f"W{2 * number + 1}"), crest(tmp_path, f"W{2 * number + 2}")) == (expected, expected), states[number]
