"""What only processes prove: one for each data folder, and an audit trail that a kill does not cut."""

import json
import signal
import sqlite3
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from bricola.client import Client
from bricola.core.problems import ProblemError
from tests.conftest import COMMAND
from tests.length import often


@contextmanager
def served(data: Path) -> Iterator[tuple["subprocess.Popen[str]", dict[str, str]]]:
    process = subprocess.Popen([COMMAND, "serve", "--data", data, "--port", "0", "--json"], stdout=subprocess.PIPE,
                               stderr=subprocess.DEVNULL, text=True)
    assert process.stdout is not None
    told = ""
    while not told.endswith("}\n"):
        line = process.stdout.readline()
        assert line, "the service did not start"
        told += line
    try:
        yield process, json.loads(told)
    finally:
        process.kill()
        process.wait(60)
        process.stdout.close()


def test_a_second_process_on_a_folder_is_refused_with_the_first_one_named(tmp_path: Path) -> None:
    with served(tmp_path) as (process, facts):
        second = subprocess.run([COMMAND, "serve", "--data", tmp_path, "--port", "0"], capture_output=True, text=True, timeout=60)
        assert second.returncode == 1
        assert "Another Bricola runs on this data folder" in second.stderr
        assert f"process {process.pid} at {facts['url']}" in second.stderr
        process.send_signal(signal.SIGKILL)
        process.wait(60)
        with served(tmp_path) as (_, again):  # a killed process leaves nothing to clear away
            assert again["url"]


@pytest.mark.parametrize("after", [0.13, 0.41, *(0.05 * number for number in range(often(0, 40)))])
def test_what_a_kill_cuts_off_is_cut_off_whole(tmp_path: Path, after: float) -> None:
    with served(tmp_path) as (process, facts):
        with Client(facts["url"]) as client:
            assert facts["setup"] is not None
            client.set_up(facts["setup"].partition("code=")[2], "imke", "a long password")
            token = client.sign_in("imke", "a long password")

        def change(who: int) -> None:
            with Client(facts["url"], token) as client:
                for number in range(10_000):
                    try:
                        client.apply({f"t{who}.yaml": f"type: Type{who}\nbase: string\nmax_length: {number + 1}\n"})
                        client.save_caller(f"caller-{who}-{number}", ["reader"])
                        client.new_token(f"caller-{who}-{number}")
                        client.add_credential(f"credential-{who}-{number}", "sluice", user="LKCLERK")
                        stored.release()
                    except ProblemError:
                        return

        stored = threading.Semaphore(0)  # of everything at least one
        threads = [threading.Thread(target=change, args=(who,)) for who in range(4)]
        for one in threads:
            one.start()
        assert stored.acquire(timeout=30)
        time.sleep(after)
        process.send_signal(signal.SIGKILL)
        for one in threads:
            one.join(30)
    with closing(sqlite3.connect(tmp_path / "bricola.db")) as db:
        def count(sql: str) -> int:
            return int(db.execute(sql).fetchone()[0])

        assert count("SELECT COUNT(*) FROM definition_revision") == count("SELECT COUNT(*) FROM audit WHERE action = 'define'") > 0
        assert count("SELECT COUNT(*) FROM caller") == count("SELECT COUNT(*) FROM audit WHERE action = 'add' AND subject LIKE 'caller %'") > 0
        assert count("SELECT COUNT(*) FROM caller_token") == count("SELECT COUNT(*) FROM audit WHERE action = 'new token'") > 0
        assert count("SELECT COUNT(*) FROM credential") == count("SELECT COUNT(*) FROM credential_version") \
            == count("SELECT COUNT(*) FROM audit WHERE action = 'add' AND subject LIKE 'credential %'") > 0
