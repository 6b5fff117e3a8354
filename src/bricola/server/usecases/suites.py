"""Test suites: which there are, whether they fit, running them, and what became of that."""

import asyncio
import hashlib
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from typing import Any, Protocol

import httpx
import structlog

from bricola.core.definitions.base import Definition
from bricola.core.definitions.model import EnvironmentDefinition, segment_of
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.messages.request import masked_text, sensitive_names
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import Pipeline
from bricola.core.testing.generating import GeneratedSuite, generate, generated_suite
from bricola.core.testing.running import Door, Outcome, Result, SuiteRun
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.changes import Changes
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.ports.storage import Storage
from bricola.server.ports.suites import RunningRun, TestRuns
from bricola.server.settings import Settings
from bricola.server.usecases.doors import FrontDoor
from bricola.server.usecases.services import not_deployed
from bricola.store.suites import StoredRun

log = structlog.stdlib.get_logger("bricola.tests")

AT_ONCE = 8  # requests of one run that are under way together
_MOST_KEPT = 20_000  # characters of a request and a response that are kept of a failure
_MOST_RANDOM = 1_000


class Ports(Protocol):
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    people: People
    calls: Calls
    pipeline: Pipeline
    test_runs: TestRuns
    changes: Changes
    storage: Storage
    settings: Settings


@dataclass(frozen=True)
class Asked:
    """What is to be run: suites by name or those of services, or tests generated from the contracts of services; `only` are words of
    which a case has one in its name or operation. `random` further requests are drawn from `seed`."""

    services: tuple[str, ...] = ()
    suites: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    generated: bool = False
    random: int = 0
    seed: int = 0
    at_once: int = AT_ONCE


@dataclass(frozen=True)
class Part:
    """One suite of a run, with the service that answers it."""

    suite: SuiteDefinition
    live: LiveService
    generated: GeneratedSuite | None = None
    make: Callable[[], GeneratedSuite] | None = None  # of tests that are generated: done when it runs, since it takes a while

    async def ready(self) -> "Part":
        if self.make is None:
            return self
        made = await asyncio.to_thread(self.make)
        return Part(made.suite, self.live, made)

    @property
    def writes(self) -> bool:
        return any(one.writes for _, one in self.suite.all_parts)



PLACE = "@environment"  # stands for the environment among the texts of a run


def digest_of(definition: Definition) -> str:
    """What stands for the text of a suite or an environment, as it was in a run."""
    return hashlib.sha256(write_definition(definition).encode()).hexdigest()[:16]


@dataclass
class Plan:
    """What a run does. `doors` gives the door of each part."""

    environment: EnvironmentDefinition
    asked: Asked
    parts: list[Part]
    door: Callable[[LiveService], Door]
    purpose: str = ""
    missing: list[Problem] = field(default_factory=list)


async def plan(ports: Ports, environment: str, asked: Asked, transport: httpx.AsyncClient) -> Plan:
    """What would run. Raises ProblemError for names that there are none of, and where there is nothing to run."""
    place = ports.drafts.environment(environment)
    for service in asked.services:
        ports.drafts.service(service)
    parts = _generated(ports, place, asked) if asked.generated else await _suites(ports, place, asked)
    if not parts:
        what = "Nothing that is live there is asked for." if asked.generated else "There is no suite for what is live there."
        raise ProblemError(Problem("test.nothing", what, Kind.MISSING, place=environment,
                                   expected=", ".join(one.name for one in ports.drafts.catalogue.all_of(SuiteDefinition)) or "a test-suite",
                                   mend="Keep a call as a case: bricola call … --keep SUITE.CASE; or say --generated."))
    return Plan(place, asked, parts, lambda live: FrontDoor(ports, place, live, transport))


async def _suites(ports: Ports, place: EnvironmentDefinition, asked: Asked) -> list[Part]:
    catalogue = ports.drafts.catalogue
    known = catalogue.all_of(SuiteDefinition)
    for name in asked.suites:
        if catalogue.get(SuiteDefinition, name) is None:
            raise ProblemError(unknown("test-suite", name, [one.name for one in known]))
    parts = []
    for one in known:
        if (asked.suites and one.name not in asked.suites) or (asked.services and one.service not in asked.services):
            continue
        live = live_of(ports, place.name, one.service) or await _of_what_is_down(ports, place, one.service)
        if live is not None:
            parts.append(Part(one, live))
        elif asked.suites or asked.services:
            raise ProblemError(not_deployed(one.service, place.name))
    return parts


