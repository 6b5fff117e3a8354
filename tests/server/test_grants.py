"""Who may call what: said for an environment and in effect at once, whatever a release says, with a word about who loses what."""

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest

from bricola.client import ProblemError
from tests.serving import Served
from tests.weirs import PLACES, weirs

FILES = PLACES | {
    "weirs.yaml": "service: Weirs\nnamespace: urn:weirs\naccess: {reader: all}\n"
                  "operations: {GetWeir: {runs: weir.get}, AskWeir: {runs: weir.check}}\n",
}


@pytest.fixture
def served(tmp_path: Path) -> Iterator[Served]:
    with weirs(tmp_path, FILES) as one:
        yield one


def status(served: Served, token: str, environment: str, operation: str = "GetWeir") -> int:
    address, who = f"{served.url}/rest/{environment}/Weirs/{operation}", {"Authorization": f"Bearer {token}"}
    return httpx.post(address, json={"id": 1}, headers=who).status_code


def test_a_grant_is_in_effect_at_once_and_in_its_environment_only(served: Served) -> None:
    with served.client() as admin:
        desk, pilots = admin.new_token("desk"), admin.new_token("pilots")
        assert (status(served, desk, "live"), status(served, pilots, "live")) == (200, 403)
        plan = admin.grant("live", "Weirs", "pilot", ["GetWeir"], plan_only=True)
        assert [(one["words"], one["callers"]) for one in plan["rights"]] == [("pilot may call GetWeir of Weirs in live.", ["pilots"])]
        assert status(served, pilots, "live") == 403, "a plan does nothing"
        admin.grant("live", "Weirs", "pilot", ["GetWeir"])
        assert (status(served, desk, "live"), status(served, pilots, "live"), status(served, pilots, "trial")) == (200, 200, 403)
        assert status(served, pilots, "live", "AskWeir") == 403
        taken = admin.grant("live", "Weirs", "reader", [], plan_only=True)["rights"]
        assert [(one["operation"], one["gained"], one["used_by"]) for one in taken] == [("GetWeir", False, ["desk"]), ("AskWeir", False, [])]
        admin.grant("live", "Weirs", "reader", [])
        assert (status(served, desk, "live"), status(served, desk, "trial")) == (403, 200)
        admin.deploy("Weirs", "live")  # what the release says changes nothing of it
        assert status(served, desk, "live") == 403
        text = admin.export()["access/live.yaml"]
        assert text == "access: live\nservices:\n  Weirs: {pilot: [GetWeir]}\n"
        lost = [one["message"] for one in admin.plan_changes({"access/live.yaml": text.replace("[GetWeir]", "[AskWeir]")})["breaks"]]
        assert lost == ["pilot may no longer call GetWeir of Weirs in live."]
        with pytest.raises(ProblemError, match="Did you mean GetWeir"):
            admin.grant("live", "Weirs", "pilot", ["GetWier"])
        assert "access.overruled" in [one["code"] for one in admin.review("Weirs", "live")]


def test_what_services_state_is_moved_with_a_plan_and_nobody_notices(served: Served) -> None:
    with served.client() as admin:
        desk = admin.new_token("desk")
        assert [(one["environment"], one["said_in"]) for one in admin.access()] == [("trial", "service"), ("live", "service")]
        plan = admin.move_access(plan_only=True)
        assert (plan["rights"], sorted(one["kind"] for one in plan["changes"])) == ([], ["access", "access", "service"])
        admin.move_access()
        assert [(one["environment"], one["said_in"]) for one in admin.access()] == [("trial", "environment"), ("live", "environment")]
        assert "access:" not in admin.export()["weirs.yaml"]
        assert not [one for one in admin.review("Weirs", "live") if one["code"].startswith("access.")]
        admin.release("Weirs")  # no caller loses anything, so no consent is asked for
        admin.deploy("Weirs", "live")
        assert (status(served, desk, "live"), status(served, desk, "trial")) == (200, 200)
        with pytest.raises(ProblemError, match="already"):
            admin.move_access()


def test_grants_that_are_given_at_the_same_moment_all_hold(served: Served) -> None:
    roles = [f"role-{number}" for number in range(8)]

    def grant(role: str) -> None:
        with served.client() as admin:
            admin.grant("live", "Weirs", role, ["GetWeir"])

    with ThreadPoolExecutor(len(roles)) as at_once:
        list(at_once.map(grant, roles))
    with served.client() as admin:
        place = next(one for one in admin.access() if (one["environment"], one["service"]) == ("live", "Weirs"))
    assert {one["role"] for one in place["roles"]} == {"reader", *roles}


def test_what_was_made_meanwhile_is_nobodys_to_remove(served: Served) -> None:
    with served.client() as admin:
        files, revisions = admin.export_with_revisions()
        admin.apply({"second.yaml": FILES["live.yaml"].replace("environment: live", "environment: second")})
        with pytest.raises(ProblemError) as caught:
            admin.apply(files, remove_others=True, based_on=revisions)
        assert (caught.value.problem.code, caught.value.problem.place) == ("definition.changed-meanwhile", "second.yaml")
        assert "second.yaml" in admin.export()
