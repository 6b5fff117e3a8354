"""`callers` and `roles`: the identities that call services."""

from typing import Annotated

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_json, table, text, when

Days = Annotated[float | None, typer.Option("--days", min=0, help="Days that the token is valid; for ever when left out.")]


def register_callers(app: typer.Typer, panel: str) -> None:
    callers = typer.Typer(help="Callers: the identities that call services.", invoke_without_command=True)
    app.add_typer(callers, name="callers", rich_help_panel=panel)

    @callers.callback()
    def list_callers(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List callers with their roles, limits, and the beginnings of their tokens."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.callers()
        if as_json:
            print_json(found)
            return
        rows = []
        for one in found:
            limits = [f"from {', '.join(one['networks'])}"] if one["networks"] else []
            limits += [f"{one['per_minute']} a minute"] if one["per_minute"] else []
            limits += [f"{one['parallel']} at once"] if one["parallel"] else []
            for index, token in enumerate(one["tokens"] or [None]):
                first = index == 0
                rows.append((
                    f"[bold]{text(one['name'])}[/]" if first else "",
                    text(", ".join(one["roles"]) or "none: may call nothing") if first else "",
                    text("; ".join(limits) or "none") if first else "",
                    f"{text(token['prefix'])}…" if token else "none",
                    (when(token["expires_at"]) if token["expires_at"] else "[dim]never[/]") if token else "",
                    (when(token["last_used_at"]) if token["last_used_at"] else "[dim]never[/]") if token else "",
                    text(one["description"]) if first else ""))
        out.print(table(("Caller", "Roles", "Limits", "Token", "Expires", "Last used", "Description"), rows))

    @callers.command("add")
    def add_caller(
        name: str,
        role: Annotated[list[str], typer.Option("--role", "-r", help="A role it gets; repeat for more.")] = [],  # noqa: B006
        description: str = "",
        network: Annotated[list[str], typer.Option("--from", metavar="NETWORK", help="It may call from here only; "
                                                   "CIDR form, repeat for more.")] = [],  # noqa: B006
        per_minute: Annotated[int | None, typer.Option(min=1, help="At most so many calls a minute.")] = None,
        parallel: Annotated[int | None, typer.Option(min=1, help="At most so many calls at once.")] = None,
        token: Annotated[bool, typer.Option(help="Make a token and print it, once.")] = True,
        days: Days = None, at: At = "", as_json: Json = False,
    ) -> None:
        """Add a caller, or replace its roles and limits; prints a new token once."""
        with connect(at) as client:
            client.save_caller(name, role, description, network, per_minute, parallel)
            made = client.new_token(name, days) if token else None
        if as_json:
            print_json({"name": name, "roles": role, "networks": network, "per_minute": per_minute, "parallel": parallel, "token": made})
            return
        out.print(f"{text(name)} has the roles: {text(', '.join(role)) or 'none'}. In effect now.")
        if made:
            out.print(f"Token, shown once: [bold]{made}[/]")

    @callers.command("rotate")
    def rotate(name: str, overlap: Annotated[float, typer.Option(min=0, help="Hours for which the older tokens stay valid.")] = 24.0,
               days: Days = None, at: At = "", as_json: Json = False) -> None:
        """Make a new token for a caller, and end the older ones after an overlap."""
        with connect(at) as client:
            made = client.rotate_token(name, overlap, days)
        if as_json:
            print_json(made)
        else:
            out.print(f"Token, shown once: [bold]{made['token']}[/]")
            out.print(f"The older tokens of {text(name)} end at {when(made['older_end_at'] or '')}.")

    @callers.command("revoke")
    def revoke(name: str, prefix: Annotated[str, typer.Argument(help="The token's beginning, as listed.")],
               at: At = "", as_json: Json = False) -> None:
        """Revoke a token of a caller; refused from the next call on."""
        with connect(at) as client:
            client.revoke_token(name, prefix.rstrip("…"))
        if as_json:
            print_json({"name": name, "revoked": prefix})
        else:
            out.print(f"Revoked {text(prefix)} of {text(name)}.")

    @callers.command("remove")
    def remove(name: str, at: At = "", as_json: Json = False) -> None:
        """Remove a caller with all its tokens; refused from the next call on."""
        with connect(at) as client:
            client.remove_caller(name)
        print_json({"name": name, "removed": True}) if as_json else out.print(f"Removed {text(name)}.")

    @callers.command("of")
    def of(service: str, environment: Annotated[str, typer.Argument(help="Only there.")] = "",
           days: Annotated[int, typer.Option("--days", min=1, max=365)] = 30, at: At = "", as_json: Json = False) -> None:
        """List who called which operation of a service in the last days."""
        with connect(at) as client:
            found = client.callers_of(service, environment, days)
        if as_json:
            print_json(found)
        elif not found:
            out.print(f"Nobody called {text(service)} in {days} days.")
        else:
            out.print(table(("Operation", "Caller", "Calls", "Last"), [
                (text(one["operation"] or "?"), text(one["caller"]), str(one["calls"]), when(one["last"])) for one in found
            ], right=("Calls",)))

    @app.command(rich_help_panel=panel)
    def roles(at: At = "", as_json: Json = False) -> None:
        """List roles: what each may call, and which callers have it."""
        with connect(at) as client:
            found = client.roles()
        if as_json:
            print_json(found)
            return
        out.print(table(("Role", "May call", "Callers"), [
            (f"[bold]{text(one['role'])}[/]",
             text("; ".join(f"{service}: {', '.join(names)}" for service, names in one["grants"].items()) or "nothing"),
             text(", ".join(one["callers"]) or "nobody"))
            for one in found
        ]))
