"""How commands speak: tables for people, `--json` for programs, problems on standard error."""

import json
import sys
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

import typer
from rich.console import Console
from rich.markup import escape
from rich.table import Table

from bricola.core.durations import DAY, HOUR
from bricola.core.problems import Problem, ProblemError

_PIPE_WIDTH = 400  # into a file or a pipe nothing is folded
out = Console(highlight=False, soft_wrap=True, width=None if sys.stdout.isatty() else _PIPE_WIDTH)
err = Console(stderr=True, highlight=False, soft_wrap=True, width=None if sys.stderr.isatty() else _PIPE_WIDTH)

STATES = {
    "serving": "[green]● serving[/]", "faulting": "[red]✕ faulting[/]", "not deployed": "[dim]◌ not deployed[/]",
    "ended": "[dim]□ ended[/]",
    "answered": "[green]● answered[/]", "fault": "[yellow]▲ fault[/]", "failed": "[red]✕ failed[/]",
    "at risk": "[yellow]▲ at risk[/]", "asleep": "[dim]○ asleep[/]", "stopped": "[dim]□ stopped[/]", "not started": "[dim]◌ not started[/]",
    "in use": "[green]● in use[/]", "warm": "[green]○ warm[/]", "opening": "[cyan]◆ opening[/]", "draining": "[yellow]▽ draining[/]",
    "edited, not released": "[yellow]◌ edited, not released[/]", "released, not live": "[yellow]○ released, not live[/]",
    "live": "[green]● live[/]", "removed": "[dim]removed[/]", "removed, still live": "[yellow]▲ removed, still live[/]",
    "error": "[red]✕ error[/]", "warning": "[yellow]▲ warning[/]", "hint": "[dim]– hint[/]",
}


GATES = {"open": "[green]● open[/]", "closed": "[red]✕ closed[/]", "consent": "[yellow]▲ needs consent[/]",
         "due": "[cyan]◌ run when it is deployed[/]"}
CIRCUITS = {"closed": "[green]● closed[/]", "open": "[red]✕ open[/]", "half-open": "[cyan]◆ half-open[/]"}
VERDICTS = {"compatible": "[green]● compatible[/]", "compatible for readers": "[yellow]▲ compatible for readers[/]",
            "breaking": "[red]✕ breaking[/]"}


def seconds(count: float) -> str:
    """A span as people say it: 12 s, 4 min, 3 h 20, 2 d."""
    if count < 120:
        return f"{count:.0f} s" if count >= 10 or count == int(count) else f"{count:.1f} s"
    if count < 7200:
        return f"{count / 60:.0f} min"
    if count < 172_800:
        return f"{count / HOUR:.0f} h"
    return f"{count / DAY:.0f} d"


def print_json(value: Any) -> None:
    sys.stdout.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
    sys.stdout.flush()


def table(heads: Sequence[str], rows: Iterable[Sequence[str]], right: Sequence[str] = ()) -> Table:
    """A table without boxes: heads, then one line a row. Cells may hold markup; escape what is data."""
    made = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for head in heads:
        made.add_column(head, justify="right" if head in right else "left", overflow="fold")
    for row in rows:
        made.add_row(*row)
    return made


