"""Versions side by side, and who is turned away at the door: callers who are known are seen, others are counted."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import pytest

from bricola.client import Client, ProblemError
from tests.serving import Served
from tests.weirs import PLACES, weirs

SERVICE = "service: Weirs\nnamespace: urn:weirs\nversion: 1\naccess: {reader: all}\noperations: {GetWeir: {runs: weir.get}}\n"
FILES = PLACES | {"weirs.yaml": SERVICE}


@pytest.fixture
def served(tmp_path: Path) -> Iterator[Served]:
    with weirs(tmp_path, FILES) as one:
        yield one


def ask(served: Served, service: str, token: str = "", environment: str = "live") -> httpx.Response:
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    return httpx.post(f"{served.url}/rest/{environment}/{service}/GetWeir", json={"id": 1}, headers=headers)


def second_version(admin: Client) -> None:
    admin.apply({"weirs.yaml": SERVICE.replace("version: 1", "version: 2")})
    admin.release("Weirs")
    for place in ("trial", "live"):
        admin.deploy("Weirs", place)


def test_no_other_version_than_the_one_in_view_is_picked(served: Served) -> None:
    with served.client() as admin:
        second_version(admin)
        for act in (lambda: admin.roll_back("Weirs", "live"), lambda: admin.promote("Weirs", "live"), lambda: admin.undeploy("Weirs", "live"),
                    lambda: admin.retire("Weirs", "live", datetime.now(UTC).date() + timedelta(days=9))):
            with pytest.raises(ProblemError, match=r"2 major versions .*--version 1.*--version 2"):
                act()
        with pytest.raises(ProblemError) as caught:
            admin.roll_back("Weirs", "live", version=2)
        assert caught.value.problem.mend.endswith("bricola undeploy Weirs live --version 2")
        admin.undeploy("Weirs-v2", "live")  # as it stands in addresses
        [place] = [one for one in admin.service("Weirs")["deployments"] if one["environment"] == "live"]
        assert (place["version"], place["state"]) == (1, "serving")
        assert admin.promote("Weirs", "live", version=2)["version"] == 2
        admin.undeploy("Weirs", "live", version=1)
        admin.undeploy("Weirs", "live")  # the only one that is left


def test_calls_tell_the_versions_apart(served: Served) -> None:
    with served.client() as admin:
        second_version(admin)
        desk = admin.new_token("desk")
        for service, times in (("Weirs", 2), ("Weirs-v2", 3)):
            assert [ask(served, service, desk).status_code for _ in range(times)] == [200] * times
        assert sorted(one["service"] for one in admin.calls()) == ["Weirs"] * 2 + ["Weirs-v2"] * 3
        assert [one["calls"] for one in admin.callers_of("Weirs", "live")] == [2]
        assert [one["calls"] for one in admin.callers_of("Weirs-v2", "live")] == [3]
        rows = {(one["environment"], one["version"]): one["figures"] for one in admin.overview()["services"][0]["deployments"]}
        assert {place: figures["calls"] for place, figures in rows.items() if figures} == {("live", 1): 2, ("live", 2): 3}


def test_who_is_known_is_seen_at_the_door_and_others_are_counted(served: Served) -> None:
    with served.client() as admin:
        desk, pilots = admin.new_token("desk"), admin.new_token("pilots")
        assert ask(served, "Weirs", pilots).status_code == 403
        admin.revoke_token("desk", desk[:9])
        refused = ask(served, "Weirs", desk)
        assert (refused.status_code, 'of desk was revoked' in refused.text) == (401, True)
        fresh = admin.new_token("desk")
        admin.retire("Weirs", "live", datetime.now(UTC).date())
        assert ask(served, "Weirs", fresh).status_code == 410
        assert ask(served, "Gone", fresh).status_code == 404
        seen = [(one["caller"], one["service"], one["status"], one["fault"]) for one in admin.calls()]
        assert seen == [("desk", "Gone", 404, "service.unknown"), ("desk", "Weirs", 410, "service.retired"),
                        ("desk", "Weirs", 401, "caller.revoked"), ("pilots", "Weirs", 403, "caller.role")]
        for token in ("", "guess", "guess", "guess"):
            assert ask(served, "Weirs", token, "trial").status_code == 401
        assert ask(served, "Gone").status_code == 404
        assert len(admin.calls()) == len(seen), "strangers do not fill the log"
        counted = {(one["environment"], one["service"]): one["count"] for one in admin.overview()["strangers"]}
        assert counted == {("trial", "Weirs"): 4, ("", ""): 1}
        assert 'bricola_strangers_total{environment="trial",service="Weirs"} 4.0' in served.http().get("/metrics").text
