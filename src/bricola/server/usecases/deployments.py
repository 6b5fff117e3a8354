"""Deployments: make a release live in an environment, share calls between two, roll back, promote, retire, take away."""

import asyncio
import time
from collections.abc import Iterable
from datetime import UTC, date, datetime
from typing import Any

from bricola.api.words import GateOutcome
from bricola.core.definitions.model import EnvironmentDefinition, segment_of
from bricola.core.kinds.registry import backends_of
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.review import Finding
from bricola.core.serving.live import LiveService
from bricola.server.ports.changes import Change, Topic
from bricola.server.ports.releases import Thawed
from bricola.server.usecases.bringing_up import ATTEMPTS
from bricola.server.usecases.gates import Gate, Ports, gates, proof
from bricola.store import releases
from bricola.store.database import timestamp
from bricola.store.releases import StoredDeployment, StoredRelease


async def plan(ports: Ports, service: str, environment: str, number: int | None) -> dict[str, Any]:
    """What a deployment would do and what stops it, before anybody presses the button."""
    place = ports.drafts.environment(environment)
    release = await ports.releases.find(service, number)
    thawed = await ports.releases.thaw(release)
    found = await gates(ports, release, place)
    live = ports.places.find(environment, segment_of(service, release.version))
    return {
        "service": service, "environment": environment, "release": release.number, "version": release.version,
        "replaces": live.release if live is not None else None,
        "gates": [{"name": one.name, "outcome": one.outcome, "consent": one.consent, "run": one.run, "words": one.words,
                   "problems": [two.as_dict() for two in one.problems],
                   "findings": [plain_finding(two) for two in one.findings]} for one in found],
        "uses": _used(ports, environment, backends_of(thawed.catalogue, thawed.definition)),
    }


def used_backends(ports: Ports, service: str, environment: str) -> list[dict[str, Any]]:
    """The backends of a draft, with their pools' states and when a service was last held against them."""
    return _used(ports, ports.drafts.environment(environment).name, backends_of(ports.drafts.catalogue, ports.drafts.service(service)))


def _used(ports: Ports, environment: str, backends: Iterable[str]) -> list[dict[str, Any]]:
    found = []
    for name in backends:
        pool, seen = ports.places.pools().get((environment, name)), ports.places.seen.get((environment, name))
        found.append({"backend": name, "state": pool.state if pool is not None else "not started",
                      "seen": timestamp(datetime.fromtimestamp(seen, UTC)) if seen is not None else None})
    return found


def plain_finding(finding: Finding) -> dict[str, Any]:
    return {"severity": str(finding.severity), **finding.problem.as_dict(), "mendable": finding.mended is not None,
            "command": finding.command}


async def deploy(ports: Ports, service: str, environment: str, number: int | None, author: str, share: int = 100,
                 consent: str = "", how: str = "deploy", overrule: str = "") -> StoredRelease:
    """Make a release live. Its gates are passed, it is compiled, its backends and its tests are tried before anything changes; then it is
    stored and swapped in. `overrule` is the reason why failing tests do not stop it. Calls in flight end on the release before. With a
    share below 100 it answers that percentage of the calls beside what is live. Raises ProblemError with all that stops it."""
    release = await ports.releases.find(service, number)
    tested: tuple[EnvironmentDefinition, Gate | None] | None = None  # tests run once, unless the environment changes meanwhile
    for _ in range(ATTEMPTS):
        place = ports.drafts.environment(environment)
        problems = []
        for gate in await gates(ports, release, place):
            if gate.name == "tests":
                continue
            if gate.outcome is GateOutcome.CLOSED or (gate.outcome is GateOutcome.CONSENT and not consent.strip()):
                problems += gate.problems
        if problems:
            raise ProblemError(*problems)
        thawed = await ports.releases.thaw(release)
        live = await ports.places.compile(place, thawed.definition, release.number, thawed.catalogue, thawed.resolved,
                                          thawed.contract)
        broken = [*await _broken(ports, live), *(await _unprepared(ports, thawed, place) if how != "roll back" else ())]
        if tested is None or tested[0] != place:
            tested = place, await proof(ports, release, place, live, author) if how != "roll back" else None
        failing = tested[1].problems if tested[1] is not None and tested[1].outcome is GateOutcome.CLOSED else []
        if broken or (failing and not overrule.strip()):
            raise ProblemError(*broken, *failing)  # what is broken first, then what that means, case by case
        because = _because(consent, overrule, tested[1]) if failing else consent.strip()
        if await asyncio.shield(_swap_in(ports, place, release, live, share, because, author, how)):
            return release
    raise ProblemError(Problem("deployment.restless", f"{environment} is changed again and again.", Kind.CONFLICT,
                               place=f"environment {environment}", mend="Try again when its changes are done."))