def text(value: object) -> str:
    """Data as it may stand in a cell."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return escape(str(value))


def when(stamp: str | float) -> str:
    """A stored moment in local time: hours for today, with the date otherwise; nothing for none."""
    if stamp == "":
        return ""
    moment = (datetime.fromtimestamp(stamp) if isinstance(stamp, float | int)
              else datetime.fromisoformat(stamp).astimezone().replace(tzinfo=None))
    return f"{moment:%H:%M:%S}" if moment.date() == datetime.now().date() else f"{moment:%Y-%m-%d %H:%M}"


def print_problems(problems: Sequence[Problem]) -> None:
    """Each cause with its place, expected, found and mend, one fact a line."""
    for problem in problems:
        err.print(f"[red]✕[/] {escape(problem.message)}")
        for label, value in (("where", problem.place), ("expected", problem.expected), ("found", problem.found),
                             ("cause", problem.inner), ("mend", problem.mend)):
            if value:
                err.print(f"  [dim]{label:<10}[/]{escape(value)}")


def print_answer(answer: Mapping[str, Any]) -> None:
    """An answer as tables: single values and records as name and value, lists of records as rows."""
    single = [(name, value) for name, value in answer.items() if not isinstance(value, list | dict)]
    for name, value in answer.items():
        if isinstance(value, dict):
            out.print(f"[bold]{escape(name)}[/]")
            out.print(_pairs({key: one for key, one in value.items() if not isinstance(one, dict | list)}))
            print_answer({key: one for key, one in value.items() if isinstance(one, dict | list)})
        elif isinstance(value, list):
            _print_list(name, value)
    if single:
        out.print(_pairs(dict(single), indent=""))


def _pairs(values: Mapping[str, Any], indent: str = "  ") -> Table:
    made = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    made.add_column(style="dim")
    made.add_column(overflow="fold")
    for name, value in values.items():
        made.add_row(f"{indent}{text(name)}", _cell(value))
    return made


def _print_list(name: str, items: list[Any]) -> None:
    out.print(f"[bold]{escape(name)}[/] [dim]{len(items)} {'row' if len(items) == 1 else 'rows'}[/]")
    if not items:
        return
    if not isinstance(items[0], dict):
        for one in items:
            out.print(f"  {text(one)}")
        return
    rows = [_flat(one) for one in items]
    heads = list(dict.fromkeys(key for one in rows for key in one))
    numeric = [head for head in heads if all(_is_number(one.get(head)) for one in rows)]
    out.print(table(heads, [[_cell(one.get(head)) for head in heads] for one in rows], right=numeric))


def _flat(values: Mapping[str, Any], above: str = "") -> dict[str, Any]:
    """Records inside a row by the paths of their parts; what has a text beside attributes stands under its own name."""
    found: dict[str, Any] = {}
    for name, value in values.items():
        if isinstance(value, dict):
            found |= _flat(value, f"{above}{name}.")
        else:
            found[f"{above}{name}".removesuffix(".value") if above else name] = value
    return found


def _is_number(value: object) -> bool:
    if isinstance(value, str):
        return value.replace(".", "", 1).removeprefix("-").isdigit()
    return isinstance(value, int | float) and not isinstance(value, bool)


def _cell(value: object) -> str:
    if isinstance(value, dict) and len(value) == 1 and isinstance(rows := next(iter(value.values())), list):
        return f"[dim]{len(rows)} {'row' if len(rows) == 1 else 'rows'}[/]"  # children; shown in full when the row is read alone
    if isinstance(value, list | dict):
        return escape(json.dumps(value, ensure_ascii=False))
    return text(value)


def print_screen(lines: list[str], columns: int = 80) -> None:
    """The rows of a terminal screen in a frame."""
    out.print(f"  [dim]┌{'─' * columns}┐[/]", soft_wrap=True)
    for line in lines:
        out.print(f"  [dim]│[/]{text(line.ljust(columns))}[dim]│[/]", soft_wrap=True)
    out.print(f"  [dim]└{'─' * columns}┘[/]", soft_wrap=True)


def ask_first(what: str, as_json: bool, question: str, found: str = "") -> None:
    """Ask before changing anything. Raises ProblemError where there is nobody to ask."""
    if as_json or not sys.stdin.isatty():
        raise ProblemError(Problem(f"{what}.confirm", "Nothing was changed, since nobody confirmed the plan.", found=found,
                                   mend="Say --yes."))
    typer.confirm(question, abort=True)


def print_affected(rows: Sequence[Mapping[str, Any]]) -> None:
    """Operations that need what changes, with the cases that prove them and who called them."""
    for one in rows:
        out.print(
            f"[yellow]▲[/] {text(one['service'])}.{text(one['operation'])} by {text(', '.join(one['by']))}; "
            f"cases: {text(', '.join(one['cases']) or 'none')}; callers: {text(', '.join(one['callers']) or 'none in 30 days')}"
        )


def print_drafts(files: Mapping[str, str], show: bool) -> None:
    """Definitions by path: their texts, or that they are saved."""
    for path, content in files.items():
        if show:
            out.print(f"[dim]# {text(path)}[/]")
            out.print(text(content))
        else:
            out.print(f"[green]●[/] saved {text(path)} as a draft")
