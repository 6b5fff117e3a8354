"""`discover` and `connect`: what a database holds, and definitions made from it."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import ask_first, out, print_drafts, print_json, table, text
from bricola.cli.routines import register_routines, routines_beside
from bricola.core.problems import Problem, ProblemError


def register(app: typer.Typer) -> None:
    panel = "Backends"
    discover = typer.Typer(help="Discover: look around in a database; make objects of its tables, operations of its routines.",
                           no_args_is_help=True)
    app.add_typer(discover, name="discover", rich_help_panel=panel)

    @discover.command("tables")
    def list_tables(
        environment: str, backend: str,
        search: Annotated[str, typer.Argument(help="Parts of a table's name, of its comment or of a column's name.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """List tables and views with their rows and keys, what is published of them, and why one cannot be."""
        with connect(at) as client:
            found = client.tables(environment, backend, search)
            beside = [] if as_json else routines_beside(client, environment, backend, search)
        if as_json:
            print_json(found)
            return
        if not found and not beside:
            out.print(f"No table of {text(backend)} mentions {text(search)}." if search else f"{text(backend)} has no tables.")
            return
        out.print(
            table(
                ("Table", "Kind", "Rows", "Columns", "Key", "Published"),
                [
                    (
                        f"[bold]{text(one['name'])}[/]",
                        text(one["kind"]),
                        _rows(one),
                        str(len(one["columns"])),
                        text(", ".join(one["key"]) or "–"),
                        _use(one),
                    )
                    for one in found
                ],
                right=("Rows", "Columns"),
            )
        )
        out.print(f"[dim]One of them in full: bricola discover table {text(environment)} {text(backend)} NAME[/]")
        if beside:
            words = "1 routine" if len(beside) == 1 else f"{len(beside)} routines"
            words += f" that {'mentions' if len(beside) == 1 else 'mention'} it" if search else ""
            out.print(f"[dim]And {words}: bricola discover routines {text(environment)} {text(backend)} {text(search)}[/]".rstrip())

    @discover.command("table")
    def show_table(environment: str, backend: str, name: str, at: At = "", as_json: Json = False) -> None:
        """Show one table: columns with types, keys, code lists, references, and what may be its children."""
        with connect(at) as client:
            found = client.table(environment, backend, name)
        if as_json:
            print_json(found)
            return
        comment = f"  [dim]{text(found['comment'])}[/]" if found["comment"] else ""
        out.print(f"[bold]{text(found['name'])}[/]  {found['kind']}, {_rows(found)} rows, key {text(', '.join(found['key']) or 'none')}"
                  f"{' (' + text(found['key_from']) + ')' if found['key_from'] else ''}{comment}\n")
        out.print(
            table(("Column", "Type there", "Type here", "Required", "Filled by", "Codes"), [_column(one) for one in found["columns"]])
        )
        for key in found["foreign_keys"]:
            target = f"[bold]{text(key['table'])}[/] ({text(', '.join(key['targets']))})"
            out.print(f"\n{text(', '.join(key['columns']))} refers to {target}", end="")
        for child in found["children"]:
            rows = f", {child['rows']:,} rows" if child["rows"] is not None else ""
            by = text(", ".join(child["columns"]))
            out.print(f"\n[bold]{text(child['table'])}[/] refers to it by {by}{rows}: may be its children", end="")
        out.print()
        for reason in found["reasons"]:
            out.print(f"[yellow]▲[/] No object can be made of it: {text(reason)}.")
        for use in found["used"]:
            out.print(f"[green]●[/] {text(use)}")

    @discover.command("object")
    def make_object(
        environment: str,
        backend: str,
        name: Annotated[str, typer.Argument(metavar="TABLE")],
        service: Annotated[str, typer.Option(help="Publish it in a new service of this name.")] = "",
        operations: Annotated[str, typer.Option(help="Of get, check, find, create, update, save, delete; with commas.")] = "get,find",
        role: Annotated[list[str] | None, typer.Option(help="A role that may call it; again for more.")] = None,
        called: Annotated[str, typer.Option("--object", help="The object's name; the table's when left out.")] = "",
        children: Annotated[
            list[str] | None, typer.Option("--child", metavar="TABLE", help="Rows of this table belong to it; again for more.")
        ] = None,
        key: Annotated[str, typer.Option(help="Columns that tell the rows apart: of a view, or a unique number; with commas.")] = "",
        zone: Annotated[str, typer.Option(help="Of moments that do not say it: utc, or local for the clock on the wall.")] = "",
        show: Annotated[bool, typer.Option("--show", help="Only show the definitions, save nothing.")] = False,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """Make an object of a table, and a service with the operations that are named, as drafts."""
        with connect(at) as client:
            found = client.draft_object(environment, backend, name, called, service, _split(operations), role or [], children or [],
                                        _split(key), not show, zone)
        if as_json:
            print_json(found)
            return
        print_drafts(found["files"], show)
        for left in found["left_out"]:
            out.print(f"[yellow]▲[/] {text(left['table'])}.{text(left['column'])} is left out: messages have no type for "
                      f"{text(left['declared'])}.")
        for one in found["open_zones"]:
            out.print(f"[yellow]▲[/] {text(one['field'])} of {text(one['table'])}: the database does not say in which zone these moments "
                      "are. They are told as they stand; if they are in UTC, say --zone utc.")
        if service and not show:
            out.print(f"[dim]Next: bricola release {text(service)} && bricola deploy {text(service)} {text(environment)}[/]")

    register_routines(discover)

    @discover.command("publish")
    def publish_tables(
        backend: str,
        tables: Annotated[list[str] | None, typer.Option(
            "--tables", metavar="PATTERN", help="Tables whose names match, with * and ?; again for more. All when left out.")] = None,
        without: Annotated[list[str] | None, typer.Option("--without", metavar="PATTERN", help="But not these; again for more.")] = None,
        read_only: Annotated[bool, typer.Option("--read-only", help="Only what reads: get, check, find.")] = False,
        operations: Annotated[str, typer.Option("--with", help="Of get, check, find, create, update, save, delete; with commas.")] = "",
        service: Annotated[str, typer.Option(help="One service, or by {schema} one for each.")] = "{schema}",
        called: Annotated[str, typer.Option("--object", help="How objects are called, by {table} and {schema}.")] = "{table}",
        left_out: Annotated[list[str] | None, typer.Option("--left-out", metavar="PATTERN", help="Columns that are not published.")] = None,
        role: Annotated[list[str] | None, typer.Option(help="A role that may call it; again for more.")] = None,
        zone: Annotated[str, typer.Option(help="Of moments that do not say it: utc, or local for the clock on the wall.")] = "",
        rule: Annotated[str, typer.Option(help="By a rule that is kept, instead of all this.")] = "",
        keep_as: Annotated[str, typer.Option("--keep-as", metavar="RULE", help="Keep all this as a rule, to be repeated.")] = "",
        environment: Annotated[str, typer.Option("--in", metavar="ENVIRONMENT",
                                                 help="Look there; where it is bound first when left out.")] = "",
        sure: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make objects and operations of many tables by a rule, as drafts. Shows the plan and asks; repeated, it adds what is new."""
        if read_only and operations:
            raise ProblemError(Problem("discover.publish", "Say --read-only, or which operations --with.", place="--with"))
        wanted = _split(operations) or (["get", "check", "find"] if read_only else ["get", "find"])
        with connect(at) as client:
            where = environment or next((one["environment"] for one in client.backends() if one["backend"] == backend and one["bound"]), "")
            if not where:
                raise ProblemError(Problem("discover.backend", f"{backend} has no place in any environment.", place="BACKEND",
                                           choices=tuple(sorted({one["backend"] for one in client.backends()})), found=backend))
            said: dict[str, Any] = {"rule": rule} if rule else {
                "tables": tables or ["*"], "except_tables": without or [], "operations": wanted, "service": service, "object_name": called,
                "left_out": left_out or [], "roles": role or [], "zone": zone, "keep_as": keep_as}
            plan = client.publish_tables(where, backend, **said)
            new = [one for one in plan["tables"] if one["operations"]]
            if not as_json:
                _print_many(plan["tables"])
            if not plan["files"]:
                print_json(plan) if as_json else out.print("Nothing is new.")
                return
            if not sure:
                ask_first("It is not saved yet.", as_json, f"Save {len(plan['files'])} definitions as drafts?")
            done = client.publish_tables(where, backend, **said, save=True)
        if as_json:
            print_json(done)
            return
        out.print(f"[green]●[/] {len(new)} tables in {text(', '.join(done['services']))}, as drafts.")
        for one in done["services"]:
            out.print(f"[dim]Next: bricola release {text(one)} && bricola deploy {text(one)} {text(where)}[/]")

    @app.command("connect", rich_help_panel=panel)
    def connect_backend(
        name: str, environment: str,
        engine: Annotated[str, typer.Option(help="sqlite, postgresql, mariadb, tn3270, tn5250, soap, http, files or program-host.")],
        address: Annotated[str, typer.Option(help="host:port of the server; of an HTTP or SOAP service its URL.")] = "",
        file: Annotated[
            str, typer.Option(help="The file of a SQLite database, or the folder of files, below the service's data folder.")] = "",
        database: Annotated[str, typer.Option(help="The database on the server.")] = "",
        credential: Annotated[str, typer.Option(help="A stored credential: bricola credentials add.")] = "",
        tls: Annotated[str, typer.Option(help="off, encrypt or verify.")] = "off",
        read_only: Annotated[bool, typer.Option("--read-only", help="Nothing can be written through it.")] = False,
        device: Annotated[list[str] | None, typer.Option(help="An LU or device name of a terminal host; once for each session.")] = None,
        description: str = "", at: At = "", as_json: Json = False,
    ) -> None:
        """Define a backend where it is new, and bind it in an environment; takes effect at once."""
        from bricola.core.definitions.engines import ENGINES  # only this command needs them

        if engine not in ENGINES:
            raise ProblemError(Problem("connect.engine", "There is no such engine.", place="--engine",
                                       choices=tuple(ENGINES), found=engine))
        binding = {"file": file, "address": address, "database": database, "credential": credential, "tls": tls, "read_only": read_only,
                   "devices": device or []}
        with connect(at) as client:
            found = client.connect_backend(name, environment, engine, binding, description)
            if as_json:
                print_json(found)
                return
            for change in found["changes"]:
                if change["action"] != "unchanged":
                    out.print(f"[green]●[/] {text(change['action'])} {text(change['kind'])} {text(change['name'])}")
        out.print(f"[dim]Try the way: bricola check {text(environment)} {text(name)}[/]")


