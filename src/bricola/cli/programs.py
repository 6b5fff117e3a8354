"""`programs`: programs that hosts offer, and definitions made of their copybooks."""

from collections.abc import Callable, Sequence
from itertools import chain, count
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
            list[str],
            typer.Argument(
                metavar="[AREA=]FILE...",
                help="The copybook of each area, in the order of the program's USING; an area is named after its file if it is not said.",
            ),
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
        reading = {"source_format": source_format.lower(), "replacing": pairs_of(replacing, "--replacing")}
        areas, copybooks = _areas(files, lambda file: {"text": copybook_text(file), "members": members_of(file, members), **reading})
        for one in areas:
            one["use"] = used.pop(one["name"], "both")
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


def _areas(given: Sequence[str], read: Callable[[Path], dict[str, Any]]) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The areas and their copybooks. A copybook that lays out several areas is one; another of its name is called as its area is."""
    areas: list[dict[str, Any]] = []
    copybooks: dict[str, dict[str, Any]] = {}
    for one in given:
        area, _, path = one.rpartition("=") if not Path(one).exists() else ("", "", one)
        content = read(Path(path))
        name = area or _free(_called(Path(path)), [other["name"] for other in areas])
        copybook = _called(Path(path))
        if copybooks.setdefault(copybook, content) != content:
            copybook = _free(name, list(copybooks))
            copybooks[copybook] = content
        areas.append({"name": name, "copybook": copybook})
    return areas, [{"name": name, **content} for name, content in copybooks.items()]


def _free(name: str, taken: Sequence[str]) -> str:
    """The name, or the first with a number that nothing has."""
    return next(one for one in chain([name], (f"{name}-{number}" for number in count(2))) if one not in taken)


def _called(file: Path) -> str:
    """A name for a copybook, after its file."""
    made = "".join(letter if letter.isalnum() and letter.isascii() else "-" for letter in file.stem.lower()).strip("-")
    return made if made[:1].isalpha() else f"copybook-{made}"
