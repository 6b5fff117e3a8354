"""`apply`, `export`, `diff`, `review` and `mend`: definitions as text."""

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.copies import read_copy_note, write_copy_note
from bricola.cli.differences import print_lines
from bricola.cli.findings import print_findings
from bricola.cli.output import ask_first, err, out, print_json, table, text, when
from bricola.core.definitions.copies import note_of
from bricola.core.definitions.folder import read_bundle, read_folder
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api.definitions import Mends
    from bricola.client import Client

_SIGNS = {"added": "[green]+ added[/]", "changed": "[yellow]~ changed[/]", "moved": "[yellow]> moved[/]",
          "removed": "[red]- removed[/]", "unchanged": "[dim]  unchanged[/]",
          "kept": "[dim]= kept, newer here[/]"}


_MOST_BREAKS = 12


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
        note = read_copy_note(folder)
        with connect(at) as client:
            based_on = dict(note.revisions) if note is not None and note.server in ("", client.url) else None
            if note is not None and based_on is None and not as_json:
                out.print(f"[yellow]▲[/] The folder is a copy of {text(note.server)}, and this is {text(client.url)}: what others changed "
                          "here meanwhile is not looked at.")
            planned = client.plan_changes(texts, remove, based_on)
            plan = planned["changes"]
            busy = any(one["action"] not in ("unchanged", "kept") for one in plan)
            if not as_json:
                _print_plan(plan)
                print_breaks(planned["breaks"])
            if busy and not yes:
                ask_first("apply", as_json, "Make these drafts?")
            changes = client.apply(texts, remove, based_on=based_on) if busy else plan
            if busy and based_on is not None:
                kept = {f"{one['kind']} {one['name']}" for one in changes if one["action"] == "kept"}
                revisions = client.export_with_revisions()[1] | {name: based_on[name] for name in kept}
                write_copy_note(folder, note_of(client.url, revisions, texts))
        if as_json:
            print_json(changes)
        elif busy:
            out.print("Drafts made. No release that is live has changed.")
            for one in changes:
                if one["effective"]:
                    out.print(f"The {one['kind']} {text(one['name'])} is a live setting: in effect since {when(one['effective'])}.")

    @app.command(rich_help_panel=panel)
    def diff(folder: Annotated[Path, typer.Argument(help="Folder of YAML files.")], at: At = "", as_json: Json = False) -> None:
        """Show line by line how a folder differs from the drafts. Exit status 1 when it does."""
        with connect(at) as client:
            found = client.compare_folder(read_folder(folder))
        if as_json:
            print_json(found)
        elif not found:
            out.print("The folder and the drafts are the same.")
        for one in () if as_json else found:
            print_lines(f"{one['path']} {one['action']}", one["lines"])
        if found:
            raise typer.Exit(1)

    @app.command(rich_help_panel=panel)
    def mend(
        service: Annotated[str, typer.Argument(help="With --all the environment.")] = "",
        environment: Annotated[str, typer.Argument(help="Also mend what concerns running it there.")] = "",
        code: Annotated[str, typer.Option(help="Only this finding, like pool.bounds; all but deliberate ones when left out.")] = "",
        settings: Annotated[bool,
                            typer.Option("--settings", help="Also change the environment itself, which takes effect at once.")] = False,
        everything: Annotated[bool, typer.Option("--all", help="Every service.")] = False,
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Do it without asking.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Do the mends of the review that are mechanical, as new drafts. Shows what it would do, and asks."""
        with connect(at) as client:
            services, environment = _meant(client, service, environment, everything)
            plans = {one: plan for one in services if (plan := _plan_of_mends(client, one, environment, code, settings, everything))}
            touched = sorted({two["name"] for plan in plans.values() for two in plan["changes"] if two["kind"] in LIVE})
            if not as_json:
                for plan in plans.values():
                    _print_mends(plan)
                if not plans:
                    out.print("Nothing can be mended mechanically.")
            if any(plan["changes"] for plan in plans.values()):
                if not yes:
                    count = len({(two["kind"], two["name"]) for plan in plans.values() for two in plan["changes"]})
                    ask_first("mend", as_json, f"Do this{f', at once in {chr(44).join(touched)}' if touched else ' as drafts'}?",
                              f"{count} definitions")
                # One after the other, each from what the one before made: services share definitions.
                plans = {one: done for one in plans if (done := _plan_of_mends(client, one, environment, code, settings, everything, True))}
        if as_json:
            print_json(plans if everything else plans[service])

    @app.command(rich_help_panel=panel)
    def review(
        service: Annotated[str, typer.Argument(help="With --all the environment.")] = "",
        environment: Annotated[str, typer.Argument(help="Also review running it there.")] = "",
        everything: Annotated[bool, typer.Option("--all", help="Every service.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """List what stands between a draft and a sound release. Exit status 1 when an error stops it."""
        with connect(at) as client:
            services, environment = _meant(client, service, environment, everything)
            found = {one: client.review(one, environment) for one in services}
            uses = {one: client.uses(one, environment) if environment else [] for one in services}
        if as_json:
            print_json(found if everything else found[service])
        else:
            for name, findings in found.items():
                if everything and findings:
                    out.print(f"\n[bold]{text(name)}[/]")
                _print_findings(findings, name, environment)
            for one in {two["backend"]: two for each in uses.values() for two in each}.values():
                seen = f"seen {when(one['seen'])}" if one["seen"] else "[yellow]not seen since the start[/]"
                out.print(f"  [dim]{'backend':<10}[/]{text(one['backend'])} {seen}")
        if any(one["severity"] == "error" for findings in found.values() for one in findings):
            raise typer.Exit(1)


LIVE = ("environment", "access", "context-list")  # kinds of definitions that take effect at once


def _meant(client: "Client", service: str, environment: str, everything: bool) -> tuple[list[str], str]:
    """The services of a command, and its environment. Raises ProblemError when it names none."""
    if everything:
        return [one["name"] for one in client.overview()["services"] if one["draft"] != "removed"], environment or service
    if not service:
        raise ProblemError(Problem("command.service", "Which service?", expected="a service, or --all"))
    return [service], environment


def _plan_of_mends(client: "Client", service: str, environment: str, code: str, settings: bool, everything: bool,
                   do: bool = False) -> "Mends | None":
    try:
        return client.mend(service, environment, code, settings, plan_only=not do)
    except ProblemError as error:
        if everything and error.problem.code == "mend.nothing":
            return None
        raise


def _print_mends(plan: "Mends") -> None:
    for one in plan["changes"]:
        live = " in effect at once" if one["kind"] in LIVE else ""
        print_lines(f"{one['path']} {one['action']}{live}", one["lines"])
    for left in plan["left"]:
        out.print(f"[yellow]▲[/] {text(left.get('place', ''))}: {text(left['message'])} {text(left.get('mend', ''))}", soft_wrap=True)
    if plan["left"]:
        out.print("[dim]These are settings of the environment, which take effect at once: do them with --settings.[/]")


def _print_plan(plan: Sequence[Mapping[str, Any]]) -> None:
    shown = [one for one in plan if one["action"] != "unchanged"]
    if shown:
        out.print(table(("", "Kind", "Name", "File"), [
            (_SIGNS[one["action"]], text(one["kind"]), text(one["name"]), text(one["path"])) for one in shown
        ]))
    count = Counter(one["action"] for one in plan)
    out.print(", ".join(f"{number} {action}" for action, number in count.items()) + ".")


def print_breaks(breaks: Sequence[Mapping[str, Any]]) -> None:
    """What fits together now, and would not any more."""
    if not breaks:
        return
    out.print(f"[red]✕[/] This breaks {len(breaks)} {'thing' if len(breaks) == 1 else 'things'} elsewhere:")
    for one in breaks[:_MOST_BREAKS]:
        told = f" Expected {one['expected']}." if one.get("expected") else ""
        out.print(f"    [bold]{text(one.get('place', ''))}[/]  {text(one['message'])}{text(told)}", soft_wrap=True)
    if len(breaks) > _MOST_BREAKS:
        out.print(f"    and {len(breaks) - _MOST_BREAKS} more")


def _print_findings(findings: Sequence[Mapping[str, Any]], service: str, environment: str) -> None:
    if not findings:
        out.print(f"[green]●[/] {text(service)} is ready: no findings.")
        return
    print_findings(findings)
    count = Counter(one["severity"] for one in findings)
    summary = ", ".join(f"{number} {severity}{'s' if number > 1 else ''}" for severity, number in count.items())
    (err if count["error"] else out).print(f"{summary}. " + ("Errors stop the release." if count["error"] else
                                                               "Nothing stops the release."))
    mendable = sum(one["mendable"] for one in findings)
    if mendable:
        out.print(f"{mendable} can be mended by: bricola mend {text(service)} {text(environment)}".rstrip())
