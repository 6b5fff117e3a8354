"""`release` to `retire`: the way of a service from draft to live and back."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.differences import print_lines
from bricola.cli.findings import print_findings
from bricola.cli.output import GATES, STATES, VERDICTS, out, print_json, table, text, when
from bricola.client import Client
from bricola.core.problems import Problem, ProblemError

_SHORT = 40  # characters of a value before and after together that fit beside the change
Consent = Annotated[str, typer.Option("--consent", metavar="REASON", help="Let a breaking change through, for this reason.")]
Overrule = Annotated[str, typer.Option("--overrule", metavar="REASON", help="Deploy although tests fail; the reason is kept.")]
Version = Annotated[int | None, typer.Option("--version", min=1, help="Major version of the service; the only one that is deployed there "
                                                                      "when left out.")]
Which = Annotated[int | None, typer.Option("--release", "-r", help="Which release; the newest when left out.")]


def register(app: typer.Typer) -> None:
    panel = "From draft to live"

    @app.command(rich_help_panel=panel)
    def release(
        service: str,
        notes: Annotated[str, typer.Option("--notes", "-n", help="What is new, for people.")] = "",
        consent: Consent = "", at: At = "", as_json: Json = False,
    ) -> None:
        """Freeze the draft of a service, with everything that it needs, as its next release."""
        with connect(at) as client:
            made = client.release(service, notes, consent)
        if as_json:
            print_json(made)
        else:
            out.print(f"Released {text(service)} as release [bold]{made['release']}[/] [dim]({made['digest'][:12]})[/]. "
                      f"It is not live yet: bricola deploy {text(service)} ENVIRONMENT")

    @app.command(rich_help_panel=panel)
    def releases(service: str, at: At = "", as_json: Json = False) -> None:
        """List the releases of a service, and where each is live."""
        with connect(at) as client:
            found = client.service(service)
        if as_json:
            print_json(found["releases"])
            return
        live: dict[int, list[str]] = {}
        for place in found["deployments"]:
            for part in place.get("parts", []):
                share = "" if part["share"] == 100 else f" {part['share']} %"
                live.setdefault(part["release"], []).append(f"{place['environment']}{share}")
        out.print(f"[bold]{text(service)}[/]  {STATES.get(found['stage'], found['stage'])}")
        out.print(table(("Release", "Version", "Live in", "When", "By", "Digest", "Notes"), [
            (str(one["number"]), str(one["version"]), text(", ".join(live.get(one["number"], [])) or "–"), when(one["at"]),
             text(one["author"]), one["digest"][:12],
             text(one["notes"]) + (f" [yellow]consent: {text(one['consent'])}[/]" if one["consent"] else ""))
            for one in found["releases"]
        ], right=("Release", "Version")))

    @app.command(rich_help_panel=panel)
    def compare(
        service: str,
        old: Annotated[str, typer.Argument(help="A release number, 'draft', or an environment.")],
        new: Annotated[str, typer.Argument(help="The same.")] = "draft",
        contract: Annotated[bool, typer.Option("--contract", help="Also show the contract line by line.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Compare two versions of a service: verdict for callers, each change, who is affected, the definitions."""
        with connect(at) as client:
            found = client.compare(service, old, new)
        if as_json:
            print_json(found)
        else:
            _print_comparison(found, contract)

    @app.command(rich_help_panel=panel)
    def gates(service: str, environment: str, release: Which = None, at: At = "", as_json: Json = False) -> None:
        """Show what a deployment would do and whether its gates are open. Exit status 1 when one is not."""
        with connect(at) as client:
            found = client.plan(service, environment, release)
        if as_json:
            print_json(found)
        else:
            _print_plan(found)
        if any(one["outcome"] not in ("open", "due") for one in found["gates"]):
            raise typer.Exit(1)

    @app.command(rich_help_panel=panel)
    def deploy(
        service: str, environment: str, release: Which = None,
        share: Annotated[int, typer.Option(min=1, max=100, help="Percent of the calls, beside what is live.")] = 100,
        consent: Consent = "", overrule: Overrule = "", at: At = "", as_json: Json = False,
    ) -> None:
        """Make a release live in an environment, without a restart and without losing a call."""
        with connect(at) as client:
            made = client.deploy(service, environment, release, share, consent, overrule)
            following = [] if as_json else _first_callers(client, made)
        _print_deployed(made, as_json, "Deployed" if share == 100 else f"Deployed for {share} % of the calls:")
        for one in following:
            out.print(f"[dim]Next: {text(one)}[/]", soft_wrap=True)

    @app.command("rollback", rich_help_panel=panel)
    def roll_back(service: str, environment: str, version: Version = None, at: At = "", as_json: Json = False) -> None:
        """Go back, in one step, to the release that was live before."""
        with connect(at) as client:
            made = client.roll_back(service, environment, version)
        _print_deployed(made, as_json, "Rolled back:")

    @app.command(rich_help_panel=panel)
    def promote(service: str, environment: Annotated[str, typer.Argument(help="The environment to reach.")],
                consent: Consent = "", overrule: Overrule = "", version: Version = None, at: At = "", as_json: Json = False) -> None:
        """Make live in an environment what is live in the one before it."""
        with connect(at) as client:
            made = client.promote(service, environment, consent, version, overrule)
        _print_deployed(made, as_json, "Promoted")

    @app.command(rich_help_panel=panel)
    def retire(
        service: str, environment: str,
        on: Annotated[datetime | None, typer.Option("--on", formats=["%Y-%m-%d"], metavar="YYYY-MM-DD",
                                                    help="From this day on (UTC) calls are refused.")] = None,
        words: Annotated[str, typer.Option("--words", help="For callers: what to use instead.")] = "",
        keep: Annotated[bool, typer.Option("--keep", help="Take the end back.")] = False,
        version: Version = None, at: At = "", as_json: Json = False,
    ) -> None:
        """Announce the end of a service: its contract says so at once, and from that day on calls get a friendly fault."""
        if keep == (on is not None):
            raise ProblemError(Problem("retire.when", "Say when it ends, or that it is kept.", expected="--on YYYY-MM-DD, or --keep"))
        with connect(at) as client:
            made = client.retire(service, environment, None if keep or on is None else on.date(), words, version)
        if as_json:
            print_json(made)
        elif keep:
            out.print(f"{text(service)} in {text(environment)} stays.")
        else:
            out.print(f"{text(service)} in {text(environment)} ends on {(made['ends_at'] or '')[:10]}. Its contract says so now. "
                      f"Who still calls: bricola callers of {text(service)} {text(environment)}")

    @app.command(rich_help_panel=panel)
    def undeploy(service: str, environment: str, version: Version = None, at: At = "", as_json: Json = False) -> None:
        """Take a service out of an environment; calls in flight end in peace."""
        with connect(at) as client:
            client.undeploy(service, environment, version)
        if as_json:
            print_json({"service": service, "environment": environment, "deployed": False})
        else:
            out.print(f"{text(service)} is not live in {text(environment)} any more.")


