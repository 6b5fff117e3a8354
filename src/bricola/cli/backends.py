"""`environments`, `backends`, `check` and `pools`: the way to systems of record, and the sessions to them."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import CIRCUITS, STATES, out, print_json, seconds, table, text
from bricola.core.problems import Kind, Problem, ProblemError

if TYPE_CHECKING:
    from bricola.api.services import Hosting

_STAGES = {"passed": "[green]● passed[/]", "failed": "[red]✕ failed[/]", "skipped": "[dim]– skipped[/]", "not tried": "[dim]– not tried[/]"}


def register(app: typer.Typer) -> None:
    panel = "Backends"

    @app.command(rich_help_panel=panel)
    def backends(at: At = "", as_json: Json = False) -> None:
        """List every backend in every environment: bound or not, with its endpoints, credential and pool."""
        with connect(at) as client:
            found = client.backends()
        if as_json:
            print_json(found)
            return
        out.print(table(("Backend", "Environment", "Bound", "Endpoints", "Credential", "Pool", "Used by"), [
            (f"[bold]{text(one['backend'])}[/] [dim]{one['engine']}[/]", text(one["environment"]),
             "[green]● bound[/]" if one["bound"] else "[red]✕ unbound[/]", text(", ".join(one["endpoints"]) or "–"),
             text(one["credential"] or "–"), STATES.get(one["pool"], text(one["pool"])), text(", ".join(one["services"]) or "–"))
            for one in found
        ]))

    environments = typer.Typer(help="Environments: where releases run, and what each can host.", invoke_without_command=True)
    app.add_typer(environments, name="environments", rich_help_panel=panel)

    @environments.command("add")
    def add_environment(
        name: str,
        follows: Annotated[str, typer.Option(help="The environment that a release passes before this one.")] = "",
        protected: Annotated[bool, typer.Option("--protected", help="Callers depend on it: it is shown so, and asked about.")] = False,
        description: str = "", at: At = "", as_json: Json = False,
    ) -> None:
        """Add an environment, with nothing in it yet."""
        from bricola.core.definitions.model import EnvironmentDefinition  # only this command needs them
        from bricola.core.definitions.text import write_definition

        with connect(at) as client:
            known = [one["name"] for one in client.overview()["environments"]]
            if name in known:
                raise ProblemError(Problem("environment.taken", "There is an environment of this name.", Kind.CONFLICT, place=name))
            if follows and follows not in known:
                raise ProblemError(Problem("environment.unknown", "There is no environment to follow of this name.", Kind.MISSING,
                                           place="--follows", found=follows, choices=tuple(known)))
            made = EnvironmentDefinition(name=name, description=description, follows=follows, protected=protected)
            changes = client.apply({f"environments/{name}.yaml": write_definition(made)})
        if as_json:
            print_json(changes)
        else:
            out.print(f"[green]●[/] Added {text(name)}. [dim]Next: bricola connect BACKEND {text(name)} --engine ENGINE …[/]")

    @environments.callback()
    def list_environments(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List environments: what each can host, kinds of source and engines, and why not where it cannot."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.overview()["environments"]
        if as_json:
            print_json(found)
            return
        told = any(one["handlers"] for one in found)
        columns = ("Environment", "Follows", "Can host", "On", "Cannot host", *(("Told of failures",) if told else ()))
        out.print(table(columns, [
            (f"[bold]{text(one['name'])}[/]" + (" [dim]protected[/]" if one["protected"] else ""), text(one["follows"] or "–"),
             text(_able(one["hosts"], "kind")), text(_able(one["hosts"], "engine")),
             "\n".join(f"[yellow]▲[/] {text(what['title'])}: {text(what['reason'])}" for what in one["hosts"] if not what["able"])
             or "[green]● nothing is missing[/]",
             *(("\n".join(_handler(two) for two in one["handlers"]),) if told else ()))
            for one in found
        ]))

    @app.command(rich_help_panel=panel)
    def check(
        environment: str,
        backend: Annotated[str, typer.Argument(help="One backend; all that are bound when left out.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """Try the way to a backend stage by stage. The first stage that fails names the cause. Exit status 1 for a failure."""
        with connect(at) as client:
            found = client.check(environment, backend)
        if as_json:
            print_json(found)
        else:
            for index, one in enumerate(found):
                if index:
                    out.print()
                _print_check(one)
        if not all(one["passed"] for one in found):
            raise typer.Exit(1)

    pools = typer.Typer(help="Pools: the sessions to each backend, as they are now.", invoke_without_command=True)
    app.add_typer(pools, name="pools", rich_help_panel=panel)

    @pools.callback()
    def list_pools(context: typer.Context, at: At = "", as_json: Json = False) -> None:
        """List pools with their sessions in use, warm and at most, and who waits."""
        if context.invoked_subcommand is not None:
            return
        with connect(at) as client:
            found = client.pools()
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("No pool is running. A pool starts with the first service that is deployed on its backend.")
            return
        rows: list[tuple[str, ...]] = []
        for one in found:
            count = one["statistics"]
            rows.append((text(one["environment"]), f"[bold]{text(one['backend'])}[/]", STATES.get(one["state"], str(one["state"])),
                         str(count["pool_size"] - count["pool_available"]), str(count["pool_available"]), str(count["pool_max"]),
                         str(count["requests_waiting"]), str(count["requests_num"]), str(count["connections_lost"])))
        out.print(table(("Environment", "Backend", "State", "In use", "Warm", "At most", "Waiting", "Requests", "Lost"), rows,
                        right=("In use", "Warm", "At most", "Waiting", "Requests", "Lost")))

    @pools.command("show")
    def show(environment: str, backend: str, at: At = "", as_json: Json = False) -> None:
        """One pool: endpoints, every session, statistics and advice."""
        with connect(at) as client:
            found = client.pool(environment, backend)
        print_json(found) if as_json else _print_pool(found)

    def act(name: str, action: str, words: str, done: str) -> None:
        @pools.command(name, help=words)
        def _(environment: str, backend: str, at: At = "", as_json: Json = False) -> None:
            with connect(at) as client:
                found = client.act_on_pool(environment, backend, action)
            if as_json:
                print_json(found)
            else:
                out.print(f"{done}: {text(backend)} in {text(environment)} is {found['state']}.")

    act("start", "start", "Start a stopped pool again.", "Started")
    act("stop", "stop", "Lend nothing more; calls in flight end in peace.", "Stopped")
    act("cut", "cut", "Stop at once: calls in flight fail.", "Cut")
    act("recycle", "recycle", "Renew every session: idle ones now, the others when their call has ended.", "Recycled")

    @pools.command("evict")
    def evict(environment: str, backend: str, session: Annotated[int, typer.Argument(help="Its number, as `pools show` lists it.")],
              cut: Annotated[bool, typer.Option("--cut", help="Also when a call runs on it, which then fails.")] = False,
              at: At = "", as_json: Json = False) -> None:
        """Close one session."""
        with connect(at) as client:
            found = client.evict(environment, backend, session, cut)
        if as_json:
            print_json(found)
        else:
            left = any(one["session"] == session for one in found["sessions"])
            out.print(f"Session {session} {'closes when its call has ended' if left else 'is closed'}.")


def _handler(one: Mapping[str, Any]) -> str:
    """Who is told of failures under a name, bound or not."""
    if not one["operation"]:
        return f"[yellow]▲[/] {text(one['name'])}: not bound"
    return f"{'[green]●[/]' if one['live'] else '[yellow]▲[/]'} {text(one['name'])}: {text(one['operation'])}" + (
        "" if one["live"] else ", not live")


def _able(hosts: "list[Hosting]", what: str) -> str:
    return ", ".join(one["title"] for one in hosts if one["what"] == what and one["able"]) or "nothing"


def _print_check(one: Mapping[str, Any]) -> None:
    name = f"{one['backend']} in {one['environment']}"
    out.print(f"[bold]{text(name)}[/]" + (f" [dim]endpoint {text(one['endpoint'])}, {text(one['address'])}[/]" if one["endpoint"] else ""))
    out.print(table(("Stage", "Outcome", "Took", "What"), [
        (f"  {text(stage['stage'])}", _STAGES[stage["outcome"]], f"{stage['ms']:.1f} ms" if stage["ms"] else "", text(stage["detail"]))
        for stage in one["stages"]
    ], right=("Took",)))
    for stage in one["stages"]:
        problem = stage["problem"]
        for label in ("place", "expected", "found", "inner", "mend") if problem else ():
            if problem.get(label):
                out.print(f"    [dim]{'cause' if label == 'inner' else label:<10}[/]{text(problem[label])}")


def _print_pool(found: Mapping[str, Any]) -> None:
    count, settings = found["statistics"], found["settings"]
    out.print(f"[bold]{text(found['backend'])}[/] in [bold]{text(found['environment'])}[/]  {STATES.get(found['state'], found['state'])}")
    asleep = f", asleep after {seconds(settings['sleep_after'])}" if settings["sleep_after"] else ""
    out.print(f"  [dim]{'bounds':<11}[/]{settings['min_size']} to {settings['max_size']} sessions, idle {seconds(settings['max_idle'])}, "
              f"lifetime {seconds(settings['max_lifetime'])}, a call waits {seconds(settings['timeout'])}{asleep}")
    out.print(f"  [dim]{'load':<11}[/]{found['load']['arrivals_per_second']:g} calls/s in the busiest minute, "
              f"each holds a session for {found['load']['held_ms']:g} ms")
    out.print(f"  [dim]{'requests':<11}[/]{count['requests_num']}, {count['requests_queued']} had to wait "
              f"({count['requests_wait_ms'] / max(1, count['requests_queued']):.1f} ms each), {count['requests_errors']} refused")
    for words in found["advice"]:
        out.print(f"  [dim]{'advice':<11}[/]{text(words)}")
    out.print()
    out.print(table(("Endpoint", "Address", "Priority", "Weight", "Circuit", "Sessions", "Connect", "Errors", "Lost", "Reason"), [
        (text(one["endpoint"]), text(one["address"]), str(one["priority"]), str(one["weight"]), CIRCUITS[one["circuit"]],
         str(one["sessions"]),
         f"{one['connect_ms']:.1f} ms", str(one["connect_errors"]), str(one["lost"]), text(one["reason"]))
        for one in found["endpoints"]
    ], right=("Priority", "Weight", "Sessions", "Connect", "Errors", "Lost")))
    if found["sessions"]:
        out.print()
        out.print(table(("Session", "State", "Endpoint", "Identity", "Age", "Ends in", "Served", "Now", "Caller"), [
            (str(one["session"]), STATES.get(one["state"], one["state"]), text(one["endpoint"]), text(one["identity"] or "–"),
             seconds(one["age"]), seconds(one["expires_in"]), str(one["uses"]), text(one["operation"] or "–"), text(one["caller"] or "–"))
            for one in found["sessions"]
        ], right=("Session", "Age", "Ends in", "Served")))
