"""`export` and `merge`: a folder as a copy of the drafts, in which nobody's work is overwritten."""

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import err, out, print_json, text
from bricola.client import Client
from bricola.core.definitions.copies import NOTE, CopyNote, MergedFile, Outcome, digest, merged, note_of, read_note, renewal
from bricola.core.definitions.folder import read_folder, write_folder
from bricola.core.problems import Kind, Problem, ProblemError

_MOST_NAMED = 12
_WORDS = {Outcome.TAKEN: "taken from the service", Outcome.REMOVED: "removed, as in the service", Outcome.MERGED: "changed by both, merged",
          Outcome.CONFLICT: "changed by both in one place: look for the lines between <<<<<<< and >>>>>>>",
          Outcome.KEPT: "yours, as it was",
          Outcome.GONE: "removed in the service and changed here; it stays, and apply adds it anew"}
_SIGNS = {Outcome.CONFLICT: "[red]✕[/]", Outcome.GONE: "[yellow]▲[/]"}


def register(app: typer.Typer) -> None:
    panel = "Definitions"

    @app.command(rich_help_panel=panel)
    def export(
        folder: Annotated[Path, typer.Argument(help="Folder to write into; made when missing.")],
        at: At = "", as_json: Json = False,
    ) -> None:
        """Write all drafts as YAML files, the same bytes for the same definitions. What was changed in the folder is never overwritten."""
        with connect(at) as client:
            files, revisions = client.export_with_revisions()
            address = client.url
        note = read_copy_note(folder) or CopyNote()
        _same_service(note, address, folder)
        plan = renewal(_present(folder), files, note)
        if plan.edited:
            more = len(plan.edited) - _MOST_NAMED
            named = ", ".join(plan.edited[:_MOST_NAMED]) + (f" and {more} more" if more > 0 else "")
            raise ProblemError(Problem("export.edited", "Files of the folder were changed, and the service has other texts.", Kind.CONFLICT,
                                       place=str(folder), found=named,
                                       mend=f"Bring both together: bricola merge {folder}; or export into another folder."))
        write_folder(folder, plan.write)
        for path in plan.remove:
            (folder / path).unlink(missing_ok=True)
        write_copy_note(folder, note_of(address, revisions, files))
        if as_json:
            print_json({"folder": str(folder), "files": sorted(files), "written": sorted(plan.write), "removed": sorted(plan.remove)})
            return
        out.print(f"Wrote {len(plan.write)} of {len(files)} files into {text(folder)}; the others are as they were."
                  if len(plan.write) < len(files) else f"Wrote {len(files)} files into {text(folder)}.")
        for path in plan.remove:
            out.print(f"[dim]-[/] {text(path)} removed, as in the service")

    @app.command(rich_help_panel=panel)
    def merge(
        folder: Annotated[Path, typer.Argument(help="Folder that was exported and then changed.")],
        at: At = "", as_json: Json = False,
    ) -> None:
        """Bring what was changed in a folder together with what others changed since. Exit status 1 when both changed one place."""
        note = read_copy_note(folder)
        if note is None:
            raise ProblemError(Problem("merge.note", "The folder is no copy of a service's drafts, so nobody knows what both started from.",
                                       place=str(folder), mend="Export into another folder, and compare the two."))
        mine = read_folder(folder)
        with connect(at) as client:
            _same_service(note, client.url, folder)
            theirs, revisions = client.export_with_revisions()
            found = [one for path in sorted({*mine, *theirs}) if (one := merged(
                path, _base(client, path, mine, theirs, note), mine.get(path), theirs.get(path))) is not None]
            address = client.url
        write_folder(folder, {one.path: one.text for one in found if one.outcome in (Outcome.TAKEN, Outcome.MERGED, Outcome.CONFLICT)})
        for one in found:
            if one.outcome is Outcome.REMOVED:
                (folder / one.path).unlink(missing_ok=True)
        write_copy_note(folder, note_of(address, revisions, theirs))
        _tell(found, folder, as_json)
        if any(one.outcome is Outcome.CONFLICT for one in found):
            raise typer.Exit(1)


def _tell(found: list[MergedFile], folder: Path, as_json: bool) -> None:
    if as_json:
        print_json([{"path": one.path, "outcome": one.outcome} for one in found])
        return
    for one in found:
        out.print(f"{_SIGNS.get(one.outcome, '[green]●[/]')} [bold]{text(one.path)}[/] {_WORDS[one.outcome]}", soft_wrap=True)
    if not found:
        out.print("The folder and the drafts are the same.")
    elif any(one.outcome is Outcome.CONFLICT for one in found):
        err.print("Decide what is between the marks, then apply.")
    else:
        out.print(f"[dim]Next: bricola apply {text(folder)}[/]")


def _base(client: Client, path: str, mine: Mapping[str, str], theirs: Mapping[str, str], note: CopyNote) -> str | None:
    """The text that both started from: the file itself where it was not changed, else the revision that the note names."""
    known = note.files.get(path)
    if known is not None and path in mine and digest(mine[path]) == known:
        return mine[path]
    if known is not None and path in theirs and digest(theirs[path]) == known:
        return theirs[path]
    kind, _, name = (mine.get(path) or theirs.get(path) or "").partition("\n")[0].partition(": ")
    number = note.revisions.get(f"{kind} {name.strip()}")
    if number is None:
        return None
    return next((one["text"] for one in client.revisions(kind, name.strip()) if one["revision"] == number), None)


def _same_service(note: CopyNote, address: str, folder: Path) -> None:
    if note.server and note.server != address:
        raise ProblemError(Problem("export.server", "The folder is a copy of another service.", Kind.CONFLICT, place=str(folder / NOTE),
                                   expected=note.server, found=address, mend=f"Use another folder, or --at {note.server}."))


def _present(folder: Path) -> dict[str, str]:
    """The definition files that are there; none in a folder that is new or empty."""
    if not folder.is_dir() or not any(folder.rglob("*.yaml")):
        return {}
    return read_folder(folder)


def read_copy_note(folder: Path) -> CopyNote | None:
    """From which service and revisions the folder was exported; None for one that was not."""
    try:
        return read_note((folder / NOTE).read_text(encoding="utf-8"), str(folder / NOTE))
    except OSError:
        return None


def write_copy_note(folder: Path, note: CopyNote) -> None:
    (folder / NOTE).write_text(note.text(), encoding="utf-8")