def _split(text_of: str) -> list[str]:
    return [one.strip() for one in text_of.split(",") if one.strip()]


def _rows(one: Mapping[str, Any]) -> str:
    if one["rows"] is None:
        return "?"
    return f"{one['rows']:,}" if one["exact"] else f"~{one['rows']:,}"


def _use(one: Mapping[str, Any]) -> str:
    if one["used"]:
        return "[green]●[/] " + text("; ".join(one["used"]))
    if one["reasons"]:
        return f"[yellow]▲[/] [dim]no: {text(one['reasons'][0])}[/]"
    return "[dim]not yet[/]"


def _column(one: Mapping[str, Any]) -> tuple[str, ...]:
    codes = ", ".join(one["codes"][:6]) + (f", … {len(one['codes'])} in all" if len(one["codes"]) > 6 else "")
    where = f" [dim]({text(one['codes_from'])})[/]" if one["codes"] else ""
    filled = "the database alone" if one["made"] else "the database, if nothing is given" if one["filled"] else ""
    if one["default"]:
        filled = text(f"default {one['default']}")
    return (
        f"[bold]{text(one['name'])}[/]",
        text(one["declared"]),
        text(one["type"]) or "[yellow]▲ none[/]",
        "yes" if one["required"] else "",
        filled,
        f"{text(codes)}{where}",
    )


_ACTIONS = {"new": "[green]+ new[/]", "extended": "[green]+ more[/]", "there": "[dim]= there[/]", "cannot": "[yellow]▲ cannot[/]"}


def _print_many(tables: Sequence[Mapping[str, Any]]) -> None:
    out.print(table(("", "Table", "Object", "Service", "Operations added", ""), [
        (_ACTIONS[one["action"]], f"[bold]{text(one['table'])}[/]", text(one["object"]), text(one["service"]),
         text(", ".join(one["operations"])),
         text("; ".join(one["reasons"]) or (f"without {', '.join(one['left_out'])}" if one["left_out"] else ""))) for one in tables]))
