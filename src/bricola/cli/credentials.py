"""`credentials`: what Bricola presents to backends. Secrets are read from a prompt or a pipe, never from an argument."""

import sys
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_json, table, text, when
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api import running

Expires = Annotated[datetime | None, typer.Option("--expires", formats=["%Y-%m-%d"], metavar="YYYY-MM-DD",
                                                  help="When the secret itself runs out.")]
KeyFile = Annotated[Path | None, typer.Option("--key", help="Private key in PEM, of a certificate.")]
CertificateFile = Annotated[Path | None, typer.Option("--certificate", help="Certificate in PEM.")]


def register(app: typer.Typer) -> None:
    credentials = typer.Typer(help="Credentials: secrets that Bricola presents to backends; never shown.", invoke_without_command=True)
    app.add_typer(credentials, name="credentials", rich_help_panel="Backends")

    @credentials.callback()
    def list_credentials(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List credentials: kind, expiry, last use, and which backend signs on with them."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.credentials()
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("No credentials yet. Add one: bricola credentials add NAME --user USER")
            return
        out.print(table(("Credential", "Kind", "Account", "Expires", "Last used", "Renewed", "Used by"), [
            (f"[bold]{text(one['name'])}[/]", one["kind"], _account(one), _expiry(one["expires_at"]),
             when(one["last_used_at"]) if one["last_used_at"] else "[dim]never[/]", _renewed(one),
             "\n".join(_use(two, one["user"]) for two in one["used_by"]) or "nothing")
            for one in found
        ]))

    @credentials.command("add")
    def add(
        name: str, kind: Annotated[str, typer.Option(help="password, token or certificate.")] = "password",
        user: Annotated[str, typer.Option("--user", "-u", help="The name that the secret belongs to.")] = "",
        expires: Expires = None, key: KeyFile = None, certificate: CertificateFile = None, description: str = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """Add a credential. The secret is asked for, or read from standard input; or it is a key pair in two files."""
        secret, pem = _read_secret(key, certificate)
        with connect(at) as client:
            made = client.add_credential(name, secret, "certificate" if key else kind, user, pem, _aware(expires), description)
        print_json(made) if as_json else out.print(
            f"Added [bold]{text(name)}[/]. Name it in an environment: 'credential: {text(name)}'. It is never shown.")

    @credentials.command("describe")
    def describe(
        name: str,
        account: Annotated[str | None, typer.Option(help="Whose account it is.")] = None,
        cost: Annotated[str | None, typer.Option(help="What using it costs.")] = None,
        description: Annotated[str | None, typer.Option(help="What it is for.")] = None,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Say whose account a credential is, what using it costs, and what it is for."""
        with connect(at) as client:
            made = client.describe_credential(name, description, account, cost)
        print_json(made) if as_json else out.print(f"{text(name)}: {_account(made)}")

    @credentials.command("allow")
    def allow(name: str, environment: str, at: At = "", as_json: Json = False) -> None:
        """Agree that a credential is presented where the environment names it. Admins only; their own changes are a yes by themselves."""
        with connect(at) as client:
            places = client.allow_credential(name, environment)
        if as_json:
            print_json(places)
            return
        out.print(table(("Environment", "Engine", "Address"), [
            (text(one["environment"]), text(one["engine"]), text(one["address"])) for one in places]))

    @credentials.command("rotate")
    def rotate(
        name: str, user: Annotated[str, typer.Option("--user", "-u", help="Another name, when it changes too.")] = "",
        overlap: Annotated[float, typer.Option(help="Hours for which the old secret is tried too.")] = 24.0,
        expires: Expires = None, key: KeyFile = None, certificate: CertificateFile = None, at: At = "", as_json: Json = False,
    ) -> None:
        """Give a credential a new secret, in force at once for new sign-ons."""
        secret, pem = _read_secret(key, certificate)
        with connect(at) as client:
            made = client.rotate_credential(name, secret, user, pem, _aware(expires), overlap)
        print_json(made) if as_json else out.print(
            f"{text(name)} has a new secret, in force now. The old one is tried until {when(made['overlap_until'])}."
            if made["overlap_until"] else f"{text(name)} has a new secret, in force now.")

    @credentials.command("remove")
    def remove(name: str, at: At = "", as_json: Json = False) -> None:
        """Remove a credential that nothing uses any more."""
        with connect(at) as client:
            client.remove_credential(name)
        print_json({"name": name, "removed": True}) if as_json else out.print(f"Removed {text(name)}.")

    @credentials.command("renew-key")
    def renew_key(at: At = "", as_json: Json = False) -> None:
        """Seal all credentials with a new key. Back up the key file afterwards."""
        with connect(at) as client:
            count = client.renew_key()
        print_json({"secrets": count}) if as_json else out.print(
            f"Sealed {count} {'secret' if count == 1 else 'secrets'} with a new key. Keep a copy of the key file apart from backups.")


def _account(one: "running.Credential") -> str:
    """Who signs on, whose account that is, and what it costs."""
    told = [text(one["user"] or "–"), *(f"[dim]{text(words)}[/]" for words in (one["account"], one["cost"]) if words)]
    return "\n".join(told)


def _renewed(one: "running.Credential") -> str:
    renewed = f"{when(one['rotated_at'] or '')} by {text(one['rotated_by'])}"
    return f"{renewed}\n[dim]the old one until {when(one['overlap_until'])}[/]" if one["overlap_until"] else renewed


def _use(use: "running.CredentialUse", user: str) -> str:
    """A backend that signs on with it: as whom, where the backend wants another form of the name, and what it lets that account do."""
    words = f"{text(use['backend'])} in {text(use['environment'])}"
    if use["signs_on_as"] not in ("", user):
        words += f" as {text(use['signs_on_as'])}"
    return f"{words}  [yellow]▲ {text(', '.join(use['powers']))}[/]" if use["powers"] else words


def _expiry(moment: str | None) -> str:
    if moment is None:
        return "[dim]never[/]"
    days = (datetime.fromisoformat(moment) - datetime.now().astimezone()).days
    colour = "red" if days < 0 else "yellow" if days < 14 else ""
    words = "expired" if days < 0 else f"in {days} {'day' if days == 1 else 'days'}"
    return f"[{colour}]{words}[/]" if colour else words


def _aware(day: datetime | None) -> datetime | None:
    return day.astimezone() if day is not None else None


def _read_secret(key: Path | None, certificate: Path | None) -> tuple[str, str]:
    if (key is None) != (certificate is None):
        raise ProblemError(Problem("credential.key-pair", "A key pair is two files.", expected="--key and --certificate"))
    if key is not None and certificate is not None:
        try:
            return key.read_text(), certificate.read_text()
        except (OSError, UnicodeDecodeError) as error:
            raise ProblemError(Problem("credential.key-pair", "A file cannot be read.", found=str(error))) from None
    if sys.stdin.isatty():
        return str(typer.prompt("Secret", hide_input=True, confirmation_prompt=True)), ""
    return sys.stdin.readline().rstrip("\n"), ""
