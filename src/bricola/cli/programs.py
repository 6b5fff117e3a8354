"""`programs`: programs that hosts offer, and definitions made of their copybooks."""

from pathlib import Path
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.copybooks import Form, Members, Replacing, copybook_text, members_of, pairs_of
from bricola.cli.output import out, print_drafts, print_json, table, text
from bricola.core.problems import Problem, ProblemError


def register(app: typer.Typer) -> None:
    panel = "Backends"
    programs = typer.Typer(help="Programs: what hosts offer, and definitions made of copybooks.", no_args_is_help=True)
    app.add_typer(programs, name="programs", rich_help_panel=panel)

    @programs.command("list")
    def hosted(
        environment: str,
        backend: str,
        search: Annotated[str, typer.Argument(help="Only those whose names hold this.", show_default=False)] = "",
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """List the programs that a host offers, and what calls them already."""
        with connect(at) as client:
            found = client.hosted_programs(environment, backend, search)
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("The host offers no such program." if search else "The host offers no program.")
            return
        out.print(
            table(
                ("Program", "Areas", "Called by", "What it does"),
                [
                    (
                        f"[bold]{text(one['name'])}[/]",
                        ", ".join(f"{size} bytes" for size in one["areas"]) or "–",
                        text(", ".join(one["called_by"]) or "–"),
                        text(one["words"]),
                    )
                    for one in found
                ],
            )
        )

    @programs.command("draft")
    def draft(
        name: str,
        backend: str,
        files: Annotated[
            list[Path], typer.Argument(help="The copybook of each area, in the order of the program's USING.", exists=True, dir_okay=False)
        ],
        calls: Annotated[
            str, typer.Option("--calls", metavar="PROGRAM", help="The program's name at its host; NAME in capitals if left out.")
        ] = "",
        code_page: Annotated[
            str, typer.Option("--code-page", help="The code page of its records, such as ascii, cp037 or cp273.")
        ] = "ascii",
        use: Annotated[
            list[str] | None, typer.Option("--use", metavar="AREA=in|out", help="An area that only goes in, or only comes out.")
        ] = None,
        into: Annotated[
            list[str] | None, typer.Option("--in", metavar="ITEM", help="An item or group that callers give; again for more.")
        ] = None,
        back: Annotated[
            list[str] | None, typer.Option("--out", metavar="ITEM", help="An item or group that callers get; again for more.")
        ] = None,
        reads: Annotated[
            bool, typer.Option("--only-reads", help="It changes nothing, so it may be called again when a connection breaks.")
        ] = False,
        service: Annotated[str, typer.Option("--service", help="Publish it in a new service of this name.")] = "",
        operation: Annotated[str, typer.Option("--operation", help="As this operation; named after the program if left out.")] = "",
        role: Annotated[list[str] | None, typer.Option("--role", help="A role that may call it; again for more.")] = None,
        source_format: Form = "",
        members: Members = None,
        replacing: Replacing = None,
        show: Annotated[bool, typer.Option("--show", help="Only show the definitions, save nothing.")] = False,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """Make a program of its copybooks, with names that people read and types that hold what its items do, as drafts."""
        used = pairs_of(use, "--use", "AREA=in|out")
        copybooks: list[dict[str, Any]] = []
        areas: list[dict[str, Any]] = []
        for file in files:
            called = _called(file)
            copybooks.append(
                {
                    "name": called,
                    "text": copybook_text(file),
                    "source_format": source_format.lower(),
                    "members": members_of(file, members),
                    "replacing": pairs_of(replacing, "--replacing"),
                }
            )
            areas.append({"name": called, "copybook": called, "use": used.pop(called, "both")})
        if used:
            raise ProblemError(
                Problem(
                    "option.form",
                    "There is no such area.",
                    place="--use",
                    found=next(iter(used)),
                    choices=tuple(one["name"] for one in areas),
                )
            )
        with connect(at) as client:
            made = client.draft_program(
                name,
                backend,
                calls or name.upper().replace("-", ""),
                areas,
                copybooks,
                not show,
                inputs=into,
                outputs=back,
                held={"code_page": code_page},
                writes=not reads,
                service=service,
                operation=operation,
                roles=role or [],
            )
        if as_json:
            print_json(made)
            return
        print_drafts(made["files"], show)
        if show:
            return
        if service:
            out.print(f"[dim]Next: bricola release {text(service)} && bricola deploy {text(service)} ENVIRONMENT[/]")
        else:
            out.print(f"[dim]Next: bricola publish program {text(name)} SERVICE[/]")


def _called(file: Path) -> str:
    """A name for a copybook, after its file."""
    made = "".join(letter if letter.isalnum() and letter.isascii() else "-" for letter in file.stem.lower()).strip("-")
    return made if made[:1].isalpha() else f"copybook-{made}"
