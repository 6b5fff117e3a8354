"""Two real PostgreSQL servers behind one pool: sign-on, staged checks, a rotation, a server that dies and comes back."""

import os
import socket
import sqlite3
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from bricola.client import Client, ProblemError
from tests.conftest import Demo, copied_demo, stop_demo
from tests.postgres import PASSWORD, PostgresServer, find_programs

pytestmark = pytest.mark.skipif(
    find_programs() is None and not os.environ.get("CI"), reason="PostgreSQL is not installed: apt-get install postgresql")


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "pg")
    yield running
    stop_demo(running)


@pytest.fixture(scope="module")
def twins(demo: Demo) -> Iterator[tuple[PostgresServer, PostgresServer]]:
    """Two servers with the same vessels as the demo's own register."""
    pair = PostgresServer(), PostgresServer()
    source = sqlite3.connect(demo.data / "live" / "registry.db")
    rows = source.execute("SELECT * FROM vessel ORDER BY registration").fetchall()
    source.close()
    for one in pair:
        with one.connect() as db:
            db.execute("CREATE TABLE vessel (registration text PRIMARY KEY, name text, kind text, length_m numeric(5,2), beam_m numeric(4,2),"
                       " draught_m numeric(4,2), operator_number text, registered_on date, status text, notes text, row_version int)")
            with db.cursor() as cursor:
                cursor.execute("CREATE TABLE operator (number text PRIMARY KEY, name text, town text, email text, account_status text)")
                cursor.execute('CREATE TABLE notice (id text PRIMARY KEY, title text, text text, "lock" int, reach text, valid_from date,'
                               " valid_to date, urgency text)")
                cursor.execute('CREATE TABLE "lock" (number int PRIMARY KEY, name text, chamber_length_m numeric(5,2),'
                               ' chamber_width_m numeric(4,2), sill_depth_m numeric(4,2), open_from time, open_to time, out_of_service_until date)')
                cursor.execute("CREATE TABLE permit (number text PRIMARY KEY, vessel text, class text, valid_from date, valid_to date, fee numeric(8,2))")
                cursor.execute('CREATE TABLE passage (number text PRIMARY KEY, vessel text, "lock" int, direction text, passed_at timestamp,'
                               " cargo_kind text, cargo_tonnes numeric(8,2), toll numeric(8,2))")
                cursor.executemany("INSERT INTO vessel VALUES (%s,%s,%s,%s,%s,%s,%s,%s,%s,%s,%s)", rows)
    yield pair
    for one in pair:
        one.remove()


@pytest.fixture
def client(demo: Demo) -> Iterator[Client]:
    with Client(demo.url) as made:
        made.sign_in("imke", demo.password("imke"))
        yield made


def binding(twins: tuple[PostgresServer, PostgresServer], pool: str, credential: str = "registry-live") -> dict[str, str]:
    north, south = twins
    return {
        "registry/backend.yaml": "backend: registry\nengine: postgresql\n",
        "environments/live.yaml": f"""environment: live
follows: rehearsal
protected: true
backends:
  registry:
    endpoints:
      north: {{address: "{north.address}"}}
      south: {{address: "{south.address}"}}
    database: registry
    credential: {credential}
    pool: {pool}
""",
    }


def test_the_same_definitions_run_on_postgresql_with_a_sealed_credential(
    demo: Demo, client: Client, twins: tuple[PostgresServer, PostgresServer]
) -> None:
    client.apply(binding(twins, "{min_size: 2, max_size: 6, health_every: 0.5, breaker: {failures: 2, retry_after: 1}}"))
    findings = {one["code"] for one in client.review("VesselRegistry", "live")}
    assert "credential.unknown" in findings
    client.release("VesselRegistry")
    with pytest.raises(ProblemError) as stopped:
        client.deploy("VesselRegistry", "live")
    assert "registry-live" in stopped.value.problem.mend
    client.add_credential("registry-live", PASSWORD, user="bricola")
    client.deploy("VesselRegistry", "live")
    reply = client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"})
    assert reply["answer"]["vessel"]["lengthM"] == "13.47"
    page = client.call("live", "VesselRegistry", "FindVessels", {"nameContains": "TEAL", "limit": 3})["answer"]
    again = client.call("live", "VesselRegistry", "FindVessels", {"nameContains": "TEAL", "limit": 3, "after": page["after"]})["answer"]
    assert len(page["vessel"]) == 3
    assert page["vessel"][-1]["registration"] < again["vessel"][0]["registration"]
    assert {one["identity"] for one in client.pool("live", "registry")["sessions"]} == {"bricola"}
    assert client.pool("live", "registry")["backend_limit"] == 37  # 40, less 3 that the server keeps for its administrators
    credential = next(one for one in client.credentials()
                          if [(two["environment"], two["backend"]) for two in one["used_by"]] == [("live", "registry")])
    assert credential["last_used_at"]
    assert PASSWORD not in str([client.credentials(), client.audit(limit=1000), client.export(), client.pools()])
    client_files = [file for file in demo.data.rglob("*") if file.is_file()]
    assert not [file for file in client_files if PASSWORD.encode() in file.read_bytes()]
    with pytest.raises(ProblemError, match="is in use"):
        client.remove_credential("registry-live")


