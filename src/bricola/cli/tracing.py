"""`bricola trace`: what every step of a call took and gave, the cause of a failure first."""

import json
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import STATES, out, print_json, text, when
from bricola.core.problems import Kind, Problem, ProblemError

_BAR = 24  # characters of the time line
_MOST = 400  # characters of values on a line


def register(app: typer.Typer) -> None:
    @app.command(rich_help_panel="Calls")
    def trace(
        number: Annotated[str, typer.Argument(metavar="CALL", help="The number of the call.")],
        values: Annotated[bool, typer.Option("--values/--no-values", help="Show what each step took and gave.")] = True,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Show what every step of a call took and gave, how long it took, and over which session; the cause of a failure first."""
        with connect(at) as client:
            found = client.one_call(number)
        if found["trace"] is None:
            raise ProblemError(Problem("trace.none", "No trace of this call was kept.", Kind.MISSING, place=number,
                                       mend=f"Keep them: 'traces: {{of: all}}' in the environment {found['environment']}."))
        if as_json:
            print_json(found)
            return
        _print(found, values)


def _print(call: Mapping[str, Any], values: bool) -> None:
    trace = call["trace"]
    spans = trace["spans"]
    name = f"{text(call['service'])}.{text(call['operation'] or '?')}"
    out.print(f"{STATES[call['result']]}  [bold]{name}[/] in {text(call['environment'])}, {when(call['at'])}, "
              f"{call['micros'] / 1000:.1f} ms, as {text(call['caller'] or 'nobody')}")
    cause = cause_of(spans)
    if cause is not None:
        out.print(f"[red]✕[/] [bold]{text(cause['name'])}[/]: {text(cause['words'])} [dim]{text(cause['failed'])}[/]", soft_wrap=True)
    out.print()
    print_spans(spans, values)
    if trace["dropped"]:
        out.print(f"[dim]{trace['dropped']} further steps were not kept.[/]")


def print_spans(spans: Sequence[Mapping[str, Any]], values: bool) -> None:
    """A time line, a step a line, with what each took and gave."""
    whole = max((one["at"] + (one["micros"] or 0) for one in spans), default=1) or 1
    width = max(len(one["name"]) + 2 * one["depth"] for one in spans)
    for one in spans:
        _print_span(one, whole, width, values)


def cause_of(spans: list[Mapping[str, Any]]) -> Mapping[str, Any] | None:
    """The step in which the call's own failure began: the innermost that failed last, where the call failed."""
    if not spans or not spans[0].get("failed"):
        return None
    failed = [one for one in spans[1:] if one.get("failed") and one["action"] != "undo"]
    same = [one for one in failed if one["failed"] == spans[0]["failed"]] or failed
    return max(same, key=lambda one: (one["at"], one["depth"])) if same else spans[0]


def _print_span(one: Mapping[str, Any], whole: int, width: int, values: bool) -> None:
    start = int(one["at"] * _BAR / whole)
    length = max(1, round((one["micros"] or 0) * _BAR / whole))
    bar = " " * min(start, _BAR - 1) + "━" * min(length, _BAR - min(start, _BAR - 1))
    took = f"{one['micros'] / 1000:8.2f} ms" if one["micros"] is not None else "    cut off"
    mark = "[red]✕[/]" if one.get("failed") else " "
    name = "  " * one["depth"] + one["name"]
    colour = "red" if one.get("failed") else "cyan"
    out.print(f"{mark} {text(name.ljust(width))}  [dim]{text(one['action']):<12}[/] {took}  [{colour}]{bar}[/]", soft_wrap=True)
    pad = "    " + "  " * one["depth"]
    for lent in one.get("lent", ()):
        waited = f", waited {lent['waited'] / 1000:.1f} ms" if lent["waited"] >= 100 else ""
        out.print(f"{pad}[dim]session {lent['session']} of {text(lent['pool'])}, {text(lent['endpoint'])}{waited}[/]", soft_wrap=True)
    for line in one.get("lines", ()):
        out.print(f"{pad}[dim]{text(line)}[/]", soft_wrap=True)
    if values:
        for word in ("taken", "given"):
            if one.get(word) not in (None, {}, []):
                out.print(f"{pad}{word} [dim]{text(_short(one[word]))}[/]", soft_wrap=True)
    if one.get("failed"):
        out.print(f"{pad}[red]{text(one['words'])}[/]", soft_wrap=True)


def _short(value: Any) -> str:
    line = json.dumps(value, ensure_ascii=False)
    return f"{line[:_MOST]}…" if len(line) > _MOST else line
