"""`bricola test` runs test suites; `bricola suites` shows them."""

import sys
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.live import Live

from bricola.cli.calling import print_kept, split_case
from bricola.cli.connection import At, Json, connect
from bricola.cli.output import err, out, print_json, table, text, when
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
            begun = client.begin_tests(environment, services or (), suite or (), only or (), generated, random, seed, at_once)
            run, results, stopped = _follow(client, begun["number"], as_json)
        if junit is not None:
            _write(junit, run, results)
        if as_json:
            print_json({**run, "results": results})
        else:
            _print(run, results, generated, every)
        if stopped:
            raise typer.Exit(130)
        if run["failed"] or run["state"] != "ended" or not (run["passed"] or run["left_out"]):
            raise typer.Exit(1)

    suites = typer.Typer(help="Test suites: kept cases of services, whether they fit, and their runs.", no_args_is_help=True)
    app.add_typer(suites, name="suites", rich_help_panel="Tests")

    @suites.command("list")
    def listed(at: At = "", as_json: Json = False) -> None:
        """List test suites with their newest run in each environment."""
        with connect(at) as client:
            found = client.suites()
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("No suites yet. Keep a call as a case: bricola call … --keep SUITE.CASE")
            return
        out.print(table(("Suite", "Service", "Cases", "Fits", "Newest runs"), [
            (f"[bold]{text(one['name'])}[/]", text(one["service"]), str(one["cases"]),
             "[green]●[/]" if not one["problems"] else f"[red]✕ {one['problems']}[/]",
             "   ".join(f"{text(run['environment'])} {_counts(run)}" for run in one["runs"]) or "[dim]never run[/]")
            for one in found], right=("Cases",)))

    @suites.command("show")
    def show(name: Annotated[str, typer.Argument(metavar="SUITE")],
             source: Annotated[bool, typer.Option("--text", help="Its text.")] = False,
             at: At = "", as_json: Json = False) -> None:
        """One suite: its cases, whether each fits the draft of the service, and what became of it last."""
        with connect(at) as client:
            found = client.suite(name)
        if as_json:
            print_json(found)
        elif source:
            sys.stdout.write(found["text"])
        else:
            _print_suite(found)

    @suites.command("keep")
    def keep(
        name: Annotated[str, typer.Argument(metavar="SUITE.CASE")],
        call: Annotated[str, typer.Option("--call", metavar="NUMBER", help="Of this call of the log, whose trace was kept.")] = "",
        stand_ins: Annotated[bool, typer.Option("--stand-ins", help="What its workflow called is answered as it was then.")] = False,
        film: Annotated[str, typer.Option("--film", metavar="SERVICE.OPERATION", help="Of the film of what it runs.")] = "",
        environment: Annotated[str, typer.Option("--environment", "-e", help="With --film: where the service is live.")] = "",
        replace: Annotated[bool, typer.Option("--replace", help="In the place of a case of that name.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make a case of what happened: of a call of the log, or of the film of a screen flow."""
        suite, case = split_case(name)
        if bool(call) == bool(film):
            raise ProblemError(Problem("keep.what", "Say what is to be kept.", expected="--call NUMBER, or --film SERVICE.OPERATION"))
        with connect(at) as client:
            kept = client.keep_case(suite, case, None, call, film, environment, stand_ins, replace)
        print_json(kept) if as_json else print_kept(kept)

    @suites.command("runs")
    def runs(environment: Annotated[str, typer.Option("--environment", "-e")] = "",
             suite: Annotated[str, typer.Option("--suite", "-s")] = "",
             limit: Annotated[int, typer.Option("--limit", "-n", min=1, max=200)] = 20, at: At = "", as_json: Json = False) -> None:
        """List test runs, the newest first."""
        with connect(at) as client:
            found = client.test_runs(environment, suite, limit)
        if as_json:
            print_json(found)
            return
        out.print(table(("Run", "When", "Environment", "By", "State", "Suites", "Outcome", "For"), [
            (str(one["number"]), when(one["begun_at"]), text(one["environment"]), text(one["author"]), RUNS[one["state"]],
             text(_some(one["suites"])), _counts(one), text(one["purpose"])) for one in found],
             right=("Run",)) if found else "No run yet: bricola test ENVIRONMENT")

    @suites.command("run")
    def one_run(number: Annotated[int, typer.Argument(metavar="RUN")],
                every: Annotated[bool, typer.Option("--every", help="Show every case, not only what failed.")] = False,
                junit: Annotated[Path | None, typer.Option("--junit", metavar="FILE", help="Write the results as JUnit XML.")] = None,
                at: At = "", as_json: Json = False) -> None:
        """One run: what failed, and what changed since the run before."""
        with connect(at) as client:
            found = client.test_run(number)
        if junit is not None:
            _write(junit, found, found["results"])
        if as_json:
            print_json(found)
        else:
            _print(found, found["results"], any(one["rule"] for one in found["results"]), every)


def _follow(client: "Client", number: int, quiet: bool) -> tuple[Any, list[Any], bool]:
    """Look at a run until it has ended; Ctrl C ends it. Answers the run, its results, and whether it was stopped."""
    results: list[Any] = []
    found: Any = client.test_run(number)
    stopped = False
    try:
        with Live(console=err, refresh_per_second=5, transient=True) as live:
            while True:
                results += found["results"]
                if found["state"] != "running":
                    break
                if not quiet:
                    words = f"  {text(found['words'])}" if found["words"] else ""
                    done = sum(one["part"] == "case" for one in results)
                    live.update(f"[cyan]◆[/] {done} of {found['total']}  {_counts(found)}{words}")
                time.sleep(_EVERY)
                found = client.test_run(number, len(results))
    except KeyboardInterrupt:
        stopped = True
        found = client.stop_tests(number)
        results = list(found["results"])
    return {name: value for name, value in found.items() if name != "results"}, results, stopped


def _write(file: Path, run: Any, results: Sequence[Mapping[str, Any]]) -> None:
    from bricola.core.testing.junit import write_junit  # loads lxml, which nothing else here needs

    try:
        file.write_bytes(write_junit(run, results))
    except OSError as error:
        raise ProblemError(Problem("test.junit", "The file cannot be written.", place=str(file), found=str(error))) from None


def _counts(run: Mapping[str, Any]) -> str:
    parts = [f"[green]● {run['passed']}[/]" if run["passed"] else "", f"[red]✕ {run['failed']}[/]" if run["failed"] else "",
             f"[yellow]○ {run['left_out']} left out[/]" if run["left_out"] else "",
             f"[yellow]▲ {run['warned']} thin[/]" if run["warned"] else ""]
    return " ".join(one for one in parts if one) or "[dim]–[/]"


def _some(names: Sequence[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def _print(run: Mapping[str, Any], results: Sequence[Mapping[str, Any]], generated: bool, every: bool) -> None:
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
    releases = ", ".join(f"{name} {number}" for name, number in run["releases"].items())
    out.print(f"\n{'[red]✕[/]' if failed or run['state'] != 'ended' else '[green]●[/]'} [bold]{text(run['environment'])}[/]  "
              f"{_counts(run)}{state}  [dim]run {run['number']}{took}; releases: {text(releases)}[/]")
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
    for problem in (*one["problems"][:3], *one["warnings"]):
        thin = "[yellow]▲[/] " if problem in one["warnings"] else ""
        out.print(f"    {thin}{text(problem['message'])}")
        for label, name in (("where", "place"), ("expected", "expected"), ("found", "found"), ("mend", "mend")):
            if problem.get(name):
                out.print(f"      [dim]{label:<10}[/]{text(problem[name])}")
    if len(one["problems"]) > 3:
        out.print(f"    [dim]and {len(one['problems']) - 3} more differences[/]")


def _print_changes(run: Mapping[str, Any]) -> None:
    changes = run.get("changes") or []
    if not changes:
        return
    out.print(f"\nSince run {run['before']}")
    for one in changes[:20]:
        row = f" [{text(one['row'])}]" if one["row"] else ""
        out.print(f"  {text(one['suite'])} {text(one['case'])}{row}: {one['before'] or 'not there'} → {OUTCOMES[one['now']]}")


def _print_suite(found: "answers.SuiteDetail") -> None:
    out.print(f"[bold]{text(found['name'])}[/]  of {text(found['service'])}  {text(found['description'])}".rstrip())
    environments = list(dict.fromkeys(one for part in found["parts"] for one in part["last"]))
    out.print(table(("Case", "Operation", "Expects", "As", "Fits", *environments), [
        (f"{'' if one['section'] == 'case' else '[dim]step[/] '}{text(one['name'])}" + (f" [dim]× {one['rows']}[/]" if one["rows"] else "")
         + (" [yellow]writes[/]" if one["writes"] else ""),
         text(one["operation"]), text(one["expects"]), text(one["caller"] or "who may"), "[green]●[/]" if not one["fits"] else "[red]✕[/]",
         *(OUTCOMES.get(one["last"].get(place, ""), "[dim]–[/]") for place in environments))
        for one in found["parts"]]))
    for part in found["parts"]:
        for problem in part["fits"]:
            out.print(f"[red]✕[/] {text(problem.get('place', ''))}: {text(problem['message'])} {text(problem.get('mend', ''))}")
