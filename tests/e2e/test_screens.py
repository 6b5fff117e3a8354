"""Services on the demo's terminal hosts: through an independent SOAP client, the command line, and while a host is killed."""

import json
import os
import pty
import re
import select
import signal
import socket
import threading
import time
import warnings
from datetime import date
from decimal import Decimal
from typing import Any
from urllib.parse import urlsplit

import pytest
import zeep
from requests import Session
from requests.auth import HTTPBasicAuth
from zeep.transports import Transport

from bricola.client import Client, ServiceClient
from bricola.core.problems import ProblemError
from tests.conftest import COMMAND, Demo, copied_demo, stop_demo


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A demo that these tests change."""
    running = copied_demo(tmp_path_factory, "screens")
    yield running
    stop_demo(running)


def service(demo: Demo, name: str, environment: str = "live", port: str = "Soap11") -> Any:
    session = Session()
    session.auth = HTTPBasicAuth("harbour-desk", demo.token("harbour-desk"))
    wsdl = next(one["wsdl"] for one in demo.facts["services"] if (one["environment"], one["service"]) == (environment, name))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        client = zeep.Client(wsdl, transport=Transport(session=session))
    return client.bind(name, f"{name}{port}")


def ok(demo: Demo, *words: str) -> str:
    done = demo.run(*words)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


@pytest.mark.parametrize("port", ["Soap11", "Soap12"])
def test_a_ledger_and_a_berth_by_soap(demo: Demo, port: str) -> None:
    ledger = service(demo, "LockLedger", port=port)
    answer = ledger.GetVesselLedger(registration="LK-0412")
    assert (answer.name, answer.accountStatus, len(answer.passage), answer.complete) == ("Brave Teal", "open", 300, True)
    assert (answer.lastPassage, answer.tollsDue) == (answer.passage[0].passedOn, Decimal("24.88"))
    assert isinstance(answer.passage[299].passedOn, date)
    assert isinstance(answer.passage[299].toll, Decimal)
    with pytest.raises(zeep.exceptions.Fault) as caught:
        ledger.GetVesselLedger(registration="LK-9999")
    detail = {one.tag.partition("}")[2]: [(two.tag.partition("}")[2], two.text) for two in one] for one in caught.value.detail}
    assert ("registration", "LK-9999") in detail["VesselNotFound"]
    desk = service(demo, "BerthDesk", port=port)
    berth = desk.GetBerth(code="ALDE-1")
    assert (berth.place, berth.kind, len(berth.booking)) == ("Alderfen", "piles", 7)
    assert isinstance(berth.booking[0]["from"], date)
    with pytest.raises(zeep.exceptions.Fault, match="not found"):
        desk.GetBerth(code="NONE-9")


def test_the_ready_file_names_the_hosts(demo: Demo) -> None:
    hosts = {one["name"]: one for one in demo.facts["backends"]}
    assert {"ledger-north", "ledger-south", "berths-live"} <= set(hosts)
    assert {one["kind"] for one in hosts.values()} == {"terminal host", "soap", "http", "program host"}
    assert all(one["host"] == "127.0.0.1" and one["port"] and (one["password"] or one["kind"] == "program host") for one in hosts.values())


def test_films_are_listed_shown_made_and_held_against_the_host(own: Demo) -> None:
    listed = json.loads(ok(own, "screens", "--json"))
    assert {one["flow"]: bool(one["film"]) for one in listed} == {"berth": True, "vessel-ledger": True}
    deadline = time.monotonic() + 60  # live asks for a check every day, and none was made yet
    while not all(any(check["environment"] == "live" for check in one["checks"]) for one in json.loads(ok(own, "screens", "--json"))):
        assert time.monotonic() < deadline
        time.sleep(0.5)
    assert "as filmed" in ok(own, "screens", "check", "live")
    assert "LKM000" in ok(own, "screens", "show", "vessel-ledger", "-n", "1")
    assert re.search(
        r"Filmed vessel-ledger in rehearsal: \d+ moves over 4 screens", ok(own, "screens", "film", "vessel-ledger", "rehearsal")
    )
    refused = own.run("screens", "film", "vessel-ledger", "rehearsal", "registration=LK-9")
    assert refused.returncode == 1
    assert "required form" in refused.stderr
    # The people of the host change nothing, but the definition no longer fits: the check names what is not there.
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        path, text = next((path, text) for path, text in client.export().items() if "screen-flow: vessel-ledger" in text)
        client.apply({path: text.replace("column: 7, text: Passed on", "column: 7, text: Gone on")})
        found = own.run("screens", "check", "live", "vessel-ledger")
        assert found.returncode == 1
        assert "the text 'Gone on'" in found.stdout
        assert "not as vessel-ledger was filmed" in own.run("review", "LockLedger", "live").stdout
        client.apply({path: text.replace("writes: false\n", "")})
        assert "skipped: it writes on the host" in ok(own, "screens", "check", "live", "vessel-ledger")
        assert "--writes" in own.run("screens", "film", "vessel-ledger", "rehearsal").stderr
        client.apply({path: text})
    assert "as filmed" in ok(own, "screens", "check", "live", "vessel-ledger")


def test_a_film_stands_in_for_the_host_in_an_environment(own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        client.apply({"environments/offline.yaml": "environment: offline\nbackends:\n  ledger: {film: vessel-ledger}\n"})
        client.deploy("LockLedger", "offline")
        answer = client.call("offline", "LockLedger", "GetVesselLedger", {"registration": "LK-0412"})
        assert len(answer["answer"]["passage"]) == 300
        other = client.call("offline", "LockLedger", "GetVesselLedger", {"registration": "LK-0001"})
        assert "The film has no such move" in other["response"]
        with pytest.raises(ProblemError, match="is a film"), client.terminal("offline", "ledger") as line:
            line.hear(10)


def test_a_call_that_stops_keeps_the_picture(own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        files = client.export()
        path, text = next((path, text) for path, text in files.items() if "screen-flow: vessel-ledger" in text)
        client.apply({path: text.replace("option: {value: '1'}", "option: {value: '2'}")})
        client.release("LockLedger", "A walk that goes astray")
        client.deploy("LockLedger", "rehearsal")
        reply = client.call("rehearsal", "LockLedger", "GetVesselLedger", {"registration": "LK-0412"})
        assert "The host showed another screen than expected" in reply["response"]
        assert "TOLLS OF THE DAY" not in reply["response"]
        client.apply({path: text})
        client.release("LockLedger", "Mended")
        client.deploy("LockLedger", "rehearsal")
        client.sign_in("sanna", own.password("sanna"))
        assert client.one_call(reply["call"])["picture"] is None  # a viewer does not see what a host showed
    told = ok(own, "calls", reply["call"])
    assert "Expected enquiry, found the screen menu" in told
    assert "THE TOLLS OF THE DAY ARE PRINTED AT NIGHT" in told
    assert ok(own, "call", "rehearsal", "LockLedger", "GetVesselLedger", "registration=LK-0007", "maxRows=3")


def test_the_live_terminal_by_the_client_library(own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("teo", own.password("teo"))
        with client.terminal("rehearsal", "ledger") as line:
            opened = line.hear(10)
            assert opened is not None
            assert (opened["type"], opened["known"], opened["user"]) == ("opened", "menu", "LKCLERK")
            lent = [(one["operation"], one["caller"]) for one in client.pool("rehearsal", "ledger")["sessions"] if one["operation"]]
            assert lent == [("live terminal", "teo")]
            line.press("Enter", {11 * 80 + 37: "12"})
            refused = line.hear(10)
            assert refused is not None
            assert (refused["type"], refused["problems"][0]["code"]) == ("refused", "terminal.too-long")
            line.press("Enter", {11 * 80 + 37: "1"})
            moved = line.hear(10)
            assert moved is not None
            assert (moved["type"], moved["was"], moved["came"], moved["typed"]) == ("moved", "menu", "lkm200", {str(11 * 80 + 37): "1"})
        with client.terminal("rehearsal", "ledger", raw=True) as line:
            opened = line.hear(10)
            assert opened is not None
            assert opened["known"] == "sign-on"
            line.press("Enter", {9 * 80 + 37: "LKCLERK", 10 * 80 + 37: "GUESSED1"})
            moved = line.hear(10)
            assert moved is not None
            assert moved["typed"] == {str(9 * 80 + 37): "LKCLERK", str(10 * 80 + 37): None}  # a secret is never told back
            assert "USER ID OR PASSWORD IS WRONG" in moved["screen"]["lines"][22]
        with pytest.raises(ProblemError) as caught, client.terminal("live", "ledger") as line:
            line.hear(10)
        assert caught.value.problem.code == "terminal.protected-environment"
        client.sign_in("sanna", own.password("sanna"))
        with pytest.raises(ProblemError) as caught, client.terminal("rehearsal", "ledger") as line:
            line.hear(10)
        assert caught.value.problem.kind.value == "permission"


def test_a_page_of_another_site_opens_no_terminal(own: Demo) -> None:
    from websockets.sync.client import connect

    with Client(own.url) as client:
        cookie = client.sign_in("imke", own.password("imke"))
    address = f"{own.url.replace('http', 'ws')}/api/v1/terminals/rehearsal/ledger"
    for origin, kind in (("http://elsewhere.example", "ended"), (own.url, "opened")):
        with connect(address, additional_headers={"Cookie": f"bricola_session={cookie}", "Origin": origin}) as socket:
            told = json.loads(socket.recv(timeout=60))
        assert told["type"] == kind


def test_the_terminal_in_a_terminal_window(own: Demo) -> None:
    child, screen = pty.fork()
    if child == 0:
        os.execve(
            COMMAND,
            [str(COMMAND), "terminal", "rehearsal", "berths"],
            {**own.environ, "TERM": "xterm-256color", "LINES": "30", "COLUMNS": "100"},
        )

    def read_until(words: str, seconds: float = 20.0) -> str:
        seen, deadline = "", time.monotonic() + seconds
        while words not in re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\x1b\(B", "", seen):
            assert time.monotonic() < deadline, seen
            if select.select([screen], [], [], 0.2)[0]:
                seen += os.read(screen, 65_536).decode("utf-8", "replace")
        return seen

    try:
        read_until("What do you need?")
        os.write(screen, b"b\r")
        read_until("One Berth")
        os.write(screen, b"alde-1\r")
        read_until("Alderfen")
        os.write(screen, b"\x18")
        _, status = os.waitpid(child, 0)
        assert os.waitstatus_to_exitcode(status) == 0
    finally:
        os.close(screen)


def test_callers_who_go_away_cost_no_walks_on_either_face(own: Demo) -> None:
    """Forty who asked and hung up; the one after them does not wait for forty walks."""
    address = urlsplit(own.url)
    token = own.token("harbour-desk")
    soap = ('<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><GetVesselLedger xmlns="urn:larkmere:lock-ledger">'
            "<registration>LK-0412</registration></GetVesselLedger></e:Body></e:Envelope>")
    requests = (("/soap/live/LockLedger", "text/xml", soap), ("/rest/live/LockLedger/GetVesselLedger", "application/json", '{"registration": "LK-0412"}'))
    for number in range(40):
        path, media, body = requests[number % 2]
        with socket.create_connection((address.hostname, address.port)) as gone:  # type: ignore[arg-type]
            gone.sendall(f"POST {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nContent-Type: {media}\r\n"
                         f"Content-Length: {len(body)}\r\n\r\n{body}".encode())
            time.sleep(0.02)  # so that it is taken up, and waits or walks
    assert service(own, "LockLedger").GetVesselLedger(registration="LK-0412", maxRows=5).name
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        deadline = time.monotonic() + 60
        while True:
            left = [one["face"] for one in client.calls("live", "LockLedger", failed=True, limit=100) if one["fault"] == "caller.left"]
            if len(left) >= 30 and {"rest", "soap 1.1"} <= set(left):
                break
            assert time.monotonic() < deadline, left
            time.sleep(0.2)
        assert client.pool("live", "ledger")["state"] == "serving"


def test_one_host_is_killed_while_calls_run_and_all_come_back(own: Demo) -> None:
    host = next(one for one in own.facts["backends"] if one["name"] == "ledger-north")
    rest = next(one["rest"] for one in own.facts["services"] if (one["environment"], one["service"]) == ("live", "LockLedger"))
    done, failed, stop = [], [], threading.Event()

    def calling() -> None:
        with ServiceClient(rest, own.token("harbour-desk")) as ledger:
            while not stop.is_set():
                try:
                    done.append(len(ledger.call("GetVesselLedger", registration="LK-0412", maxRows=40)["passage"]))
                except ProblemError as error:
                    failed.append(error.problem.sentence())

    threads = [threading.Thread(target=calling) for _ in range(3)]
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))

        def circuits() -> dict[str, str]:
            return {one["endpoint"]: one["circuit"] for one in client.pool("live", "ledger")["endpoints"]}

        def until(wanted: dict[str, str], seconds: float) -> None:
            deadline = time.monotonic() + seconds
            while circuits() != wanted:
                assert time.monotonic() < deadline, circuits()
                time.sleep(0.1)

        for one in threads:
            one.start()
        try:
            until({"north": "closed", "south": "closed"}, 60)
            time.sleep(0.5)
            os.kill(host["pid"], signal.SIGKILL)
            until({"north": "open", "south": "closed"}, 60)
            during = len(done)
            time.sleep(1.0)
            assert len(done) > during  # the twin has taken over
            until({"north": "closed", "south": "closed"}, 90)  # the demo starts it again, and the pool finds it by itself
        finally:
            stop.set()
            for one in threads:
                one.join(30)
    assert failed == []
    assert set(done) == {40}
