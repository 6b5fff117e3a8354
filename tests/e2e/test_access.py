"""Who may: callers with limits and rotating tokens, users, throttled sign-in, the audit trail."""

import base64
import threading
import time
from collections.abc import Iterator

import httpx
import pytest

from bricola.client import Client, ProblemError
from bricola.client.services import ServiceClient
from tests.conftest import Demo, copied_demo, stop_demo


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "access")
    yield running
    stop_demo(running)


@pytest.fixture
def client(own: Demo) -> Iterator[Client]:
    with Client(own.url) as made:
        made.sign_in("imke", own.password("imke"))
        yield made


def get(own: Demo, token: str) -> httpx.Response:
    return httpx.post(own.address("live", "rest") + "/GetVessel", json={"registration": "LK-0412"},
                      headers={"Authorization": f"Bearer {token}"})


def test_a_token_rotates_with_overlap_expires_and_is_revoked(own: Demo, client: Client) -> None:
    client.save_caller("barge-board", ["registry-clerk"])
    old = client.new_token("barge-board")
    assert get(own, old).status_code == 200
    made = client.rotate_token("barge-board", overlap_hours=1)
    assert {get(own, one).status_code for one in (old, made["token"])} == {200}
    client.rotate_token("barge-board", overlap_hours=0)
    refused = get(own, old)
    assert (refused.status_code, refused.json()["problems"][0]["code"]) == (401, "caller.expired")
    tokens = next(one for one in client.callers() if one["name"] == "barge-board")["tokens"]
    assert tokens[0]["last_used_at"]
    assert old not in str(client.callers())
    short = client.new_token("barge-board", days=0.00001)
    time.sleep(1.0)
    assert get(own, short).json()["problems"][0]["code"] == "caller.expired"
    revoked = client.new_token("barge-board")
    client.revoke_token("barge-board", revoked[:9])
    assert get(own, revoked).json()["problems"][0]["code"] == "caller.revoked"
    client.remove_caller("barge-board")


