"""Deployments: make a release live in an environment, share calls between two, roll back, promote, retire, take away."""

import asyncio
import time
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any

from bricola.core.definitions.catalogue import Catalogue, backends_of
from bricola.core.definitions.model import EnvironmentDefinition, segment_of
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.review import Finding, Severity, review
from bricola.server.bricola import Bricola, retirement_of
from bricola.server.usecases.compare import breaking_changes, released_side
from bricola.server.usecases.frozen import find_release, thaw
from bricola.server.usecases.lookup import find_environment
from bricola.server.usecases.reviews import gather_facts
from bricola.store import releases
from bricola.store.database import timestamp
from bricola.store.releases import StoredDeployment, StoredRelease


@dataclass(frozen=True)
class Gate:
    """One thing that a release must pass: its outcome is open, closed, or consent (a reason opens it)."""

    name: str
    outcome: str
    findings: list[Finding] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    consent: str = ""  # the reason that was given for letting the problems through


async def gates(bricola: Bricola, release: StoredRelease, environment: EnvironmentDefinition) -> list[Gate]:
    """All gates of a deployment, in order. Test suites will be one more."""
    return [await _readiness(bricola, release, environment), await _compatibility(bricola, release, environment)]


async def _readiness(bricola: Bricola, release: StoredRelease, environment: EnvironmentDefinition) -> Gate:
    thawed = await thaw(release)
    frozen, definition = thawed.catalogue | Catalogue(bricola.catalogue.environments()), thawed.definition
    facts = await gather_facts(bricola, frozen, definition, environment, release.number)
    findings = await asyncio.to_thread(review, frozen, definition, environment, facts)
    stops = [one.problem for one in findings if one.severity is Severity.ERROR]
    return Gate("readiness", "closed" if stops else "open", findings, stops)


async def _compatibility(bricola: Bricola, release: StoredRelease, environment: EnvironmentDefinition) -> Gate:
    """Whether callers of what is live there can live with it, or somebody consented when it was released."""
    segment = segment_of(release.service, release.version)
    live = bricola.runtime.find(environment.name, segment)
    if live is None or live.release >= release.number:
        return Gate("compatibility", "open")
    before = await released_side(await find_release(bricola, release.service, live.release))
    changes = await breaking_changes(before, await released_side(release))
    breaks = [Problem("deployment.breaking", f"Callers of release {live.release} break: {one.message}", Kind.CONFLICT, place=one.place,
                      expected=one.before, found=one.after,
                      mend=f"Consent with a reason: bricola deploy {release.service} {environment.name} --consent REASON")
              for one in changes]
    known = await bricola.storage.main(releases.releases, release.service)
    reasons = "; ".join(one.consent for one in known if live.release < one.number <= release.number and one.consent)
    return Gate("compatibility", "consent" if breaks and not reasons else "open", problems=breaks, consent=reasons if breaks else "")


async def plan(bricola: Bricola, service: str, environment: str, number: int | None) -> dict[str, Any]:
    """What a deployment would do and what stops it, before anybody presses the button."""
    place = find_environment(bricola.catalogue, environment)
    release = await find_release(bricola, service, number)
    thawed = await thaw(release)
    found = await gates(bricola, release, place)
    live = bricola.runtime.find(environment, segment_of(service, release.version))
    return {
        "service": service, "environment": environment, "release": release.number, "version": release.version,
        "replaces": live.release if live is not None else None,
        "gates": [{"name": one.name, "outcome": one.outcome, "consent": one.consent, "problems": [two.as_dict() for two in one.problems],
                   "findings": [plain_finding(two) for two in one.findings]} for one in found],
        "uses": [{"backend": name, "state": pool.state if (pool := bricola.runtime.pools().get((environment, name))) else "not started"}
                 for name in backends_of(thawed.catalogue, thawed.definition)],
    }


def plain_finding(finding: Finding) -> dict[str, Any]:
    return {"severity": str(finding.severity), **finding.problem.as_dict(), "mendable": finding.mended is not None,
            "command": finding.command}


async def deploy(bricola: Bricola, service: str, environment: str, number: int | None, author: str, share: int = 100,
                 consent: str = "", how: str = "deploy") -> StoredRelease:
    """Make a release live. Its gates are passed, it is compiled and its backends are tried before anything changes; then
    it is stored and swapped in. Calls in flight end on the release before. With a share below 100 it answers that
    percentage of the calls beside what is live. Raises ProblemError with all that stops it."""
    place = find_environment(bricola.catalogue, environment)
    release = await find_release(bricola, service, number)
    problems = []
    for gate in await gates(bricola, release, place):
        if gate.outcome == "closed" or (gate.outcome == "consent" and not consent.strip()):
            problems += gate.problems
    if problems:
        raise ProblemError(*problems)
    thawed = await thaw(release)
    live = await bricola.runtime.prepare(place, thawed.definition, release.number, thawed.catalogue, thawed.resolved)
    segment = live.segment
    async with bricola.swapping:
        before = await bricola.storage.main(releases.in_force, environment, service, release.version)
        others = [one for one in before if one.release != release.number]
        if share < 100:
            _check_sharing(service, environment, before, others, bricola.runtime.down(environment, segment))
        await bricola.storage.main(releases.start_deployment, environment, service, release.version, release.number, author,
                                   share, how, consent.strip())
        current = bricola.runtime.place(environment, segment)
        kept = [(one, 100 - share) for one, _ in current.parts if one.release == others[0].release] if share < 100 and current else []
        bricola.runtime.swap(environment, segment, [*kept, (live, share)])
    await bricola.changed(author, how, f"service {service}", _in_words(environment, before),
                          {"environment": environment, "release": release.number, "share": share, "consent": consent.strip()})
    return release


