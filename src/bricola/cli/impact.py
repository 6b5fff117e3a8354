"""`impact`: who is affected when something below services changes."""

from typing import Annotated

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_json, text


def register(app: typer.Typer) -> None:
    @app.command("impact", rich_help_panel="Services")
    def impact(
        of: Annotated[str, typer.Argument(help="A backend, source, copybook or contract: its name, or its kind and name as one word.")],
        environments: Annotated[list[str] | None, typer.Option("--in", metavar="ENVIRONMENT", help="Only here; again for more.")] = None,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Say who is affected by a change below: which operations, cases and callers, and what does not fit now. Exit status 1
        when something does not."""
        with connect(at) as client:
            found = client.impact(of, environments or [])
        wrong = any(one["problems"] or one["changes"] for one in found["operations"])
        if as_json:
            print_json(found)
            raise typer.Exit(int(wrong))
        if not found["operations"]:
            out.print(f"Nothing is published by {text(found['of'])}.")
        for one in found["operations"]:
            sign = "[red]✕[/]" if one["problems"] or any(two["verdict"] == "breaking" for two in one["changes"]) else \
                "[yellow]▲[/]" if one["changes"] else "[green]●[/]"
            out.print(f"{sign} [bold]{text(one['service'])}.{text(one['operation'])}[/]  [dim]by {text(', '.join(one['by']))}[/]")
            out.print(f"    cases     {text(', '.join(one['cases']) or 'none')}")
            out.print(f"    callers   {text(', '.join(one['callers']) or 'none in 30 days')}")
            for problem in one["problems"]:
                place = text(problem.get("place", ""))
                out.print(f"    [red]{text(problem['environment'])}[/]  {text(problem['message'])}  [dim]{place}[/]")
                for part in ("expected", "found", "mend"):
                    if problem.get(part):
                        out.print(f"      {part:<9} {text(problem[part])}")
            for change in one["changes"]:
                out.print(f"    [yellow]{text(change['environment'])}[/]  {text(change['verdict'])}: {text(change['message'])}  "
                          f"[dim]{text(change['place'])}[/]")
        for blind in found["unseen"]:
            out.print(f"[yellow]▲[/] {text(blind['backend'])} in {text(blind['environment'])} was not seen: {text(blind['why'])}")
        if found["operations"] and not wrong and not found["unseen"]:
            out.print(f"[green]●[/] All of it fits what is there now in {text(' and '.join(found['environments']))}.")
        raise typer.Exit(int(wrong))
