"""`bricola jobs`: accepted calls that are done later, and what people decide about them."""

import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_json, table, text, when
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.client import Client

STATES = {
    "waiting": "[cyan]◌ waiting[/]", "running": "[cyan]◆ running[/]", "done": "[green]● done[/]", "fault": "[yellow]▲ fault[/]",
    "failed": "[red]✕ failed[/]", "cancelled": "[dim]□ cancelled[/]", "outcome unknown": "[red]? outcome unknown[/]",
    "ended by hand": "[dim]– ended by hand[/]",
}
_MARKS = {"began": "[red]?[/]", "done": "[green]●[/]", "failed": "[red]✕[/]"}
_MOST = 300  # characters of a value on a line
Number = Annotated[str, typer.Argument(metavar="JOB", help="Its number.")]


def register(app: typer.Typer) -> None:
    jobs = typer.Typer(help="Jobs: accepted calls that are done later; cancelled, tried again, settled.", invoke_without_command=True)
    app.add_typer(jobs, name="jobs", rich_help_panel="Calls")

    @jobs.callback()
    def listed(
        context: typer.Context,
        environment: Annotated[str, typer.Option(help="Of one environment.")] = "",
        service: Annotated[str, typer.Option(help="Of one service.")] = "",
        state: Annotated[str, typer.Option(help="In one state: running, failed, 'outcome unknown' …")] = "",
        limit: Annotated[int, typer.Option(min=1, max=500)] = 50,
        at: At = "", as_json: Json = False,
    ) -> None:
        """List jobs, the newest first."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.jobs(environment, service, state, limit=limit)
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("No jobs. A workflow with 'answers: later' makes one of every call.")
            return
        out.print(table(("Job", "Accepted", "Operation", "Environment", "Caller", "State", "Steps", "Last step"), [
            (text(one["job"]), when(one["accepted_at"]), f"[bold]{text(one['service'])}.{text(one['operation'])}[/]",
             text(one["environment"]), text(one["caller"]), STATES[one["state"]], str(one["steps"]), text(one["step"] or "–"))
            for one in found], right=("Steps",)))

    @jobs.command("show")
    def show(job: Number, at: At = "", as_json: Json = False) -> None:
        """One job: what it took, what each step gave, and how it ended."""
        with connect(at) as client:
            found = client.job(job)
        print_json(found) if as_json else _print(found)

    @jobs.command("cancel")
    def cancel(job: Number, yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False, at: At = "",
               as_json: Json = False) -> None:
        """End a job, and undo what it did."""
        _decide(job, "cancel", None, "It ends, and what it did is undone.", yes, at, as_json)

    @jobs.command("again")
    def again(job: Number, yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False, at: At = "",
              as_json: Json = False) -> None:
        """Have a job that failed tried again. What stands, stays; all else is done anew."""
        _decide(job, "again", None, "What it stored and is still there stays; all else is done anew.", yes, at, as_json)

    @jobs.command("settle")
    def settle(
        job: Number,
        stored: Annotated[str, typer.Option(help="It was stored, and answered this, as JSON.", metavar="JSON")] = "",
        not_stored: Annotated[bool, typer.Option("--not-stored", help="It was not stored: it is done now.")] = False,
        yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False, at: At = "", as_json: Json = False,
    ) -> None:
        """Say what became of the step whose outcome is unknown; the job goes on from there."""
        if bool(stored) == not_stored:
            raise ProblemError(Problem("job.settle", "It was either stored or not.", expected="one of --stored JSON and --not-stored"))
        if not_stored:
            _decide(job, "not stored", None, "The step is done now, and the job goes on.", yes, at, as_json)
            return
        try:
            answer = json.loads(stored)
        except ValueError as error:
            raise ProblemError(Problem("job.answer", "What the step answered is not JSON.", place="--stored", found=str(error))) from None
        _decide(job, "stored", answer, "The job goes on as if the step had answered this.", yes, at, as_json)

    @jobs.command("leave")
    def leave(job: Number, yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False, at: At = "",
              as_json: Json = False) -> None:
        """End a job as it is: nothing is undone, since somebody has set it right by hand."""
        _decide(job, "leave", None, "It ends as it is, and nothing is undone.", yes, at, as_json)


def _decide(job: str, act: str, answer: Any, words: str, yes: bool, at: str, as_json: bool) -> None:
    with connect(at) as client:
        if not yes:
            _ask(client, job, words)
        found = client.decide_job(job, act, answer)
    if as_json:
        print_json(found)
    else:
        out.print(f"{STATES[found['state']]}  {text(found['job'])}")


def _ask(client: "Client", job: str, words: str) -> None:
    found = client.job(job)
    out.print(f"{STATES[found['state']]}  [bold]{text(found['service'])}.{text(found['operation'])}[/] in {text(found['environment'])}, "
              f"for {text(found['caller'])}, {found['steps']} steps done")
    if found["words"]:
        out.print(f"   {text(found['words'])}", soft_wrap=True)
    typer.confirm(f"{words} Do it?", abort=True)


def _print(job: Mapping[str, Any]) -> None:
    attempt = f", attempt {job['attempt']}" if job["attempt"] > 1 else ""
    out.print(f"{STATES[job['state']]}  [bold]{text(job['service'])}.{text(job['operation'])}[/] in {text(job['environment'])}, release "
              f"{job['release']}, for {text(job['caller'])}{attempt}")
    out.print(f"[dim]accepted {when(job['accepted_at'])}, changed {when(job['changed_at'])}, ends at the latest {when(job['ends_at'])}[/]")
    if job["cancelled_by"]:
        out.print(f"[dim]{text(job['cancelled_by'])} wants it to end[/]")
    for problem in job["problems"]:
        out.print(f"[red]✕[/] {text(problem['message'])} [dim]{text(problem['code'])}[/]", soft_wrap=True)
        for label in ("expected", "found", "inner", "mend"):
            if problem.get(label):
                out.print(f"    [dim]{'cause' if label == 'inner' else label:<10}[/]{text(problem[label])}", soft_wrap=True)
    if job["reply_to"]:
        out.print(f"told to {text(job['reply_to'])}: {text(job['told'] or 'not yet')}", soft_wrap=True)
    out.print()
    out.print(f"took   [dim]{text(_short(job['input']))}[/]", soft_wrap=True)
    for one in job["journal"]:
        word = "undone" if one["undoing"] and one["mark"] == "done" else one["mark"]
        value = f"  [dim]{text(_short(one['value']))}[/]" if one["value"] not in (None, {}) else ""
        words = f"  [red]{text(one['words'])}[/]" if one["words"] else ""
        out.print(f"  {_MARKS[one['mark']]} {text(one['step'])}  [dim]{word}[/]{value}{words}", soft_wrap=True)
    if job["answer"] is not None:
        out.print(f"gave   [dim]{text(_short(job['answer']))}[/]", soft_wrap=True)
    acts = {"cancel": "cancel", "again": "again", "stored": "settle", "not stored": "settle", "leave": "leave"}
    possible = list(dict.fromkeys(acts[one] for one in job["acts"]))
    if possible:
        out.print(f"\n[dim]bricola jobs {' | '.join(possible)} {text(job['job'])}[/]")


def _short(value: Any) -> str:
    line = json.dumps(value, ensure_ascii=False)
    return f"{line[:_MOST]}…" if len(line) > _MOST else line
