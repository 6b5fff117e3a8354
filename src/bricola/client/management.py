"""The management API as Python calls. Every method raises ProblemError with all causes that the service names."""

from datetime import date
from typing import TYPE_CHECKING, cast

from bricola.client.bringing import BringingCalls
from bricola.client.contracts import ContractCalls
from bricola.client.discovery import DiscoveryCalls
from bricola.client.jobs import JobCalls
from bricola.client.people import PeopleCalls
from bricola.client.programs import ProgramCalls
from bricola.client.running import RunningCalls
from bricola.client.screens import ScreenCalls
from bricola.client.suites import SuiteCalls
from bricola.client.transport import Json, raise_problems, send

if TYPE_CHECKING:
    from bricola.api import bench, definitions, services
    from bricola.api import calls as call_answers
    from bricola.api import workflows as writing


class Client(PeopleCalls, RunningCalls, DiscoveryCalls, ScreenCalls, ContractCalls, JobCalls, BringingCalls, SuiteCalls,
             ProgramCalls):
    """A connection to one Bricola. `token` comes from `sign_in` or from the service's users page."""

    # definitions

    def apply(self, files: dict[str, str], remove_others: bool = False, plan_only: bool = False,
              based_on: dict[str, int] | None = None) -> "list[definitions.Change]":
        """Make drafts of definition files (path -> YAML); answers what changes, or would with `plan_only`.

        `based_on` is what `revisions` answered when the files were taken; with it, what somebody saved since then is a
        conflict and is never overwritten."""
        body = {"files": files, "remove_others": remove_others, "plan_only": plan_only, "based_on": based_on}
        return cast("list[definitions.Change]", self._ask("POST", "/definitions", json=body)["changes"])

    def plan_changes(self, files: dict[str, str], remove_others: bool = False,
                     based_on: dict[str, int] | None = None) -> "definitions.Applied":
        """What applying these files would change, and what it would break elsewhere. Nothing is stored."""
        body = {"files": files, "remove_others": remove_others, "plan_only": True, "based_on": based_on}
        return cast("definitions.Applied", self._ask("POST", "/definitions", json=body))

    def export(self) -> dict[str, str]:
        return dict(self._ask("GET", "/definitions")["files"])

    def export_with_revisions(self) -> tuple[dict[str, str], dict[str, int]]:
        """The files, and the revision of each definition by 'kind name'."""
        found = self._ask("GET", "/definitions")
        return dict(found["files"]), dict(found["revisions"])

    def compare_folder(self, files: dict[str, str]) -> "list[definitions.FileDifference]":
        """How files differ from the drafts, line by line."""
        return cast("list[definitions.FileDifference]", self._ask("POST", "/definitions/comparison", json={"files": files}))

    def copy(self, kind: str, name: str, new: str, folder: str | None = None) -> "list[definitions.Change]":
        """A further draft that is equal but for its name."""
        return cast("list[definitions.Change]", self._ask("POST", f"/definitions/{kind}/{name}/copy",
                                                          json={"name": new, "folder": folder})["changes"])

    def publish(self, runs: str, service: str, operation: str = "", role: str = "", plan_only: bool = False) -> "definitions.Published":
        """Make a source ('workflow price-toll') an operation of a service, new or known, as a draft."""
        body = {"runs": runs, "service": service, "operation": operation, "role": role, "plan_only": plan_only}
        return cast("definitions.Published", self._ask("POST", "/publish", json=body))

    def surround(self, service: str, before: str = "", after: str = "", unforeseen: str = "") -> "definitions.Changes":
        """Say what is run before and after every operation of a service, and which handler is told of failures, as a draft."""
        return cast("definitions.Changes", self._ask("PUT", f"/services/{service}/around",
                                                     json={"before": before, "after": after, "unforeseen": unforeseen}))

    def workflows(self) -> "list[writing.Workflow]":
        return cast("list[writing.Workflow]", self._ask("GET", "/workflows"))

    def look(self, name: str, text: str | None = None, definition: Json | None = None, call: str = "") -> "writing.WorkflowLook":
        """A look at a workflow that need not be sound: the draft, a text, or JSON data; with values of a recorded call."""
        body = {"text": text, "definition": definition, "call": call}
        return cast("writing.WorkflowLook", self._ask("POST", f"/workflows/{name}/look", json=body))

    def try_in_place(self, name: str, step: str, expression: str | None = None, part: str = "", text: str | None = None,
                     definition: Json | None = None, call: str = "") -> "writing.Tried":
        """What an expression, or a map of a step, gives before a step."""
        body = {"step": step, "expression": expression, "part": part, "text": text, "definition": definition, "call": call}
        return cast("writing.Tried", self._ask("POST", f"/workflows/{name}/try", json=body))

    def run_draft(self, name: str, environment: str, values: Json | None = None, trial: bool = True, text: str | None = None,
                  definition: Json | None = None) -> "writing.DraftRun":
        """Run a workflow as it is written, on the backends of an environment; a trial stores nothing."""
        body = {"environment": environment, "values": values, "trial": trial, "text": text, "definition": definition}
        return cast("writing.DraftRun", self._ask("POST", f"/workflows/{name}/run", json=body))

    def try_expression(self, expression: str, sample: Json) -> "writing.Tried":
        return cast("writing.Tried", self._ask("POST", "/expressions/try", json={"expression": expression, "sample": sample}))

    def revisions(self, kind: str, name: str) -> "list[definitions.Revision]":
        return cast("list[definitions.Revision]", self._ask("GET", f"/definitions/{kind}/{name}/revisions"))

    def review(self, service: str, environment: str = "") -> "list[definitions.Finding]":
        return cast("list[definitions.Finding]", self._ask("GET", f"/services/{service}/review", params={"environment": environment}))

    def take_context(self, name: str, environment: str, plan_only: bool = False) -> "definitions.Changes":
        """Read the names and values of a context list from its table in an environment; in effect at once."""
        return cast("definitions.Changes", self._ask("POST", f"/context-lists/{name}/take/{environment}", json={"plan_only": plan_only}))

    def uses(self, service: str, environment: str) -> "list[definitions.UsedBackend]":
        """The backends of a draft in an environment, and when it was last held against each."""
        return cast("list[definitions.UsedBackend]", self._ask("GET", f"/services/{service}/uses", params={"environment": environment}))

    def mend(self, service: str, environment: str = "", code: str = "", settings: bool = False,
             plan_only: bool = False) -> "definitions.Mends":
        """Do the mends that are mechanical; those of environments, which take effect at once, only with `settings`."""
        body = {"environment": environment, "code": code, "settings": settings, "plan_only": plan_only}
        return cast("definitions.Mends", self._ask("POST", f"/services/{service}/mend", json=body))

    # services

    def kinds(self) -> "list[definitions.KindEntry]":
        """The kinds of source that the service knows."""
        return cast("list[definitions.KindEntry]", self._ask("GET", "/kinds"))

    def overview(self) -> "services.Overview":
        return cast("services.Overview", self._ask("GET", "/overview"))

    def service(self, name: str) -> "services.ServiceDetail":
        return cast("services.ServiceDetail", self._ask("GET", f"/services/{name}"))

    def operations(self, service: str, environment: str = "") -> "list[services.Operation]":
        return cast("list[services.Operation]", self._ask("GET", f"/services/{service}/operations", params={"environment": environment}))

    def callers_of(self, service: str, environment: str = "", days: int = 30) -> "list[call_answers.Usage]":
        """Who called which operation in the last days."""
        return cast("list[call_answers.Usage]",
                    self._ask("GET", f"/services/{service}/callers", params={"environment": environment, "days": days}))

    def release(self, service: str, notes: str = "", consent: str = "") -> "services.Released":
        """Freeze the draft. `consent` is the reason why a breaking change is let through."""
        return cast("services.Released", self._ask("POST", f"/services/{service}/releases", json={"notes": notes, "consent": consent}))

    def compare(self, service: str, old: str, new: str = "draft") -> "services.Comparison":
        """From one to the other, each a release number, 'draft' or an environment: differences, verdict, callers."""
        return cast("services.Comparison", self._ask("GET", f"/services/{service}/comparison", params={"old": old, "new": new}))

    def plan(self, service: str, environment: str, release: int | None = None) -> "services.Plan":
        """What a deployment would do, and its gates."""
        params: Json = {"environment": environment} | ({} if release is None else {"release": release})
        return cast("services.Plan", self._ask("GET", f"/services/{service}/deployment-plan", params=params))

    def deploy(self, service: str, environment: str, release: int | None = None, share: int = 100,
               consent: str = "", overrule: str = "") -> "services.Deployed":
        """Make a release live, the newest when none is given; with a share below 100 beside what is live. `overrule` is the reason why
        tests that fail do not stop it."""
        body = {"environment": environment, "release": release, "share": share, "consent": consent, "overrule": overrule}
        return cast("services.Deployed", self._ask("POST", f"/services/{service}/deployments", json=body))

    def roll_back(self, service: str, environment: str, version: int | None = None) -> "services.Deployed":
        return cast("services.Deployed",
                    self._ask("POST", f"/services/{service}/deployments/{environment}/rollback", json={"version": version}))

    def promote(self, service: str, environment: str, consent: str = "", version: int | None = None,
                overrule: str = "") -> "services.Deployed":
        """Make live there what is live in the environment that it follows."""
        body = {"version": version, "consent": consent, "overrule": overrule}
        return cast("services.Deployed", self._ask("POST", f"/services/{service}/deployments/{environment}/promotion", json=body))

    def retire(self, service: str, environment: str, on: date | None, words: str = "",
               version: int | None = None) -> "services.AnnouncedEnd":
        """Announce the end of a service in an environment; None takes it back."""
        body = {"on": on.isoformat() if on else None, "words": words, "version": version}
        return cast("services.AnnouncedEnd", self._ask("PUT", f"/services/{service}/deployments/{environment}/end", json=body))

    def undeploy(self, service: str, environment: str, version: int | None = None) -> None:
        """Take one major version out; None is the only one that is deployed there."""
        params = {} if version is None else {"version": version}
        self._ask("DELETE", f"/services/{service}/deployments/{environment}", params=params)

    def deployments(self, limit: int = 50) -> "list[services.Deployment]":
        return cast("list[services.Deployment]", self._ask("GET", "/deployments", params={"limit": limit}))

    def contract(self, service: str, environment: str = "", release: int | None = None, soap: str = "") -> bytes:
        """The WSDL: live in an environment, of a release, or of the draft; with `soap` 1.1 or 1.2 of that version alone."""
        params = {"environment": environment, "soap": soap} | ({} if release is None else {"release": str(release)})
        response = send(self._http, "GET", f"/services/{service}/contract", params=params)
        raise_problems(response)
        return response.content

    def contract_zip(self, service: str, environment: str) -> tuple[str, bytes]:
        """All documents of the contract that is live there as a zip, with the name that the service gives it."""
        response = send(self._http, "GET", f"/services/{service}/contract.zip", params={"environment": environment})
        raise_problems(response)
        return response.headers["content-disposition"].partition('filename="')[2].rstrip('"'), response.content

    def sample(self, service: str, operation: str, environment: str = "", soap: str = "1.1") -> "services.Sample":
        params = {"environment": environment, "soap": soap}
        return cast("services.Sample", self._ask("GET", f"/services/{service}/sample/{operation}", params=params))

    def call(self, environment: str, service: str, operation: str, values: Json | None = None, caller: str = "",
             soap: str = "1.1", envelope: str | None = None, trial: bool = False, request_id: str = "") -> "bench.BenchAnswer":
        """Send a test request through the real endpoint; answers both envelopes, status, time, answer or fault.

        With `trial` a write runs and is rolled back; with a `request_id` it is done at most once."""
        body = {"environment": environment, "service": service, "operation": operation, "values": values or {},
                "caller": caller, "soap": soap, "envelope": envelope, "trial": trial, "request_id": request_id}
        return cast("bench.BenchAnswer", self._ask("POST", "/bench", json=body))

    def keys(self, environment: str, service: str, operation: str, name: str, search: str = "", limit: int = 20) -> "bench.Keys":
        """Real keys for an input that holds the key of an object."""
        params: Json = {"environment": environment, "input": name, "search": search, "limit": limit}
        return cast("bench.Keys", self._ask("GET", f"/services/{service}/operations/{operation}/keys", params=params))

    def ask_outside(self, environment: str, service: str, operation: str, values: Json, envelope: str | None = None, soap: str = "1.1",
                    ours: str = "", writes: bool = False) -> "bench.OutsideAnswer":
        """What the other side of a relay answers to the same request itself; `ours` is the envelope that was answered here."""
        body = {"environment": environment, "service": service, "operation": operation, "values": values, "envelope": envelope,
                "soap": soap, "ours": ours, "writes": writes}
        return cast("bench.OutsideAnswer", self._ask("POST", "/bench/outside", json=body))

    def compare_with_source(self, environment: str, service: str, operation: str, values: Json, answer: Json) -> "bench.RowComparison":
        """An answer beside the rows that it came from, field by field."""
        body = {"environment": environment, "service": service, "operation": operation, "values": values, "answer": answer}
        return cast("bench.RowComparison", self._ask("POST", "/bench/comparison", json=body))

    def calls(self, environment: str = "", service: str = "", caller: str = "", failed: bool = False,
              limit: int = 50) -> "list[call_answers.Call]":
        params: Json = {"environment": environment, "service": service, "caller": caller, "failed": failed, "limit": limit}
        return cast("list[call_answers.Call]", self._ask("GET", "/calls", params=params))

    def one_call(self, call: str) -> "call_answers.CallDetail":
        return cast("call_answers.CallDetail", self._ask("GET", f"/calls/{call}"))
