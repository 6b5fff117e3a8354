"""Which files the service may read and write as backends, when somebody who is not its operator names them."""

import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from bricola.core.definitions.engines.places import path_fault
from bricola.core.problems import Kind, Problem, ProblemError

OWN = ("bricola.", "calls.", "requests.")  # how the files of the service itself begin, in its data folder


@dataclass(frozen=True)
class Folders:
    """The folders in which files of backends may lie, tried in order; `data` is the service's own, whose records are no backend's.
    `store` is the number by which whoever opens a file knows a copy of them (SQLite file format, section 1.3.16). No file is opened here:
    when a process closes a file, all its locks on it go (POSIX 1003.1, fcntl), and with them those of the sessions that a pool has."""

    data: Path
    roots: tuple[Path, ...] = ()
    store: int = 0

    def find(self, file: str) -> Path:
        """A file by its path below one of the folders; links that lead out of it are not followed. Raises ProblemError."""
        fault = path_fault(file)
        if fault:
            raise ProblemError(Problem("binding.file-path", fault, expected="a path below the allowed folders, like live/registry.db",
                                       found=file, mend=self._mend))
        roots = [root.resolve() for root in self.roots or (self.data,)]
        for root in roots:
            path = (root / file).resolve()
            if not path.is_relative_to(root):
                raise ProblemError(Problem("binding.file-path", "The file is a link to another folder.", Kind.PERMISSION, found=file,
                                           expected="a file inside the allowed folders", mend=self._mend))
            if self.is_own(path):
                raise own_store(file)
            if path.exists():
                return path
        return (roots[0] / file).resolve()

    def is_own(self, path: Path) -> bool:
        """Whether it is a file of the service: by its place, or by being the same file under another name."""
        data = self.data.resolve()
        if path.parent == data and path.name.startswith(OWN):
            return True
        if not path.is_file():
            return False
        return any(os.path.samefile(path, one) for one in data.iterdir() if one.name.startswith(OWN) and one.is_file())

    @property
    def _mend(self) -> str:
        return "Put the file below the data folder, or have the operator allow its folder with: bricola serve --backend-folder FOLDER"


def own_store(file: str) -> ProblemError:
    """A copy of the store is as secret as the store."""
    return ProblemError(Problem("binding.own-store", "A backend cannot be Bricola's own store, which holds its people and secrets.",
                                Kind.PERMISSION, found=file, mend="Name the file of a backend."))


def read_folders(paths: Sequence[Path]) -> tuple[Path, ...]:
    """Folders that exist. Raises ProblemError."""
    for path in paths:
        if not path.is_dir():
            raise ProblemError(Problem("serve.folder", "There is no such folder.", place="--backend-folder", found=str(path)))
    return tuple(path.resolve() for path in paths)
