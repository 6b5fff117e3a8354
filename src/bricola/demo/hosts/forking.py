"""`python -m bricola.demo.hosts.forking` begins hosts as processes of their own, all from one that has imported what they need: eleven
imports take longer than all else that a start of the demo does.

It reads a line of JSON for each time that hosts are wanted, a list of their modules with their words, and answers with a list of their
process ids and ports, or null for one that ended instead of listening. It ends when nobody can ask any more, and they with it.
"""

import gc
import json
import os
import runpy
import signal
import subprocess
import sys
from collections.abc import Sequence
from typing import BinaryIO

Begun = tuple[int, int]  # process id, port


class Nursery:
    """The side that asks. Not for several threads at once."""

    def __init__(self) -> None:
        words = [sys.executable, "-m", "bricola.demo.hosts.forking"]
        self._process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
                                         start_new_session=True)

    def begin(self, hosts: Sequence[Sequence[str]]) -> list[Begun | None]:
        """Until each listens, or ended instead. Raises OSError when the process that they come from is gone."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(json.dumps(hosts) + "\n")
        self._process.stdin.flush()
        answer = self._process.stdout.readline()
        if not answer:
            raise OSError("the process that hosts come from is gone")
        return [(one[0], one[1]) if one else None for one in json.loads(answer)]

    def close(self) -> None:
        assert self._process.stdin is not None
        self._process.stdin.close()
        self._process.wait()


def runs(pid: int) -> bool:
    """Whether a host that was begun here still runs: nobody keeps what is left of those that ended."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return True


def _main() -> None:
    import bricola.demo.hosts.__main__
    import bricola.demo.programs.__main__  # noqa: F401 - so are the modules that are run below there already

    gc.freeze()  # collections in the children copy no pages
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    kept: list[BinaryIO] = []  # what hosts write to, for as long as they run
    for line in sys.stdin:
        begun = [_begin(words) for words in json.loads(line)]
        answers = []
        for pid, pipe in begun:
            port = pipe.readline().strip()
            kept.append(pipe)
            answers.append((pid, int(port)) if port.isdigit() else None)
        print(json.dumps(answers), flush=True)


def _begin(words: list[str]) -> tuple[int, BinaryIO]:
    reading, writing = os.pipe()
    pid = os.fork()
    if not pid:
        try:
            _become(words, writing)
        finally:
            os._exit(1)
    os.close(writing)
    return pid, os.fdopen(reading, "rb")


def _become(words: list[str], writing: int) -> None:
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)  # a host may have processes of its own
    os.setsid()  # Ctrl C is for the service, which then stops its hosts
    nothing = os.open(os.devnull, os.O_RDONLY)
    os.dup2(nothing, 0)
    os.dup2(writing, 1)
    sys.argv = words
    runpy.run_module(words[0], run_name="__main__", alter_sys=True)
    sys.stdout.flush()
    os._exit(0)


if __name__ == "__main__":
    _main()
