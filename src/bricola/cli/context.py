"""`context`: what environments say for every call, by name, and the lists that the names come from."""

from typing import Annotated

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.differences import print_lines
from bricola.cli.output import ask_first, out, print_json, table, text


def register(app: typer.Typer) -> None:
    context = typer.Typer(help="Context: what environments say for every call, like the company, by name.", invoke_without_command=True)
    app.add_typer(context, name="context", rich_help_panel="Backends")

    @context.callback()
    def list_context(invoked: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List the context of every environment."""
        if invoked.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.overview()["environments"]
        if as_json:
            print_json({one["name"]: one["context"] for one in found})
        else:
            out.print(table(("Environment", "Context"), [
                (f"[bold]{text(one['name'])}[/]", text(", ".join(f"{key}: {value}" for key, value in one["context"].items()) or "none"))
                for one in found]))

    @context.command("take")
    def take(name: str, environment: str, sure: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False, at: At = "",
             as_json: Json = False) -> None:
        """Read the names and values of a list from its table in an environment. Shows what changes, and asks; in effect at once."""
        with connect(at) as client:
            plan = client.take_context(name, environment, plan_only=True)
            changed = [one for one in plan["changes"] if one["action"] != "unchanged"]
            if not as_json:
                for one in changed:
                    print_lines(f"{one['path']} {one['action']}", one["lines"])
            if not changed:
                print_json(plan) if as_json else out.print("The table says what the list says.")
                return
            if not sure:
                ask_first("It is in effect at once.", as_json, "Take it?")
            done = client.take_context(name, environment)
        print_json(done) if as_json else out.print(f"[green]●[/] {text(name)} is as the table says.")
