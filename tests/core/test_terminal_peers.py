"""Programs of other people: an independent terminal uses the demo's ledger, and Bricola's terminal reads an independent host."""

import asyncio
import json
import os
import re
import shutil
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from bricola.adapters.engines.terminals.sessions import connect, terminal_settings
from bricola.adapters.networks import ANYWHERE
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.engines.terminals import TerminalHost
from bricola.core.definitions.model import Binding
from bricola.core.terminals.tn3270 import Tn3270
from tests.core.terminals import CATALOGUE, PASSWORD, USER

LOGO = """@ALIGN NONE
@SBA 3,10
@SF HP
LARKMERE WATERWAYS
@SBA 12,30
@SF P
COLD HOST
"""


def program(name: str) -> str:
    found = shutil.which(name)
    if found is None and not os.environ.get("CI"):
        pytest.skip(f"{name} is not installed: scripts/setup.sh installs it")
    assert found is not None
    return found


@contextmanager
def ledger_process(registry: Path, folder: Path, *options: str) -> Iterator[int]:
    """The demo's ledger as the demo runs it, and its port."""
    accounts = folder / "accounts.json"
    accounts.write_text(json.dumps({USER: {"password": PASSWORD}}))
    words = [sys.executable, "-m", "bricola.demo.hosts", "ledger", "--registry", str(registry), "--accounts", str(accounts), *options]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        try:
            yield int(process.stdout.readline())
        finally:
            process.terminate()


@pytest.mark.parametrize("extended", [True, False])
def test_an_independent_terminal_signs_on_to_the_ledger_and_pages_its_list(registry: Path, tmp_path: Path, extended: bool) -> None:
    page = ("PF(8)", "Wait(10,Unlock)", "Ascii(7,0,16,80)")
    with ledger_process(registry, tmp_path) as port:
        script = [f"Connect({'' if extended else 'N:'}127.0.0.1:{port})", "Wait(10,InputField)", f'String("{USER}")', "Tab()",
                  f'String("{PASSWORD}")', "Enter()", "Wait(10,Unlock)", "Ascii(0,0,2,80)", 'String("1")', "Enter()", "Wait(10,Unlock)",
                  'String("LK-0412")', "Enter()", "Wait(10,Unlock)", "Ascii(0,0,24,80)", *page * 19, *page, "PF(12)", "Wait(10,Unlock)",
                  "Ascii(0,0,2,80)", "PF(3)", "Wait(10,Unlock)", "Ascii(0,0,24,80)", "Quit()"]
        done = subprocess.run(
            [program("s3270"), "-model", "3279-2", "-codepage", "cp037"],
            input="\n".join(script) + "\n",
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
    lines = [line.removeprefix("data: ") for line in done.stdout.splitlines() if line.startswith("data: ")]
    assert any("LKM100" in line for line in lines)
    passages = {number for line in lines for number in re.findall(r"P[SL]-\d{6}", line)}
    assert len(passages) == 300  # each page was another one
    assert sum("More ... +" in line for line in lines) == 19
    assert any("THIS IS THE LAST PAGE" in line for line in lines)
    assert any(f"{USER} IS SIGNED OFF" in line for line in lines)


@contextmanager
def independent_host(folder: Path) -> Iterator[int]:
    """A host of Debian's packages that shows a logo to whoever comes, and its port."""
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    (folder / "logo.txt").write_text(LOGO)
    (folder / "host.cnf").write_text(f"CPUSERIAL 000412\nCPUMODEL 4381\nMAINSIZE 2\nNUMCPU 1\nCNSLPORT {port}\nARCHMODE ESA/390\n"
                                     f"HERCLOGO {folder / 'logo.txt'}\n001F 3270\n0020 3270\n")
    with subprocess.Popen([program("hercules"), "-d", "-f", "host.cnf"], cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
                          stderr=subprocess.DEVNULL, start_new_session=True) as process:
        try:
            yield port
        finally:
            process.kill()


@pytest.mark.parametrize(("model", "colour", "extended"), [(2, True, True), (2, False, False), (5, True, True)])
async def test_the_logo_of_an_independent_host_is_read(tmp_path: Path, model: int, colour: bool, extended: bool) -> None:
    backend = CATALOGUE.find_backend("ledger")
    assert backend is not None
    assert backend.terminal is not None
    host: TerminalHost = backend.terminal.model_copy(update={"model": model, "colour": colour, "extended": extended})
    with independent_host(tmp_path) as port:
        endpoint = Endpoint(name="other", address=f"127.0.0.1:{port}")
        for _ in range(100):
            try:
                session = await connect("other", Binding(name="other", address=endpoint.address), endpoint, Tn3270(terminal_settings(host)),
                                        ANYWHERE)
                break
            except OSError:
                await asyncio.sleep(0.1)
        assert await session.heard(0, 10)
        screen = session.screen
        session.close()
    assert (screen.rows, screen.columns) == (24, 80)
    assert screen.characters.count("LARKMERE WATERWAYS") == 1
    logo = next(one for one in screen.fields if "LARKMERE" in screen.text_of(one))
    assert logo.protected
    assert logo.intensified
    assert "COLD HOST" in screen.lines[12] + screen.lines[11]
