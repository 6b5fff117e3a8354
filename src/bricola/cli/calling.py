"""`call` and `calls`: testing an operation, and what was called."""

import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import STATES, err, out, print_answer, print_json, print_screen, table, text, when
from bricola.cli.records import print_comparison, print_trial
from bricola.core.problems import Problem, ProblemError, shown

if TYPE_CHECKING:
    from bricola.client import Client


def register(app: typer.Typer) -> None:
    panel = "Calls"

    @app.command(rich_help_panel=panel)
    def call(
        environment: str,
        service: str,
        operation: str,
        values: Annotated[
            list[str] | None,
            typer.Argument(metavar="NAME=VALUE…",
                           help="Inputs; a name again for a list, a.b=value in a record, a.b.2.c=value in the second record of a list."),
        ] = None,
        caller: Annotated[
            str, typer.Option("--as", metavar="CALLER", help="As this caller, or 'anonymous'; the first who may when left out.")
        ] = "",
        soap: Annotated[str, typer.Option(help="SOAP version: 1.1 or 1.2.")] = "1.1",
        raw: Annotated[bool, typer.Option("--raw", help="Show both envelopes, status, sizes and time.")] = False,
        sample: Annotated[bool, typer.Option("--sample", help="Fill what is not given from the sample request.")] = False,
        nil: Annotated[
            list[str] | None, typer.Option("--nil", metavar="NAME", help="Send nil for an element whose contract takes it; again for more.")
        ] = None,
        trial: Annotated[bool, typer.Option("--trial", help="Roll back what it writes, and say what would be stored.")] = False,
        request_id: Annotated[str, typer.Option("--request-id", help="Do a write at most once for this id (Idempotency-Key).")] = "",
        compare: Annotated[bool, typer.Option("--compare", help="Show the answer beside the stored rows, field by field.")] = False,
        outside: Annotated[bool, typer.Option(
            "--outside", help="Of a relay: also ask the other side itself, and show both answers.")] = False,
        keep: Annotated[str, typer.Option("--keep", metavar="SUITE.CASE", help="Keep it as a case of a test suite.")] = "",
        replace: Annotated[bool, typer.Option("--replace", help="With --keep: in the place of a case of that name.")] = False,
        envelope: Annotated[Path | None, typer.Option(help="Send the envelope in this file ('-': standard input).")] = None,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """Call an operation through its real endpoint and print the answer. Exit status 1 for a fault."""
        given = parse_values(values or [])
        given |= dict.fromkeys(nil or ())
        text_of = None
        if envelope is not None:
            text_of = sys.stdin.read() if str(envelope) == "-" else _read(envelope)
        with connect(at) as client:
            if sample:
                given = _filled(client.sample(service, operation, environment, soap)["values"], given)
            reply = client.call(environment, service, operation, given, caller, soap, text_of, trial, request_id)
            answer = reply["answer"]
            good = answer is not None and reply["status"] == 200
            comparison: Mapping[str, Any] | None = None
            theirs: Mapping[str, Any] | None = None
            refused: ProblemError | None = None
            if compare and good and answer is not None:
                try:
                    comparison = client.compare_with_source(environment, service, operation, given, answer)
                except ProblemError as error:
                    refused = error  # the answer is printed all the same
            if outside:
                try:
                    theirs = client.ask_outside(environment, service, operation, given, text_of, soap, reply["response"])
                except ProblemError as error:
                    refused = error
            kept = _kept(client, keep, replace, reply, environment, service, operation, given, text_of) if keep else None
        if as_json:
            more = {"kept": kept, "comparison": comparison, "outside": theirs}
            print_json(dict(reply) | {name: value for name, value in more.items() if value is not None})
        else:
            _print_reply(reply, raw)
            print_trial(reply)
            if comparison is not None:
                print_comparison(comparison)
            if theirs is not None:
                _print_outside(theirs)
            if kept is not None:
                print_kept(kept)
        if refused is not None:
            raise refused
        if not good:
            raise typer.Exit(1)

    @app.command(rich_help_panel=panel)
    def keys(
        environment: str,
        service: str,
        operation: str,
        name: Annotated[str, typer.Argument(metavar="INPUT", help="Like vessel.operatorNumber.")],
        search: Annotated[str, typer.Argument(help="A part of the key or of its texts.")] = "",
        limit: Annotated[int, typer.Option("--limit", "-n", min=1, max=50)] = 20,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """List real keys for an input that holds the key of an object."""
        with connect(at) as client:
            found = client.keys(environment, service, operation, name, search, limit)
        if as_json:
            print_json(found)
            return
        out.print(table(found["columns"], [[text(one.get(column)) for column in found["columns"]] for one in found["rows"]]))
        if found["more"]:
            out.print("[dim]There are more; narrow the search.[/]")

    @app.command(rich_help_panel=panel)
    def calls(
        number: Annotated[str, typer.Argument(help="One call, with the screen that it stopped at.")] = "",
        environment: Annotated[str, typer.Option("--environment", "-e")] = "",
        service: Annotated[str, typer.Option("--service", "-s")] = "",
        caller: Annotated[str, typer.Option("--caller", "-c")] = "",
        failed: Annotated[bool, typer.Option("--failed", help="Only faults and failures.")] = False,
        limit: Annotated[int, typer.Option("--limit", "-n", min=1, max=500)] = 20,
        at: At = "", as_json: Json = False,
    ) -> None:
        """List recorded calls, the newest first."""
        if number:
            with connect(at) as client:
                _print_call(client.one_call(number), as_json)
            return
        with connect(at) as client:
            found = client.calls(environment, service, caller, failed, limit)
            strangers = [] if as_json or caller else [
                one for one in client.overview()["strangers"]
                if environment in ("", one["environment"]) and service in ("", one["service"])]
        if as_json:
            print_json(found)
            return
        for one in strangers:
            where = f"{one['service']} in {one['environment']}" if one["service"] else "addresses where nothing is"
            out.print(f"[dim]In the last hour {one['count']} requests of nobody who is known came to {text(where)}.[/]")
        if not found:
            out.print("No call matches.")
            return
        out.print(table(("Time", "Result", "Environment", "Operation", "Caller", "Face", "Took", "Fault"), [
            (when(one["at"]), STATES[one["result"]], text(one["environment"]),
             text(f"{one['service']}.{one['operation'] or '?'}"), text(one["caller"] or "–"), text(one["face"]),
             f"{one['micros'] / 1000:.1f} ms", text(one["fault"]))
            for one in found
        ], right=("Took",)))


def _kept(client: "Client", name: str, replace: bool, reply: Mapping[str, Any], environment: str, service: str, operation: str,
          values: dict[str, Any], envelope: str | None) -> Mapping[str, Any]:
    suite, case = split_case(name)
    tried = {"environment": environment, "service": service, "operation": operation, "values": values, "envelope": envelope or "",
             "soap": reply["soap"], "caller": reply["caller"], "trial": bool(reply["trial"]), "answer": reply["answer"],
             "fault": reply["fault"]}
    return client.keep_case(suite, case, tried, replace=replace)


def split_case(name: str) -> tuple[str, str]:
    """Suite and case of SUITE.CASE. Raises ProblemError."""
    suite, _, case = name.partition(".")
    if not suite or not case:
        raise ProblemError(Problem("keep.name", "A case is kept under the name of a suite and its own.", found=shown(name),
                                   expected="SUITE.CASE, like vessel-registry.a-known-vessel"))
    return suite, case


def print_kept(kept: Mapping[str, Any]) -> None:
    """A case that was kept, and what was chosen for it."""
    out.print(f"\n[green]●[/] Kept as [bold]{text(kept['suite'])}.{text(kept['case'])}[/], a draft"
              + (f"; the suite of {text(kept['service'])} begins with it." if kept["created"] else "."))
    out.print(text(kept["text"].rstrip()))
    for one in kept["chosen"]:
        out.print(f"  [yellow]▲[/] {text(one['place'])}: {text(one['words'])}")
    out.print(f"  [dim]run it: bricola test ENVIRONMENT --suite {text(kept['suite'])} --only {text(kept['case'])}[/]")


def _print_outside(theirs: Mapping[str, Any]) -> None:
    same = "[green]● the same body as ours[/]" if theirs["same"] else "[yellow]▲ another body than ours[/]"
    out.print(f"\n[bold]Their own answer[/]  {same}\n[dim]{text(theirs['address'])}, status {theirs['status']}, "
              f"{theirs['response_bytes']} bytes, {theirs['ms']:.1f} ms[/]")
    out.print(text(theirs["response"]))


def _print_call(one: Mapping[str, Any], as_json: bool) -> None:
    if as_json:
        print_json(one)
        return
    out.print(f"{STATES[one['result']]}  [bold]{text(one['service'])}.{text(one['operation'] or '?')}[/] in {text(one['environment'])}, "
              f"{when(one['at'])}, {one['micros'] / 1000:.1f} ms, as {text(one['caller'] or 'nobody')}")
    if one["message"]:
        out.print(f"  {text(one['message'])}", soft_wrap=True)
    if one["picture"]:
        out.print(f"  [dim]The screen, {text(one['picture']['title'])}:[/]")
        print_screen(one["picture"]["lines"])


def parse_values(words: list[str]) -> dict[str, Any]:
    """`name=value` words as nested values: repeated names make lists, dots go into records, numbers from 1 on name the records of a
    list: `slips.slip.1.metres=9 slips.slip.2.metres=12`. An element's name never is a number."""
    values: dict[str, Any] = {}
    for word in words:
        name, sign, value = word.partition("=")
        if not sign or not name:
            raise ProblemError(Problem("call.value", "An input is given as name=value.", found=shown(word)))
        *path, last = name.split(".")
        target = values
        for step in path:
            inner = target.setdefault(step, {})
            if not isinstance(inner, dict):
                raise ProblemError(Problem("call.value", f"{step} has a value already.", found=shown(word)))
            target = inner
        if last in target:
            before = target[last]
            target[last] = [*before, value] if isinstance(before, list) else [before, value]
        else:
            target[last] = value
    whole: dict[str, Any] = {name: _with_lists(value, name) for name, value in values.items()}
    return whole


def _with_lists(value: Any, place: str) -> Any:
    if not isinstance(value, dict):
        return value
    inner = {name: _with_lists(one, f"{place}.{name}") for name, one in value.items()}
    numbers = [name for name in inner if name.isdecimal()]
    if not numbers:
        return inner
    wanted = [str(number) for number in range(1, len(inner) + 1)]
    if sorted(numbers, key=int) != wanted:
        raise ProblemError(Problem("call.value", "The records of a list are numbered from 1 on, without a gap.", place=place,
                                   expected=", ".join(f"{place}.{one}" for one in wanted), found=", ".join(sorted(inner))))
    return [inner[one] for one in wanted]


def _filled(sample: dict[str, Any], given: dict[str, Any]) -> dict[str, Any]:
    """The sample's values with the given ones in their places, inside records too."""
    return sample | {name: _filled(sample[name], value) if isinstance(value, dict) and isinstance(sample.get(name), dict) else value
                     for name, value in given.items()}


def _read(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise ProblemError(Problem("call.envelope", "The file cannot be read.", place=str(file), found=str(error))) from None


def _print_reply(reply: Mapping[str, Any], raw: bool) -> None:
    if raw:
        out.print(f"[bold]Request[/] [dim]SOAP {reply['soap']}, as {text(reply['caller'])}, {reply['request_bytes']} bytes[/]")
        sys.stdout.flush()
        out.print(text(reply["request"].rstrip()))
        out.print(f"\n[bold]Response[/] [dim]status {reply['status']}, {reply['response_bytes']} bytes, "
                  f"{reply['ms']:.1f} ms, call {text(reply['call'])}[/]")
        out.print(text(reply["response"].rstrip()))
        return
    if reply["answer"] is not None:
        print_answer(reply["answer"])
        for one in reply["warnings"]:
            out.print(f"[yellow]▲[/] {text(one['message'])} {text(one.get('found', ''))} {text(one.get('mend', ''))}".rstrip())
        out.print(f"[green]●[/] [dim]answered in {reply['ms']:.1f} ms as {text(reply['caller'])}, call {text(reply['call'])}[/]")
        return
    if reply["fault"] is not None:
        fault = reply["fault"]
        err.print(f"[yellow]▲[/] Fault [bold]{text(fault['code'])}[/]: {text(fault['reason'])}")
        for entry in fault["detail"]:
            for name, value in entry.items():
                if name not in ("name", "message") and entry["name"] != "call":
                    err.print(f"  [dim]{text(name):<13}[/]{text(value)}")
            if entry["name"] not in ("problem", "call"):
                err.print(f"  [dim]{'declared as':<13}[/]{text(entry['name'])}")
    for problem in reply["problems"]:
        err.print(f"[red]✕[/] The status is {reply['status']}, but the content is not as promised: "
                  f"{text(problem['message'])} [dim]{text(problem.get('place', ''))}[/]")
    number = f", call {text(reply['call'])}" if reply["call"] else ""
    err.print(f"  [dim]status {reply['status']}, {reply['ms']:.1f} ms, as {text(reply['caller'])}{number}[/]")