def _first_callers(client: Client, made: Mapping[str, Any]) -> list[str]:
    """How a first caller gets in: who may call, or what is missing for anybody to."""
    segment = made["soap"].rstrip("/").rpartition("/")[2]
    roles = sorted({role for one in client.operations(segment, made["environment"]) for role in one["roles"]})
    if not roles:
        return [f"let a role call it: bricola access grant {made['environment']} {segment} ROLE"]
    holders = [one["name"] for one in client.callers() if set(one["roles"]) & set(roles) and one["tokens"]]
    if not holders:
        return [f"let a caller in: bricola callers add NAME --role {roles[0]}"]
    operation = next((one["name"] for one in client.operations(segment, made["environment"]) if not one["writes"]), "OPERATION")
    return [f"call it as {holders[0]}: bricola call {made['environment']} {segment} {operation} --as {holders[0]}"]


def _print_deployed(made: Mapping[str, Any], as_json: bool, done: str) -> None:
    if as_json:
        print_json(made)
        return
    out.print(f"{done} {text(made['service'])} release [bold]{made['release']}[/] to [bold]{text(made['environment'])}[/].")
    for part in made["parts"]:
        out.print(f"  [dim]{part['part']:<10}[/]{text(part['name'])} {STATES.get(part['state'], part['state'])}")
    out.print(f"  [dim]{'address':<10}[/]{text(made['soap'])}\n  [dim]{'contract':<10}[/]{text(made['wsdl'])}")


