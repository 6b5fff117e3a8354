"""`signin` and `users`: the people who use Bricola."""

import sys
from typing import Annotated

import typer

from bricola.cli.access import register_access
from bricola.cli.callers import register_callers
from bricola.cli.connection import DEFAULT_URL, At, Json, connect
from bricola.cli.output import out, print_json, table, text, when
from bricola.client import Client
from bricola.client.signins import save_signin
from bricola.core.problems import Kind, Problem, ProblemError

Role = Annotated[str, typer.Option("--role", "-r", help="viewer, operator, integrator or admin.")]


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
            if client.state()["setup"]:
                raise ProblemError(Problem("signin.no-users", "The service has no user yet.", Kind.IDENTITY, place=url,
                                           mend=f"Make the first one: bricola start {url}"))
            token = client.sign_in(user, password)
            role = client.who()["role"]
        file = save_signin(url.rstrip("/"), user, token)
        if as_json:
            print_json({"url": url, "user": user, "role": role, "file": str(file)})
        else:
            out.print(f"Signed in to {text(url)} as {text(user)} ({role}).")

    register_callers(app, panel)
    register_access(app, panel)
    register_users(app, panel)


def register_users(app: typer.Typer, panel: str) -> None:
    users = typer.Typer(help="Users: people with a role and a password.", invoke_without_command=True)
    app.add_typer(users, name="users", rich_help_panel=panel)

    @users.callback()
    def list_users(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List users with their roles."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.users()
        if as_json:
            print_json(found)
        else:
            out.print(table(("User", "Role", "Since"), [(text(one["name"]), one["role"], when(one["created_at"])) for one in found]))

    @users.command("add")
    def add(name: str, role: Role = "viewer", at: At = "", as_json: Json = False) -> None:
        """Add a user. The password is asked for, or read from a pipe."""
        password = _password()
        with connect(at) as client:
            client.add_user(name, password, role)
        print_json({"name": name, "role": role}) if as_json else out.print(f"Added {text(name)} ({role}).")

    @users.command("change")
    def change(name: str, role: Annotated[str, typer.Option("--role", "-r", help="Another role.")] = "",
               password: Annotated[bool, typer.Option("--password", help="A new password; ends the user's sign-ins.")] = False,
               at: At = "", as_json: Json = False) -> None:
        """Give a user another role, or a new password."""
        with connect(at) as client:
            client.change_user(name, role or None, _password() if password else None)
        print_json({"name": name, "changed": True}) if as_json else out.print(f"Changed {text(name)}.")

    @users.command("remove")
    def remove(name: str, at: At = "", as_json: Json = False) -> None:
        """Remove a user with all sign-ins."""
        with connect(at) as client:
            client.remove_user(name)
        print_json({"name": name, "removed": True}) if as_json else out.print(f"Removed {text(name)}.")

    @users.command("sessions")
    def sessions(name: str, end: Annotated[str, typer.Option("--end", metavar="SESSION", help="End this one.")] = "",
                 at: At = "", as_json: Json = False) -> None:
        """List a user's sign-ins, or end one."""
        with connect(at) as client:
            if end:
                client.end_session(name, end)
            found = client.sessions(name)
        if as_json:
            print_json(found)
        else:
            out.print(table(("Session", "For", "Since", "Until"), [
                (text(one["session"]), text(one["label"]), when(one["created_at"]), when(one["expires_at"])) for one in found]))


def _password() -> str:
    if sys.stdin.isatty():
        return str(typer.prompt("Password", hide_input=True, confirmation_prompt=True))
    return sys.stdin.readline().rstrip("\n")
