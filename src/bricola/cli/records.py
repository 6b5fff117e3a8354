"""How trials and comparisons are printed."""

from collections.abc import Mapping
from typing import Any

from bricola.cli.output import out, table, text


def print_trial(reply: Mapping[str, Any]) -> None:
    """What a trial would have stored."""
    if reply["repeats"]:
        out.print(f"[cyan]◆[/] This request was done before; this is the answer of call {text(reply['repeats'])}.")
    if not reply["trial"]:
        return
    out.print(f"[cyan]◆[/] Trial: {text(reply['trial'])}.")
    for change in reply["changes"]:
        key = ", ".join(f"{name} {value}" for name, value in change["key"].items())
        out.print(f"  would be {text(change['action'])}: [bold]{text(change['object'])}[/] {text(key)}")
        if change["action"] != "deleted":
            out.print(
                table(
                    ("    Field", "Before", "After"),
                    [
                        (f"    {text(name)}", text(sides["before"]) or "[dim]–[/]", text(sides["after"]) or "[dim]–[/]")
                        for name, sides in change["fields"].items()
                    ],
                )
            )


def print_comparison(found: Mapping[str, Any]) -> None:
    """An answer beside the stored rows; many rows are told by their differences."""
    rows, side = found["rows"], "Answered" if found["side"] == "answered" else "Sent"
    out.print(f"\n[bold]Beside the table {text(found['table'])}[/]")
    if found["deleted"]:
        out.print("[green]● gone[/] as it should be" if found["equal"] else "[red]✕ the row is still there[/]")
        return
    for one in rows:
        if one["note"] or not one["found"]:
            out.print(f"[red]✕[/] {text(one['key'])}: {text(one['note'] or 'there is no such row')}")
            continue
        fields = one["fields"] if len(rows) == 1 else [two for two in one["fields"] if not two["equal"]]
        if len(rows) > 1 and not fields:
            continue
        if len(rows) > 1:
            out.print(f"[bold]{text(one['key'])}[/]")
        out.print(
            table(
                ("", "Field", side, "Stored", "Column"),
                [
                    (
                        "[green]●[/]" if two["equal"] else "[red]✕[/]",
                        text(two["field"]),
                        text(two["reply"]),
                        text(two["stored"]),
                        f"[dim]{text(two['column'])}[/]",
                    )
                    for two in fields
                ],
            )
        )
    word = "row is" if len(rows) == 1 else "rows are"
    equal = sum(1 for one in rows if one["found"] and all(two["equal"] for two in one["fields"]))
    order = "" if found["ordered"] is None else ", in the stated order" if found["ordered"] else ", [red]not in the stated order[/]"
    out.print(
        f"{'[green]●[/]' if found['equal'] else '[red]✕[/]'} {equal} of {len(rows)} {word} equal{order}"
    )
