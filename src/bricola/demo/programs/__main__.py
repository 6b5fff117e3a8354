"""`python -m bricola.demo.programs --folder FOLDER [--port N]`: the demo's program host, with the real program where it can be compiled.

Its first line of output is its port. In the folder stands what was compiled; where GnuCOBOL (Debian: gnucobol3) or a C compiler is missing,
a stand-in of the same answers runs instead, and the host says so.
"""

import argparse
import asyncio
import fcntl
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from importlib import resources
from pathlib import Path
from typing import Any

from bricola.demo.programs.host import Host
from bricola.demo.programs.tollcalc import SIZE

SOURCES = ("TOLLCALC.cbl", "TOLLAREA.cpy", "caller.c")


def compiled(folder: Path) -> str:
    """What compiled the program into the folder, in words; '' where nothing can. Done once, whoever comes first."""
    if not all(shutil.which(one) for one in ("cobc", "cob-config", "gcc")):
        return ""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        try:
            if not (folder / "caller").exists():
                _compile(folder)
            version = _told("cobc", "--version").splitlines()[0]
        except (OSError, subprocess.CalledProcessError, IndexError) as error:
            print(f"TOLLCALC is not compiled: {getattr(error, 'stderr', '') or error}", file=sys.stderr)
            return ""
    return version.replace("cobc (GnuCOBOL)", "GnuCOBOL").strip()


def _compile(folder: Path) -> None:
    with tempfile.TemporaryDirectory(dir=folder) as name:
        here = Path(name)
        for one in SOURCES:
            (here / one).write_bytes(resources.files("bricola.demo.programs").joinpath(one).read_bytes())
        _told("cobc", "-m", "-std=ibm", "-fbinary-truncate", "-I", name, "-o", str(here / "TOLLCALC.so"), str(here / "TOLLCALC.cbl"))
        flags = [*_told("cob-config", "--cflags").split(), *_told("cob-config", "--libs").split()]
        _told("gcc", "-O2", "-o", str(here / "caller"), str(here / "caller.c"), *flags)
        for one in ("TOLLCALC.so", "caller"):  # the caller last: where it is, all is
            (here / one).replace(folder / one)


def _told(*words: str) -> str:
    return subprocess.run(words, check=True, capture_output=True, text=True, timeout=120).stdout


def described(folder: Path) -> dict[str, Any]:
    """The host and its programs, as host.py reads them."""
    compiler = compiled(folder)
    program = {"name": "TOLLCALC", "areas": [SIZE], "words": "Toll of one passage of one lock"}
    if compiler:
        return {"words": f"the toll office's program, compiled by {compiler}", "most": 16, "programs": [
            program | {"run": [str(folder / "caller"), "TOLLCALC"], "environment": {"COB_LIBRARY_PATH": str(folder)}}]}
    return {"words": "a stand-in for the toll office's program: no COBOL compiler is installed", "most": 16, "programs": [
        program | {"run": [sys.executable, "-m", "bricola.demo.programs.tollcalc"]}]}


async def _run(folder: Path, port: int) -> None:
    host = Host(await asyncio.to_thread(described, folder))
    sys.stdout.write(f"{await host.start(port)}\n")
    sys.stdout.flush()
    ended = asyncio.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(one, ended.set)
    parent = os.getppid()
    while os.getppid() == parent and not ended.is_set():  # the kernel tells nobody that a parent is gone
        try:
            await asyncio.wait_for(ended.wait(), 1.0)
        except TimeoutError:
            continue
    await host.close()


if __name__ == "__main__":
    parser = argparse.ArgumentParser(prog="python -m bricola.demo.programs", description="The demo's program host.")
    parser.add_argument("--folder", type=Path, required=True, help="where the compiled program stands")
    parser.add_argument("--port", type=int, default=0, help="0 takes a free one")
    words = parser.parse_args()
    asyncio.run(_run(words.folder, words.port))
