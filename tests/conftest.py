"""Fixtures that several layers share. The demo runs once a session, as a process of its own, on loopback."""

import fcntl
import functools
import json
import os
import re
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import settings

from bricola.demo.start import catalogue_files, placed
from tests.commands import run_command
from tests.length import AT_LENGTH
from tests.nursery import Forked

# Every httpx.get and httpx.post would read all certificate authorities anew: 70 ms each, thousands of times.
httpx._transports.default.create_ssl_context = functools.cache(httpx.create_ssl_context)
# Nor does it wait five seconds only: a machine with other work may take longer for what takes milliseconds.
for _part in ("connect", "read", "write", "pool"):
    setattr(httpx._config.DEFAULT_TIMEOUT_CONFIG, _part, 60.0)

settings.load_profile("at length" if AT_LENGTH else "short")

COMMAND = Path(sys.executable).with_name("bricola")


@dataclass
class Demo:
    """A running demo: its ready file, and the folder that its sign-in was kept in."""

    facts: dict[str, Any]
    home: Path
    data: Path
    process: Forked

    @property
    def url(self) -> str:
        return str(self.facts["url"])

    def token(self, caller: str) -> str:
        return next(one["token"] for one in self.facts["callers"] if one["name"] == caller)

    def password(self, user: str) -> str:
        return next(one["password"] for one in self.facts["users"] if one["name"] == user)

    def address(self, environment: str = "live", face: str = "soap") -> str:
        return next(one[face] for one in self.facts["services"]
                    if one["environment"] == environment and one["service"] == "VesselRegistry")

    def files(self) -> dict[str, str]:
        """The definitions that the demo began with, by path."""
        return placed(catalogue_files(), {one["name"]: one["port"] for one in self.facts["backends"]})

    @property
    def environ(self) -> dict[str, str]:
        return {**os.environ, "XDG_CONFIG_HOME": str(self.home), "NO_COLOR": "1"}

    def run(self, *words: str, stdin: str = "") -> subprocess.CompletedProcess[str]:
        """A command, signed in to the demo."""
        return run_command(words, self.environ, stdin)


def prepared_demo(shared: Path) -> Path:
    """A folder in which a demo was started for the first time and stopped, once for all workers of this run."""
    folder = shared / "prepared-demo"
    with (shared / "prepared-demo.lock").open("w") as handle:
        fcntl.flock(handle, fcntl.LOCK_EX)
        if not folder.exists():
            making = shared / "demo-in-the-making"
            shutil.rmtree(making, ignore_errors=True)
            making.mkdir()
            stop_demo(start_demo(making))
            making.rename(folder)
    return folder


def copied_folder(factory: pytest.TempPathFactory, name: str) -> Path:
    """A copy of the prepared folder."""
    folder = factory.mktemp(name)
    shared = factory.getbasetemp()
    if os.environ.get("PYTEST_XDIST_WORKER"):
        shared = shared.parent
    shutil.copytree(prepared_demo(shared), folder, dirs_exist_ok=True)
    return folder


def copied_demo(factory: pytest.TempPathFactory, name: str) -> Demo:
    """A demo of one's own, started from the prepared folder."""
    return start_demo(copied_folder(factory, name))


def start_demo(folder: Path) -> Demo:
    """Start a demo in a folder, new or used before, and wait until it answers."""
    ready = folder / "ready.json"
    ready.unlink(missing_ok=True)
    home = folder / "home"
    words = ["demo", "--port", "0", "--data", str(folder / "data"), "--ready-file", str(ready)]
    process = Forked(words, {**os.environ, "XDG_CONFIG_HOME": str(home)}, folder / "output.txt")
    deadline = time.monotonic() + 180  # a machine that pages its programs in again takes its time
    while not ready.exists():
        if process.poll() is not None or time.monotonic() > deadline:
            process.kill()
            raise RuntimeError(f"the demo did not become ready:\n{process.output()}")
        time.sleep(0.05)
    return Demo(json.loads(ready.read_text()), home, folder / "data", process)


def stop_demo(demo: Demo) -> None:
    demo.process.terminate()
    demo.process.wait(60)


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "demo")
    yield running
    stop_demo(running)


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[tuple[str, dict[str, str]]]:
    """`bricola serve` on an empty folder: the set-up address that it prints, and an environment for the other commands."""
    environ = {**os.environ, "HOME": str(tmp_path / "home"), "XDG_CONFIG_HOME": str(tmp_path / "home")}
    with subprocess.Popen([COMMAND, "serve", "--data", str(tmp_path / "data"), "--port", "0", "--log-level", "warning"],
                          stdout=subprocess.PIPE, text=True, env=environ) as process:
        assert process.stdout is not None
        told = ""
        while "bricola start" not in told:
            line = process.stdout.readline()
            assert line, told
            told += line
        yield re.findall(r"bricola start '(\S+)'", told)[0], environ
        process.terminate()