def _check_sharing(service: str, environment: str, before: list[StoredDeployment], others: list[StoredDeployment],
                   down: ProblemError | None) -> None:
    if before and not others:
        raise ProblemError(Problem("deployment.share", f"Release {before[0].release} answers all calls there already.", Kind.CONFLICT,
                                   mend="Name another release with --release, or deploy without a share."))
    if not others:
        raise ProblemError(Problem("deployment.share", f"Nothing of {service} is live in {environment} to share calls with.",
                                   Kind.CONFLICT, mend="Deploy without a share."))
    if len(others) > 1:
        raise ProblemError(Problem("deployment.share", "Two releases share the calls already.", Kind.CONFLICT,
                                   expected=f"one of {', '.join(str(one.release) for one in others)}",
                                   mend="Deploy one of them fully, or roll back, before a third comes."))
    if down is not None:
        raise ProblemError(*down.problems)


def _in_words(environment: str, deployed: list[StoredDeployment]) -> dict[str, Any] | None:
    if not deployed:
        return None
    return {"environment": environment, "releases": {str(one.release): one.share for one in deployed}}


async def roll_back(bricola: Bricola, service: str, environment: str, author: str, version: int = 1) -> StoredRelease:
    """In one step back to the release before. While two share the calls, the older one answers all again."""
    find_environment(bricola.catalogue, environment)
    deployed = await bricola.storage.main(releases.in_force, environment, service, version)
    if not deployed:
        raise ProblemError(_none(service, environment))
    if len(deployed) > 1:
        older = deployed[0]
        async with bricola.swapping:
            await bricola.storage.main(releases.keep_only, environment, service, version, older.release, author)
            segment = segment_of(service, version)
            current = bricola.runtime.place(environment, segment)
            if current is not None:
                bricola.runtime.swap(environment, segment, [(one, 100) for one, _ in current.parts if one.release == older.release])
        await bricola.changed(author, "roll back", f"service {service}", _in_words(environment, deployed),
                              {"environment": environment, "release": older.release, "share": 100})
        return await find_release(bricola, service, older.release)
    target = await bricola.storage.main(releases.last_before, environment, service, version, deployed[0].release)
    if target is None:
        raise ProblemError(Problem("deployment.first",
                                   f"Nothing was live before release {deployed[0].release} of {service} in {environment}.",
                                   Kind.CONFLICT, mend=f"To take it away: bricola undeploy {service} {environment}"))
    return await deploy(bricola, service, environment, target, author, how="roll back", consent="rolled back")


async def promote(bricola: Bricola, service: str, environment: str, author: str, consent: str = "", version: int = 1) -> StoredRelease:
    """Make live in an environment what is live in the one that it follows."""
    place = find_environment(bricola.catalogue, environment)
    if not place.follows:
        raise ProblemError(Problem("deployment.first-environment", f"{environment} follows no environment.", Kind.CONFLICT,
                                   place=f"environment {environment}, follows", mend="Deploy a release to it."))
    deployed = await bricola.storage.main(releases.in_force, place.follows, service, version)
    if not deployed:
        raise ProblemError(_none(service, place.follows))
    return await deploy(bricola, service, environment, deployed[-1].release, author, consent=consent, how="promote")


async def undeploy(bricola: Bricola, service: str, environment: str, author: str, version: int = 1) -> None:
    """Take a service out of an environment. Calls in flight end in peace, later ones are told that it is gone."""
    find_environment(bricola.catalogue, environment)
    async with bricola.swapping:
        before = await bricola.storage.main(releases.in_force, environment, service, version)
        if not await bricola.storage.main(releases.end_deployment, environment, service, version, author):
            raise ProblemError(_none(service, environment))
        await bricola.storage.main(releases.remove_retirement, environment, service, version)
        bricola.runtime.remove(environment, segment_of(service, version))
        bricola.runtime.retire(environment, segment_of(service, version), None)
    await bricola.changed(author, "undeploy", f"service {service}", _in_words(environment, before), None)


async def retire(bricola: Bricola, service: str, environment: str, day: date | None, words: str, author: str, version: int = 1) -> str:
    """Announce the end: the contract and the page say so, answers carry it, and from that day on calls are refused with
    a friendly fault. None takes it back. Answers the moment."""
    find_environment(bricola.catalogue, environment)
    segment = segment_of(service, version)
    known = {(one.environment, one.service, one.version): one for one in await bricola.storage.main(releases.retirements)}
    old = known.get((environment, service, version))
    if day is None:
        if not await bricola.storage.main(releases.remove_retirement, environment, service, version):
            raise ProblemError(Problem("retirement.none", f"{service} has no end in {environment}.", Kind.MISSING))
        bricola.runtime.retire(environment, segment, None)
        await bricola.changed(author, "keep", f"service {service}", {"environment": environment, "ends": old.ends_at if old else ""}, None)
        return ""
    if not await bricola.storage.main(releases.in_force, environment, service, version):
        raise ProblemError(_none(service, environment))
    ends = timestamp(datetime(day.year, day.month, day.day, tzinfo=UTC))
    await bricola.storage.main(releases.save_retirement, environment, service, version, ends, words, author)
    stored = next(one for one in await bricola.storage.main(releases.retirements)
                  if (one.environment, one.service, one.version) == (environment, service, version))
    bricola.runtime.retire(environment, segment, retirement_of(stored))
    await bricola.changed(author, "retire", f"service {service}", {"ends": old.ends_at} if old else None,
                          {"environment": environment, "ends": ends, "words": words, "over": retirement_of(stored).ends <= time.time()})
    return ends


def _none(service: str, environment: str) -> Problem:
    return Problem("deployment.none", f"{service} is not deployed in {environment}.", Kind.MISSING, place=f"{environment}/{service}",
                   mend=f"Deploy it: bricola deploy {service} {environment}")
