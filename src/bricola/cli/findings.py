"""How findings of the review are shown."""

from collections.abc import Mapping, Sequence
from typing import Any

from bricola.cli.output import STATES, out, text


def print_findings(findings: Sequence[Mapping[str, Any]], indent: str = "") -> None:
    """One finding after the other, with its place, expected, found, and the mend or the command that does it."""
    for one in findings:
        out.print(f"{indent}{STATES[one['severity']]}  {text(one['message'])}  [dim]{text(one['code'])}[/]")
        for label in ("place", "expected", "found", "mend", "command"):
            if one.get(label):
                out.print(f"{indent}    [dim]{label:<10}[/]{text(one[label])}")
