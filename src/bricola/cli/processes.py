"""`processes`: processes that run elsewhere, brought in as workflows."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bricola.adapters.parts import folder_files
from bricola.cli.connection import At, Json, connect
from bricola.cli.output import ask_first, out, print_json, table, text
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api import workflows as api

SUFFIXES = (".bpel", ".wsdl", ".xsd", ".xml")


def register(app: typer.Typer) -> None:
    processes = typer.Typer(help="Processes that run elsewhere (WS-BPEL 2.0), brought in as workflows.", no_args_is_help=True)
    app.add_typer(processes, name="processes", rich_help_panel="Definitions")

    @processes.command("import")
    def take_in(
        source: Annotated[str, typer.Argument(help="The process, with its WSDL documents beside it; their folder; a zip.")],
        service: Annotated[str, typer.Option("--service", help="Name of the service that it becomes.")],
        ends: Annotated[list[str] | None, typer.Option(
            "--end", metavar="ID=CHOICE", help="What an open end becomes, like 'line 38=reply'; again for more.")] = None,
        accept: Annotated[bool, typer.Option("--accept", help="Take the proposals for all other open ends.")] = False,
        main: Annotated[str, typer.Option("--main", metavar="PATH", help="Which file is the process, where several are.")] = "",
        role: Annotated[str, typer.Option("--role", help="A role that may call all of it.")] = "",
        plan: Annotated[bool, typer.Option("--plan", help="Show what would come, and change nothing.")] = False,
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask before changing.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make workflows of a process: a service with its contract, its steps, and what it asks of others, all as drafts."""
        files = process_files(source)
        choices = dict(_choice(one) for one in ends or [])
        with connect(at) as client:
            found = client.take_process(files, service, main, role, choices, accept, plan_only=True)
            if not as_json:
                _print(found)
            open_ends = [one for one in found["endings"] if not one["chosen"]]
            if not plan:
                if not yes:
                    words = f" The {len(open_ends)} open ends become what is proposed." if open_ends and not accept else ""
                    ask_first("process", as_json, f"Make these drafts?{words}")
                    accept = True
                found = client.take_process(files, service, main, role, choices, accept)
        if as_json:
            print_json(found)
        elif not plan:
            names = ", ".join(text(one["name"]) for one in found["workflows"])
            out.print(f"\nDrafts made. To see each step: bricola workflows {names.partition(',')[0]}")


def process_files(source: str) -> dict[str, bytes]:
    """What is sent to the service: a zip as it is, a folder, or a file with those beside it."""
    path = Path(source)
    try:
        if path.is_dir():
            return folder_files(path, SUFFIXES)
        content = path.read_bytes()
    except OSError as error:
        raise ProblemError(Problem("process.source", f"The file cannot be read: {error.strerror}.", place=source)) from None
    if path.suffix.lower() == ".zip":
        return {path.name: content}
    beside = {name: one for name, one in folder_files(path.parent, SUFFIXES).items() if not name.lower().endswith(".bpel")}
    return {**beside, path.name: content}


def _choice(words: str) -> tuple[str, str]:
    name, sign, choice = words.partition("=")
    if not sign:
        raise ProblemError(Problem("process.choice", "A choice for an open end is given as ID=CHOICE.", found=words[:100]))
    return name.strip(), choice.strip()


def _print(found: "api.TakenProcess") -> None:
    for one in found["workflows"]:
        out.print(f"[green]+[/] {text(found['service'])}.{text(one['operation'])} runs the workflow [bold]{text(one['name'])}[/]")
    for change in found["changes"]:
        if change["action"] == "changed":
            out.print(f"[yellow]~[/] the {text(change['kind'])} [bold]{text(change['name'])}[/] is here already, and is replaced")
    for partner in found["partners"]:
        words = "new, bind its backend in each environment" if partner["new"] else "which is here already"
        sign = "+" if partner["new"] else "="
        out.print(f"[green]{sign}[/] {text(partner['link'])} is asked by [bold]{text(partner['calls'])}[/], {words}")
    for title, taken in (("Not taken", False), ("Taken in another way", True)):
        rows = [[f"  {one['line']}", text(one["what"]), text(one["why"])] for one in found["left"] if one["taken"] is taken]
        if rows:
            out.print(f"\n[bold]{title}[/]")
            out.print(table(["  line", "what", "why" if not taken else "how"], rows))
    if found["endings"]:
        out.print("\n[bold]Ends that are no answer[/]")
        out.print(table(["  id", "what", "becomes", "or"], [
            [f"  {text(one['id'])}", text(one["what"]), f"{text(one['chosen'] or one['proposal'])} "
             + ("[green]as you said[/]" if one["chosen"] else "[yellow]proposed[/]"),
             text(", ".join(option for option in one["options"] if option != (one["chosen"] or one["proposal"])))]
            for one in found["endings"]]))
    if found["problems"]:
        out.print("\n[bold]Left to do[/]")
    for problem in found["problems"]:
        out.print(f"  [yellow]▲[/] {text(problem['message'])} [dim]{text(problem.get('place', ''))}[/]", soft_wrap=True)
