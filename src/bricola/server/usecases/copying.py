"""Copying a definition before it is changed."""

from pathlib import PurePosixPath
from typing import Protocol

from pydantic import ValidationError

from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.server.ports.changes import Changes
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.storage import Storage
from bricola.server.usecases import definitions


class Ports(Protocol):
    drafts: Drafts
    storage: Storage
    changes: Changes
    places: Places


async def copy(ports: Ports, kind: str, name: str, new: str, folder: str | None, author: str) -> list[definitions.Change]:
    """A draft that is equal but for its name, in the same folder or another one. What it names stays the same; nothing names it yet.
    Raises ProblemError for a name that is taken or cannot be one."""
    original = ports.drafts.revisions.get((kind, name))
    if original is None:
        raise ProblemError(Problem("copy.unknown", f"There is no such {kind}.", Kind.MISSING, found=shown(name)))
    if (kind, new) in ports.drafts.revisions:
        raise ProblemError(Problem("copy.taken", f"There is a {kind} of this name already.", Kind.CONFLICT, found=shown(new),
                                   mend="Choose another name."))
    definition = read_definition(original.text, original.path)
    try:
        made = type(definition).model_validate({**definition.model_dump(), "name": new})
    except ValidationError:
        raise ProblemError(Problem("definition.name", "This is not a usable name here.", found=shown(new),
                                   expected="a letter, then letters, digits, '-' and '_'")) from None
    path = PurePosixPath(original.path)
    target = (PurePosixPath(folder) if folder is not None else path.parent) / f"{new}{path.suffix}"
    return await definitions.apply(ports, {str(target): write_definition(made)}, author)  # type: ignore[arg-type]