def test_networks_rates_and_parallel_calls_are_limited(own: Demo, client: Client) -> None:
    client.save_caller("quay-kiosk", ["registry-clerk"], networks=["10.20.0.0/16"])
    token = client.new_token("quay-kiosk")
    answer = get(own, token)
    assert (answer.status_code, answer.json()["problems"][0]["code"]) == (403, "caller.network")
    client.save_caller("quay-kiosk", ["registry-clerk"], networks=["127.0.0.0/8"], per_minute=3)
    assert [get(own, token).status_code for _ in range(4)] == [200, 200, 200, 429]
    limited = get(own, token)
    assert limited.headers["Retry-After"]
    assert "at most 3 calls a minute" in limited.text
    soap = httpx.post(own.address("live"), content="<x/>", headers={"Content-Type": "text/xml", "Authorization": f"Bearer {token}"})
    assert soap.status_code == 429
    client.save_caller("quay-kiosk", ["registry-clerk", "auditor"], parallel=1)
    statuses: list[int] = []

    def call() -> None:
        with ServiceClient(f"{own.url}/rest/live/TonnageReport", token) as service:
            for _ in range(10):
                try:
                    service.call("GetTonnage", fromDate="2023-11-01", toDate="2026-10-31")  # long enough to meet others
                    statuses.append(200)
                except ProblemError as error:
                    statuses.append(error.problem.kind.http_status)

    threads = [threading.Thread(target=call) for _ in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert set(statuses) == {200, 429}
    assert get(own, token).status_code == 200  # none of the refused ones was left counted in
    with pytest.raises(ProblemError, match="not a network"):
        client.save_caller("quay-kiosk", [], networks=["10.20.0.1/16"])
    client.remove_caller("quay-kiosk")
    assert get(own, token).status_code == 401


def test_roles_say_what_they_grant_and_who_has_them(client: Client) -> None:
    roles = {one["role"]: one for one in client.roles()}
    assert roles["auditor"]["grants"] == {"VesselRegistry": ["GetVessel", "FindVessels", "FindVesselsByOperator", "ListPassages"],
                                          "TonnageReport": ["GetTonnage", "ListTonnagePassages"], "MovementSummary": ["Summarise"]}
    assert roles["auditor"]["callers"] == ["night-batch", "toll-audit"]
    assert roles["lock-desk"]["grants"] == {"TollCalculator": ["CalculateToll"], "BerthDesk": ["GetBerth"], "LockLedger": ["GetVesselLedger"], "GaugeReadings": ["GetLevel"],
                                            "NoticeBoard": ["ListNotices", "PostNotice"], "MovementSummary": ["Summarise"],
                                            "PassageBooking": ["BookPassage"], "PassageStatus": ["GetStatuses"]}


def test_users_change_and_their_sessions_end(own: Demo, client: Client) -> None:
    client.add_user("pim", "towpath-lantern", "viewer")
    with Client(own.url) as pim:
        pim.sign_in("pim", "towpath-lantern")
        with pytest.raises(ProblemError, match="may not do this"):
            pim.release("VesselRegistry")
        client.change_user("pim", role="integrator")
        with pytest.raises(ProblemError, match="Nothing changed"):
            pim.release("VesselRegistry")
        assert len(pim.sessions("pim")) == 1
        with pytest.raises(ProblemError, match="Only an admin"):
            pim.sessions("imke")
        client.end_session("pim", pim.sessions("pim")[0]["session"])
        with pytest.raises(ProblemError, match="Sign in first"):
            pim.who()
        pim.sign_in("pim", "towpath-lantern")
        client.change_user("pim", password="another-lantern")
        with pytest.raises(ProblemError, match="Sign in first"):
            pim.who()
    client.remove_user("pim")
    with pytest.raises(ProblemError, match="only admin"):
        client.remove_user("imke")


def test_guessing_passwords_becomes_slow(own: Demo) -> None:
    answers = [httpx.post(f"{own.url}/api/v1/session", json={"name": "sanna", "password": f"guess {n}"}) for n in range(6)]
    assert [one.status_code for one in answers] == [401] * 5 + [429]
    assert answers[-1].json()["problems"][0]["code"] == "user.throttled"


def test_the_audit_trail_tells_who_what_before_and_after(client: Client) -> None:
    client.save_caller("tide-table", ["auditor"])
    client.save_caller("tide-table", ["auditor", "lock-desk"], per_minute=60)
    newest, older = client.audit("caller tide-table")
    assert (newest["who"], newest["action"]) == ("imke", "change")
    assert newest["before"]["roles"] == ["auditor"]
    assert newest["after"] == {"roles": ["auditor", "lock-desk"], "networks": [], "per_minute": 60, "parallel": None}
    assert (older["action"], older["before"]) == ("add", None)
    assert all(one["subject"].startswith("caller ") for one in client.audit("caller"))
    text = client.export()["types/VesselKind.yaml"]
    client.apply({"types/VesselKind.yaml": text.replace("Kind of vessel", "Which kind")})
    entry = client.audit("type VesselKind")[0]
    assert (entry["before"], "Which kind" in entry["after"]) == (text, True)


def test_two_people_who_edit_never_overwrite_each_other(own: Demo, client: Client) -> None:
    files, revisions = client.export_with_revisions()
    path, other = "registry/VesselRegistry.yaml", "types/OperatorNumber.yaml"
    with Client(own.url) as teo:
        teo.sign_in("teo", own.password("teo"))
        teo.apply({path: files[path].replace("Registry office", "Harbour office")}, based_on=revisions)
        teo.apply({other: files[other].replace("Number of an operator", "An operator's number")}, based_on=revisions)
    mine = files | {path: files[path].replace("Registry office", "Archive")}
    for plan_only in (True, False):
        with pytest.raises(ProblemError) as conflict:
            client.apply(mine, plan_only=plan_only, based_on=revisions)
        problem = conflict.value.problem
        assert (problem.code, problem.place) == ("definition.changed-meanwhile", path)
        assert "teo changed the service VesselRegistry" in problem.message
        assert "+ owner: Harbour office" in problem.found
    changes = client.apply({other: files[other]}, based_on=revisions)
    assert [one["action"] for one in changes] == ["kept"]  # left alone by this author: the newer text stays
    assert "An operator's number" in client.export()[other]
    assert [one["author"] for one in client.revisions("service", "VesselRegistry")][:1] == ["teo"]


def test_a_bundle_is_taken_whole_or_not_at_all(client: Client) -> None:
    before = client.export()
    half = before | {"types/VesselKind.yaml": before["types/VesselKind.yaml"].replace("Kind of", "Sort of"), "broken.yaml": "object: weir\nbackend"}
    with pytest.raises(ProblemError):
        client.apply(half)
    assert client.export() == before


def test_which_calls_leave_a_record_is_a_live_setting(own: Demo, client: Client) -> None:
    text = client.export()["environments/live.yaml"]
    client.apply({"environments/live.yaml": text.replace("protected: true", "protected: true\nrecords: {of: faults}")})

    def recorded() -> list[str]:
        return [one["id"] for one in client.calls("live", "VesselRegistry", limit=500)]

    known, counted = recorded(), httpx.get(own.url + "/metrics").text
    call = get(own, own.token("harbour-desk")).headers["Call-Id"]
    wrong = httpx.post(own.address("live", "rest") + "/GetVessel", json={}, headers={"Authorization": f"Bearer {own.token('harbour-desk')}"})
    assert [one for one in recorded() if one not in known] == [wrong.headers["Call-Id"]]
    assert call not in recorded()
    assert httpx.get(own.url + "/metrics").text != counted  # counted all the same
    client.apply({"environments/live.yaml": text})


def test_what_was_wrong_in_a_secret_is_never_repeated(own: Demo, client: Client) -> None:
    with pytest.raises(ProblemError) as refused:
        client.add_credential("long", "weir" * 30_000, user="x")
    assert "weirweir" not in str(refused.value.problems)


def test_one_file_holds_one_definition(client: Client) -> None:
    text = client.export()["types/VesselKind.yaml"]
    renamed = {"types/VesselKind.yaml": text.replace("type: VesselKind", "type: ShipKind")}
    with pytest.raises(ProblemError, match="the file of the type VesselKind"):
        client.apply(renamed)
    assert client.export()["types/VesselKind.yaml"] == text


def test_basic_credentials_still_name_the_right_caller(own: Demo) -> None:
    header = base64.b64encode(f"toll-audit:{own.token('harbour-desk')}".encode()).decode()
    answer = httpx.post(own.address("live", "rest") + "/GetVessel", json={}, headers={"Authorization": f"Basic {header}"})
    assert answer.status_code == 401
