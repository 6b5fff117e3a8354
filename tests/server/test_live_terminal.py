"""A live terminal is lent to a person, not to a host: it ends when the person is idle, whatever the host goes on to show."""

import asyncio
from typing import Any

import pytest

from bricola.core.problems import ProblemError
from bricola.server.kinds.screens import routes


class Socket:
    """A page whose person says nothing more after these words."""

    def __init__(self, *words: str) -> None:
        self.words = list(words)
        self.sent: list[Any] = []

    async def receive_text(self) -> str:
        if self.words:
            await asyncio.sleep(0.1)
            return self.words.pop(0)
        return await asyncio.Future()

    async def send_json(self, told: Any) -> None:
        self.sent.append(told)


class Host:
    """One that shows another minute of its clock all the time."""

    async def news(self) -> dict[str, str]:
        await asyncio.sleep(0.01)
        return {"type": "screen"}

    def view(self) -> dict[str, str]:
        return {}


async def test_a_host_that_goes_on_showing_keeps_nobody_signed_on(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(routes, "_IDLE_SECONDS", 0.3)
    socket: Any = Socket()
    host: Any = Host()
    async with asyncio.timeout(60):
        with pytest.raises(ProblemError) as caught:
            await routes._converse(socket, host)
    assert (caught.value.problem.code, caught.value.problem.mend) == ("terminal.idle", "Open it again.")
    assert {one["type"] for one in socket.sent} == {"screen"}


async def test_a_word_of_the_person_begins_the_time_anew(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(routes, "_IDLE_SECONDS", 0.3)
    socket: Any = Socket(*["not a word that there is"] * 5)  # half a second of words; each is refused, and is a sign of life
    host: Any = Host()
    async with asyncio.timeout(60):
        with pytest.raises(ProblemError) as caught:
            await routes._converse(socket, host)
    assert caught.value.problem.code == "terminal.idle"
    assert not socket.words
