"""The cases of test suites: whether they fit, what became of them, how each is sent from outside, and what can be mended."""


import asyncio
from collections.abc import Callable, Mapping
from typing import Any

from bricola.core.definitions.compare import compare_lines
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import Problem, ProblemError
from bricola.core.serving.live import LiveService
from bricola.core.testing.checking import check_suite, problems_of
from bricola.core.testing.comparing import judge
from bricola.core.testing.mending import mend_suite
from bricola.core.testing.outside import forms_of
from bricola.core.testing.replies import read_rest, read_soap
from bricola.core.testing.running import Outcome, Shot, alone
from bricola.core.testing.tables import rows_of
from bricola.server.ports.drafts import unknown
from bricola.server.usecases import definitions, records
from bricola.server.usecases.services import addresses, not_deployed
from bricola.server.usecases.suites import Ports, find_suite, live_of, made_values, plain_run
from bricola.store.suites import StoredRun


async def suites(ports: Ports) -> list[dict[str, Any]]:
    """All suites, with the newest run of each environment."""
    return [await _about(ports, one) for one in ports.drafts.catalogue.all_of(SuiteDefinition)]


async def _about(ports: Ports, suite: SuiteDefinition) -> dict[str, Any]:
    newest = [one for environment in ports.drafts.catalogue.environments()
              for one in await ports.test_runs.recent(environment.name, suite.name, 1)]
    problems = await asyncio.to_thread(problems_of, ports.drafts.catalogue, suite)
    return {"name": suite.name, "service": suite.service, "description": suite.description, "cases": len(suite.cases),
            "problems": len(problems), "runs": [await _of_suite(ports, one, suite.name) for one in newest]}


async def _of_suite(ports: Ports, run: StoredRun, suite: str) -> dict[str, Any]:
    """A run with the counts of one suite of it."""
    running = ports.test_runs.running.get(run.number)
    plain = plain_run(run, running)
    return plain if running is not None or len(run.suites) < 2 else plain | await ports.test_runs.counts(run.number, suite)


async def suite_detail(ports: Ports, name: str) -> dict[str, Any]:
    """One suite with its cases and steps, and what became of them."""
    suite = find_suite(ports, name)
    about = await _about(ports, suite)
    problems = await asyncio.to_thread(problems_of, ports.drafts.catalogue, suite)
    last: dict[str, dict[str, str]] = {}
    for run in about["runs"]:
        for one in await ports.test_runs.results(run["number"]):
            if one["suite"] == name:
                outcomes = last.setdefault(one["case"], {})
                if outcomes.get(run["environment"]) != Outcome.FAILED:  # of several rows the worst
                    outcomes[run["environment"]] = one["outcome"]
    parts = []
    for section, case in suite.all_parts:
        mark = f"test-suite {name}, {section}, {case.name}"
        fits = [one for one in problems if one.place == mark or one.place.startswith(f"{mark},")]
        parts.append({
            "name": case.name, "section": section.rstrip("s"), "operation": case.operation, "description": case.description,
            "expects": case.expects.words, "caller": case.identity or case.caller or suite.caller, "face": case.face, "writes": case.writes,
            "rows": _count_rows(suite, case), "fits": [one.as_dict() for one in fits], "last": last.get(case.name, {})})
    return about | {"text": write_definition(suite), "path": ports.drafts.path_of("test-suite", name), "parts": parts,
                    "history": [await _of_suite(ports, one, name) for one in await ports.test_runs.recent("", name, 30)]}


def _count_rows(suite: SuiteDefinition, case: Any) -> int:
    try:
        return len(rows_of(suite, case, "")) if case.rows else 0
    except ProblemError:
        return 0


async def forms(ports: Ports, name: str, case: str, environment: str, asked: str) -> dict[str, Any]:
    """One case as a request to be sent from outside."""
    live, shot, _ = _alone_in(ports, name, case, environment)
    at = addresses(ports, environment, live.segment, asked)
    address = f"{at['rest']}/{shot.operation.name}" if shot.face == "rest" else at["soap"]
    return {"address": address, "caller": shot.caller or "who may", "identity": shot.case.identity, "headers": dict(shot.headers),
            "body": shot.body.decode("utf-8", "replace"), "forms": forms_of(shot, address, at["wsdl"])}


async def judge_outside(ports: Ports, name: str, case: str, environment: str, status: int, body: str, headers: Mapping[str, str],
                        seconds: float) -> dict[str, Any]:
    """What a reply that came elsewhere is worth for a case."""
    live, shot, scope = _alone_in(ports, name, case, environment)
    told = {one.lower(): value for one, value in headers.items()}
    content = body.encode()
    seen = (read_rest(live.shape, shot.operation, status, content, seconds, told) if shot.face == "rest"
            else read_soap(live.shape, shot.operation, status, content, seconds, told))
    stored = None
    if shot.case.expects.equals_source and seen.answer is not None:
        stored = await records.compare_live(ports, live, shot.operation.name, dict(shot.values), dict(seen.answer))
    problems = judge(shot.operation, shot.case.expects, seen, scope, stored)
    return {"call": seen.call, "outcome": Outcome.FAILED if problems else Outcome.PASSED, "problems": [one.as_dict() for one in problems]}


def _alone_in(ports: Ports, name: str, case: str, environment: str) -> tuple[LiveService, Shot, Callable[[str], Any]]:
    suite = find_suite(ports, name)
    found = suite.case(case) or suite.step(case)
    if found is None:
        raise ProblemError(unknown("case", case, [one.name for one in suite.cases]))
    place = ports.drafts.environment(environment)
    live = live_of(ports, environment, suite.service)
    if live is None:
        raise ProblemError(not_deployed(suite.service, environment))
    if found.stand_ins or found.film:
        raise ProblemError(Problem("test.inside", "Something stands in for a backend in this case, so it runs inside only.", place=case))
    shot, scope = alone(suite, found, live.shape, {**place.test_values, **made_values(0, environment)})
    return live, shot, scope


async def mend(ports: Ports, name: str, author: str, plan_only: bool) -> dict[str, Any]:
    """Mend what can be mended of a suite that does not fit the draft of its service, as a draft. What is left is told."""
    suite = find_suite(ports, name)
    catalogue = ports.drafts.catalogue
    shape = (await asyncio.to_thread(resolve_service, ports.drafts.service(suite.service), catalogue)).shape
    mended, told = await asyncio.to_thread(mend_suite, suite, shape)
    if told and not plan_only:
        await definitions.apply(ports, {ports.drafts.path_of(SuiteDefinition.kind, name): write_definition(mended)}, author)
    left = await asyncio.to_thread(check_suite, mended, shape)
    return {"suite": name, "mended": [{"place": place, "words": words} for place, words in told], "left": [one.as_dict() for one in left],
            "lines": compare_lines(write_definition(suite), write_definition(mended)) if told else []}


