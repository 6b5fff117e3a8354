"""`apply`, `export` and `review`: definitions as text."""

import sys
from collections import Counter
from pathlib import Path
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import STATES, err, out, print_json, table, text
from bricola.core.definitions.folder import read_bundle, read_folder, write_folder
from bricola.core.problems import Problem, ProblemError

_SIGNS = {"added": "[green]+ added[/]", "changed": "[yellow]~ changed[/]", "moved": "[yellow]> moved[/]",
          "removed": "[red]- removed[/]", "unchanged": "[dim]  unchanged[/]"}


def register(app: typer.Typer) -> None:
    panel = "Definitions"

    @app.command(rich_help_panel=panel)
    def apply(
        folder: Annotated[Path, typer.Argument(help="Folder of YAML files.")],
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask before changing.")] = False,
        remove: Annotated[bool, typer.Option(help="Also remove definitions that the folder does not have.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make drafts of the definitions in a folder. Shows the plan first; nothing goes live by this."""
        texts = read_folder(folder)
        read_bundle(texts)  # mistakes are told before anything is sent
        with connect(at) as client:
            plan = client.apply(texts, remove, plan_only=True)
            busy = any(one["action"] != "unchanged" for one in plan)
            if not as_json:
                _print_plan(plan)
            if busy and not yes:
                if as_json or not sys.stdin.isatty():
                    raise ProblemError(Problem("apply.confirm", "Nothing was changed, since nobody confirmed the plan.",
                                               mend="Say --yes."))
                typer.confirm("Make these drafts?", abort=True)
            changes = client.apply(texts, remove) if busy else plan
        if as_json:
            print_json(changes)
        elif busy:
            out.print("Drafts made. What is live has not changed.")

    @app.command(rich_help_panel=panel)
    def export(
        folder: Annotated[Path, typer.Argument(help="Folder to write into; made when missing.")],
        at: At = "", as_json: Json = False,
    ) -> None:
        """Write all drafts as YAML files. The same definitions give the same bytes."""
        with connect(at) as client:
            files = client.export()
        write_folder(folder, files)
        if as_json:
            print_json({"folder": str(folder), "files": sorted(files)})
        else:
            out.print(f"Wrote {len(files)} files into {text(folder)}.")

    @app.command(rich_help_panel=panel)
    def review(
        service: str,
        environment: Annotated[str, typer.Argument(help="Also review running it there.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """List what stands between a draft and a sound release. Exit status 1 when an error stops it."""
        with connect(at) as client:
            findings = client.review(service, environment)
        if as_json:
            print_json(findings)
        else:
            _print_findings(findings, service)
        if any(one["severity"] == "error" for one in findings):
            raise typer.Exit(1)


def _print_plan(plan: list[dict[str, Any]]) -> None:
    shown = [one for one in plan if one["action"] != "unchanged"]
    if shown:
        out.print(table(("", "Kind", "Name", "File"), [
            (_SIGNS[one["action"]], text(one["kind"]), text(one["name"]), text(one["path"])) for one in shown
        ]))
    count = Counter(one["action"] for one in plan)
    out.print(", ".join(f"{number} {action}" for action, number in count.items()) + ".")


def _print_findings(findings: list[dict[str, Any]], service: str) -> None:
    if not findings:
        out.print(f"[green]●[/] {text(service)} is ready: no findings.")
        return
    for one in findings:
        out.print(f"{STATES[one['severity']]}  {text(one['message'])}  [dim]{text(one['code'])}[/]")
        for label in ("place", "expected", "found", "mend"):
            if one.get(label):
                out.print(f"    [dim]{label:<10}[/]{text(one[label])}")
    count = Counter(one["severity"] for one in findings)
    summary = ", ".join(f"{number} {severity}{'s' if number > 1 else ''}" for severity, number in count.items())
    (err if count["error"] else out).print(f"{summary}. " + ("Errors stop the release." if count["error"] else
                                                               "Nothing stops the release."))