async def _broken(ports: Ports, live: LiveService) -> tuple[Problem, ...]:
    """Why a release cannot answer there: a statement that a backend does not take, or one that is gone."""
    try:
        await ports.places.probe(live)
    except ProblemError as error:
        return error.problems
    return ()


async def _unprepared(ports: Ports, thawed: Thawed, place: EnvironmentDefinition) -> list[Problem]:
    """What the kinds of its sources find on the backends themselves."""
    found: list[Problem] = []
    for one in ports.kinds:
        if one.prepare is not None:
            found += await one.prepare(ports, thawed.catalogue, thawed.definition, place)
    return found


def _because(consent: str, overrule: str, gate: Gate | None) -> str:
    """Why it was deployed although something stood against it; kept with the deployment and in the audit trail."""
    run = f" (run {gate.run})" if gate is not None and gate.run is not None else ""
    return "; ".join(filter(None, (consent.strip(), f"tests overruled{run}: {overrule.strip()}")))


async def _swap_in(ports: Ports, place: EnvironmentDefinition, release: StoredRelease, live: LiveService, share: int, consent: str,
                   author: str, how: str) -> bool:
    """Store a deployment and put it into service, as one change. False when the environment is not what it was compiled for any more:
    it would answer from a backend that nobody names."""
    service, environment, segment = release.service, place.name, live.segment
    async with ports.changes.turn() as turn:
        if ports.drafts.catalogue.find_environment(environment) != place:
            return False

        def work(change: Change) -> list[StoredDeployment]:
            before = releases.in_force(change.db, environment, service, release.version)
            others = [one for one in before if one.release != release.number]
            if share < 100:
                _check_sharing(service, environment, before, others, ports.places.down(environment, segment))
            releases.start_deployment(change.db, environment, service, release.version, release.number, author, share, how, consent)
            change.note(author, how, f"service {service}", _in_words(environment, before),
                        {"environment": environment, "release": release.number, "share": share, "consent": consent})
            return others

        others = await turn.commit([Topic.DEPLOYMENTS], work)
        current = ports.places.place(environment, segment)
        kept = [(one, 100 - share) for one, _ in current.parts if one.release == others[0].release] if share < 100 and current else []
        ports.places.swap(environment, segment, [*kept, (live, share)])
    return True


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
                                   choices=tuple(str(one.release) for one in others),
                                   mend="Deploy one of them fully, or roll back, before a third comes."))
    if down is not None:
        raise ProblemError(*down.problems)


def _in_words(environment: str, deployed: list[StoredDeployment]) -> dict[str, Any] | None:
    if not deployed:
        return None
    return {"environment": environment, "releases": {str(one.release): one.share for one in deployed}}


async def _meant(ports: Ports, service: str, environment: str, version: int | None) -> tuple[str, int]:
    """The service and the major version that somebody means: as it is said, or the only one that is deployed there. Where two are, none is
    picked. The service may be named as it stands in addresses, like VesselRegistry-v2."""
    there = [(one.service, one.version) for one in await ports.releases.deployments(in_force=True) if one.environment == environment]
    by_segment = {segment_of(*one): one for one in there}
    if version is None and ports.drafts.catalogue.find_service(service) is None and service in by_segment:
        return by_segment[service]
    versions = sorted({number for name, number in there if name == service})
    if version is not None or len(versions) == 1:
        return service, version if version is not None else versions[0]
    if not versions:
        raise ProblemError(_none(service, environment))
    raise ProblemError(Problem("deployment.version", f"{len(versions)} major versions of {service} are deployed in {environment}.",
                               Kind.CONFLICT, place=f"{environment}/{service}", choices=tuple(f"--version {one}" for one in versions),
                               mend="Say which one is meant."))


async def roll_back(ports: Ports, service: str, environment: str, author: str, version: int | None = None) -> StoredRelease:
    """In one step back to the release before. While two share the calls, the older one answers all again."""
    ports.drafts.environment(environment)
    service, version = await _meant(ports, service, environment, version)
    deployed = await ports.releases.in_force(environment, service, version)
    if not deployed:
        raise ProblemError(_none(service, environment))
    if len(deployed) > 1:
        return await asyncio.shield(_keep_older(ports, service, environment, version, deployed[0].release, author))
    target = await ports.releases.last_before(environment, service, version, deployed[0].release)
    if target is None:
        raise ProblemError(Problem("deployment.first",
                                   f"Nothing was live before release {deployed[0].release} of {service} in {environment}.",
                                   Kind.CONFLICT, place=f"{environment}/{segment_of(service, version)}",
                                   mend=f"To take it away: bricola undeploy {service} {environment} --version {version}"))
    return await deploy(ports, service, environment, target, author, how="roll back", consent="rolled back")


