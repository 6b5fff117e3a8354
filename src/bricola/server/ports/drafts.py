"""The drafts: the newest text of every definition, read and kept as one catalogue."""

import asyncio
from collections.abc import Callable

from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.folder import DefinitionFile, as_catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.store import definitions
from bricola.store.database import Db
from bricola.store.definitions import StoredDefinition

_AT_ONCE = 100_000  # characters


class Drafts:
    """What is stored as drafts, as of the last change. Replaced as a whole."""

    def __init__(self) -> None:
        self.files: list[DefinitionFile] = []
        self.catalogue = Catalogue()
        self.revisions: dict[Reference, StoredDefinition] = {}  # the newest of each
        self._read: dict[int, DefinitionFile] = {}  # by revision
        self._digests: dict[str, str] = {}

    def load(self, db: Db) -> list[StoredDefinition]:
        return definitions.drafts(db)

    async def take(self, loaded: list[StoredDefinition]) -> None:
        """Only what is new is read; reading many takes a while, so it is done beside the event loop."""
        known = self._read

        def read() -> dict[int, DefinitionFile]:
            return {one.revision: known.get(one.revision) or _file(one) for one in loaded}

        self._read = await asyncio.to_thread(read)
        self.files = [self._read[one.revision] for one in loaded]
        self.catalogue = as_catalogue(self.files)
        self.revisions = {(one.kind, one.name): one for one in loaded}
        self._digests = {}

    def path_of(self, kind: str, name: str) -> str:
        """The file that a definition stands in; '' when there is no such one."""
        found = self.revisions.get((kind, name))
        return found.path if found is not None else ""

    def digest(self, service: str, make: Callable[[], str]) -> str:
        """What stands for the content of a service's draft, until the next change: lists ask for it every few seconds."""
        found = self._digests.get(service)
        if found is None:
            found = self._digests[service] = make()
        return found

    def service(self, name: str) -> ServiceDefinition:
        """Raises ProblemError with the services that there are."""
        found = self.catalogue.find_service(name)
        if found is None:
            raise ProblemError(unknown("service", name, [one.name for one in self.catalogue.services()]))
        return found

    def environment(self, name: str) -> EnvironmentDefinition:
        """Raises ProblemError with the environments that there are."""
        found = self.catalogue.find_environment(name)
        if found is None:
            raise ProblemError(unknown("environment", name, [one.name for one in self.catalogue.environments()]))
        return found


def _file(stored: StoredDefinition) -> DefinitionFile:
    """A definition whose text is made here and now, and not when a list asks for it in the event loop; but for long ones, such as contracts
    of others: a start would wait seconds for each, though perhaps nobody asks."""
    file = DefinitionFile(stored.path, read_definition(stored.text, stored.path))
    if len(stored.text) <= _AT_ONCE:
        write_definition(file.definition)
    return file


def unknown(what: str, name: str, known: list[str]) -> Problem:
    """There is no such thing; these are the ones that there are."""
    return Problem(f"{what}.unknown", f"There is no {what} {shown(name)}.", Kind.MISSING, place=name,
                   expected=f"a {what}, but there is none yet", choices=tuple(known))
