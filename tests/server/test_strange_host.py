"""A host that nobody has defined: seen at a raw terminal, learned from one sign-on, and connected with what was typed there."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from bricola.client import Client
from bricola.client.screens import TerminalLine
from bricola.core.problems import ProblemError
from tests.hosts import host_on_a_thread
from tests.serving import serving

ENVIRONMENT = {"environments/trial.yaml": "environment: trial\n"}


def _told(line: TerminalLine, kind: str) -> dict[str, Any]:
    while True:
        told = line.hear(20)
        assert told is not None
        if told["type"] == kind:
            return told


def _inputs(screen: dict[str, Any]) -> list[int]:
    return [one["start"] for one in screen["fields"] if not one.get("protected")]


def _press(line: TerminalLine, screen: dict[str, Any], key: str, *texts: str) -> dict[str, Any]:
    line.press(key, dict(zip(_inputs(screen), texts, strict=False)))
    moved = _told(line, "moved")
    return dict(moved["screen"])


def _on(kind: str, tmp_path: Path, work: Callable[[Client, str], None]) -> None:
    """Do something with a service and one of the demo's hosts."""
    with host_on_a_thread(kind, tmp_path) as address, serving(tmp_path / "data") as served, served.client() as client:
        client.apply(ENVIRONMENT)
        work(client, address)


@pytest.mark.parametrize(("kind", "engine", "start"), [("ledger", "tn3270", "lkm100"), ("berths", "tn5250", "")])
def test_a_host_is_learned_from_one_sign_on_and_answers_the_next_terminal(tmp_path: Path, kind: str, engine: str, start: str) -> None:
    def work(client: Client, address: str) -> None:
        with client.strange_terminal("trial", address, engine) as line:
            opened = _told(line, "opened")
            assert (opened["user"], opened["known"], opened["pooled"]) == ("", "", False)
            again = _press(line, opened["screen"], "Enter", "LKCLERK", "no such word")  # the host refuses, and one sees how
            menu = _press(line, again, "Enter", "LKCLERK", "SLUICE77")
            assert menu["lines"] != again["lines"]
            made = line.learn("host-of-old")
        assert (made["backend"], made["credential"]) == ("host-of-old", "host-of-old")
        files = client.export()
        assert "SLUICE77" not in str(files)
        assert "SLUICE77" not in str(made)
        text = files["backends/host-of-old.yaml"]
        assert "credential: user" in text
        assert "credential: password" in text
        assert "refused:" in text
        assert start in text
        assert "credential: host-of-old" in files["environments/trial.yaml"]
        checked = client.check("trial", "host-of-old")[0]
        assert checked["passed"], checked
        with client.terminal("trial", "host-of-old") as line:  # of the pool: signed on, at the start
            there = _told(line, "opened")
            assert (there["user"], there["known"]) == ("LKCLERK", made["start"])

    _on(kind, tmp_path, work)


def test_what_a_walk_cannot_say_is_refused_with_what_to_do(tmp_path: Path) -> None:
    def work(client: Client, address: str) -> None:
        with client.strange_terminal("trial", address, "tn3270") as line:
            opened = _told(line, "opened")
            _press(line, opened["screen"], "Enter", "LKCLERK", "no such word")
            with pytest.raises(ProblemError) as caught:
                line.learn("host-of-old")
            assert caught.value.problem.code == "learning.start"
        assert "backends/host-of-old.yaml" not in client.export()
        for settings, code in (({"engine": "tn3271"}, "terminal.engine"), ({"code_page": "cp9"}, "codepage.unknown")):
            with pytest.raises(ProblemError) as caught, \
                    client.strange_terminal("trial", address, **{"engine": "tn3270", **settings}) as line:
                _told(line, "opened")
            assert caught.value.problem.code == code

    _on("ledger", tmp_path, work)


def _signed_on(line: TerminalLine) -> None:
    opened = _told(line, "opened")
    _press(line, opened["screen"], "Enter", "LKCLERK", "SLUICE77")


def test_what_is_somebodys_work_is_not_taken_and_what_fails_leaves_nothing_behind(tmp_path: Path) -> None:
    def refused(line: TerminalLine, name: str, credential: str = "") -> str:
        with pytest.raises(ProblemError) as caught:
            line.learn(name, credential)
        assert caught.value.problem.mend or caught.value.problem.expected
        return caught.value.problem.code

    def work(client: Client, address: str) -> None:
        client.add_credential("kept", "of-somebody-else", user="teller")
        client.apply({"b.yaml": "backend: store\nengine: sqlite\n"})
        client.add_user("teo", "towpath lantern", "integrator")
        before = client.export()
        with client.strange_terminal("trial", address, "tn3270") as line:
            _signed_on(line)
            assert refused(line, "store") == "learning.taken"  # another backend would be bound elsewhere
            assert refused(line, "old-ledger", "kept") == "credential.exists"  # a secret would be replaced
            assert refused(line, "no name of this kind!") == "learning.name"
        assert [(one["name"], one["user"]) for one in client.credentials()] == [("kept", "teller")]
        with Client(client.url) as integrator:
            integrator.sign_in("teo", "towpath lantern")
            with integrator.strange_terminal("trial", address, "tn3270") as line:
                _signed_on(line)
                assert refused(line, "old-ledger") == "credential.admin"  # only admins bring secrets in, here as elsewhere
        assert client.export() == before
        assert [one["name"] for one in client.credentials()] == ["kept"]

    _on("ledger", tmp_path, work)


@pytest.mark.parametrize("settings", [{"model": 9}, {"tls": "perhaps"}, {"device": "not a device name at all, by far too long"}])
def test_settings_that_no_terminal_has_are_told(tmp_path: Path, settings: dict[str, Any]) -> None:
    with serving(tmp_path) as served, served.client() as client:
        client.apply(ENVIRONMENT)
        with pytest.raises(ProblemError) as caught, client.strange_terminal("trial", "127.0.0.1:9", "tn3270", **settings) as line:
            _told(line, "opened")
        assert caught.value.problem.code.startswith(("terminal.", "backend.", "binding.")), caught.value.problem
        assert caught.value.problem.code != "client.no-answer"
