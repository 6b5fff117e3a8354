"""`screens` and `terminal`: films of screen flows, what moved on the host, and a live terminal."""

import sys
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import typer

from bricola.cli.calling import parse_values
from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_json, print_screen, table, text, when
from bricola.cli.recording import first_environment, learn_host, record_walk, refuse_without_engine
from bricola.cli.typewriter import run_terminal
from bricola.core.problems import Problem, ProblemError


def register(app: typer.Typer) -> None:
    panel = "Backends"
    screens = typer.Typer(help="Screen flows: their films, and whether the host still looks like them.", invoke_without_command=True)
    app.add_typer(screens, name="screens", rich_help_panel=panel)

    @screens.callback()
    def list_flows(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List screen flows with their films and their last checks."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.screen_flows()
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("There is no screen flow yet. Record one in the console, or write a file that begins with 'screen-flow:'.")
            return
        out.print(table(("Flow", "Backend", "Published by", "Film", "Checked"), [
            (f"[bold]{text(one['flow'])}[/]", text(f"{one['backend']} ({one['engine']})"), text(", ".join(one["services"]) or "–"),
             _film_words(one["film"]), _check_words(one["checks"])) for one in found]))

    @screens.command("film")
    def film(
        flow: str, environment: str,
        values: Annotated[list[str] | None, typer.Argument(help="Inputs as name=value; samples stand in for the others.")] = None,
        writes: Annotated[bool, typer.Option("--writes", help="Walk it although it writes on the host.")] = False,
        listen: Annotated[float, typer.Option(
            "--listen", min=0, max=30, metavar="SECONDS",
            help="How long it is listened, the first time on each screen, whether the host goes on writing.")] = 1.0,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Walk a flow on the live host, on a session of its own, and keep the screens and moves as its film."""
        with connect(at) as client:
            made = client.make_film(flow, environment, parse_values(values or []), writes, listen)
        if as_json:
            print_json(made)
            return
        out.print(f"[green]●[/] Filmed {text(flow)} in {text(environment)}: {made['moves']} moves over {made['screens']} screens, "
                  f"stages {', '.join(made['stages'])}")
        if made["quiet"]:
            out.print(f"  [dim]The host writes screens in pieces: calls wait until it was silent for {made['quiet']:g} s.[/]")
        for one in made["problems"]:
            out.print(f"[yellow]▲[/] {text(one)}")

    @screens.command("show")
    def show(
        flow: str,
        moves: Annotated[int, typer.Option("--moves", "-n", min=1, help="At most so many.")] = 6,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Show the film of a flow, move by move."""
        with connect(at) as client:
            found = client.film(flow)
        if as_json:
            print_json(found)
            return
        shots = found["shots"]
        for number, shot in enumerate(shots[:moves], 1):
            screen = found["screens"][shot["before"]]
            typed = ", ".join("(a secret)" if value is None else repr(value) for value in shot["typed"].values() if value != "")
            out.print(f"[bold]{number}[/]  {text(shot['stage'])} on [bold]{text(shot['known'] or '?')}[/]: "
                      f"{text(typed + ', ' if typed else '')}{shot['key']} → {text(shot['came'] or '?')}")
            print_screen(screen["lines"], screen["columns"])
        if len(shots) > moves:
            out.print(f"[dim]{len(shots) - moves} more moves; --moves shows them.[/]")

    @screens.command("check")
    def check(
        environment: str,
        flow: Annotated[str, typer.Argument(help="One flow; all that have a film when left out.")] = "",
        writes: Annotated[bool, typer.Option("--writes", help="Also walk flows that write on the host.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Hold the films against the live host, and name what moved. Exit status 1 when something did."""
        with connect(at) as client:
            found = client.check_screens(environment, flow, writes)
        if as_json:
            print_json(found)
        elif not found:
            out.print(f"No flow that is bound in {text(environment)} has a film. Make one: bricola screens film FLOW {text(environment)}")
        else:
            for one in found:
                _print_check(one)
        if not all(one["passed"] for one in found):
            raise typer.Exit(1)

    @app.command(rich_help_panel=panel)
    def terminal(
        where: Annotated[str, typer.Argument(metavar="ENVIRONMENT | ADDRESS", help="An environment, or the address of a host.")],
        backend: Annotated[str, typer.Argument(help="The backend, in an environment.")] = "",
        flow: Annotated[str, typer.Option(help="A screen flow whose screens are named too.")] = "",
        raw: Annotated[bool, typer.Option("--raw", help="A session of its own that nobody signed on.")] = False,
        record: Annotated[str, typer.Option(metavar="FLOW", help="Record the walk as a screen flow of this name.")] = "",
        engine: Annotated[str, typer.Option(help="Of an address: how the host talks, tn3270 or tn5250.")] = "",
        environment: Annotated[str, typer.Option(help="Of an address: where the host belongs; the first one when left out.")] = "",
        connect_as: Annotated[str, typer.Option(metavar="NAME", help="Of an address: the backend that it becomes; else asked.")] = "",
        tls: Annotated[str, typer.Option(help="Of an address: off, encrypt or verify.")] = "off",
        device: Annotated[str, typer.Option(help="Of an address: the LU or device name.")] = "",
        code_page: Annotated[str, typer.Option(help="Of an address: its EBCDIC code page.")] = "cp037",
        model: Annotated[int, typer.Option(help="Of a 3270: 2 to 5.")] = 2,
        wide: Annotated[bool, typer.Option("--wide", help="Of a 5250: 27 rows of 132.")] = False,
        at: At = "",
    ) -> None:
        """Open a live terminal: of a backend, or of an address before anything is defined. Ctrl X leaves."""
        if not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise ProblemError(Problem("terminal.window", "A live terminal needs a terminal window.",
                                       mend="Run it in one, or use the console."))
        with connect(at) as client:
            if backend:
                with client.terminal(where, backend, flow, raw) as line:
                    walked = run_terminal(line, f"{backend} in {where}")
                    line.leave()
                if record:
                    record_walk(client, record, where, backend, walked)
                return
            settings = {"tls": tls, "device": device, "code_page": code_page, "model": model, "wide": wide}
            if not engine:
                refuse_without_engine(where)
            place = environment or first_environment(client)
            with client.strange_terminal(place, where, engine, **settings) as line:
                walked = run_terminal(line, where)
                learn_host(line, walked, connect_as, place)


def _film_words(film: Mapping[str, Any] | None) -> str:
    return f"{film['moves']} moves, {text(film['environment'])}, {when(film['at'])}" if film else "[dim]none[/]"


def _check_words(checks: Sequence[Mapping[str, Any]]) -> str:
    return (
        "; ".join(f"{'[green]●[/]' if one['passed'] else '[red]✕[/]'} {text(one['environment'])} {when(one['at'])}" for one in checks)
        or "[dim]never[/]"
    )


def _print_check(one: Mapping[str, Any]) -> None:
    if one["skipped"]:
        out.print(
            f"[bold]{text(one['flow'])}[/] in {text(one['environment'])}  [dim]– skipped: {text(one['skipped'])}; --writes walks it[/]"
        )
        return
    mark = "[green]● as filmed[/]" if one["passed"] else "[red]✕ not as filmed[/]"
    out.print(f"[bold]{text(one['flow'])}[/] in {text(one['environment'])} at {text(one['endpoint'] or '?')}  {mark}")
    if one["screens"]:
        out.print(f"  [dim]{'screens':<9}[/]{text(', '.join(one['screens']))}")
    if one["moved"]:
        out.print(
            table(
                ("  Screen", "What", "Expected", "Now"),
                [
                    (f"  {text(two['screen'])}", text(two["what"]), text(two["expected"]), f"[yellow]{text(two['found'])}[/]")
                    for two in one["moved"]
                ],
            )
        )
    if one["stopped"]:
        stopped = one["stopped"]
        out.print(
            f"  [red]✕[/] The walk stopped{' in ' + text(stopped['place']) if stopped.get('place') else ''}: {text(stopped['message'])}"
        )
        for name in ("expected", "found", "inner"):
            if stopped.get(name):
                out.print(f"    [dim]{name:<9}[/]{text(stopped[name])}")