def live_of(ports: Ports, environment: str, service: str) -> LiveService | None:
    """What answers for a service: the version of the draft, else the newest."""
    here = [one for one in ports.places.services() if one.environment == environment and one.name == service]
    draft = ports.drafts.catalogue.find_service(service)
    return next((one for one in here if draft is not None and one.segment == segment_of(service, draft.version)),
                max(here, key=lambda one: one.release, default=None))


async def _of_what_is_down(ports: Ports, place: EnvironmentDefinition, service: str) -> LiveService | None:
    """The release that is deployed and cannot answer, since a backend is gone: cases in which something stands in for it run all the same,
    and the others say what callers are told."""
    draft = ports.drafts.catalogue.find_service(service)
    if draft is None or ports.places.down(place.name, draft.segment) is None:
        return None
    deployed = await ports.releases.in_force(place.name, service, draft.version)
    if not deployed:
        return None
    frozen = await ports.releases.thaw(await ports.releases.find(service, deployed[-1].release))
    return await ports.places.compile(place, frozen.definition, deployed[-1].release, frozen.catalogue, frozen.resolved, frozen.contract)


def _generated(ports: Ports, place: EnvironmentDefinition, asked: Asked) -> list[Part]:
    parts = []
    for live in sorted(ports.places.services(), key=lambda one: one.segment):
        if live.environment != place.name or (asked.services and live.name not in asked.services):
            continue
        if any(_chosen(asked.only)(one.name) for one in live.shape.operations):
            parts.append(Part(generated_suite(live.shape), live, make=partial(
                generate, live.shape, asked.seed, min(asked.random, _MOST_RANDOM), _chosen(asked.only), live.anonymous)))
    missing = [one for one in asked.services if all(two.live.name != one for two in parts) and live_of(ports, place.name, one) is None]
    if missing:
        raise ProblemError(*(not_deployed(one, place.name) for one in missing))
    return parts


def _chosen(only: Sequence[str]) -> Callable[[str], bool]:
    words = [one.lower() for one in only]
    return lambda name: not words or any(one in name.lower() for one in words)


async def start(ports: Ports, found: Plan, author: str) -> RunningRun:
    """Begin a run; it goes on by itself."""
    asked = found.asked
    stored = StoredRun(0, found.environment.name, author, time.time(), None, "running", found.purpose,
                       [one.suite.name for one in found.parts], {one.live.segment: one.live.release for one in found.parts},
                       {one.suite.name: digest_of(one.suite) for one in found.parts} | {PLACE: digest_of(found.environment)},
                       {"services": asked.services, "suites": asked.suites, "only": asked.only, "generated": asked.generated,
                        "random": asked.random, "seed": asked.seed})
    run = await ports.test_runs.begin(stored)
    run.task = asyncio.create_task(_run(ports, found, run))
    return run


async def _run(ports: Ports, found: Plan, run: RunningRun) -> None:
    state = "ended"
    try:
        bound = asyncio.Semaphore(max(1, min(found.asked.at_once, 32)))
        made = made_values(run.stored.number, found.environment.name)
        async with asyncio.TaskGroup() as tasks:
            for part in found.parts:
                tasks.create_task(_part(ports, found, part, run, bound, made))
    except asyncio.CancelledError:
        state = "stopped"
    except BaseExceptionGroup:
        log.exception("a test run failed inside", run=run.stored.number)
        state, run.words = "broken off", "Bricola made a mistake of its own; the log has the cause."
    finally:
        await ports.test_runs.end(run, state, time.time())


async def _part(ports: Ports, found: Plan, part: Part, run: RunningRun, bound: asyncio.Semaphore, made: Mapping[str, str]) -> None:
    part = await part.ready()
    suite = _suite_run(found, part, run, bound, made)
    run.total += suite.count()
    await _alone(ports, found, part, suite, run)


async def _alone(ports: Ports, found: Plan, part: Part, suite: SuiteRun, run: RunningRun) -> None:
    """A suite that writes runs after the others of it there."""
    if not part.writes:
        await suite.run()
        return
    lock = ports.test_runs.writing(found.environment.name, part.suite.name)
    if lock.locked():
        run.words = f"Waits for another run of {part.suite.name}, which writes in {found.environment.name}."
    async with lock:
        run.words = ""
        await suite.run()


def made_values(number: int, environment: str) -> dict[str, str]:
    """What is made for each run."""
    now = datetime.now(UTC).replace(microsecond=0)
    return {"today": now.date().isoformat(), "now": now.isoformat().replace("+00:00", "Z"), "unique": f"{number % 1_000_000:06}",
            "environment": environment}


