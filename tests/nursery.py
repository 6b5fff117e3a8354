"""Demos for tests, each a process of its own, forked from one that has imported everything already: an import takes longer than a start.

Run as a program this is that process. It reads a line of JSON for each demo (the words of the command, its environment, the file that its
output goes to) and answers with the process id; for a process id it answers with the return code, or null while the process runs. That the
command itself starts as it is installed, tests/e2e/test_cli.py and test_processes.py see.
"""

import atexit
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any


class Forked:
    """A process of the nursery, with what tests use of `subprocess.Popen`."""

    def __init__(self, words: list[str], env: Mapping[str, str], out: Path) -> None:
        self._out = out
        self.returncode: int | None = None
        self.pid = int(_ask({"words": words, "env": dict(env), "out": str(out)}))

    def poll(self) -> int | None:
        if self.returncode is None:
            self.returncode = _ask({"pid": self.pid})
        return self.returncode

    def wait(self, timeout: float = 60) -> int:
        deadline = time.monotonic() + timeout
        while (code := self.poll()) is None:
            if time.monotonic() > deadline:
                raise subprocess.TimeoutExpired("demo", timeout)
            time.sleep(0.02)
        return code

    def terminate(self) -> None:
        self._send(signal.SIGTERM)

    def kill(self) -> None:
        self._send(signal.SIGKILL)

    def output(self) -> str:
        return self._out.read_text(errors="replace")

    def _send(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)


_nursery: list[subprocess.Popen[str]] = []


def _ask(question: Mapping[str, Any]) -> Any:
    if not _nursery:
        _nursery.append(subprocess.Popen([sys.executable, "-m", "tests.nursery"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
                                         cwd=Path(__file__).resolve().parent.parent))
        atexit.register(_close)
    pipe = _nursery[0]
    assert pipe.stdin is not None
    assert pipe.stdout is not None
    pipe.stdin.write(json.dumps(question) + "\n")
    pipe.stdin.flush()
    answer = pipe.stdout.readline()
    if not answer:
        raise RuntimeError("the process that demos are forked from has ended")
    return json.loads(answer)


def _close() -> None:
    pipe = _nursery.pop()
    assert pipe.stdin is not None
    pipe.stdin.close()  # it ends the demos that still run
    pipe.wait(30)


def _main() -> None:
    import gc

    import bricola.demo.start  # noqa: F401 — what every demo needs
    from bricola.cli.main import run

    gc.freeze()  # so that collections in the children copy no pages
    running: dict[int, int | None] = {}
    for line in sys.stdin:
        asked = json.loads(line)
        if "pid" in asked:
            answer = _code(asked["pid"], running)
        else:
            answer = os.fork()
            if not answer:
                _become(asked)
                sys.exit(run())
            running[answer] = None
        print(json.dumps(answer), flush=True)
    for pid in running:
        if _code(pid, running) is None:
            os.kill(pid, signal.SIGTERM)


def _code(pid: int, running: dict[int, int | None]) -> int | None:
    if running[pid] is None:
        found, status = os.waitpid(pid, os.WNOHANG)
        running[pid] = os.waitstatus_to_exitcode(status) if found else None
    return running[pid]


def _become(asked: Mapping[str, Any]) -> None:
    out = os.open(asked["out"], os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    nothing = os.open(os.devnull, os.O_RDONLY)
    os.dup2(nothing, 0)
    os.dup2(out, 1)
    os.dup2(out, 2)
    os.environ.clear()
    os.environ.update(asked["env"])
    sys.argv = ["bricola", *asked["words"]]


if __name__ == "__main__":
    _main()