def stages(client: Client, environment: str = "live") -> list[tuple[str, str]]:
    return [(one["stage"], one["outcome"]) for one in client.check(environment, "registry")[0]["stages"]]


def test_a_check_names_the_first_stage_that_fails(client: Client, twins: tuple[PostgresServer, PostgresServer]) -> None:
    passed = client.check("live")
    assert [one["passed"] for one in passed] == [True, True]
    assert passed[0]["stages"][4]["detail"].startswith("PostgreSQL 1")
    files = {"environments/live.yaml": client.export()["environments/live.yaml"]}

    def first_failure(**changes: str) -> dict[str, str]:
        text = files["environments/live.yaml"]
        for old, new in changes.values():
            assert old in text
            text = text.replace(old, new)
        client.apply({"environments/trial.yaml": text.replace("environment: live", "environment: trial")})
        result = client.check("trial", "registry")[0]["stages"]
        failed = [one for one in result if one["outcome"] == "failed"]
        assert len(failed) == 1
        assert all(one["outcome"] == "not tried" for one in result[result.index(failed[0]) + 1 :])
        return failed[0]

    north = twins[0].address
    assert first_failure(a=(north, "nowhere.invalid:5432"))["stage"] == "resolved"
    assert first_failure(a=(north, "127.0.0.1:1"))["stage"] == "reachable"
    client.add_credential("stale", "wrong-password", user="bricola")
    refused = first_failure(a=("registry-live", "stale"))
    assert (refused["stage"], "rotate stale" in refused["problem"]["mend"]) == ("signed on", True)
    assert first_failure(a=("database: registry", "database: none"))["stage"] == "signed on"
    with twins[0].connect() as db:
        db.execute("CREATE USER reader PASSWORD 'reader-only-3'")
    client.add_credential("reader", "reader-only-3", user="reader")
    assert "GRANT SELECT" in first_failure(a=("registry-live", "reader"))["problem"]["mend"]
    with twins[0].connect() as db:
        db.execute('GRANT SELECT ON vessel, passage, operator, permit, "lock", notice TO reader')
        db.execute("ALTER TABLE vessel RENAME COLUMN notes TO remarks")
    try:
        assert first_failure(a=("registry-live", "reader"))["stage"] == "sample read"
    finally:
        with twins[0].connect() as db:
            db.execute("ALTER TABLE vessel RENAME COLUMN remarks TO notes")
    with Peer(b"SSH-2.0-lock\r\n") as garbage, Peer(None) as silent:
        assert first_failure(a=(north, f"127.0.0.1:{garbage.port}"))["stage"] == "tls"
        slow = first_failure(a=(north, f"127.0.0.1:{silent.port}"))
        assert (slow["stage"], slow["detail"]) == ("tls", "Nothing came back in time.")
    encrypted = first_failure(a=("credential:", "tls: encrypt\n    credential:"))
    assert (encrypted["stage"], encrypted["problem"]["found"]) == ("tls", "none")


def test_tls_is_demanded_and_verified(client: Client) -> None:
    server = PostgresServer(tls=True)
    try:
        with server.connect() as db:
            db.execute("CREATE TABLE vessel AS SELECT 1 AS registration")
        stages = {}
        for tls in ("encrypt", "verify"):
            client.apply({"environments/tls.yaml": "environment: tls\nbackends:\n  registry:\n"
                          f"    address: '{server.address}'\n    database: registry\n    credential: registry-live\n    tls: {tls}\n"})
            stages[tls] = {one["stage"]: one for one in client.check("tls", "registry")[0]["stages"]}
        assert stages["encrypt"]["tls"]["detail"].startswith("TLSv1.")
        assert stages["encrypt"]["signed on"]["outcome"] == "passed"
        assert stages["verify"]["tls"]["outcome"] == "failed"
        assert "not trusted" in stages["verify"]["tls"]["detail"]
        assert stages["verify"]["signed on"]["outcome"] == "not tried"
    finally:
        server.remove()


