"""What an environment can host, and why not; and that the list of commands says what the commands themselves say."""

from dataclasses import replace

import pytest

from bricola.cli.commands import COMMANDS, load_module
from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.kinds.registry import kinds, register
from bricola.server.usecases import hosting

LIVE = EnvironmentDefinition(name="live")


def _cannot(monkeypatch: pytest.MonkeyPatch, reasons: dict[str, str]) -> dict[str, str]:
    monkeypatch.setattr(hosting, "able", lambda: dict.fromkeys(ENGINES, "") | reasons)
    return {one["word"]: one["reason"] for one in hosting.hosting(LIVE) if not one["able"]}


def test_an_engine_that_cannot_be_loaded_says_why(monkeypatch: pytest.MonkeyPatch) -> None:
    assert _cannot(monkeypatch, {}) == {}
    assert _cannot(monkeypatch, {"mariadb": "its library is missing"}) == {"mariadb": "its library is missing"}


def test_a_kind_needs_an_engine_of_its_family(monkeypatch: pytest.MonkeyPatch) -> None:
    terminals = {word: "no terminals here" for word, one in ENGINES.items() if one.family is Family.TERMINAL_HOST}
    found = _cannot(monkeypatch, terminals)
    assert found == terminals | {"screen-flow": "no terminal host can be reached from here"}


def test_a_kind_says_what_else_it_lacks(monkeypatch: pytest.MonkeyPatch) -> None:
    kind = kinds()[0]
    register(replace(kind, lacks=lambda environment: f"{environment.name} has no folder that is allowed"))
    try:
        assert _cannot(monkeypatch, {}) == {kind.word: "live has no folder that is allowed"}
    finally:
        register(kind)


def test_the_list_of_commands_is_what_the_modules_define() -> None:
    for module in {one.module for one in COMMANDS.values()}:
        loaded = load_module(module)
        listed = {name: one for name, one in COMMANDS.items() if one.module == module}
        assert set(loaded) == set(listed), module
        for name, one in listed.items():
            command = loaded[name]
            assert (command.help or "").replace("\n", " ").strip() == one.words, name
            assert getattr(command, "rich_help_panel", None) == one.panel, name
