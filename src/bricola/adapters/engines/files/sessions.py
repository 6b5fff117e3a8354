"""Sessions to a folder: a way to read and write the files below it, and nothing else.

A path is one that every system takes (POSIX 1003.1, section 3.282, with folders), so a workflow that was tried here runs there. A file is
written beside its place and moved there, so nobody reads half of one.
"""

import asyncio
import contextlib
import os
import re
import uuid
from dataclasses import dataclass
from pathlib import Path

from bricola.adapters.folders import Folders
from bricola.core.definitions.engines.places import Endpoint, path_fault
from bricola.core.definitions.model import Binding
from bricola.core.problems import Kind, Problem, ProblemError, shown

MOST_BYTES = 10_000_000  # of one file
_MOST_PATH = 200
_FIRST_WAIT, _LONGEST_WAIT = 0.005, 0.25  # seconds between looks for a reply
_STEP = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,99}")
_DEVICES = re.compile(r"(?:con|prn|aux|nul|com\d|lpt\d)(?:\..*)?", re.IGNORECASE)  # names that are no files on some systems


@dataclass(eq=False)
class FolderSession:
    """`root` is the folder, `allowed` its path as the environment says it."""

    root: Path
    allowed: str
    read_only: bool
    folders: Folders

    async def read(self, path: str) -> str:
        """The text of a file. Raises ProblemError."""
        return await asyncio.to_thread(self._read, path)

    async def write(self, path: str, text: str) -> None:
        """Write a file, new or instead of what is there, whole or not at all. Raises ProblemError."""
        await asyncio.to_thread(self._write, path, text)

    async def exchange(self, path: str, data: bytes, reply: str, seconds: float) -> bytes:
        """Leave a record, and wait for the one that somebody leaves in return ('': for none); both are taken away then. Raises
        ProblemError."""
        await asyncio.to_thread(self._put, path, data)
        if not reply:
            return b""
        wait = _FIRST_WAIT
        try:
            async with asyncio.timeout(seconds):
                while (found := await asyncio.to_thread(self._taken, reply)) is None:
                    await asyncio.sleep(wait)
                    wait = min(wait * 1.5, _LONGEST_WAIT)
        except TimeoutError:
            raise ProblemError(Problem("program.slow", "Nobody left a reply in the folder in time.", Kind.BACKEND, place=path,
                                       expected=f"{reply} within {seconds:g} s", mend="Look whether the program that reads the folder runs."
                                       )) from None
        finally:
            await asyncio.to_thread(self._drop, path)
        return found

    def _taken(self, path: str) -> bytes | None:
        """The bytes of a file, which is taken away; None while there is none."""
        file = self._find(path)
        try:
            if not file.is_file():
                return None
            if file.stat().st_size > MOST_BYTES:
                raise self._refused("file.size", f"The file is larger than {MOST_BYTES} bytes.", path, Kind.TOO_LARGE)
            data = file.read_bytes()
            file.unlink()
        except OSError as error:
            raise self._failed(path, error) from None
        return data

    def _drop(self, path: str) -> None:
        with contextlib.suppress(OSError):  # whoever answered may have taken it away
            self._find(path).unlink()

    def _read(self, path: str) -> str:
        file = self._find(path)
        try:
            if not file.is_file():
                raise self._refused("file.missing", "There is no such file.", path, Kind.MISSING)
            if file.stat().st_size > MOST_BYTES:
                raise self._refused("file.size", f"The file is larger than {MOST_BYTES} bytes.", path, Kind.TOO_LARGE)
            return file.read_text("utf-8")
        except UnicodeDecodeError:
            raise self._refused("file.text", "The file is no text in UTF-8.", path, Kind.BACKEND) from None
        except OSError as error:
            raise self._failed(path, error) from None

    def _write(self, path: str, text: str) -> None:
        self._put(path, text.encode())

    def _put(self, path: str, content: bytes) -> None:
        if self.read_only:
            raise self._refused("file.read-only", "Nothing is written in this folder here.", path, Kind.PERMISSION)
        if len(content) > MOST_BYTES:
            raise self._refused("file.size", f"The content is larger than {MOST_BYTES} bytes.", path, Kind.TOO_LARGE)
        file = self._find(path)
        new = file.with_name(f".{uuid.uuid4().hex}.new")
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            self._find(path)  # what was made just now may be a link by now
            try:
                with open(new, "xb") as stream:
                    stream.write(content)
                    stream.flush()
                    os.fsync(stream.fileno())
                new.replace(file)
            finally:
                with contextlib.suppress(OSError):
                    new.unlink()
        except OSError as error:
            raise self._failed(path, error) from None

    def _find(self, path: str) -> Path:
        """A file below the folder. Raises ProblemError for any path that is not one everywhere."""
        fault = path_fault(path)
        steps = path.split("/")
        if not fault and (len(path) > _MOST_PATH or any(not _STEP.fullmatch(one) or one.endswith(".") or _DEVICES.fullmatch(one)
                                                        for one in steps)):
            fault = "Not every system takes this path."
        if fault:
            raise self._refused("file.path", fault, path, Kind.INPUT,
                                "letters, digits, '_', '-' and '.', folders parted by '/', like 2026/tolls-11.csv")
        file = (self.root / path).resolve()
        if not file.is_relative_to(self.root.resolve()):
            raise self._refused("file.path", "The file is a link to another folder.", path, Kind.PERMISSION)
        if self.folders.is_own(file):
            raise self._refused("file.path", "This is a file of the service itself.", path, Kind.PERMISSION)
        return file

    def _refused(self, code: str, message: str, path: str, kind: Kind, expected: str = "") -> ProblemError:
        return ProblemError(Problem(code, message, kind, place=f"folder {self.allowed}",
                                    expected=expected or f"a file below {self.allowed}",
                                    found=shown(path)))

    def _failed(self, path: str, error: OSError) -> ProblemError:
        return ProblemError(Problem("file.failed", "The file cannot be reached.", Kind.BACKEND, place=f"folder {self.allowed}",
                                    found=shown(path), inner=str(error), mend="The people who run the service look at the folder."))


class FolderKind:
    """How the pool handles sessions to folders; there is nothing to keep open."""

    def __init__(self, name: str, folders: Folders, binding: Binding) -> None:
        self._name, self._folders, self._read_only = name, folders, binding.read_only

    async def open(self, endpoint: Endpoint) -> FolderSession:
        root = await asyncio.to_thread(self._folders.find, endpoint.address)
        if not root.is_dir():
            raise ProblemError(Problem("backend.unreachable", "The folder of this service is not there.", Kind.UNREACHABLE,
                                       mend="The people who run the service make it.", inner=f"{self._name}: {root}"))
        return FolderSession(root, endpoint.address, self._read_only, self._folders)

    def is_sound(self, session: FolderSession) -> bool:
        return True

    def is_clean(self, session: FolderSession) -> bool:
        return True

    async def check(self, session: FolderSession) -> bool:
        return await asyncio.to_thread(session.root.is_dir)

    async def reset(self, session: FolderSession) -> bool:
        return True

    async def close(self, session: FolderSession) -> None:
        """Nothing is open."""

    def cut(self, session: FolderSession) -> None:
        """Nothing runs that could be stopped."""

    def identity(self, session: FolderSession) -> str:
        return ""

    async def most_sessions(self, session: FolderSession) -> int | None:
        return None
