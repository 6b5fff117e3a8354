"""`audit`, `backup` and `restore`: what was changed, and copies of the store."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_json, table, text, when


def register(app: typer.Typer) -> None:
    @app.command(rich_help_panel="People and callers")
    def audit(
        subject: Annotated[str, typer.Argument(help="Only this, like 'caller' or 'service VesselRegistry'.")] = "",
        who: Annotated[str, typer.Option("--who", help="Only by this user.")] = "",
        limit: Annotated[int, typer.Option("--limit", "-n", min=1, max=1000)] = 20,
        at: At = "", as_json: Json = False,
    ) -> None:
        """List who changed what, from what, to what; the newest first."""
        with connect(at) as client:
            found = client.audit(subject, who, limit=limit)
        if as_json:
            print_json(found)
            return
        if not found:
            out.print("Nothing was changed.")
            return
        out.print(table(("Time", "Who", "What", "Subject", "Before", "After"), [
            (when(one["at"]), text(one["who"]), text(one["action"]), text(one["subject"]), _short(one["before"]), _short(one["after"]))
            for one in found
        ]))

    @app.command(rich_help_panel="Run")
    def backup(
        file: Annotated[Path, typer.Argument(help="Zip file to write.")],
        calls: Annotated[bool, typer.Option("--calls", help="With the records of calls, which may be large.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Take a backup of the running service. The key of the credentials is not in it: keep a copy of it apart."""
        with connect(at) as client:
            size = client.backup(file, calls)
        print_json({"file": str(file), "bytes": size}) if as_json else out.print(f"Wrote {size} bytes to {text(file)}.")

    @app.command(rich_help_panel="Run")
    def restore(
        file: Annotated[Path, typer.Argument(help="Backup to read.")],
        data: Annotated[Path, typer.Option(help="Folder without a store; made when missing.")] = Path("bricola-data"),
        as_json: Json = False,
    ) -> None:
        """Put a backup into a new data folder. Copy the key file there too, then: bricola serve --data FOLDER"""
        from bricola.server.backup import restore_backup

        manifest = restore_backup(file, data)
        if as_json:
            print_json(manifest)
        else:
            out.print(f"Restored the backup of {when(manifest['made_at'])} into {text(data)}: {', '.join(manifest['files'])}. "
                      f"Copy the key file to {text(data / 'bricola.key')}, then: bricola serve --data {text(data)}")


def _short(value: Any) -> str:
    """Before and after as one readable line; long texts are told by their length."""
    if value is None:
        return ""
    if isinstance(value, str):
        return f"[dim]{len(value.splitlines())} lines[/]"
    if isinstance(value, dict):
        parts = [f"{name} {json.dumps(one, ensure_ascii=False) if isinstance(one, list | dict) else one}"
                 for name, one in value.items() if one not in (None, "", [], {})]
        return text(", ".join(parts)[:90])
    return text(str(value))
