"""One process for one data folder: a lock that ends with its process, and the note of who holds it."""

import fcntl
import json
import os
from pathlib import Path

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.store.database import timestamp

_FILE = "bricola.lock"


class FolderLock:
    """Held from the moment it is made until `release` or the end of the process. The file stays; it is the lock on it that counts, so a
    killed process leaves nothing to clear away."""

    def __init__(self, folder: Path) -> None:
        """Raises ProblemError, with the owner, when another process has the folder."""
        self._file = folder / _FILE
        self._handle = os.open(self._file, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            owner = self._read()
            os.close(self._handle)
            who = f"process {owner.get('pid', '?')}" + (f" at {owner['address']}" if owner.get("address") else "")
            raise ProblemError(Problem(
                "store.in-use", "Another Bricola runs on this data folder.", Kind.CONFLICT, place=str(folder),
                expected="one process for one folder", found=f"{who}, since {owner.get('since', '?')}",
                mend="Stop the other one, or name another folder with --data.")) from None
        self._note = {"pid": os.getpid(), "address": "", "since": timestamp()}
        self._write()

    def tell(self, address: str) -> None:
        """Say where this process answers, for whoever finds the folder taken."""
        self._note["address"] = address
        self._write()

    def release(self) -> None:
        os.close(self._handle)

    def _write(self) -> None:
        body = json.dumps(self._note).encode()
        os.truncate(self._handle, 0)
        os.pwrite(self._handle, body, 0)

    def _read(self) -> dict[str, str]:
        try:
            found = json.loads(os.pread(self._handle, 4096, 0))
        except (OSError, ValueError):
            return {}
        return found if isinstance(found, dict) else {}
