"""`contracts read`: contracts of others, looked at without a service."""

import getpass
import sys
from typing import Annotated

import httpx
import typer

from bricola.adapters.parts import named_host, read_source
from bricola.cli.connection import Json
from bricola.cli.output import out, print_json, table, text
from bricola.core.contracts.reading.contract import ReadContract

Main = Annotated[str, typer.Option("--main", metavar="PATH", help="Which file of a folder or zip the contract begins with.")]
User = Annotated[str, typer.Option("--user", metavar="NAME", help="Sign in at the address as; the password is asked for, or piped.")]


def register(app: typer.Typer) -> None:
    contracts = typer.Typer(help="Contracts of others: read, taken in, checked.", no_args_is_help=True)
    app.add_typer(contracts, name="contracts", rich_help_panel="Services")

    @contracts.command("read")
    def read(
        source: Annotated[str, typer.Argument(help="A file, a folder, a zip, or the address of a WSDL.")],
        main: Main = "", user: User = "", as_json: Json = False,
    ) -> None:
        """Show what a contract offers, and everything that is wrong with it. Exit status 1 when nothing in it can be served."""
        contract = read_source(source, main, lambda address: named_host(address, _sign_in(user)))
        if as_json:
            print_json(contract.as_dict())
        else:
            _print(contract)
        if not contract.usable:
            raise typer.Exit(1)


def _sign_in(user: str) -> httpx.BasicAuth | None:
    if not user:
        return None
    password = getpass.getpass() if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    return httpx.BasicAuth(user, password)


def _print(contract: ReadContract) -> None:
    out.print(f"[bold]{text(contract.namespace) or 'No target namespace'}[/]  [dim]{len(contract.parts)} "
              f"part{'' if len(contract.parts) == 1 else 's'}[/]")
    for service in contract.services.values():
        for port in service.ports.values():
            kind = f"SOAP {port.soap}" if port.soap else "[yellow]not SOAP[/]"
            out.print(f"\n[bold]{text(service.name)}[/] port {text(port.name)}  {kind}  [dim]{text(port.address) or 'no address'}[/]")
            rows = []
            for name, one in port.operations.items():
                answer = one.output
                rows.append([text(name), text(one.style), _local(one.input.tag),
                             "[dim]one-way[/]" if answer is None else _local(answer.tag), text(", ".join(one.faults)),
                             text(", ".join(str(record.local) for record in (*one.input_headers, *one.output_headers)))])
            if rows:
                out.print(table(["operation", "style", "input", "output", "faults", "headers"], rows))
            else:
                out.print("[dim]No operation of this port can be served.[/]")
    if contract.problems:
        out.print(f"\n[yellow]{len(contract.problems)} problem{'' if len(contract.problems) == 1 else 's'}[/]")
        rows = [[text(one.place), text(one.line), f"{text(one.message)} [dim]{text(one.code)}[/]"] for one in contract.problems]
        out.print(table(["where", "line", "what"], rows, right=["line"]))
    elif contract.usable:
        out.print("\n[green]●[/] No problem was found.")


def _local(tag: str | None) -> str:
    return "[dim]empty[/]" if tag is None else text(tag.rpartition("}")[2])