def _print_comparison(found: Mapping[str, Any], contract: bool) -> None:
    out.print(f"[bold]{text(found['service'])}[/]  {text(found['old']['label'])} -> {text(found['new']['label'])}  "
              f"{VERDICTS[found['verdict']]}")
    changes = [one for one in found["changes"] if one["rule"] != "documentation"]
    words = len(found["changes"]) - len(changes)
    if changes:
        out.print(table(("Verdict", "Place", "Change", "Used by, in 30 days"), [
            (VERDICTS[one["verdict"]], text(one["place"]), text(_in_words(one)), text(", ".join(one["callers"]))) for one in changes
        ]))
    else:
        out.print("Callers notice nothing.")
    if words:
        out.print(f"[dim]{words} {'change' if words == 1 else 'changes'} of documentation only.[/]")
    if found["callers"]:
        out.print()
        out.print(table(("Caller", "Calls in 30 days", "Last", "Verdict"), [
            (text(one["caller"]), str(one["calls"]), when(one["last"]), VERDICTS[one["verdict"]]) for one in found["callers"]
        ], right=("Calls in 30 days",)))
    _print_cases(found["cases"])
    for file in found["definitions"]:
        out.print()
        print_lines(f"{file['path']} {file['action']}", file["lines"])
    if contract and found["contract"]:
        print_lines("the contract", found["contract"])


def _print_cases(cases: Sequence[Mapping[str, Any]]) -> None:
    """The test cases that a change is about, those that do not fit any more first."""
    if not cases:
        return
    out.print()
    rows = sorted(cases, key=lambda one: not one["problems"])
    out.print(table(("Test case", "Operation", "After the change", "Mend"), [
        (f"{text(one['suite'])} {text(one['case'])}", text(one["operation"]),
         f"[red]✕ does not fit:[/] {text(one['problems'][0]['message'])}" if one["problems"] else "[yellow]▲ is about what changes[/]",
         text("; ".join(one["mends"]))) for one in rows]))
    suites = list(dict.fromkeys(one["suite"] for one in rows if one["mends"]))
    for name in suites:
        out.print(f"  [dim]mend it: bricola suites mend {text(name)}[/]")


def _in_words(change: dict[str, Any]) -> str:
    """The change, with its two values where they are short and a difference can be seen."""
    before, after = change["before"], change["after"]
    short = len(before) + len(after) <= _SHORT and (before or after) and "code list" not in change["message"]
    return f"{change['message'].removesuffix('.')}: {before or 'nothing'} -> {after or 'nothing'}." if short else str(change["message"])


def _print_plan(found: Mapping[str, Any]) -> None:
    before = f"instead of release {found['replaces']}" if found["replaces"] else "where nothing is live"
    out.print(f"Release [bold]{found['release']}[/] of [bold]{text(found['service'])}[/] to "
              f"[bold]{text(found['environment'])}[/], {before}")
    for one in found["uses"]:
        out.print(f"  [dim]{'uses':<10}[/]{text(one['backend'])} {STATES.get(one['state'], one['state'])}")
    for gate in found["gates"]:
        out.print(f"{GATES[gate['outcome']]}  gate [bold]{gate['name']}[/]")
        if gate["words"]:
            out.print(f"  [dim]{text(gate['words'])}[/]")
        if gate["consent"]:
            out.print(f"  [dim]{'consent':<10}[/]{text(gate['consent'])}")
        severity = "warning" if gate["outcome"] == "open" else "error"
        print_findings(gate["findings"] or [{"severity": severity, **one} for one in gate["problems"]], indent="  ")
