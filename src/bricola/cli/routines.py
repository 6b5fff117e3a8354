"""`discover routines`, `routine` and `operation`: the procedures and functions of a database, and definitions made of them."""

from collections.abc import Sequence
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.copybooks import pairs_of
from bricola.cli.output import ask_first, out, print_affected, print_drafts, print_json, table, text
from bricola.client import Client
from bricola.core.problems import ProblemError

Signature = Annotated[
    str | None, typer.Option("--takes", metavar="SIGNATURE", help="Its parameters as the database tells them, where several have its name.")
]

Zone = Annotated[str, typer.Option(help="Of moments that do not say it: utc, or local for the clock on the wall.")]


def routines_beside(client: Client, environment: str, backend: str, search: str) -> list[Any]:
    """The routines of a database that mention something; none of one that has none."""
    try:
        return list(client.routines(environment, backend, search))
    except ProblemError as error:
        if error.problem.code == "discover.routines":
            return []
        raise


def register_routines(discover: typer.Typer) -> None:
    """All commands of `discover` that are about routines."""
    _register_looking(discover)
    _register_renewal(discover)


def _register_looking(discover: typer.Typer) -> None:
    @discover.command("routines")
    def list_routines(
        environment: str, backend: str,
        search: Annotated[str, typer.Argument(help="Parts of a name, of a comment or of a parameter's name.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """List procedures and functions with what they take and give, what is published of them, and why one cannot be."""
        with connect(at) as client:
            found = client.routines(environment, backend, search)
        if as_json:
            print_json(found)
            return
        if not found:
            out.print(f"No routine of {text(backend)} mentions {text(search)}." if search else f"{text(backend)} has no routines.")
            return
        out.print(
            table(
                ("Routine", "Form", "Takes", "Gives", "Published"),
                [
                    (f"[bold]{text(one['name'])}[/]", one["form"], text(", ".join(one["takes"]) or "–"), _gives(one), _use(one))
                    for one in found
                ],
            )
        )
        out.print(f"[dim]One of them in full: bricola discover routine {text(environment)} {text(backend)} NAME[/]")

    @discover.command("routine")
    def show_routine(environment: str, backend: str, name: str, signature: Signature = None, at: At = "", as_json: Json = False) -> None:
        """Show one procedure or function: parameters with types and defaults, what it gives, and what cannot be carried."""
        with connect(at) as client:
            found = client.routine(environment, backend, name, signature)
        if as_json:
            print_json(found)
            return
        comment = f"  [dim]{text(found['comment'])}[/]" if found["comment"] else ""
        does = "may write" if found["writes"] else "declared to read only"
        out.print(f"[bold]{text(found['name'])}[/]  {found['form']}, {does}{comment}\n")
        rows = [(f"[bold]{text(one['name'])}[/]", one["way"], text(one["declared"]), _type(one["type"]), _default(one),
                 text(", ".join(one["codes"]))) for one in found["parameters"]]
        rows += [(f"[bold]{text(one['name'])}[/]", "row", text(one["declared"]), _type(one["type"]), "", "") for one in found["columns"]]
        out.print(table(("Parameter", "Way", "Type there", "Type here", "Default", "Codes"), rows))
        if found["shows_rows"]:
            out.print("[yellow]▲[/] What rows it gives, if any, shows only when it runs: discover operation … --try PARAMETER=VALUE.")
        for reason in found["reasons"]:
            out.print(f"[yellow]▲[/] It cannot be published: {text(reason)}.")
        for use in found["used"]:
            out.print(f"[green]●[/] {text(use)}")
        for one in found["differs"]:
            out.print(f"[yellow]▲[/] routine {text(one)} says something else: bricola discover renew {text(environment)} {text(one)}")

    @discover.command("operation")
    def make_operation(
        environment: str,
        backend: str,
        name: Annotated[str, typer.Argument(metavar="ROUTINE")],
        signature: Signature = None,
        called: Annotated[str, typer.Option("--routine", help="The definition's name; the routine's when left out.")] = "",
        service: Annotated[str, typer.Option(help="Publish it in a new service of this name.")] = "",
        operation: Annotated[str, typer.Option(help="As this operation; named after the routine when left out.")] = "",
        role: Annotated[list[str] | None, typer.Option(help="A role that may call it; again for more.")] = None,
        tried: Annotated[
            list[str] | None,
            typer.Option("--try", metavar="PARAMETER=VALUE",
                         help="Call it once with this and roll back, to see its rows; again for more."),
        ] = None,
        zone: Zone = "",
        show: Annotated[bool, typer.Option("--show", help="Only show the definitions, save nothing.")] = False,
        yes: Annotated[bool, typer.Option("--yes", help="Call it without asking first.")] = False,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """Make a definition of a procedure or function, and a service where one is named, as drafts."""
        arguments = pairs_of(tried, "--try", "PARAMETER=VALUE") if tried is not None else None
        if arguments is not None and not yes:
            if not as_json:
                out.print(f"It runs once in {text(environment)} and is rolled back; what it commits by itself would stay.")
            ask_first("discover", as_json, "Call it?")
        with connect(at) as client:
            made = client.draft_routine(environment, backend, name, signature=signature, name=called, service=service, operation=operation,
                                        roles=role or [], zone=zone, try_with=arguments, save=not show)
        if as_json:
            print_json(made)
            return
        print_drafts(made["files"], show)
        for left in made["left_out"]:
            out.print(f"[yellow]▲[/] {text(left['name'])} is left out: messages have no type for {text(left['declared'])}.")
        _print_zones(made["open_zones"])
        if made["unseen_rows"]:
            out.print("[yellow]▲[/] If it gives rows, say --try PARAMETER=VALUE to see them, or write them under 'rows:'.")
        if service and not show:
            out.print(f"[dim]Next: bricola release {text(service)} && bricola deploy {text(service)} {text(environment)}[/]")


def _register_renewal(discover: typer.Typer) -> None:
    @discover.command("renew")
    def renew(
        environment: str,
        name: Annotated[str, typer.Argument(metavar="ROUTINE", help="The definition of a procedure or function.")],
        signature: Signature = None,
        zone: Zone = "",
        show: Annotated[bool, typer.Option("--show", help="Only say what differs, and print the new text; save nothing.")] = False,
        yes: Annotated[bool, typer.Option("--yes", help="Save it without asking, whoever is affected.")] = False,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """Bring a definition up to what its procedure or function is now: names, labels and faults stay, types follow."""
        with connect(at) as client:
            found = client.renew_routine(name, environment, signature=signature, zone=zone)
            if not as_json:
                _print_renewed(name, environment, found)
            if show or not found["differences"]:
                if as_json:
                    print_json(found)
                elif show:
                    out.print(text(found["text"]))
                return
            if not yes:
                ask_first("discover", as_json, "Save it as a draft?")
            saved = client.renew_routine(name, environment, signature=signature, zone=zone, save=True)
        if as_json:
            print_json(saved)
            return
        for change in saved["changes"]:
            out.print(f"[green]●[/] saved {text(change['path'])} as a draft")


def _print_renewed(name: str, environment: str, found: Any) -> None:
    if not found["differences"]:
        out.print(f"[green]●[/] {text(name)} says what the routine is in {text(environment)}.")
    else:
        rows = [(f"[bold]{text(one['name'])}[/]", text(one["was"]), text(one["now"])) for one in found["differences"]]
        out.print(table(("What", "As it is defined", "As it is there"), rows))
    for one in found["problems"]:
        out.print(f"[red]✕[/] {text(one['message'])}  [dim]{text(one.get('place', ''))}[/]")
    for column in found["untold"]:
        out.print(f"[yellow]▲[/] {text(column)} of its rows is not told to callers.")
    _print_zones(found["open_zones"])
    print_affected(found["affected"])


def _print_zones(names: Sequence[str]) -> None:
    for one in names:
        out.print(f"[yellow]▲[/] {text(one)}: the database does not say in which zone these moments are. They are told as they stand; "
                  "if they are in UTC, say --zone utc.")


def _gives(one: Any) -> str:
    gives = text(", ".join(one["gives"]))
    if one["gives_rows"]:
        return f"rows of {gives}"
    told = [gives] if gives else []
    told += ["rows, if any, show when it runs"] if one["shows_rows"] else []
    return "; ".join(told) or "–"


def _use(one: Any) -> str:
    if one["used"]:
        return f"[green]●[/] {text(one['used'][0])}"
    if one["differs"]:
        return f"[yellow]▲[/] routine {text(one['differs'][0])} says something else"
    return f"[yellow]▲[/] {text(one['reasons'][0])}" if one["reasons"] else "not yet"


def _type(base: str) -> str:
    return text(base) if base else "[yellow]none, left out[/]"


def _default(one: Any) -> str:
    return text(one["default"]) or "the database's" if one["optional"] else ""