class Peer:
    """Something that listens and answers everybody with the same bytes, or never."""

    def __init__(self, answer: bytes | None) -> None:
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        self._answer, self._open = answer, list[socket.socket]()
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                peer, _ = self._listener.accept()
            except OSError:
                return
            self._open.append(peer)
            if self._answer is not None:
                peer.sendall(self._answer)

    def __enter__(self) -> "Peer":
        return self

    def __exit__(self, *_: object) -> None:
        self._listener.close()
        for one in self._open:
            one.close()


def test_bad_endpoints_beside_a_good_one_cost_no_call(client: Client, twins: tuple[PostgresServer, PostgresServer]) -> None:
    """One accepts and never answers, one answers garbage: both are left alone within seconds, and calls go on."""
    sound = client.export()["environments/live.yaml"]
    with Peer(b"SSH-2.0-lock\r\n") as garbage, Peer(None) as silent:
        client.apply({"environments/live.yaml": sound.replace(
            "endpoints:\n", f"endpoints:\n      bad: {{address: '127.0.0.1:{garbage.port}'}}\n      mute: {{address: '127.0.0.1:{silent.port}'}}\n")
            .replace("breaker: {failures: 2", "connect_timeout: 0.5\n      breaker: {failures: 2")})
        assert {client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"})["status"] for _ in range(20)} == {200}
        deadline = time.monotonic() + 60
        while {one["endpoint"] for one in client.pool("live", "registry")["endpoints"] if one["circuit"] != "closed"} != {"bad", "mute"}:
            assert time.monotonic() < deadline, client.pool("live", "registry")["endpoints"]
            time.sleep(0.1)
        assert client.pool("live", "registry")["state"] == "at risk"
        assert client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"})["status"] == 200
    client.apply({"environments/live.yaml": sound})


def test_a_rotation_overlaps(client: Client, twins: tuple[PostgresServer, PostgresServer]) -> None:
    """The new secret is known here before the servers know it: the old one still signs on."""
    client.rotate_credential("registry-live", "weir-crest-88", overlap_hours=1)
    client.act_on_pool("live", "registry", "recycle")
    assert client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"})["status"] == 200
    for one in twins:
        with one.connect("postgres") as db:
            db.execute("ALTER USER bricola PASSWORD 'weir-crest-88'")
    client.act_on_pool("live", "registry", "recycle")
    assert client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"})["status"] == 200
    assert next(one for one in client.credentials() if one["name"] == "registry-live")["overlap_until"]
    for one in twins:
        with one.connect("postgres", password="weir-crest-88") as db:
            db.execute(f"ALTER USER bricola PASSWORD '{PASSWORD}'")
    client.rotate_credential("registry-live", PASSWORD, overlap_hours=0)


def test_one_server_dies_and_the_twin_takes_over(
    demo: Demo, client: Client, twins: tuple[PostgresServer, PostgresServer], tmp_path: Path
) -> None:
    """Calls run all the time. The breaker opens, the twin takes over, and the sessions spread again by themselves."""
    north, _ = twins
    address, token = demo.address("live", "rest"), demo.token("harbour-desk")
    results: list[tuple[float, int, float]] = []
    stop = threading.Event()

    def call() -> None:
        with httpx.Client(headers={"Authorization": f"Bearer {token}"}) as http:
            while not stop.is_set():
                began = time.monotonic()
                status = http.post(f"{address}/GetVessel", json={"registration": "LK-0412"}, timeout=60).status_code
                results.append((began, status, time.monotonic() - began))

    def endpoint(name: str) -> dict[str, object]:
        return next(one for one in client.pool("live", "registry")["endpoints"] if one["endpoint"] == name)

    def wait_for(what: str, seconds: float = 60) -> float:
        began = time.monotonic()
        while not conditions[what]():
            assert time.monotonic() - began < seconds, (what, client.pool("live", "registry"))
            time.sleep(0.02)
        return time.monotonic() - began

    conditions = {
        "both in use": lambda: bool(endpoint("north")["sessions"] and endpoint("south")["sessions"]),
        "open": lambda: endpoint("north")["circuit"] == "open",
        "away": lambda: endpoint("north")["sessions"] == 0,
        "back": lambda: endpoint("north")["circuit"] == "closed" and bool(endpoint("north")["sessions"]),
    }
    threads = [threading.Thread(target=call) for _ in range(4)]
    for one in threads:
        one.start()
    try:
        wait_for("both in use")
        killed = time.monotonic()
        north.kill()
        opened = wait_for("open")
        wait_for("away")
        assert client.pool("live", "registry")["state"] == "at risk"
        time.sleep(1.0)
        north.start()
        back = wait_for("back", 60)
    finally:
        stop.set()
        for one in threads:
            one.join(30)
    failed = [one for one in results if one[1] != 200]
    after = sorted(one[2] for one in results if one[0] >= killed)
    print(f"\ncalls {len(results)}, failed {len(failed)}; circuit open after {opened:.2f} s; both in use again {back:.2f} s after the start; "
          f"slowest call since the kill {after[-1] * 1000:.0f} ms")
    assert not failed
    assert client.pool("live", "registry")["state"] == "serving"


def test_green_is_true_while_every_server_is_gone(demo: Demo, client: Client, twins: tuple[PostgresServer, PostgresServer]) -> None:
    """The state of the service is the worse of its own and its pool's, everywhere and at once; this node stays ready."""

    def place() -> dict[str, Any]:
        row = next(one for one in client.overview()["services"] if one["name"] == "VesselRegistry")
        return next(one for one in row["deployments"] if one["environment"] == "live")

    def wait_for(state: str, within: float) -> None:
        deadline = time.monotonic() + within
        while place()["state"] != state:
            assert time.monotonic() < deadline, place()
            time.sleep(0.05)

    def told() -> dict[str, Any]:
        answer = httpx.get(f"{demo.url}/readyz")
        assert (answer.status_code, answer.json()["ready"]) == (200, True)
        return next(one for one in answer.json()["services"] if (one["environment"], one["service"]) == ("live", "VesselRegistry"))

    def gauge(state: str) -> str:
        line = f'bricola_service_state{{environment="live",service="VesselRegistry",state="{state}"}}'
        return next(one.split()[-1] for one in httpx.get(f"{demo.url}/metrics").text.splitlines() if one.startswith(line))

    headers = {"Authorization": f"Bearer {demo.token('harbour-desk')}"}
    wait_for("serving", 60)
    assert (told()["ails"], gauge("serving"), gauge("faulting")) == ([], "1.0", "0.0")
    for one in twins:
        one.kill()
    deadline = time.monotonic() + 60
    while client.pool("live", "registry")["state"] != "faulting":
        assert time.monotonic() < deadline
        time.sleep(0.05)
    wait_for("faulting", 20)
    try:
        assert [(one["part"], one["name"], one["state"]) for one in place()["ails"]] == [("pool", "registry", "faulting")]
        assert told() == {"environment": "live", "service": "VesselRegistry", "state": "faulting",
                          "ails": ["No endpoint of its pool answers."]}
        assert (gauge("serving"), gauge("faulting")) == ("0.0", "1.0")
        assert "Does not answer now" in httpx.get(f"{demo.url}/soap/live/VesselRegistry").text
        assert "Does not answer now" in httpx.get(f"{demo.url}/soap/").text
        assert "No endpoint of its pool answers" in demo.run("services", "-e", "live").stdout
        rest = httpx.post(f"{demo.address('live', 'rest')}/GetVessel", json={"registration": "LK-0412"}, headers=headers)
        assert (rest.status_code, int(rest.headers["retry-after"]) >= 1) == (503, True)
        soap = httpx.post(demo.address(), headers=headers | {"Content-Type": "text/xml"}, content=demo_request("LK-0412"))
        assert (soap.status_code, int(soap.headers["retry-after"]) >= 1, b"Server" in soap.content) == (500, True, True)
        assert not any(one.address in text for one in twins for text in (rest.text, soap.text, str(told())))
    finally:
        for one in twins:
            one.start()
    wait_for("serving", 60)
    client.act_on_pool("live", "registry", "stop")
    assert (place()["state"], told()["ails"]) == ("stopped", ["Its pool is stopped."])
    assert "Stopped for now" in httpx.get(f"{demo.url}/soap/live/VesselRegistry").text
    client.act_on_pool("live", "registry", "start")
    wait_for("serving", 60)


def demo_request(registration: str) -> str:
    return ('<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><GetVessel xmlns="urn:larkmere:vessel-registry">'
            f"<registration>{registration}</registration></GetVessel></e:Body></e:Envelope>")