def _suite_run(found: Plan, part: Part, run: RunningRun, bound: asyncio.Semaphore, made: Mapping[str, str]) -> SuiteRun:
    only = _chosen(found.asked.only)
    by_name = {one.name: one for one in part.suite.cases}

    def chosen(name: str) -> bool:
        return part.generated is not None or only(name) or only(by_name[name].operation)

    def emit(result: Result) -> None:
        run.results.append(plain_result(result, part, len(run.results) + 1))

    return SuiteRun(part.suite, part.live.shape, found.door(part.live), found.environment.test_values, made, bound, emit, chosen,
                    part.generated.verdict if part.generated is not None else None)


def plain_result(result: Result, part: Part, number: int) -> dict[str, Any]:
    """What became of a case, as it is told and kept. Only failures keep what was sent and what came."""
    operation = part.live.shape.operation(result.operation)
    private = sensitive_names(operation) if operation is not None else frozenset()
    test = part.generated.by_name.get(result.case) if part.generated is not None else None
    case = part.suite.case(result.case) or part.suite.step(result.case.rpartition("/")[2])
    failed = result.outcome is Outcome.FAILED

    def kept(content: bytes) -> str:
        text = masked_text(content[:_MOST_KEPT * 4].decode("utf-8", "replace"), private)
        return text[:_MOST_KEPT] + (f"\n… {len(content)} bytes in all" if len(content) > _MOST_KEPT else "")

    return {
        "number": number, "suite": result.suite, "service": result.service, "case": result.case, "row": result.row, "part": result.part,
        "operation": result.operation, "outcome": result.outcome, "description": case.description if case is not None else "",
        "expected": result.expected if test is None else test.promised,
        "problems": [one.as_dict() for one in result.problems], "warnings": [one.as_dict() for one in result.warnings],
        "ms": round(result.seconds * 1000, 2), "call": result.call, "status": result.status, "caller": result.caller, "face": result.face,
        "element": test.element if test is not None else "", "rule": test.rule if test is not None else "",
        "request": kept(result.sent) if failed else "",
        "response": kept(result.seen.body) if failed and result.seen is not None else "",
        "values": dict(result.values) if failed and not private else {},
    }


def plain_run(stored: StoredRun, running: RunningRun | None = None) -> dict[str, Any]:
    """A run without its results."""
    found = {name: value for name, value in stored._asdict().items() if name not in ("texts", "asked")}
    counts = running.counts if running is not None else {}
    return found | counts | {"words": running.words if running is not None else ""}


async def look(ports: Ports, number: int, after: int = 0) -> dict[str, Any]:
    """A run with its results from a number on. Raises ProblemError."""
    running = ports.test_runs.running.get(number)
    if running is not None:
        return plain_run(running.stored, running) | {"results": running.results[after:], "before": None, "changes": []}
    stored = await ports.test_runs.find(number)
    if stored is None:
        raise ProblemError(Problem("test-run.unknown", f"There is no test run {number}.", Kind.MISSING, place=str(number)))
    results = await ports.test_runs.results(number)
    before, changes = await _changes(ports, stored, results)
    return plain_run(stored) | {"results": [one for one in results if one["number"] > after], "before": before, "changes": changes}


async def _changes(ports: Ports, run: StoredRun, results: list[dict[str, Any]]) -> tuple[int | None, list[dict[str, Any]]]:
    """Whose outcome is another than in the run before."""
    found, number = [], None
    for suite in run.suites:
        before = await ports.test_runs.before(run.number, run.environment, suite)
        if before is None:
            continue
        number = max(before.number, number or 0)
        old = {(one["case"], one["row"]): one["outcome"] for one in await ports.test_runs.results(before.number)
               if one["suite"] == suite and one["part"] == "case"}
        for one in results:
            outcome = old.get((one["case"], one["row"]), "")
            if one["suite"] == suite and one["part"] == "case" and outcome != one["outcome"]:
                found.append({"suite": suite, "case": one["case"], "row": one["row"], "before": outcome, "now": one["outcome"]})
    return number, found


async def stop(ports: Ports, number: int) -> dict[str, Any]:
    """End a run that is under way; what it had done stays, and its clean-ups run."""
    running = ports.test_runs.running.get(number)
    if running is not None and running.task is not None:
        running.task.cancel()
        await running.ended.wait()
    return await look(ports, number)


async def recent(ports: Ports, environment: str, suite: str, limit: int) -> list[dict[str, Any]]:
    return [plain_run(one, ports.test_runs.running.get(one.number)) for one in await ports.test_runs.recent(environment, suite, limit)]


def find_suite(ports: Ports, name: str) -> SuiteDefinition:
    """Raises ProblemError with the suites that there are."""
    found = ports.drafts.catalogue.get(SuiteDefinition, name)
    if found is None:
        raise ProblemError(unknown("test-suite", name, [one.name for one in ports.drafts.catalogue.all_of(SuiteDefinition)]))
    return found
