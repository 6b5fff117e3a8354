"""`access`: which roles may call what where."""

from collections.abc import Mapping
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import ask_first, out, print_json, table, text

Operations = Annotated[list[str] | None, typer.Argument(metavar="[OPERATION]...", help="These operations; all of them when left out.")]
Sure = Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")]


def register_access(app: typer.Typer, panel: str) -> None:
    access = typer.Typer(help="Access: which roles may call what in which environment.", invoke_without_command=True)
    app.add_typer(access, name="access", rich_help_panel=panel)

    @access.callback()
    def list_access(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List what each role may call, by environment and service, and which callers have it."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.access()
        if as_json:
            print_json(found)
            return
        rows = []
        for one in found:
            for index, role in enumerate(one["roles"] or [None]):
                where = (f"[bold]{text(one['environment'])}[/]", text(one["service"])) if index == 0 else ("", "")
                rows.append((*where, text(role["role"]) if role else "[yellow]nobody[/]", _what(role) if role else "",
                             text(", ".join(role["callers"]) or "no caller") if role else "",
                             ("the environment" if one["said_in"] == "environment" else "its release") if index == 0 else ""))
        out.print(table(("Environment", "Service", "Role", "May call", "Callers", "Said by"), rows))
        if any(one["said_in"] == "service" for one in found):
            out.print("What a release says holds until its environment says something: bricola access move")

    @access.command("grant")
    def grant(environment: str, service: str, role: str, operations: Operations = None, sure: Sure = False, at: At = "",
              as_json: Json = False) -> None:
        """Let a role call operations of a service in an environment, beside what it may call already. In effect at once."""
        with connect(at) as client:
            may = _now(client.access(), environment, service, role)
            wanted = "all" if not operations or may == "all" else [*may, *(one for one in operations if one not in may)]
            _change(client, environment, service, role, wanted, sure or not _loses(client, environment, service, role, wanted), as_json)

    @access.command("revoke")
    def revoke(environment: str, service: str, role: str, operations: Operations = None, sure: Sure = False, at: At = "",
               as_json: Json = False) -> None:
        """Take operations of a service away from a role in an environment. Names the callers concerned, and asks. In effect at once."""
        with connect(at) as client:
            place = next((one for one in client.access() if (one["environment"], one["service"]) == (environment, service)), None)
            role_now = next((one for one in place["roles"] if one["role"] == role), None) if place else None
            may = list(role_now["operations"]) if role_now else []
            wanted = [one for one in may if operations and one not in operations]
            _change(client, environment, service, role, wanted, sure, as_json)

    @access.command("move")
    def move(sure: Sure = False, at: At = "", as_json: Json = False) -> None:
        """Say in environments what services state for themselves, and take it out of their drafts. Shows the plan, and asks."""
        with connect(at) as client:
            plan = client.move_access(plan_only=True)
            if not as_json:
                for one in plan["changes"]:
                    what = "says who may call" if one["kind"] == "access" else "says it no longer"
                    out.print(f"  {text(one['kind'])} [bold]{text(one['name'])}[/] {what}")
                out.print("Nobody gets or loses a right." if not plan["rights"] else "")
                _print_rights(plan)
            if not sure:
                ask_first("Environments are changed at once.", as_json, "Move the grants?")
            done = client.move_access()
        if as_json:
            print_json(done)
        else:
            out.print(f"[green]●[/] Moved: {len(done['changes'])} definitions changed.")


def _now(found: Any, environment: str, service: str, role: str) -> Any:
    place = next((one for one in found if (one["environment"], one["service"]) == (environment, service)), None)
    known = next((one for one in place["roles"] if one["role"] == role), None) if place else None
    return [] if known is None else "all" if known["all"] else list(known["operations"])


def _loses(client: Any, environment: str, service: str, role: str, wanted: Any) -> bool:
    return any(not one["gained"] for one in client.grant(environment, service, role, wanted, plan_only=True)["rights"])


def _change(client: Any, environment: str, service: str, role: str, wanted: Any, sure: bool, as_json: bool) -> None:
    plan = client.grant(environment, service, role, wanted, plan_only=True)
    if not as_json:
        _print_rights(plan)
    if not plan["rights"]:
        if as_json:
            print_json(plan)
        else:
            out.print("Nothing changes.")
        return
    if not sure:
        ask_first("It is in effect at once.", as_json, "Change the grants?")
    done = client.grant(environment, service, role, wanted)
    if as_json:
        print_json(done)
    else:
        out.print(f"[green]●[/] In effect in {text(environment)}.")


def _print_rights(plan: Mapping[str, Any]) -> None:
    for one in plan["rights"]:
        sign = "[green]+[/]" if one["gained"] else "[red]-[/]"
        used = f"; {', '.join(one['used_by'])} called it in the last month" if one["used_by"] and not one["gained"] else ""
        out.print(f"  {sign} {text(one['words'])} [dim]Callers: {text(', '.join(one['callers']) or 'none')}{text(used)}[/]")


def _what(role: Mapping[str, Any]) -> str:
    return "all operations" if role["all"] else text(", ".join(role["operations"]) or "nothing")
