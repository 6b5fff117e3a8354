"""A folder of definitions as a copy of a service's drafts: what somebody has changed in it, and how the two come together again.

The note beside the files says from which service they came, which revision of each definition they were, and a digest of each file as it
was then. A file whose digest is another is somebody's work, which nothing overwrites.
"""

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from bricola.core.definitions.threeway import merge_lines
from bricola.core.problems import Problem, ProblemError

NOTE = ".bricola-revisions"


@dataclass(frozen=True)
class CopyNote:
    """`server` is the address of the service, '' where a note of an older program does not say it; `revisions` are by 'kind name', `files`
    the digests by path."""

    server: str = ""
    revisions: Mapping[str, int] = field(default_factory=dict)
    files: Mapping[str, str] = field(default_factory=dict)

    def text(self) -> str:
        return json.dumps({"server": self.server, "revisions": dict(self.revisions), "files": dict(self.files)}, indent=1,
                          sort_keys=True) + "\n"


def read_note(text: str, place: str) -> CopyNote:
    """Raises ProblemError for what is no note."""
    try:
        found: Any = json.loads(text)
        if "revisions" not in found:  # as notes were before they named their service
            return CopyNote("", {str(name): int(number) for name, number in found.items()})
        return CopyNote(str(found["server"]), {str(name): int(number) for name, number in found["revisions"].items()},
                        {str(path): str(one) for path, one in found["files"].items()})
    except (ValueError, TypeError, AttributeError, KeyError):
        raise ProblemError(Problem("apply.revisions", "The note of the exported revisions cannot be read.", place=place,
                                   mend="Export again, or remove the file to apply without it.")) from None


def note_of(server: str, revisions: Mapping[str, int], files: Mapping[str, str]) -> CopyNote:
    return CopyNote(server, revisions, {path: digest(text) for path, text in files.items()})


def digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:32]


def is_edited(path: str, text: str, note: CopyNote) -> bool:
    """Whether a file of the folder is somebody's work: changed since it was written, or not written by an export at all."""
    return note.files.get(path) != digest(text)


@dataclass(frozen=True)
class Renewal:
    """What an export does to a folder: files to write, and to remove because the definition is gone. `edited` are in its way."""

    write: Mapping[str, str]
    remove: tuple[str, ...]
    edited: tuple[str, ...]


def renewal(mine: Mapping[str, str], theirs: Mapping[str, str], note: CopyNote) -> Renewal:
    """`mine` are the files of the folder, `theirs` the drafts."""
    edited = [path for path, text in mine.items() if is_edited(path, text, note) and theirs.get(path) != text
              and (path in theirs or path in note.files)]
    remove = [path for path in mine if path not in theirs and path in note.files and path not in edited]
    return Renewal({path: text for path, text in theirs.items() if mine.get(path) != text}, tuple(remove), tuple(edited))


class Outcome(StrEnum):
    KEPT = "kept"  # mine, which nobody else has changed
    TAKEN = "taken"  # theirs, which I have not changed
    REMOVED = "removed"  # gone there, and not changed here
    MERGED = "merged"  # changed by both, in different places
    CONFLICT = "conflict"  # changed by both in one place: the text has both, between marks
    GONE = "gone"  # removed there and changed here: it stays, and is added anew by the next apply


@dataclass(frozen=True)
class MergedFile:
    path: str
    outcome: Outcome
    text: str = ""


def merged(path: str, base: str | None, mine: str | None, theirs: str | None) -> MergedFile | None:
    """One file brought together from what both started from, what the folder has, and what the drafts have; None where all is as it was."""
    if mine == theirs or (theirs == base and mine is None):
        return None
    if mine is None:  # taken away here, changed there
        return MergedFile(path, Outcome.TAKEN, theirs or "")
    if theirs is None:
        return None if base is None else MergedFile(path, Outcome.REMOVED if mine == base else Outcome.GONE, mine)
    if base == theirs:
        return MergedFile(path, Outcome.KEPT, mine)
    if base == mine:
        return MergedFile(path, Outcome.TAKEN, theirs)
    text, conflict = merge_lines(base or "", mine, theirs)
    return MergedFile(path, Outcome.CONFLICT if conflict else Outcome.MERGED, text)
