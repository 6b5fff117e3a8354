"""How differences are shown: numbered lines with signs, so that colour is never alone."""

from collections.abc import Iterable, Sequence
from typing import Any

from bricola.cli.output import out, text

_COLOURS = {"+": "green", "-": "red"}


def print_lines(title: str, lines: Iterable[Sequence[Any]]) -> None:
    """Lines of (sign, old number, new number, text)."""
    out.print(f"[bold]{text(title)}[/]")
    for sign, old, new, line in lines:
        if sign == "…":
            out.print(f"      [dim]… {line} {'line' if line == '1' else 'lines'} without change[/]")
            continue
        colour = _COLOURS.get(sign)
        body = f"{old or '':>4} {new or '':>4} {sign} {text(line)}"
        out.print(f"[{colour}]{body}[/]" if colour else f"[dim]{body}[/]")
