"""The first hour on the command line: from an empty folder to an answered call, with nothing typed twice."""

import re
from collections.abc import Iterator
from typing import Any

import pytest

from tests.commands import run_command
from tests.core.databases import Servers
from tests.postgres import PASSWORD

TABLES = """CREATE TABLE weir_log (number varchar(8) PRIMARY KEY, opened_on date NOT NULL, metres numeric(6,2));
INSERT INTO weir_log VALUES ('W-1', '2026-02-03', 2.50);"""


@pytest.fixture(scope="module")
def servers() -> Iterator[Servers]:
    found = Servers()
    yield found
    found.close()


def start(address: str, environ: dict[str, str], *answers: str) -> Any:
    return run_command(("start", address), environ, "\n".join(answers) + "\n")


def test_from_an_empty_folder_to_an_answered_call(empty: tuple[str, dict[str, str]], servers: Servers) -> None:
    address, environ = empty
    server = servers.get("postgresql")
    with server.connect() as db:
        db.execute(TABLES)
    base = address.partition("/setup")[0]
    refused = run_command(("signin", base, "-u", "imke"), environ, "guess\n")
    assert refused.returncode == 1
    assert "has no user yet" in refused.stderr
    assert f"bricola start {base}" in refused.stderr
    done = start(address, environ, "imke", "a-long-password-1", "", "postgresql", server.address, "registry", "bricola", PASSWORD, "",
                 "weir_log", "", "", "")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "WeirLog is live in trial" in done.stdout
    assert re.search(r"GetWeirLog number=W-1 answers:", done.stdout), done.stdout
    assert "2.50" in done.stdout
    assert PASSWORD not in done.stdout
    token = re.findall(r"shown once: (\S+)", done.stdout)[0]
    assert token.startswith("brc_")
    again = run_command(("call", "trial", "WeirLog", "GetWeirLog", "number=W-1"), environ)
    assert again.returncode == 0, again.stderr
    assert "2026-02-03" in again.stdout
    later = start(base, environ, "second-caller")  # it goes on where it was: only the caller is asked for
    assert later.returncode == 0, later.stdout + later.stderr
    assert "Which kind" not in later.stdout


def test_a_backend_that_is_said_wrongly_is_asked_for_again(empty: tuple[str, dict[str, str]], servers: Servers) -> None:
    address, environ = empty
    server = servers.get("postgresql")
    base = address.partition("/setup")[0]
    stopped = start(address, environ, "imke", "a-long-password-1", "try, real")  # the answers end with the environments
    assert stopped.returncode == 1
    kept = run_command(("credentials", "add", "bank", "--user", "teller", "--at", base), environ, "of-somebody-else\n")
    assert kept.returncode == 0, kept.stdout + kept.stderr
    done = start(base, environ, "postgresql", server.address, "registry", "bricola", "wrong", "bank", "",
                 "1", server.address, "registry", "bricola", PASSWORD, "", "nothing", "1", "", "", "")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "✕ signed on" in done.stdout
    assert "is live in try" in done.stdout
    assert "bank cannot be its name" in done.stdout
    assert "teller" in run_command(("credentials", "--at", base), environ).stdout, "what was there is not taken back"
    cut = run_command(("start", address.partition("/setup")[0]), environ)  # nobody answers any more
    assert cut.returncode == 1
    assert "goes on where it was" in cut.stderr
