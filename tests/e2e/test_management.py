"""Releasing, deploying and people, through the client library, on services of their own."""

import asyncio
import re
import sqlite3
import threading
import time
from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from bricola.client import Client, FaultError, ProblemError, ServiceClient
from tests.conftest import Demo, copied_demo, stop_demo


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    """A demo that these tests may change."""
    running = copied_demo(tmp_path_factory, "own")
    yield running
    stop_demo(running)


@pytest.fixture
def client(own: Demo) -> Iterator[Client]:
    with Client(own.url) as made:
        made.sign_in("imke", own.password("imke"))
        yield made


def place(client: Client, environment: str) -> dict[str, Any]:
    row = next(one for one in client.overview()["services"] if one["name"] == "VesselRegistry")
    return next(one for one in row["deployments"] if one["environment"] == environment)


def edited(own: Demo, words: str) -> dict[str, str]:
    files = own.files()
    path = "registry/VesselRegistry.yaml"
    return files | {path: files[path].replace("The register of vessels of Larkmere Waterways", words)}


def test_from_edit_to_release_to_live_and_away_again(own: Demo, client: Client) -> None:
    with pytest.raises(ProblemError, match="Nothing changed"):
        client.release("VesselRegistry")
    plan = client.apply(edited(own, "Edited words"), plan_only=True)
    assert [one["name"] for one in plan if one["action"] != "unchanged"] == ["VesselRegistry"]
    assert client.service("VesselRegistry")["draft"] == "released"
    client.apply(edited(own, "Edited words"))
    assert client.service("VesselRegistry")["draft"] == "edited"
    assert b"Edited words" not in httpx.get(own.address("rehearsal") + "?wsdl").content  # a draft is never live
    number = client.release("VesselRegistry", "New words")["release"]
    assert client.service("VesselRegistry")["draft"] == "released"
    assert place(client, "rehearsal")["newest"] is False
    client.deploy("VesselRegistry", "rehearsal")
    assert place(client, "rehearsal")["release"] == number
    assert b"Edited words" in httpx.get(own.address("rehearsal") + "?wsdl").content
    assert b"Edited words" not in httpx.get(own.address("rehearsal") + "?wsdl&release=1").content
    assert b"Edited words" not in httpx.get(own.address("live") + "?wsdl").content
    client.undeploy("VesselRegistry", "rehearsal")
    assert httpx.post(own.address("rehearsal"), content="x").status_code == 404
    with pytest.raises(ProblemError, match="not deployed"):
        client.undeploy("VesselRegistry", "rehearsal")
    client.deploy("VesselRegistry", "rehearsal", 1)
    assert place(client, "rehearsal")["release"] == 1


def test_swapping_under_load_loses_no_call(own: Demo, client: Client) -> None:
    client.apply(edited(own, "Swapped words"))
    second = client.release("VesselRegistry")["release"]
    stop = threading.Event()
    statuses: list[int] = []

    async def caller(http: httpx.AsyncClient) -> None:
        while not stop.is_set():
            answer = await http.post("/GetVessel", json={"registration": "LK-0412"})
            statuses.append(answer.status_code)

    async def load() -> None:
        headers = {"Authorization": f"Bearer {own.token('harbour-desk')}"}
        async with httpx.AsyncClient(base_url=own.address("live", "rest"), headers=headers) as http:
            await asyncio.gather(*(caller(http) for _ in range(8)))

    thread = threading.Thread(target=lambda: asyncio.run(load()))
    thread.start()
    try:
        for number in (second, 1, second, 1, second):
            seen = len(statuses)
            client.deploy("VesselRegistry", "live", number)
            deadline = time.monotonic() + 60
            while len(statuses) < seen + 40 and time.monotonic() < deadline:
                time.sleep(0.01)
    finally:
        stop.set()
        thread.join(20)
    assert len(statuses) >= 200
    assert set(statuses) == {200}
    releases = {one["release"] for one in client.calls(environment="live", limit=500)}
    assert {1, second} <= releases


def test_a_table_that_is_not_there_stops_the_deployment_and_not_the_service(own: Demo, client: Client) -> None:
    before = place(client, "live")["release"]
    files = own.files()
    path = "registry/vessel.yaml"
    client.apply(files | {path: files[path].replace("table: vessel", "table: vessels_of_old")})
    number = client.release("VesselRegistry")["release"]
    with pytest.raises(ProblemError) as caught:
        client.deploy("VesselRegistry", "live", number)
    assert caught.value.problem.code == "backend.unfit"
    assert "vessels_of_old" in caught.value.problem.found
    assert place(client, "live")["release"] == before
    client.apply(files | {path: files[path].replace("backend: registry", "backend: nowhere")})
    with pytest.raises(ProblemError, match="not defined"):
        client.release("VesselRegistry")
    assert any(one["severity"] == "error" for one in client.review("VesselRegistry", "live"))
    with pytest.raises(ProblemError) as several:
        client.apply({"a.yaml": "x", "b.yaml": "type: T"})
    assert len(several.value.problems) == 2
    client.apply(files)


