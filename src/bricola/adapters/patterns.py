"""The fallback for the few patterns that no linear engine holds: Python's engine in a process of its own.

Whoever waits is on the event loop, so the wait is short and the process is ended when it is over; a pattern that was too slow a few times
is not tried again, and its values are refused. Contracts with such patterns have a finding.
"""

import json
import select
import subprocess
import sys
import threading

import structlog

log = structlog.stdlib.get_logger("bricola.patterns")

_SECONDS = 0.2  # for one value
_MOST_FAILURES = 3
_LOOP = """
import json, re, sys
for line in sys.stdin:
    expression, text = json.loads(line)
    sys.stdout.write("1\\n" if re.fullmatch(expression, text) else "0\\n")
    sys.stdout.flush()
"""


class PatternProcess:
    """Runs expressions; started when the first one comes, and again after it was ended."""

    def __init__(self, seconds: float = _SECONDS) -> None:
        self._seconds = seconds
        self._process: subprocess.Popen[str] | None = None
        self._failures: dict[str, int] = {}
        self._lock = threading.Lock()

    def run(self, expression: str, text: str) -> bool:
        """Whether a whole text is of an expression; False when that cannot be told in time."""
        with self._lock:
            if self._failures.get(expression, 0) >= _MOST_FAILURES:
                return False
            try:
                answer = self._ask(expression, text)
            except (OSError, ValueError):
                answer = ""
            if answer:
                return answer == "1\n"
            self._failures[expression] = self._failures.get(expression, 0) + 1
            self.end()
            log.warning("a pattern takes too long; its value is refused", failures=self._failures[expression])
            return False

    def _ask(self, expression: str, text: str) -> str:
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen([sys.executable, "-I", "-c", _LOOP], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
                                             stderr=subprocess.DEVNULL, start_new_session=True)
            self._wait(5.0, json.dumps(["", ""]))  # the start takes longer than a value may
        return self._wait(self._seconds, json.dumps([expression, text]))

    def _wait(self, seconds: float, line: str) -> str:
        assert self._process is not None
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(line + "\n")
        self._process.stdin.flush()
        ready, _, _ = select.select([self._process.stdout], [], [], seconds)
        return self._process.stdout.readline() if ready else ""

    def end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for stream in (self._process.stdin, self._process.stdout):
                if stream is not None:
                    stream.close()
            self._process = None
