"""The door to a folder, and its staged check."""

import asyncio
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from bricola.adapters.engines.door import Door
from bricola.adapters.engines.files.sessions import FolderKind
from bricola.adapters.folders import Folders
from bricola.adapters.stages import Checker, Skip, Step, fail
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.files import ENGINE
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind


class FolderCheck:
    """It is there, and may be read and written."""

    def __init__(self, endpoint: Endpoint, folders: Folders, read_only: bool) -> None:
        self._at, self._folders, self._read_only = endpoint.address, folders, read_only
        self._path = Path()

    def steps(self) -> list[Step]:
        return [self._resolved, self._reachable, self._nothing, self._nothing, self._nothing, self._allowed, self._nothing]

    async def close(self) -> None:
        """Nothing is open."""

    async def _resolved(self) -> str:
        self._path = await asyncio.to_thread(self._folders.find, self._at)
        return self._at

    async def _reachable(self) -> str:
        if not self._path.is_dir():
            raise fail("reachable", "There is no such folder.", "an existing folder", self._at,
                       "Make the folder, or correct 'file:' in the environment; a folder is never made here.")
        return "there"

    async def _nothing(self) -> str:
        raise Skip("a folder needs none")

    async def _allowed(self) -> str:
        rights = os.R_OK | os.X_OK | (0 if self._read_only else os.W_OK)
        if not os.access(self._path, rights):
            raise fail("allowed", "The folder may not be used so.", "read" if self._read_only else "read and write", "fewer rights",
                       "Change the rights of the folder.")
        return "read" if self._read_only else "read and write"


def _sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
    for end in binding.ends:
        around.folders.find(end.address)  # refused now, not at the first call
    return FolderKind(backend.name, around.folders, binding)


def _checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
             running: SessionKind[Any] | None) -> Checker:
    return FolderCheck(endpoint, around.folders, binding.read_only)


DOOR = Door(ENGINE, _sessions, _checker)
