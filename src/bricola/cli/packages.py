"""`packages`: definitions to hand over, and templates to be filled in."""

import base64
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import ask_first, err, out, print_json, table, text
from bricola.core.problems import Problem, ProblemError, shown

if TYPE_CHECKING:
    from bricola.api import packages as api

Values = Annotated[list[str] | None, typer.Option("--fill", "-f", metavar="NAME=VALUE", help="A value of a parameter; again for more.")]
Choices = Annotated[list[str] | None, typer.Option(
    "--choose", "-c", metavar="ID=CHOICE", help="What is done about a mismatch, like 'service Stays=replace'; again for more.")]
Which = Annotated[str, typer.Argument(metavar="PACKAGE", help="A zip, or the name of a package that is kept; with a version: name@1.2.")]


def register(app: typer.Typer) -> None:
    packages = typer.Typer(help="Packages: definitions to hand over, and templates to be filled in.", no_args_is_help=True)
    app.add_typer(packages, name="packages", rich_help_panel="Definitions")

    @packages.command("list")
    def list_packages(at: At = "", as_json: Json = False) -> None:
        """List the packages that are kept, with their parameters and what came out of each."""
        with connect(at) as client:
            found = client.packages()
        if as_json:
            print_json(found)
        elif not found:
            out.print("No package is kept. To keep one: bricola packages keep FILE")
        else:
            out.print(table(["package", "version", "age", "from", "to be filled in", "came out of it"], [
                [f"[bold]{text(one['name'])}[/]", text(one["version"]), _age(one["days"]), text(one["origin"]),
                 text(", ".join(two["name"] for two in one["parameters"])) or "[dim]nothing[/]", _made_here(one)] for one in found]))

    @packages.command("show")
    def show(which: Which, fill: Values = None, choose: Choices = None, at: At = "", as_json: Json = False) -> None:
        """Show what is in a package, and everything in it that does not fit here. Exit status 1 when something does not."""
        with connect(at) as client:
            found = client.plan_package(*_source(which), _pairs(fill), _pairs(choose))
        if as_json:
            print_json(found)
        else:
            _print(found)
        if any(one["options"] or one["stops"] for one in found["mismatches"]):
            raise typer.Exit(1)

    @packages.command("take")
    def take(
        which: Which, fill: Values = None, choose: Choices = None,
        align: Annotated[bool, typer.Option("--align", help="Do what is proposed about every mismatch.")] = False,
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask before changing.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make drafts of a package's parts. Shows everything that does not fit first."""
        source, values, choices = _source(which), _pairs(fill), _pairs(choose)
        with connect(at) as client:
            planned = client.plan_package(*source, values, choices)
            if not as_json:
                _print(planned)
            if not yes:
                waits = any(one["options"] and not one["chosen"] for one in planned["mismatches"]) and not align
                ask_first("package", as_json, f"{'Align what does not fit, and make' if waits else 'Make'} these drafts?")
                align = align or waits
            taken = client.take_package(*source, values, choices, align)
        if as_json:
            print_json(taken)
            return
        made = [one for one in taken["changes"] if one["action"] != "unchanged"]
        names = ", ".join(f"{text(one['kind'])} {text(one['name'])}" for one in made)
        out.print(f"\nDrafts made: {names or 'none, all is here already'}.")

    @packages.command("keep")
    def keep(file: Path, at: At = "", as_json: Json = False) -> None:
        """Keep a package here, to be used as often as one likes."""
        with connect(at) as client:
            found = client.keep_package(_read(file))
        if as_json:
            print_json(found)
        else:
            out.print(f"[green]+[/] [bold]{text(found['name'])}[/] {text(found['version'])} is kept. "
                      f"To use it: bricola packages take {text(found['name'])}")

    @packages.command("drop")
    def drop(which: Annotated[str, typer.Argument(metavar="NAME@VERSION")],
             yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False, at: At = "") -> None:
        """Keep a version of a package no more. What came out of it stays."""
        name, _, version = which.partition("@")
        if not yes:
            typer.confirm(f"Drop {name} {version}?", abort=True)
        with connect(at) as client:
            client.drop_package(name, version)
        out.print(f"{text(name)} {text(version)} is kept no more.")

    @packages.command("make")
    def make(
        file: Annotated[Path, typer.Argument(help="The zip to write.")],
        definitions: Annotated[list[str], typer.Argument(metavar="'KIND NAME'...", help="Like 'service PassageStatus'.")],
        version: Annotated[str, typer.Option("--version", help="Like 1.2.")] = "1.0",
        name: Annotated[str, typer.Option("--name", help="That of the file when left out.")] = "",
        about: Annotated[str, typer.Option("--about", help="What it is for, in a sentence.")] = "",
        words: Annotated[list[str] | None, typer.Option(
            "--word", "-w", metavar="WORD=PARAMETER", help="A word of the definitions that is to be filled in; again for more. "
            "With what fits: passage.get=look_up:call")] = None,
        alone: Annotated[bool, typer.Option("--alone", help="Without what they need.")] = False,
        keep_it: Annotated[bool, typer.Option("--keep", help="Keep it here, too.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Make a package of definitions and of all that they need. With --word it is a template."""
        parameters = {}
        for word, told in _pairs(words).items():
            parameter, _, kind = told.partition(":")
            parameters[word] = {"name": parameter, "kind": kind or "name"}
        with connect(at) as client:
            made = client.make_package(name or file.stem, version, definitions, about, parameters, alone, keep_it)
        content = base64.b64decode(made["content"])
        file.write_bytes(content)
        if as_json:
            print_json({key: value for key, value in made.items() if key != "content"} | {"file": str(file), "bytes": len(content)})
            return
        out.print(f"Wrote {text(file)}, {len(content)} bytes, with {len(made['files'])} parts.")
        for parameter, times in made["counts"].items():
            out.print(f"  {text(parameter)} is filled in at {times} {'place' if times == 1 else 'places'}")
        for one in made["backends"]:
            out.print(f"  it needs a backend {text(one['name'])} ({text(one['engine'])})")


def _pairs(words: list[str] | None) -> dict[str, str]:
    found = {}
    for one in words or []:
        name, sign, value = one.partition("=")
        if not sign or not name.strip():
            raise ProblemError(Problem("package.pair", "This is given as NAME=VALUE.", found=shown(one)))
        found[name.strip()] = value.strip()
    return found


def _read(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        raise ProblemError(Problem("package.file", f"The file cannot be read: {error.strerror}.", place=str(file))) from None


def _source(which: str) -> tuple[bytes, str, str]:
    """The zip, or the name and version of one that is kept."""
    if which.lower().endswith(".zip") or Path(which).is_file():
        return _read(Path(which)), "", ""
    name, _, version = which.partition("@")
    return b"", name, version


def _age(days: int) -> str:
    return "today" if days <= 0 else f"{days} {'day' if days == 1 else 'days'}"


def _made_here(one: Mapping[str, Any]) -> str:
    return "\n".join(f"{text(two['kind'])} {text(two['name'])}" + ("" if two["state"] == "as it came" else f" [yellow]{two['state']}[/]")
                     for two in one["made_here"]) or "[dim]nothing[/]"


_STATES = {"new": "[green]+ new[/]", "same": "[dim]  is here already[/]", "kept": "[dim]= ours stays[/]",
           "replaces": "[yellow]~ takes the place of ours[/]", "renamed": "[green]+ new, renamed[/]"}


def _print(found: "api.TakenPackage") -> None:
    out.print(f"[bold]{text(found['name'])}[/] {text(found['version'])}, made {text(found['date'])}"
              + (f" by {text(found['origin'])}" if found["origin"] else ""))
    if found["description"]:
        out.print(f"[dim]{text(found['description'])}[/]")
    if found["parameters"]:
        out.print(table(["  to be filled in", "", "sample", ""], [
            [f"  {text(one['name'])}", f"[dim]{text(one['kind'])}[/]", text(one["sample"]), text(one["description"])]
            for one in found["parameters"]]))
        out.print()
    out.print(table(["  part", "age", "becomes", "", ""], [
        [f"  {text(one['kind'])} {text(one['name'])}", _age(one["days"]), text(one["becomes"]), _STATES[one["state"]],
         f"[yellow]▲[/] {text(one['hollow'])}" if one["hollow"] else ""] for one in found["parts"]]))
    if found["mismatches"]:
        out.print()
    for one in found["mismatches"]:
        sign = "[red]✕[/]" if one["stops"] else "[yellow]▲[/]"
        out.print(f"{sign} [bold]{text(one['id'])}[/]  {text(one['message'])}", soft_wrap=True)
        for word in ("expected", "found"):
            if one[word]:
                out.print(f"    [dim]{word:<8}[/] {text(one[word])}", soft_wrap=True)
        if one["options"]:
            said = f"[green]{text(one['chosen'])}[/], as you said" if one["chosen"] else f"{text(one['proposal'])}, proposed"
            rest = ", ".join(option for option in one["options"] if option != (one["chosen"] or one["proposal"]))
            out.print(f"    [dim]becomes [/] {said}" + (f" [dim](or {text(rest)})[/]" if rest else ""), soft_wrap=True)
    for problem in found["problems"]:
        err.print(f"[yellow]▲[/] Afterwards: {text(problem['message'])} [dim]{text(problem.get('place', ''))}[/]", soft_wrap=True)
