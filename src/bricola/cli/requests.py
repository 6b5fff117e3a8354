"""`requests`: integration requests, taken in and looked at."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bricola.adapters.parts import folder_files
from bricola.cli.connection import At, Json, connect
from bricola.cli.output import ask_first, out, print_json, table, text
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api import requests as api


def register(app: typer.Typer) -> None:
    requests = typer.Typer(help="Integration requests: what somebody asks for, taken in as a service.", no_args_is_help=True)
    app.add_typer(requests, name="requests", rich_help_panel="Definitions")

    @requests.command("list")
    def list_requests(at: At = "", as_json: Json = False) -> None:
        """List the integration requests that were taken in, with the service of each."""
        with connect(at) as client:
            found = client.requests()
        if as_json:
            print_json(found)
        elif not found:
            out.print("No integration request was taken in. To take one in: bricola requests take FILE")
        else:
            out.print(table(["request", "title", "asked by", "owner", "service", "stands at"], [
                [f"[bold]{text(one['name'])}[/]", text(one["title"]), text(one["asked_by"]), text(one["owner"]), text(one["service"]),
                 text(one["link"])] for one in found]))

    @requests.command("show")
    def show(name: str, at: At = "", as_json: Json = False) -> None:
        """Show what was taken over from a request, what it locks, and what it leaves open."""
        with connect(at) as client:
            found = client.request(name)
        if as_json:
            print_json(found)
            return
        out.print(f"[bold]{text(found['name'])}[/] {text(found['title'])}" + (f"  [dim]{text(found['link'])}[/]" if found["link"] else ""))
        _print(found["taken"], found["lacks"])
        for one in found["problems"]:
            out.print(f"[red]✕[/] {text(one['message'])} [dim]{text(one.get('place', ''))}[/]", soft_wrap=True)

    @requests.command("take")
    def take(
        file: Annotated[Path, typer.Argument(help="The request, in YAML or JSON; its contracts may lie beside it.")],
        plan: Annotated[bool, typer.Option("--plan", help="Show what would come, and change nothing.")] = False,
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask before changing.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make a service of an integration request: everything that it says is filled in and locked, what it lacks is listed."""
        try:
            content = file.read_text(encoding="utf-8")
            files = folder_files(file.parent)
        except (OSError, UnicodeDecodeError) as error:
            raise ProblemError(Problem("request.file", f"The file cannot be read: {error}.", place=str(file))) from None
        with connect(at) as client:
            found = client.take_request(content, files, plan_only=True)
            if not as_json:
                _print_taken(found)
            if not plan:
                if not yes:
                    ask_first("request", as_json, "Make these drafts?")
                found = client.take_request(content, files)
        if as_json:
            print_json(found)
        elif not plan:
            out.print(f"\nDrafts made. Next: bricola review {text(found['service'])}")


def _print(taken: "Sequence[api.TakenOver]", lacks: "Sequence[api.Lacking]") -> None:
    if taken:
        out.print(table(["  taken over", "from the request", "", ""], [
            [f"  {text(one['setting'])}", text(one["value"]), "locked" if one["locked"] else "[dim]yours to change[/]",
             "" if one["here"] in ("", one["value"]) or one["setting"] in ("calls", "role") else f"[yellow]here {text(one['here'])}[/]"]
            for one in taken]))
    if lacks:
        out.print(table(["  it lacks", ""], [[f"  {text(one['what'])}", text(one["why"])] for one in lacks]))


def _print_taken(found: "api.TakenRequest") -> None:
    out.print(f"[bold]{text(found['request'])}[/] {text(found['title'])}"
              + (f" becomes the service [bold]{text(found['service'])}[/]" if found["service"] else ""))
    _print(found["taken"], found["lacks"])
    if found["proposed"]:
        out.print(table(["  proposed", "part", "from", "or"], [
            [f"  {text(one['map'])}", text(one["part"]), text(one["from"]), f"[dim]{text(one['or'])}[/]"] for one in found["proposed"]]))
    for one in found["changes"]:
        if one["action"] != "unchanged":
            out.print(f"  [green]+[/] {text(one['kind'])} {text(one['name'])}")