async def _keep_older(ports: Ports, service: str, environment: str, version: int, older: int, author: str) -> StoredRelease:
    """Of two that share the calls, let the older one answer all of them again."""
    segment = segment_of(service, version)
    async with ports.changes.turn() as turn:

        def work(change: Change) -> None:
            before = releases.in_force(change.db, environment, service, version)
            releases.keep_only(change.db, environment, service, version, older, author)
            change.note(author, "roll back", f"service {service}", _in_words(environment, before),
                        {"environment": environment, "release": older, "share": 100})

        await turn.commit([Topic.DEPLOYMENTS], work)
        current = ports.places.place(environment, segment)
        if current is not None:
            ports.places.swap(environment, segment, [(one, 100) for one, _ in current.parts if one.release == older])
    return await ports.releases.find(service, older)


async def promote(ports: Ports, service: str, environment: str, author: str, consent: str = "", version: int | None = None,
                  overrule: str = "") -> StoredRelease:
    """Make live in an environment what is live in the one that it follows."""
    place = ports.drafts.environment(environment)
    if not place.follows:
        raise ProblemError(Problem("deployment.first-environment", f"{environment} follows no environment.", Kind.CONFLICT,
                                   place=f"environment {environment}, follows", mend="Deploy a release to it."))
    service, version = await _meant(ports, service, place.follows, version)
    deployed = await ports.releases.in_force(place.follows, service, version)
    if not deployed:
        raise ProblemError(_none(service, place.follows))
    return await deploy(ports, service, environment, deployed[-1].release, author, consent=consent, how="promote", overrule=overrule)


async def undeploy(ports: Ports, service: str, environment: str, author: str, version: int | None = None) -> int:
    """Take a service out of an environment. Calls in flight end in peace, later ones are told that it is gone. Answers the major version
    that was meant."""
    ports.drafts.environment(environment)
    service, version = await _meant(ports, service, environment, version)

    def work(change: Change) -> None:
        before = releases.in_force(change.db, environment, service, version)
        if not releases.end_deployment(change.db, environment, service, version, author):
            raise ProblemError(_none(service, environment))
        releases.remove_retirement(change.db, environment, service, version)
        change.note(author, "undeploy", f"service {service}", _in_words(environment, before), None)

    async def then(_: None) -> None:
        ports.places.remove(environment, segment_of(service, version))

    await ports.changes.make([Topic.DEPLOYMENTS], work, then)
    return version


async def retire(ports: Ports, service: str, environment: str, day: date | None, words: str, author: str,
                 version: int | None = None) -> str:
    """Announce the end: the contract and the page say so, answers carry it, and from that day on calls are refused with
    a friendly fault. None takes it back. Answers the moment."""
    ports.drafts.environment(environment)
    service, version = await _meant(ports, service, environment, version)
    ends = timestamp(datetime(day.year, day.month, day.day, tzinfo=UTC)) if day is not None else ""

    def work(change: Change) -> None:
        old = releases.retirement(change.db, environment, service, version)
        if not ends:
            if not releases.remove_retirement(change.db, environment, service, version):
                raise ProblemError(Problem("retirement.none", f"{service} has no end in {environment}.", Kind.MISSING))
            change.note(author, "keep", f"service {service}", {"environment": environment, "ends": old.ends_at if old else ""}, None)
            return
        if not releases.in_force(change.db, environment, service, version):
            raise ProblemError(_none(service, environment))
        releases.save_retirement(change.db, environment, service, version, ends, words, author)
        over = datetime.fromisoformat(ends).timestamp() <= time.time()
        change.note(author, "retire", f"service {service}", {"ends": old.ends_at} if old else None,
                    {"environment": environment, "ends": ends, "words": words, "over": over})

    await ports.changes.make([Topic.DEPLOYMENTS], work)
    return ends


def _none(service: str, environment: str) -> Problem:
    return Problem("deployment.none", f"{service} is not deployed in {environment}.", Kind.MISSING, place=f"{environment}/{service}",
                   mend=f"Deploy it: bricola deploy {service} {environment}")
