"""From draft to live and back: gates, two releases side by side, roll back under load, versions, the end of a service."""

import collections
import threading
import time
from collections.abc import Iterator
from datetime import date

import httpx
import pytest

from bricola.client import Client, ProblemError
from bricola.demo.start import catalogue_files
from tests.conftest import Demo, copied_demo, start_demo, stop_demo

WHY = "Passenger vessels are struck off by the end of the month"
SERVICE, KIND = "registry/VesselRegistry.yaml", "types/VesselKind.yaml"
GET = ('<Envelope xmlns="http://schemas.xmlsoap.org/soap/envelope/"><Body><GetVessel xmlns="urn:larkmere:vessel-registry{version}">'
       '<registration>LK-0412</registration></GetVessel></Body></Envelope>')


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "deploy")
    yield running
    stop_demo(running)


@pytest.fixture
def client(own: Demo) -> Iterator[Client]:
    with Client(own.url) as made:
        made.sign_in("imke", own.password("imke"))
        yield made


def apply(client: Client, path: str, old: str, new: str) -> None:
    text = client.export()[path]
    assert old in text
    client.apply({path: text.replace(old, new)})


def post(own: Demo, environment: str, service: str = "VesselRegistry", version: str = "") -> httpx.Response:
    return httpx.post(f"{own.url}/soap/{environment}/{service}", content=GET.format(version=version),
                      headers={"Content-Type": "text/xml"}, auth=("harbour-desk", own.token("harbour-desk")))


def stage(client: Client) -> str:
    return str(client.service("VesselRegistry")["stage"])


def test_a_broken_draft_is_stopped_with_its_mend_and_mended(client: Client) -> None:
    assert stage(client) == "live"
    apply(client, SERVICE, "FindVesselsByOperator, ListPassages]", "FindVesselsByOwner, ListPassages]")
    assert stage(client) == "edited, not released"
    with pytest.raises(ProblemError) as stopped:
        client.release("VesselRegistry")
    assert [one.code for one in stopped.value.problems] == ["access.operation"]
    assert stopped.value.problem.mend == "Take FindVesselsByOwner out of the role."
    finding = next(one for one in client.review("VesselRegistry", "live") if one["code"] == "access.operation")
    assert finding["mendable"]
    changes = client.mend("VesselRegistry", "live", "access.operation")
    assert [(one["action"], one["name"]) for one in changes["changes"]] == [("changed", "VesselRegistry")]
    with pytest.raises(ProblemError, match="mended mechanically"):
        client.mend("VesselRegistry", "live", "access.operation")
    client.apply({SERVICE: catalogue_files()[SERVICE]})
    assert stage(client) == "live"


def test_two_releases_share_the_calls_and_one_step_goes_back(own: Demo, client: Client) -> None:
    apply(client, SERVICE, "The register of vessels", "The whole register of vessels")
    number = client.release("VesselRegistry")["release"]
    assert stage(client) == "released, not live"
    client.deploy("VesselRegistry", "live", number, share=30)
    with pytest.raises(ProblemError, match="share"):
        client.deploy("VesselRegistry", "rehearsal", 1, share=10)
    for _ in range(100):
        assert post(own, "live").status_code == 200
    count = collections.Counter(one["release"] for one in client.calls("live", "VesselRegistry", limit=100))
    assert count == {1: 70, number: 30}
    place = next(one for one in client.service("VesselRegistry")["deployments"] if one["environment"] == "live")
    assert [(one["release"], one["share"]) for one in place["parts"]] == [(1, 70), (number, 30)]
    assert b"The whole register" not in httpx.get(f"{own.url}/soap/live/VesselRegistry?wsdl").content  # the main one is told of
    assert client.roll_back("VesselRegistry", "live")["release"] == 1
    assert {post(own, "live").status_code for _ in range(5)} == {200}
    assert {one["release"] for one in client.calls("live", "VesselRegistry", limit=5)} == {1}
    client.deploy("VesselRegistry", "rehearsal", number)
    assert client.promote("VesselRegistry", "live")["release"] == number
    assert stage(client) == "live"
    with pytest.raises(ProblemError, match="follows no environment"):
        client.promote("VesselRegistry", "rehearsal")


