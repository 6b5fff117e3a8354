"""The gates of a deployment: the readiness review, compatibility with what is live, and the test suites."""

import asyncio
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from bricola.api.words import GateOutcome
from bricola.core.definitions.access import AccessDefinition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.contexts import ContextList
from bricola.core.definitions.model import EnvironmentDefinition, TestGate, segment_of
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.problems import Kind, Problem
from bricola.core.review import Finding, Severity, review
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import Pipeline
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.changes import Changes
from bricola.server.ports.credentials import Credentials
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.films import Films
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.ports.storage import Storage
from bricola.server.ports.suites import TestRuns
from bricola.server.settings import Settings
from bricola.server.usecases import suites
from bricola.server.usecases.compare import breaking_changes, released_side
from bricola.server.usecases.doors import StagedDoor
from bricola.server.usecases.reviews import gather_facts
from bricola.store.releases import StoredRelease

_MOST_TOLD = 10  # failures of a gate, one by one


class Ports(Protocol):
    storage: Storage
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    changes: Changes
    people: People
    credentials: Credentials
    calls: Calls
    films: Films
    settings: Settings
    pipeline: Pipeline
    test_runs: TestRuns


@dataclass(frozen=True)
class Gate:
    """One thing that a release must pass. Its outcome is open, closed, consent (a reason opens it), or due (it is tried when the release is
    deployed). `run` is the test run that says so; what tests close is `overruled` with a reason."""

    name: str
    outcome: GateOutcome
    findings: list[Finding] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    consent: str = ""  # the reason that was given for letting the problems through
    run: int | None = None
    words: str = ""


async def gates(ports: Ports, release: StoredRelease, environment: EnvironmentDefinition) -> list[Gate]:
    """All gates of a deployment, in order; tests are looked for, and not run."""
    found = [await _readiness(ports, release, environment), await _compatibility(ports, release, environment)]
    tested = await proof(ports, release, environment)
    return [*found, tested] if tested is not None else found


async def _readiness(ports: Ports, release: StoredRelease, environment: EnvironmentDefinition) -> Gate:
    thawed = await ports.releases.thaw(release)
    settings = Catalogue([*ports.drafts.catalogue.environments(), *ports.drafts.catalogue.all_of(AccessDefinition),
                          *ports.drafts.catalogue.all_of(ContextList)])
    frozen, definition = thawed.catalogue | settings, thawed.definition
    facts = await gather_facts(ports, frozen, definition, environment, release.number)
    findings = await asyncio.to_thread(review, frozen, definition, environment, facts)
    stops = [one.problem for one in findings if one.severity is Severity.ERROR]
    return Gate("readiness", GateOutcome.CLOSED if stops else GateOutcome.OPEN, findings, stops)


async def _compatibility(ports: Ports, release: StoredRelease, environment: EnvironmentDefinition) -> Gate:
    """Whether callers of what is live there can live with it, or somebody consented when it was released."""
    segment = segment_of(release.service, release.version)
    live = ports.places.find(environment.name, segment)
    if live is None or live.release >= release.number:
        return Gate("compatibility", GateOutcome.OPEN)
    before = await released_side(ports, await ports.releases.find(release.service, live.release))
    changes = await breaking_changes(before, await released_side(ports, release))
    breaks = [Problem("deployment.breaking", f"Callers of release {live.release} break: {one.message}", Kind.CONFLICT, place=one.place,
                      expected=one.before, found=one.after,
                      mend=f"Consent with a reason: bricola deploy {release.service} {environment.name} --consent REASON")
              for one in changes]
    known = await ports.releases.of(release.service)
    reasons = "; ".join(one.consent for one in known if live.release < one.number <= release.number and one.consent)
    outcome = GateOutcome.CONSENT if breaks and not reasons else GateOutcome.OPEN
    return Gate("compatibility", outcome, problems=breaks, consent=reasons if breaks else "")


