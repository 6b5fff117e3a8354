"""Test suites and their runs."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, cast

from bricola.client.transport import ApiConnection, Json

if TYPE_CHECKING:
    from bricola.api import testing as answers


class SuiteCalls(ApiConnection):
    """The part of the management API about tests."""

    def suites(self) -> "list[answers.Suite]":
        return cast("list[answers.Suite]", self._ask("GET", "/suites"))

    def suite(self, name: str) -> "answers.SuiteDetail":
        """One with its cases and its runs."""
        return cast("answers.SuiteDetail", self._ask("GET", f"/suites/{name}"))

    def keep_case(self, suite: str, case: str, tried: Json | None = None, call: str = "", film: str = "", environment: str = "",
                  stand_ins: bool = False, replace: bool = False) -> "answers.KeptCase":
        """Make a case, as a draft: of a call that was tried (what `call` was given and answered), of one of the log by its number, or of
        the film of what an operation runs."""
        body = {"tried": tried, "call": call, "film": film, "environment": environment, "stand_ins": stand_ins, "replace": replace}
        return cast("answers.KeptCase", self._ask("POST", f"/suites/{suite}/cases/{case}", json=body))

    def case_request(self, suite: str, case: str, environment: str) -> "answers.CaseForms":
        """A case as a request to be sent from outside."""
        return cast("answers.CaseForms", self._ask("GET", f"/suites/{suite}/cases/{case}/request", params={"environment": environment}))

    def judge_reply(self, suite: str, case: str, environment: str, status: int, body: str, headers: dict[str, str],
                    seconds: float) -> "answers.JudgedReply":
        """Whether a reply that came elsewhere is what the case expects."""
        sent = {"environment": environment, "status": status, "body": body, "headers": headers, "seconds": seconds}
        return cast("answers.JudgedReply", self._ask("POST", f"/suites/{suite}/cases/{case}/reply", json=sent))

    def mend_suite(self, name: str, plan_only: bool = False) -> "answers.Mended":
        """Mend what can be mended of a suite that does not fit its service any more, as a draft."""
        return cast("answers.Mended", self._ask("POST", f"/suites/{name}/mend", params={"plan_only": plan_only}))

    def begin_tests(self, environment: str, services: Sequence[str] = (), suites: Sequence[str] = (), only: Sequence[str] = (),
                    generated: bool = False, random: int = 0, seed: int = 0, at_once: int | None = None) -> "answers.TestRun":
        """Begin a run of suites, or of tests generated from the contracts. It goes on by itself."""
        body = {"environment": environment, "services": list(services), "suites": list(suites), "only": list(only), "generated": generated,
                "random": random, "seed": seed, **({"at_once": at_once} if at_once is not None else {})}
        return cast("answers.TestRun", self._ask("POST", "/test-runs", json=body))

    def test_run(self, number: int, after: int = 0) -> "answers.TestRunDetail":
        """A run with its results from a number on."""
        return cast("answers.TestRunDetail", self._ask("GET", f"/test-runs/{number}", params={"after": after}))

    def test_runs(self, environment: str = "", suite: str = "", limit: int = 50) -> "list[answers.TestRun]":
        """The newest first."""
        params = {"environment": environment, "suite": suite, "limit": limit}
        return cast("list[answers.TestRun]", self._ask("GET", "/test-runs", params=params))

    def stop_tests(self, number: int) -> "answers.TestRunDetail":
        """End a run that is under way; answers what was done."""
        return cast("answers.TestRunDetail", self._ask("DELETE", f"/test-runs/{number}"))