def test_swapping_and_rolling_back_under_load_loses_no_call(own: Demo, client: Client) -> None:
    stop, statuses, slowest = threading.Event(), list[int](), [0.0]

    def call() -> None:
        with httpx.Client(auth=("harbour-desk", own.token("harbour-desk")), headers={"Content-Type": "text/xml"}) as http:
            while not stop.is_set():
                began = time.perf_counter()
                statuses.append(http.post(f"{own.url}/soap/live/VesselRegistry", content=GET.format(version="")).status_code)
                slowest[0] = max(slowest[0], time.perf_counter() - began)

    threads = [threading.Thread(target=call) for _ in range(6)]
    for one in threads:
        one.start()
    try:
        for _ in range(5):
            client.deploy("VesselRegistry", "live", 1)
            client.deploy("VesselRegistry", "live", 2)
            client.roll_back("VesselRegistry", "live")
    finally:
        stop.set()
        for one in threads:
            one.join(20)
    print(f"\n15 swaps, {len(statuses)} calls, slowest {slowest[0] * 1000:.0f} ms")
    assert set(statuses) == {200}
    assert len({one["release"] for one in client.calls("live", "VesselRegistry", limit=500)}) == 2


def test_rolling_back_twice_goes_back_twice(client: Client) -> None:
    for words in ("second", "third"):
        apply(client, SERVICE, client.export()[SERVICE].splitlines()[1], f"description: The {words} words")
        client.deploy("VesselRegistry", "rehearsal", client.release("VesselRegistry")["release"])
    last = client.service("VesselRegistry")["releases"][0]["number"]
    assert client.roll_back("VesselRegistry", "rehearsal")["release"] == last - 1
    assert client.roll_back("VesselRegistry", "rehearsal")["release"] == last - 2
    client.apply({SERVICE: catalogue_files()[SERVICE]})


def test_a_breaking_change_needs_consent_or_a_version_of_its_own(own: Demo, client: Client) -> None:
    post(own, "live")
    apply(client, KIND, "tanker, passenger]", "tanker]")
    with pytest.raises(ProblemError) as refused:
        client.release("VesselRegistry")
    assert {one.code for one in refused.value.problems} == {"release.breaking"}
    assert {"FindVessels/input/kind", "CreateVessel/input/vessel/kind"} <= {one.place for one in refused.value.problems}
    assert "version: 2" in refused.value.problem.mend
    found = client.compare("VesselRegistry", "live", "draft")
    assert found["verdict"] == "breaking"
    assert next(one for one in found["callers"] if one["caller"] == "harbour-desk")["verdict"] == "compatible"  # it never used FindVessels
    client.call("live", "VesselRegistry", "FindVessels", {"kind": "tug"}, caller="toll-audit")
    found = client.compare("VesselRegistry", "live", "draft")
    assert found["changes"][0]["callers"] == ["toll-audit"]
    assert any(one["path"] == "types/VesselKind.yaml" for one in found["definitions"])

    apply(client, SERVICE, "service: VesselRegistry\n", "service: VesselRegistry\nversion: 2\n")
    made = client.release("VesselRegistry")
    assert (made["version"], made["consent"]) == (2, "")
    with pytest.raises(ProblemError, match="vessels-of-operators"):  # there are passenger vessels still
        client.deploy("VesselRegistry", "live")
    deployed = client.deploy("VesselRegistry", "live", overrule=WHY)
    assert deployed["soap"].endswith("/soap/live/VesselRegistry-v2")
    assert post(own, "live", "VesselRegistry-v2", ":v2").status_code == 200
    assert post(own, "live").status_code == 200  # the first version answers as before
    assert b"urn:larkmere:vessel-registry:v2" in httpx.get(deployed["wsdl"]).content
    row = next(one for one in client.overview()["services"] if one["name"] == "VesselRegistry")
    assert [(one["environment"], one["version"]) for one in row["deployments"]] == [("rehearsal", 1), ("live", 2), ("live", 1)]
    assert client.call("live", "VesselRegistry-v2", "GetVessel", {"registration": "LK-0412"})["status"] == 200
    client.undeploy("VesselRegistry", "live", version=2)
    assert post(own, "live", "VesselRegistry-v2", ":v2").status_code == 404


def test_consent_with_a_reason_opens_the_gate(client: Client) -> None:
    apply(client, SERVICE, "version: 2\n", "")
    made = client.release("VesselRegistry", consent="No passenger vessels are left")
    plan = client.plan("VesselRegistry", "live", made["release"])
    assert [(one["name"], one["outcome"], one["consent"]) for one in plan["gates"]][:2] == [
        ("readiness", "open", ""), ("compatibility", "open", "No passenger vessels are left")]
    assert "environment.skipped" in {one["code"] for one in plan["gates"][0]["findings"]}
    client.deploy("VesselRegistry", "live", made["release"], overrule=WHY)
    client.roll_back("VesselRegistry", "live")