async def proof(ports: Ports, release: StoredRelease, environment: EnvironmentDefinition, staged: LiveService | None = None,
                author: str = "") -> Gate | None:
    """Whether the suites pass that the environment asks for; None where it asks for none. With an `author` they are run, where no young run
    says so already; `staged` is the release as it was compiled for the environment, and not in service yet."""
    asked = environment.tests
    if asked is None:
        return None
    thawed = await ports.releases.thaw(release)
    wanted = [one for one in thawed.catalogue.all_of(SuiteDefinition) if asked.suites == "all" or one.name in asked.suites]
    if not wanted:
        return Gate("tests", GateOutcome.OPEN, words="No suite of this release is asked for.")
    place = ports.drafts.environment(asked.run_in) if asked.run_in else environment
    live = staged if place is environment else _live_there(ports, place.name, release)
    if live is None and place is not environment:
        missing = Problem("gate.elsewhere", f"The suites run in {place.name}, where release {release.number} is not live.", Kind.CONFLICT,
                          place=f"environment {environment.name}, tests",
                          mend=f"First: bricola deploy {release.service} {place.name} --release {release.number}")
        return Gate("tests", GateOutcome.CLOSED, problems=[missing])
    parts = [suites.Part(one, live) for one in wanted] if live is not None else []
    young = await _young_run(ports, asked, place, release, wanted)
    if young is not None and (young[1] == [] or not author):
        return _judged(young[0], young[1], wanted, release, environment)
    if not author or live is None:
        count = sum(len(one.cases) for one in wanted)
        return Gate("tests", GateOutcome.DUE, words=f"{count} cases of {', '.join(one.name for one in wanted)} run in {place.name} first.")
    purpose = f"gate of {release.service} {release.number} in {environment.name}"
    run = await suites.start(ports, suites.Plan(place, suites.Asked(), parts, lambda one: StagedDoor(ports, place, one), purpose), author)
    await run.ended.wait()
    failed = [one for one in run.results if one["outcome"] == "failed"]
    if run.stored.state != "ended":
        failed.append({"suite": wanted[0].name, "case": "", "row": "", "problems": [Problem("gate.cut", "The run was cut off.").as_dict()]})
    return _judged(run.stored.number, failed, wanted, release, environment)


def _live_there(ports: Ports, environment: str, release: StoredRelease) -> LiveService | None:
    place = ports.places.place(environment, segment_of(release.service, release.version))
    return next((one for one, _ in place.parts if one.release == release.number), None) if place is not None else None


async def _young_run(ports: Ports, asked: TestGate, place: EnvironmentDefinition, release: StoredRelease,
                     wanted: Sequence[SuiteDefinition]) -> tuple[int, list[dict[str, Any]]] | None:
    """The newest run of just these suites against just this release, with what failed in it."""
    segment = segment_of(release.service, release.version)
    texts = {one.name: suites.digest_of(one) for one in wanted}
    everything = texts | {suites.PLACE: suites.digest_of(place)}  # what was proved of other addresses proves nothing of these
    for run in await ports.test_runs.recent(place.name, limit=50):
        if run.ended_at is None or time.time() - run.ended_at > asked.minutes * 60:
            continue
        same = run.releases.get(segment) == release.number and all(run.texts.get(name) == digest for name, digest in everything.items())
        if run.state == "ended" and same and not run.asked["only"] and not run.asked["generated"]:
            results = await ports.test_runs.results(run.number)
            return run.number, [one for one in results if one["suite"] in texts and one["outcome"] == "failed"]
    return None


def _judged(run: int, failed: Sequence[dict[str, Any]], wanted: Sequence[SuiteDefinition], release: StoredRelease,
            environment: EnvironmentDefinition) -> Gate:
    words = f"Run {run} of {', '.join(one.name for one in wanted)}."
    if not failed:
        return Gate("tests", GateOutcome.OPEN, run=run, words=words)
    problems = [_told(one, run, release, environment) for one in failed[:_MOST_TOLD]]
    if len(failed) > _MOST_TOLD:
        problems.append(Problem("gate.tests", f"{len(failed) - _MOST_TOLD} more tests failed.", Kind.CONFLICT,
                                mend=f"See all: bricola suites run {run}"))
    return Gate("tests", GateOutcome.CLOSED, problems=problems, run=run, words=words)


def _told(one: dict[str, Any], run: int, release: StoredRelease, environment: EnvironmentDefinition) -> Problem:
    first: dict[str, str] = next(iter(one["problems"]), {})
    name = f"{one['suite']} {one['case']}" + (f" [{one['row']}]" if one["row"] else "")
    return Problem("gate.tests", f"The test {name} fails: {first.get('message', 'no reason is known.')}", Kind.CONFLICT,
                   place=first.get("place", ""), expected=first.get("expected", ""), found=first.get("found", ""),
                   mend=f"See it: bricola suites run {run}. To deploy all the same: "
                        f"bricola deploy {release.service} {environment.name} --release {release.number} --overrule REASON")
