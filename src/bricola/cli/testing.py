"""`bricola test` runs test suites; `bricola suites` shows them."""

import signal
import threading
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.live import Live

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import err, out, print_json, table, text
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api import testing as answers
    from bricola.client import Client

OUTCOMES = {"passed": "[green]● passed[/]", "failed": "[red]✕ failed[/]", "left out": "[yellow]○ left out[/]"}
RUNS = {"running": "[cyan]◆ running[/]", "ended": "[dim]ended[/]", "stopped": "[yellow]□ stopped[/]", "broken off": "[red]✕ broken off[/]"}
_EVERY = 0.2  # seconds between two looks at a run
_SHOWN_FAILURES = 40


def register(app: typer.Typer) -> None:
    @app.command("test", rich_help_panel="Tests")
    def test(
        environment: str,
        services: Annotated[list[str] | None,
                            typer.Argument(metavar="[SERVICE]…", help="The suites of these; of all when left out.")] = None,
        suite: Annotated[list[str] | None, typer.Option("--suite", "-s", help="This suite; again for more.")] = None,
        only: Annotated[list[str] | None,
                        typer.Option("--only", metavar="WORD", help="Cases with this in their name or operation.")] = None,
        generated: Annotated[bool, typer.Option("--generated", help="Tests made from the contracts, instead of suites.")] = False,
        random: Annotated[int,
                          typer.Option(min=0, max=1000, help="Of generated ones: so many drawn requests for each operation, too.")] = 0,
        seed: Annotated[int, typer.Option(help="The same seed draws the same requests.")] = 0,
        junit: Annotated[Path | None, typer.Option("--junit", metavar="FILE", help="Also write the results as JUnit XML.")] = None,
        at_once: Annotated[int, typer.Option("--at-once", min=1, max=32, help="Requests that are under way together.")] = 8,
        every: Annotated[bool, typer.Option("--every", help="Show every case, not only what failed.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Run test suites, or tests made from the contracts. Exit status 1 when one fails, 130 when it is stopped."""
        if (random or seed) and not generated:
            raise ProblemError(Problem("test.random", "Only generated tests are drawn.", mend="Say --generated."))
        with connect(at) as client:
            def begin() -> "answers.TestRun":
                return client.begin_tests(environment, services or (), suite or (), only or (), generated, random, seed, at_once)

            run, results, stopped = _follow(client, begin, as_json)
        if junit is not None:
            write_results(junit, run, results)
        if as_json:
            print_json({**run, "results": results})
        else:
            print_run(run, results, generated, every)
        if stopped:
            raise typer.Exit(130)
        if run["failed"] or run["state"] != "ended" or not (run["passed"] or run["left_out"]):
            raise typer.Exit(1)


def _follow(client: "Client", begin: Callable[[], "answers.TestRun"], quiet: bool) -> tuple[Any, list[Any], bool]:
    """Begin a run and look at it until it has ended; Ctrl C ends it. Answers the run, its results, and whether it was stopped.

    The signal is noted, and not raised: wherever it would come, the run that was begun must be ended."""
    asked = threading.Event()
    before = signal.signal(signal.SIGINT, lambda number, frame: asked.set())
    try:
        begun = begin()
        found: Any = client.test_run(begun["number"])
        results: list[Any] = []
        with Live(console=err, refresh_per_second=5, transient=True) as live:
            while True:
                results += found["results"]
                if found["state"] != "running":
                    break
                if asked.is_set():
                    found = client.stop_tests(begun["number"])
                    results = list(found["results"])
                    break
                if not quiet:
                    words = f"  {text(found['words'])}" if found["words"] else ""
                    done = sum(one["part"] == "case" for one in results)
                    live.update(f"[cyan]◆[/] {done} of {found['total']}  {counts(found)}{words}")
                asked.wait(_EVERY)
                found = client.test_run(begun["number"], len(results))
    finally:
        signal.signal(signal.SIGINT, before)
    return {name: value for name, value in found.items() if name != "results"}, results, asked.is_set()


def write_results(file: Path, run: Any, results: Sequence[Mapping[str, Any]]) -> None:
    from bricola.core.testing.junit import write_junit  # loads lxml, which nothing else here needs

    try:
        file.write_bytes(write_junit(run, results))
    except OSError as error:
        raise ProblemError(Problem("test.junit", "The file cannot be written.", place=str(file), found=str(error))) from None


def counts(run: Mapping[str, Any]) -> str:
    parts = [f"[green]● {run['passed']}[/]" if run["passed"] else "", f"[red]✕ {run['failed']}[/]" if run["failed"] else "",
             f"[yellow]○ {run['left_out']} left out[/]" if run["left_out"] else "",
             f"[yellow]▲ {run['warned']} thin[/]" if run["warned"] else ""]
    return " ".join(one for one in parts if one) or "[dim]–[/]"


def some(names: Sequence[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def print_run(run: Mapping[str, Any], results: Sequence[Mapping[str, Any]], generated: bool, every: bool) -> None:
    failed = [one for one in results if one["outcome"] == "failed"]
    if generated:
        _print_matrix(results)
    else:
        _print_suites(results)
    shown = list(results) if every else [one for one in results if one["outcome"] != "passed" or one["warnings"]]
    for one in shown[:None if every else _SHOWN_FAILURES]:
        _print_result(one)
    if len(shown) > _SHOWN_FAILURES and not every:
        out.print(f"[dim]… and {len(shown) - _SHOWN_FAILURES} more: bricola suites run {run['number']} --every[/]")
    _print_changes(run)
    took = f", {run['ended_at'] - run['begun_at']:.1f} s" if run["ended_at"] else ""
    state = "" if run["state"] == "ended" else f"  {RUNS[run['state']]}"
    named = [f"{name} {number}" for name, number in run["releases"].items()]
    releases = ", ".join(named[:4]) + (f" and {len(named) - 4} more" if len(named) > 4 else "")
    out.print(f"\n{'[red]✕[/]' if failed or run['state'] != 'ended' else '[green]●[/]'} [bold]{text(run['environment'])}[/]  "
              f"{counts(run)}{state}  [dim]run {run['number']}{took}; releases: {text(releases)}[/]")
    if run.get("words"):
        out.print(f"[red]✕[/] {text(run['words'])}")


def _print_suites(results: Sequence[Mapping[str, Any]]) -> None:
    by_suite: dict[str, list[Mapping[str, Any]]] = {}
    for one in results:
        by_suite.setdefault(one["suite"], []).append(one)
    rows = []
    for name, of_it in by_suite.items():
        counts = Counter(one["outcome"] for one in of_it)
        times = sorted(one["ms"] for one in of_it if one["part"] == "case" and one["call"])
        rows.append((f"[bold]{text(name)}[/]", text(of_it[0]["service"]), str(counts["passed"]),
                     f"[red]{counts['failed']}[/]" if counts["failed"] else "–", str(counts["left out"] or "–"),
                     f"{times[len(times) // 2]:.1f} ms" if times else "–"))
    out.print(table(("Suite", "Service", "Passed", "Failed", "Left out", "Median"), rows, right=("Passed", "Failed", "Left out", "Median")))


def _print_matrix(results: Sequence[Mapping[str, Any]]) -> None:
    """Of generated tests: the elements of each operation, with the rules that were tried on each."""
    by_operation: dict[str, dict[str, list[Mapping[str, Any]]]] = {}
    for one in sorted(results, key=lambda one: str(one["case"])):
        elements = by_operation.setdefault(f"{one['service']}.{one['operation']}", {})
        elements.setdefault(one["element"] or "the whole request", []).append(one)
    for operation, elements in by_operation.items():
        out.print(f"[bold]{text(operation)}[/]")
        rows = []
        for element, of_it in elements.items():
            rules = dict.fromkeys(one["rule"] for one in of_it)
            wrong = {one["rule"] for one in of_it if one["outcome"] == "failed"}
            words = ", ".join(f"[red]✕ {text(rule)}[/]" if rule in wrong else text(rule) for rule in rules)
            rows.append((f"  {text(element)}", str(sum(one["outcome"] == "passed" for one in of_it)),
                         f"[red]{sum(one['outcome'] == 'failed' for one in of_it)}[/]" if wrong else "–", words))
        out.print(table(("  Element", "Passed", "Failed", "Rules"), rows, right=("Passed", "Failed")))


def _print_result(one: Mapping[str, Any]) -> None:
    title = f"{text(one['suite'])} [bold]{text(one['case'])}[/]" + (f" [{text(one['row'])}]" if one["row"] else "")
    if one["rule"]:
        title = f"{text(one['operation'])}: [bold]{text(one['element'] or 'the whole request')}, {text(one['rule'])}[/]"
    part = f" [dim]{one['part']}[/]" if one["part"] != "case" else ""
    after = ", ".join(filter(None, (text(one["caller"]), text(one["face"]), f"{one['ms']:.1f} ms" if one["ms"] else "",
                                    f"call {text(one['call'])}" if one["call"] else "")))
    out.print(f"{OUTCOMES[one['outcome']].partition(' ')[0]}[/] {title}{part}  [dim]{after}[/]")
    for problem in one["problems"][:3]:
        print_difference(problem)
    for problem in one["warnings"]:
        print_difference(problem, "[yellow]▲[/] ")
    if len(one["problems"]) > 3:
        out.print(f"    [dim]and {len(one['problems']) - 3} more differences[/]")


def print_difference(problem: Mapping[str, Any], mark: str = "") -> None:
    """In what a reply differs: where, expected, found, and the mend."""
    out.print(f"    {mark}{text(problem['message'])}")
    for label, name in (("where", "place"), ("expected", "expected"), ("found", "found"), ("mend", "mend")):
        if problem.get(name):
            out.print(f"      [dim]{label:<10}[/]{text(problem[name])}")


def _print_changes(run: Mapping[str, Any]) -> None:
    changes = run.get("changes") or []
    if not changes:
        return
    out.print(f"\nSince run {run['before']}")
    for one in changes[:20]:
        row = f" [{text(one['row'])}]" if one["row"] else ""
        out.print(f"  {text(one['suite'])} {text(one['case'])}{row}: {one['before'] or 'not there'} → {OUTCOMES[one['now']]}")