def test_the_end_of_a_service_is_announced_and_friendly(own: Demo, client: Client) -> None:
    client.retire("VesselRegistry", "rehearsal", date(2099, 1, 31), "Use it in live.")
    answer = post(own, "rehearsal")
    assert (answer.status_code, answer.headers["Sunset"]) == (200, "Sat, 31 Jan 2099 00:00:00 GMT")
    assert b"ends on 2099-01-31. Use it in live." in httpx.get(f"{own.url}/soap/rehearsal/VesselRegistry?wsdl").content
    assert "ends on 2099-01-31" in httpx.get(f"{own.url}/soap/rehearsal/VesselRegistry").text
    openapi = httpx.get(f"{own.url}/rest/rehearsal/VesselRegistry/openapi.json").json()
    assert openapi["paths"]["/GetVessel"]["post"]["deprecated"]
    client.retire("VesselRegistry", "rehearsal", date(2026, 1, 1), "Use it in live.")
    answer = post(own, "rehearsal")
    assert answer.status_code == 410
    assert "ended on 2026-01-01" in answer.text
    assert "Use it in live." in answer.text
    assert httpx.post(f"{own.url}/rest/rehearsal/VesselRegistry/GetVessel", json={}).status_code == 410
    row = next(one for one in client.overview()["services"] if one["name"] == "VesselRegistry")
    ended = next(one for one in row["deployments"] if one["environment"] == "rehearsal")
    assert (ended["state"], ended["ails"][0]["words"]) == ("ended", "It ended on 2026-01-01.")
    assert "Has ended" in httpx.get(f"{own.url}/soap/rehearsal").text
    client.retire("VesselRegistry", "rehearsal", None)
    assert post(own, "rehearsal").status_code == 200


def test_context_comes_from_the_environment(own: Demo, client: Client) -> None:
    files = client.export()
    client.apply({SERVICE: files[SERVICE] + "  FindOurs:\n    runs: vessel.search\n    description: Finds vessels of the kind of this site.\n"
                                            "    input:\n      kind: {given: context, value: siteKind}\n"})
    with pytest.raises(ProblemError) as stopped:
        client.deploy("VesselRegistry", "live", client.release("VesselRegistry")["release"])
    assert "context.missing" in [one.code for one in stopped.value.problems]
    client.apply({"environments/live.yaml": files["environments/live.yaml"].replace("protected: true", "protected: true\ncontext: {siteKind: tug}")})
    client.deploy("VesselRegistry", "live", overrule=WHY)
    answer = client.call("live", "VesselRegistry", "FindOurs", {"limit": 50})["answer"]
    assert {one["kind"] for one in answer["vessel"]} == {"tug"}
    assert "siteKind" not in httpx.get(own.address("live") + "?wsdl").text
    changes = client.apply({"environments/live.yaml": client.export()["environments/live.yaml"].replace("siteKind: tug", "siteKind: barge")})
    assert changes[0]["effective"]
    answer = client.call("live", "VesselRegistry", "FindOurs", {"limit": 50})["answer"]
    assert {one["kind"] for one in answer["vessel"]} == {"barge"}


def test_everything_survives_a_restart(own: Demo, client: Client, tmp_path_factory: pytest.TempPathFactory) -> None:
    client.deploy("VesselRegistry", "rehearsal", 1)
    client.deploy("VesselRegistry", "rehearsal", 2, share=25)
    client.retire("VesselRegistry", "rehearsal", date(2099, 1, 31), "Use it in live.")
    client.undeploy("TonnageReport", "rehearsal")
    client.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0412"})
    token = own.token("toll-audit")
    stop_demo(own)
    assert own.process.returncode == 0
    again = start_demo(own.home.parent)
    try:
        own.facts.update(again.facts)
        own.process = again.process
        with Client(own.url) as fresh:
            fresh.sign_in("imke", own.password("imke"))
            place = next(one for one in fresh.service("VesselRegistry")["deployments"] if one["environment"] == "rehearsal")
            gone = next(one for one in fresh.service("TonnageReport")["deployments"] if one["environment"] == "rehearsal")
            assert gone["state"] == "not deployed"
            assert fresh.calls(service="VesselRegistry")[0]["operation"] == "GetVessel"
            assert fresh.call("live", "VesselRegistry", "GetVessel", {"registration": "LK-0001"})["answer"]
        assert again.token("toll-audit") == token
        assert [(one["release"], one["share"]) for one in place["parts"]] == [(1, 75), (2, 25)]
        assert place["ends"] == "2099-01-31"
    except BaseException:
        stop_demo(again)
        raise
