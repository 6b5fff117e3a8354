"""The first hour with a 3270 host on the command line: from an empty folder to an answered call in four commands, nothing typed twice.

The terminal runs in a pseudo-terminal, and the test types what a person would."""

import fcntl
import os
import pty
import re
import select
import struct
import subprocess
import termios
import time
from pathlib import Path

from tests.commands import run_command
from tests.conftest import COMMAND
from tests.core.terminals import PASSWORD, USER
from tests.hosts import host_on_a_thread


class Window:
    """A command in a terminal window of 32 rows and 100 columns."""

    def __init__(self, environ: dict[str, str], *words: str) -> None:
        master, slave = pty.openpty()
        fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 32, 100, 0, 0))
        self._master, self.said = master, ""
        self.process = subprocess.Popen([COMMAND, *words], stdin=slave, stdout=slave, stderr=slave, start_new_session=True,
                                        env={**environ, "TERM": "xterm-256color", "COLUMNS": "100"})
        os.close(slave)

    def wait_for(self, words: str, seconds: float = 40) -> None:
        """Until the words are written; what was written before them is read and done with."""
        deadline = time.monotonic() + seconds
        while not (found := re.search(words, self.said)):
            left = deadline - time.monotonic()
            assert left > 0, f"{words} did not come: {self.said[-2000:]}"
            if select.select([self._master], [], [], min(left, 0.5))[0]:
                try:
                    self.said += os.read(self._master, 65536).decode(errors="replace")
                except OSError:
                    raise AssertionError(f"it ended before {words}: {self.said[-2000:]}") from None
        self.said = self.said[found.end():]

    def type(self, *keys: str) -> None:
        for key in keys:
            os.write(self._master, key.encode())
            time.sleep(0.15)

    def end(self) -> str:
        """What is written until the command ends."""
        text = self.said
        while True:
            try:
                part = os.read(self._master, 65536)
            except OSError:
                break
            if not part:
                break
            text += part.decode(errors="replace")
        self.process.wait(30)
        os.close(self._master)
        return text


def test_from_an_empty_folder_to_an_answered_call_on_a_3270_host(empty: tuple[str, dict[str, str]], tmp_path: Path) -> None:
    address, environ = empty
    with host_on_a_thread("ledger", tmp_path) as host:
        begun = run_command(("start", address), environ, "\n".join(["imke", "a-long-password-1", "", "tn3270", host]) + "\n")
        assert begun.returncode == 0, begun.stdout + begun.stderr
        assert f"Next: bricola terminal {host} --engine tn3270" in begun.stdout

        window = Window(environ, "terminal", host, "--engine", "tn3270")
        window.wait_for("LKM000")
        window.type(USER, "\t", PASSWORD, "\r")
        window.wait_for("M A I N")
        window.type("\x18")
        window.wait_for("called here")
        window.type("old-ledger\r")
        learned = window.end()
        assert "Next: bricola terminal trial old-ledger --record FLOW" in learned, learned
        assert PASSWORD not in learned

        window = Window(environ, "terminal", "trial", "old-ledger", "--record", "vessel-ledger")
        window.wait_for("M A I N")
        window.type("1", "\r")
        window.wait_for("V E S S E L")
        window.type("LK-0412", "\r")
        window.wait_for("Last passage")
        window.wait_for("Passed on")
        window.type("\x1b[24~")  # F12, the way out
        window.wait_for("M A I N")
        window.type("\x18")
        window.wait_for("Name of this input")
        window.type("\r")
        window.wait_for("Rows of a list")
        window.type("\r")
        window.wait_for("Which of them go out")
        window.type("\r")
        window.wait_for("change anything")
        window.type("n\r")
        for question in ("Service", "Operation", "Role", "Publish", "first caller"):
            window.wait_for(question)
            window.type("\r")
        told = window.end()
        assert "VesselLedger registration=LK-0412 answers:" in told, told
        assert "shown once" in told
        answered = run_command(("call", "trial", "OldLedger", "VesselLedger", "registration=LK-0412"), environ)
        assert answered.returncode == 0, answered.stdout + answered.stderr
        assert "lastPassage" in answered.stdout
