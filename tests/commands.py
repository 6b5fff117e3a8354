"""The command line inside this process: what a process of its own would do, without the second that it takes to start one."""

import io
import os
import subprocess
import sys
from collections.abc import Mapping
from contextlib import redirect_stderr, redirect_stdout
from unittest import mock

from bricola.cli.main import run


def run_command(words: tuple[str, ...], environ: Mapping[str, str], stdin: str = "") -> subprocess.CompletedProcess[str]:
    """Exit status and what was printed. Standard input is a pipe that holds `stdin`."""
    out, err, status = io.StringIO(), io.StringIO(), 0
    with (mock.patch.dict(os.environ, environ, clear=True), mock.patch.object(sys, "argv", ["bricola", *words]),
          mock.patch.object(sys, "stdin", io.StringIO(stdin)), redirect_stdout(out), redirect_stderr(err)):
        try:
            run()
        except SystemExit as end:
            status = end.code if isinstance(end.code, int) else int(end.code is not None)
    return subprocess.CompletedProcess(words, status, out.getvalue(), err.getvalue())
