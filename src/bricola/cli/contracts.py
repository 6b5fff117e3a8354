"""`contracts read`: contracts of others, looked at without a service."""

import getpass
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated
from urllib.parse import unquote, urlsplit

import httpx
import typer

from bricola.adapters.parts import folder_files, named_host, read_source
from bricola.cli.connection import At, Json, connect
from bricola.cli.definitions import print_breaks
from bricola.cli.output import VERDICTS, ask_first, out, print_json, table, text
from bricola.core.contracts.reading.contract import ReadContract
from bricola.core.problems import Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api import contracts as api
    from bricola.api import mapping as map_api
    from bricola.api import services as service_api

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

    @contracts.command("import")
    def take_in(
        source: Annotated[str, typer.Argument(help="A file, a folder, a zip, or an address that the service fetches.")],
        service: Annotated[str, typer.Option("--service", help="Name of the service to make, or to bring up to date.")],
        offers: Annotated[str, typer.Option("--offers", metavar="NAME", help="Which service of the contract, where it has several.")] = "",
        role: Annotated[str, typer.Option("--role", help="A role that may call all of it.")] = "",
        deploy: Annotated[str, typer.Option("--deploy", metavar="ENVIRONMENT", help="Release it and make it live there, too.")] = "",
        not_built: Annotated[list[str] | None, typer.Option(
            "--not-built", metavar="OPERATION", help="Answers that it is not built yet, in place of a sample; again for more.")] = None,
        main: Main = "", user: User = "",
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask before changing.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make a service of a contract: every operation answers a sample, marked as a stub, until something implements it."""
        is_address = source.startswith(("http://", "https://"))
        address, files = (source, None) if is_address else ("", _source_files(source))
        password = _password() if user else ""
        with connect(at) as client:
            if not yes:
                plan = client.import_contract(service, address, files, main, offers, role, plan_only=True, user=user, password=password,
                                              not_built=not_built or ())
                if not as_json:
                    _print_taken(plan)
                    print_breaks(plan["breaks"])
                ask_first("contract", as_json, "Make these drafts?", ", ".join(one["name"] for one in plan["operations"]))
            taken = client.import_contract(service, address, files, main, offers, role, user=user, password=password,
                                           not_built=not_built or ())
            live = None
            if deploy:
                made = client.release(service, f"From {source}")
                live = client.deploy(service, deploy, made["release"])
        if as_json:
            print_json({**taken, "deployed": live})
            return
        if yes:
            _print_taken(taken)
        if live is None:
            out.print(f"\nDrafts made. To call it: bricola release {text(service)}, then bricola deploy {text(service)} ENVIRONMENT")
        else:
            out.print(f"\n{text(service)} is live in {text(deploy)}. Its contract: bricola contract {text(service)} -e {text(deploy)}")


    @contracts.command("list")
    def list_contracts(at: At = "", as_json: Json = False) -> None:
        """List the contracts of others that were taken in, and the services that follow them."""
        with connect(at) as client:
            found = client.contracts_of_others()
        if as_json:
            print_json(found)
        elif not found:
            out.print("No contract of somebody else was taken in. To take one in: bricola contracts import SOURCE --service NAME")
        else:
            out.print(table(["contract", "from", "taken in", "parts", "services"], [
                [text(one["name"]), text(one["source"]), text(one["fetched"]), text(one["parts"]), text(", ".join(one["services"]))]
                for one in found], right=["parts"]))

    @contracts.command("map")
    def implement(
        service: str, operation: str,
        runs: Annotated[str | None, typer.Option(
            "--runs", help="What shall run it, like notice.search; what runs it now, if left out.")] = None,
        into: Annotated[list[str] | None, typer.Option(
            "--in", metavar="TARGET=SOURCE", help="A line of map_in; TARGET= takes it out; again for more.")] = None,
        out_of: Annotated[list[str] | None, typer.Option(
            "--out", metavar="TARGET=SOURCE", help="A line of map_out; TARGET= takes it out; again for more.")] = None,
        save: Annotated[bool, typer.Option("--save", help="Make it a draft.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Show from where each part comes when an operation of somebody's contract runs something of ours, and what else would fit."""
        with connect(at) as client:
            found = client.implement(service, operation, runs)
            if into or out_of or save:
                lines = _changed(found["map_in"], into), _changed(found["map_out"], out_of)
                found = client.implement(service, operation, runs, *lines, save)
        if as_json:
            print_json(found)
            return
        out.print(f"{text(service)}.{text(operation)} runs {text(found['runs'])}.")
        if found["same_contract"]:
            out.print("It follows the same contract, so there is nothing to map.")
            return
        for title, one in (("What it runs is filled from the request", found["map_in"]), ("The answer is filled", found["map_out"])):
            out.print(f"\n[bold]{title}[/]")
            out.print(table(["  part", "type", "from", "", "what would fit"], [[
                f"  {text(part['path'])}", text(part["type"]), text(part["source"]) or _unfilled(part), f"[dim]{_BY[part['by']]}[/]",
                f"[dim]{text(', '.join(part['fits'][:3]))}[/]"] for part in one["parts"]]))
        for problem in found["problems"]:
            out.print(f"[red]✕[/] {text(problem['message'])} [dim]{text(problem.get('place', ''))}[/]")
        missing = [*found["map_in"]["missing"], *found["map_out"]["missing"]]
        if missing:
            out.print(f"\n[yellow]▲[/] Required, and filled by nothing: {text(', '.join(missing))}")
        if save:
            out.print(f"\nIt is a draft: bricola review {text(service)}")

    @contracts.command("settings")
    def settings(service: str, operation: Annotated[str, typer.Argument(help="One of its operations; all, when left out.")] = "",
                 at: At = "", as_json: Json = False) -> None:
        """Show what the contract of somebody else decides for a service, and where it differs on purpose."""
        with connect(at) as client:
            found = {one["name"]: one.get("contract", []) for one in client.service(service)["operations"]
                     if operation in ("", one["name"])}
        if as_json:
            print_json(found)
            return
        if not any(found.values()):
            out.print(f"{text(service)} follows no contract of somebody else." if not operation or found else
                      f"{text(service)} has no operation {text(operation)}.")
        for name, said in found.items():
            if said:
                out.print(f"[bold]{text(name)}[/]")
                out.print(table(["  setting", "from the contract", ""], [[
                    f"  {text(one['setting'])}", text(one["contract"]) or "[dim]empty[/]", _used(one)] for one in said]))

    @contracts.command("differ")
    def differ(
        service: str, operation: str, setting: Annotated[str, typer.Argument(help="soap_action or description.")],
        value: Annotated[str | None, typer.Argument(help="What to use in place of what the contract says.")] = None,
        back: Annotated[bool, typer.Option("--back", help="Go back to what the contract says.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Differ from the contract of somebody else in one setting of an operation, on purpose, or go back to it."""
        if (value is None) != back:
            raise ProblemError(Problem("contract.value", "Give a value to differ, or --back to follow the contract.", place="VALUE"))
        with connect(at) as client:
            done = client.follow(service, operation, setting) if value is None else client.differ(service, operation, setting, value)
        if as_json:
            print_json(done)
            return
        changed = any(one["action"] != "unchanged" for one in done["changes"])
        words = "follows the contract again" if back else "differs from the contract"
        out.print(f"{text(service)}.{text(operation)}: {text(setting)} {words}. It is a draft: bricola release {text(service)}" if changed
                  else f"{text(service)}.{text(operation)}: {text(setting)} stays as it was.")

    @contracts.command("check")
    def check(environment: str, at: At = "", as_json: Json = False) -> None:
        """Fetch the contracts of others that live services follow, and name what changed there: which operations, which callers.
        Exit status 1 when something did, or could not be looked at."""
        with connect(at) as client:
            found = client.check_contracts(environment)
        if as_json:
            print_json(found)
        elif not found:
            out.print(f"No live service in {text(environment)} follows a contract that is published at an address.")
        else:
            for one in found:
                _print_check(one)
        if any(one["state"] != "same" for one in found):
            raise typer.Exit(1)


def _changed(known: "map_api.Map", given: list[str] | None) -> dict[str, str]:
    """The lines of a map with those that were given; a line without a source goes."""
    lines = {part["path"]: part["source"] for part in known["parts"] if part["by"] == "line"}
    for one in given or ():
        target, equals, source = one.partition("=")
        if not equals or not target:
            raise ProblemError(Problem("map.line", "This is no line of a map.", place="--in, --out", expected="TARGET=SOURCE",
                                       found=one[:100]))
        lines[target] = source
    return {target: source for target, source in lines.items() if source}


_BY = {"line": "by a line", "name": "same name", "own": "", "": ""}


def _unfilled(part: "map_api.MapPart") -> str:
    if part["by"] == "own":
        return "[dim]its own value[/]"
    return "[yellow]nothing[/]" if part["required"] else "[dim]nothing[/]"


def _used(one: "service_api.Said") -> str:
    if not one["differs"]:
        return "" if one["may_differ"] else "[dim]locked[/]"
    return f"[yellow]differs: {text(one['used']) or 'empty'}[/]"


def _print_check(one: "api.ContractCheck") -> None:
    through = f" through {text(one['backend'])}" if one["backend"] else ""
    out.print(f"[bold]{text(one['contract'])}[/]{through}  {_CHECKED[one['state']]}  [dim]{text(one['address'])}[/]")
    if one["changes"]:
        out.print(table(["  verdict", "where", "what", "ours", "callers"], [[
            f"  {VERDICTS[two['verdict']]}", text(two["place"]), text(f"{two['message']} {_between(two['before'], two['after'])}".strip()),
            text(", ".join(f"{ours['service']}.{ours['operation']}" for ours in two["operations"])) or "[dim]none[/]",
            text(", ".join(two["callers"])) or "[dim]none[/]"] for two in one["changes"]]))
    for problem in one["problems"]:
        told = " ".join(problem[part] for part in ("message", "inner") if problem.get(part))
        out.print(f"  [yellow]▲[/] {text(told)} [dim]{text(problem.get('place', ''))}[/]")
        if problem.get("mend"):
            out.print(f"    [dim]{text(problem['mend'])}[/]")


def _between(before: str, after: str) -> str:
    return f"({before or 'nothing'} → {after or 'nothing'})" if before or after else ""


_CHECKED = {"same": "[green]● as taken in[/]", "changed": "[red]✕ changed[/]", "not checked": "[yellow]▲ not checked[/]"}


def _source_files(source: str) -> dict[str, bytes]:
    """What is sent to the service: a folder or zip as it is, a file with the parts that it names."""
    path = Path(source)
    if path.is_dir():
        return folder_files(path)
    if path.suffix.lower() == ".zip":
        try:
            return {path.name: path.read_bytes()}
        except OSError as error:
            raise ProblemError(Problem("contract.source", f"The file cannot be read: {error.strerror}.", place=source)) from None
    contract = read_source(source)
    locations = [unquote(urlsplit(one.location).path) for one in contract.parts]
    if not locations:
        raise ProblemError(*(Problem(one.code, one.message, place=one.place) for one in contract.problems))
    shared = os.path.commonpath([os.path.dirname(one) for one in locations])
    return {Path(os.path.relpath(location, shared)).as_posix(): part.content
            for location, part in zip(locations, contract.parts, strict=True)}


def _print_taken(taken: "api.TakenContract") -> None:
    for one in taken["changes"]:
        out.print(f"{_SIGNS.get(one['action'], one['action'])}  {text(one['kind'])} {text(one['name'])}  [dim]{text(one['path'])}[/]")
    out.print(table(["operation", "runs"], [[text(one["name"]), text(one["runs"])] for one in taken["operations"]]))
    if taken["for_callers"]:
        out.print("\nFor callers")
        out.print(table(["verdict", "where", "what"], [
            [VERDICTS[one["verdict"]], text(one["place"]), text(one["message"])] for one in taken["for_callers"]]))
    if taken["problems"]:
        out.print(f"\n[yellow]{len(taken['problems'])} problems of the contract[/]: bricola contracts read SOURCE tells them.")


_SIGNS = {"added": "[green]+ added[/]", "changed": "[yellow]~ changed[/]", "unchanged": "[dim]  unchanged[/]",
          "moved": "[yellow]> moved[/]"}


def _sign_in(user: str) -> httpx.BasicAuth | None:
    return httpx.BasicAuth(user, _password()) if user else None


def _password() -> str:
    return getpass.getpass() if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")


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
