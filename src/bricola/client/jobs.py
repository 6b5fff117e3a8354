"""Jobs: accepted calls that are done later."""

from typing import TYPE_CHECKING, Any, cast

from bricola.client.transport import ApiConnection

if TYPE_CHECKING:
    from bricola.api import jobs as answers


class JobCalls(ApiConnection):
    """The part of the management API about jobs."""

    def jobs(self, environment: str = "", service: str = "", state: str = "", before: float | None = None,
             limit: int = 50) -> "list[answers.Job]":
        """The newest first; `before` is seconds since 1970."""
        params = {"environment": environment, "service": service, "state": state, "limit": limit,
                  **({"before": before} if before is not None else {})}
        return cast("list[answers.Job]", self._ask("GET", "/jobs", params=params))

    def job(self, job: str) -> "answers.JobDetail":
        """One with its journal."""
        return cast("answers.JobDetail", self._ask("GET", f"/jobs/{job}"))

    def decide_job(self, job: str, act: str, answer: dict[str, Any] | None = None) -> "answers.Job":
        """cancel, again, stored (with the answer of the step), not stored, leave."""
        return cast("answers.Job", self._ask("POST", f"/jobs/{job}", json={"act": act, "answer": answer}))
