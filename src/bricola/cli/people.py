"""`signin` and `callers`: identities of people and of callers."""

import json
import sys
from typing import Annotated

import typer

from bricola.cli.connection import DEFAULT_URL, At, Json, connect
from bricola.cli.output import out, print_json, table, text
from bricola.client import Client
from bricola.client.signins import save_signin


def register(app: typer.Typer) -> None:
    panel = "People and callers"

    @app.command("signin", rich_help_panel=panel)
    def sign_in(
        url: Annotated[str, typer.Argument(help="Address of the service.")] = DEFAULT_URL,
        user: Annotated[str, typer.Option("--user", "-u", prompt="Name", help="Your name there.")] = "",
        as_json: Json = False,
    ) -> None:
        """Sign in to a service; the commands use it from then on. The password is asked for, or read from a pipe."""
        piped = not sys.stdin.isatty()
        password = sys.stdin.readline().rstrip("\n") if piped else typer.prompt("Password", hide_input=True)
        with Client(url.rstrip("/")) as client:
            token = client.sign_in(user, password)
            role = client.who()["role"]
        file = save_signin(url.rstrip("/"), user, token)
        if as_json:
            print_json({"url": url, "user": user, "role": role, "file": str(file)})
        else:
            out.print(f"Signed in to {text(url)} as {text(user)} ({role}).")

    callers = typer.Typer(help="Callers: the identities that call services.", invoke_without_command=True)
    app.add_typer(callers, name="callers", rich_help_panel=panel)

    @callers.callback()
    def list_callers(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List callers with their roles and the beginnings of their tokens."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.callers()
        if as_json:
            print_json(found)
            return
        out.print(table(("Caller", "Roles", "Tokens", "Description"), [
            (text(one["name"]), text(", ".join(one["roles"]) or "none: may call nothing"),
             text(", ".join(f"{token['prefix']}…" for token in one["tokens"]) or "none"), text(one["description"]))
            for one in found
        ]))

    @callers.command("add")
    def add_caller(
        name: str,
        role: Annotated[list[str], typer.Option("--role", "-r", help="A role it gets; repeat for more.")] = [],  # noqa: B006
        description: str = "",
        token: Annotated[bool, typer.Option(help="Make a token and print it, once.")] = True,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Add a caller or replace its roles; prints a new token once."""
        with connect(at) as client:
            client.save_caller(name, role, description)
            made = client.new_token(name) if token else None
        if as_json:
            sys.stdout.write(json.dumps({"name": name, "roles": role, "token": made}) + "\n")
            return
        out.print(f"{text(name)} has the roles: {text(', '.join(role)) or 'none'}.")
        if made:
            out.print(f"Token, shown once: [bold]{made}[/]")

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