def test_an_environment_is_a_live_setting(own: Demo, client: Client) -> None:
    files = own.files()
    path = "environments/live.yaml"
    moved = files[path].replace("live/registry.db", "live/gone.db")
    client.apply(files | {path: moved})
    assert place(client, "live")["state"] == "faulting"
    assert "gone.db" in place(client, "live")["reason"]
    answer = httpx.post(own.address("live"), content="<a/>", headers={"Content-Type": "text/xml"})
    assert answer.status_code == 503
    assert "gone.db" not in answer.text
    assert int(answer.headers["retry-after"]) >= 1
    readiness = httpx.get(own.url + "/readyz")
    assert (readiness.status_code, readiness.json()["ready"], "gone.db" in readiness.text) == (200, True, False)
    assert {"environment": "live", "service": "VesselRegistry", "state": "faulting", "ails": []} in readiness.json()["services"]
    (own.data / "live" / "registry.db").rename(own.data / "live" / "gone.db")  # the backend comes back by itself
    deadline = time.monotonic() + 60
    while place(client, "live")["state"] != "serving":
        assert time.monotonic() < deadline
        time.sleep(0.2)
    (own.data / "live" / "gone.db").rename(own.data / "live" / "registry.db")
    client.apply(files | {path: files[path].replace("live/registry.db", "bricola.db")})
    assert "own store" in place(client, "live")["reason"]
    with pytest.raises(ProblemError, match="own store"):
        client.deploy("VesselRegistry", "live")
    client.apply(files | {path: moved.replace("gone.db", "nowhere/gone.db")})
    with pytest.raises(ProblemError) as caught:
        client.deploy("VesselRegistry", "live", 1)
    assert "gone.db" in caught.value.problem.found  # those who run the service see the cause, callers do not
    client.apply(files | {path: files[path] + "address: https://registry.larkmere.example/\n"})
    assert place(client, "live")["state"] == "serving"
    assert place(client, "live")["soap"] == "https://registry.larkmere.example/soap/live/VesselRegistry"
    client.apply(files)


def test_export_gives_back_what_was_applied(own: Demo, client: Client) -> None:
    client.apply(own.files(), remove_others=True)
    assert client.export() == own.files()


def test_roles_of_users_and_wrong_passwords(own: Demo) -> None:
    with Client(own.url) as viewer, Client(own.url) as nobody:
        viewer.sign_in("sanna", own.password("sanna"))
        assert viewer.who()["role"] == "viewer"
        for act in (lambda: viewer.release("VesselRegistry"), lambda: viewer.deploy("VesselRegistry", "live"),
                    lambda: viewer.apply({}), lambda: viewer.save_caller("x", []), lambda: viewer.call("live", "VesselRegistry", "GetVessel")):
            with pytest.raises(ProblemError, match="may not do this"):
                act()
        for name, password in (("imke", "wrong"), ("nobody", "wrong")):
            with pytest.raises(ProblemError, match="name or the password is wrong"):
                nobody.sign_in(name, password)
        with pytest.raises(ProblemError, match="Sign in first"):
            nobody.overview()
        with pytest.raises(ProblemError, match="set-up address is not valid"):
            nobody.set_up("guess", "eve", "long enough password")


def test_callers_get_and_lose_access_at_once(own: Demo, client: Client) -> None:
    client.save_caller("new-desk", [])
    token = client.new_token("new-desk")
    with ServiceClient(own.address("live", "rest"), token) as service:
        with pytest.raises(ProblemError, match="may not call"):
            service.call("GetVessel", registration="LK-0412")
        client.save_caller("new-desk", ["auditor"])
        assert service.call("GetVessel", registration="LK-0412")["vessel"]["registration"] == "LK-0412"
        with pytest.raises(FaultError) as caught:
            service.call("GetVessel", registration="LK-9999")
        assert caught.value.detail["registration"] == "LK-9999"
        client.revoke_token("new-desk", next(one for one in client.callers() if one["name"] == "new-desk")["tokens"][0]["prefix"])
        with pytest.raises(ProblemError, match="was revoked"):
            service.call("GetVessel", registration="LK-0412")


def test_the_bench_runs_as_the_chosen_caller_and_never_shows_a_token(client: Client) -> None:
    reply = client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"}, caller="toll-audit", soap="1.2")
    assert (reply["status"], reply["caller"], reply["answer"]["vessel"]["registration"]) == (200, "toll-audit", "LK-0412")
    assert "Bearer" not in str(reply)
    assert client.one_call(reply["call"])["caller"] == "toll-audit"
    assert client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"}, caller="anonymous")["status"] == 401
    assert client.call("live", "VesselRegistry", "GetVessel", {"bogus": "1"})["fault"]["detail"][0]["code"] == "element.unknown"
    sample = client.sample("VesselRegistry", "GetVessel", "live")
    assert client.call("live", "VesselRegistry", "GetVessel", envelope=sample["envelope"])["answer"]
    with pytest.raises(ProblemError, match="no caller"):
        client.call("live", "VesselRegistry", "GetVessel", caller="ghost")


def test_health_and_metrics(own: Demo) -> None:
    assert httpx.get(own.url + "/healthz").text == "ok\n"
    text = httpx.get(own.url + "/metrics").text
    assert re.search(r'^bricola_service_live\{environment="live",release="\d+",service="VesselRegistry"\} 1.0$', text, re.M)
    assert re.search(r'^bricola_pool_size\{backend="registry",environment="live"\} \d', text, re.M)
    assert 'bricola_call_seconds_bucket{environment="live",le="0.005"' in text
    assert httpx.get(own.url + "/api/openapi.json").json()["info"]["title"] == "Bricola management API"
    strange = httpx.get(own.url + "/api/v1/nothing")
    assert (strange.status_code, strange.headers["content-type"]) == (404, "application/problem+json")


def test_the_demo_data_are_the_same_everywhere(own: Demo) -> None:
    db = sqlite3.connect(own.data / "live" / "registry.db")
    counts = [db.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0] for table in ("vessel", "operator", "lock", "passage")]
    assert counts == [1200, 300, 24, 40000]
    assert db.execute("SELECT name FROM vessel WHERE registration = 'LK-0412'").fetchone() == ("Brave Teal",)
    db.close()
