"""The host's side of 3270: with our own terminal in memory, and with an independent one of Debian's packages over loopback."""

import os
import shutil
import socket
import subprocess
import threading
from collections.abc import Callable

import pytest

from bricola.core.problems import ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.host3270 import Part, Pressed, Tn3270Host
from bricola.core.terminals.terminal import TerminalSettings
from bricola.core.terminals.tn3270 import Tn3270

FORM = (
    Part(1, 2, "LK01", intensified=True),
    Part(1, 30, "LARKMERE LEDGER"),
    Part(5, 2, "User"),
    Part(5, 12, protected=False, length=8, cursor=True),
    Part(6, 2, "Password"),
    Part(6, 12, protected=False, hidden=True, length=8),
    Part(7, 2, "Number"),
    Part(7, 12, protected=False, numeric=True, length=4),
)


def talk(terminal: Tn3270, host: Tn3270Host) -> list[Pressed]:
    """Carry bytes between the two until both are silent."""
    to_terminal, keys = host.start(), []
    while to_terminal:
        to_terminal, pressed = host.receive(terminal.receive(to_terminal))
        keys += pressed
    return keys


@pytest.mark.parametrize(("settings", "extended"), [(TerminalSettings(), True), (TerminalSettings(extended=False, lu="LOCK07"), False)])
def test_terminal_and_host_agree_and_exchange_a_form(settings: TerminalSettings, extended: bool) -> None:
    terminal, host = Tn3270(settings), Tn3270Host()
    assert talk(terminal, host) == []
    assert (host.ready, host.extended) == (True, extended)
    assert host.device == (settings.lu or "TERM0001")
    terminal.receive(host.screen(FORM))
    screen = terminal.screen
    assert screen.text(screen.position(1, 30), 15) == "LARKMERE LEDGER"
    assert [(one.length, one.hidden, one.numeric) for one in screen.inputs] == [(8, False, False), (8, True, False), (4, False, True)]
    assert screen.cursor == screen.position(5, 12)
    user, password, number = screen.inputs
    terminal.type_into(user.start, "IMKE")
    terminal.type_into(password.start, "gate-17")
    terminal.type_into(number.start, "0412")
    assert "gate" not in terminal.screen.characters
    sent, keys = host.receive(terminal.press("Enter"))
    assert sent == b""
    assert [(one.key, one.fields) for one in keys] == [("Enter", {user.start: "IMKE", password.start: "gate-17", number.start: "0412"})]
    assert terminal.screen.locked
    terminal.receive(host.screen((Part(1, 2, "LK02"),), alarm=True))
    assert (terminal.screen.locked, terminal.screen.alarm) == (False, True)
    assert host.receive(terminal.press("PF3"))[1][0].key == "PF3"


def test_a_terminal_of_another_kind_is_told() -> None:
    host = Tn3270Host()
    host.start()
    host.receive(telnet.option(telnet.WONT, telnet.TN3270E))
    with pytest.raises(ProblemError, match="does not talk 3270"):
        host.receive(telnet.option(telnet.WONT, telnet.TERMINAL_TYPE))


def serve(ready: Callable[[int], None], seen: list[Pressed], devices: list[str]) -> None:
    """One session: the form, then what was typed, then the end."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(20)
        ready(server.getsockname()[1])
        connection, _ = server.accept()
        with connection:
            host = Tn3270Host()
            connection.sendall(host.start())
            shown = False
            while data := connection.recv(4096):
                out, keys = host.receive(data)
                connection.sendall(out)
                if host.ready and not shown:
                    shown = True
                    devices.append(f"{host.terminal} {host.extended}")
                    connection.sendall(host.screen(FORM))
                for one in keys:
                    seen.append(one)
                    if one.key == "PF3":
                        return
                    connection.sendall(host.screen((Part(1, 2, "LK02"), Part(3, 2, f"Welcome {one.fields.get(4 * 80 + 11, '')}"),
                                                    Part(5, 12, protected=False, length=8, cursor=True))))


@pytest.mark.parametrize(("options", "extended"), [((), True), (("-set", "tn3270e=false"), False)])
def test_an_independent_terminal_signs_on(options: tuple[str, ...], extended: bool) -> None:
    program = shutil.which("s3270")
    if program is None and not os.environ.get("CI"):
        pytest.skip("s3270 is not installed: scripts/setup.sh installs it")
    assert program is not None
    started, ports = threading.Event(), []
    seen: list[Pressed] = []
    devices: list[str] = []

    def ready(port: int) -> None:
        ports.append(port)
        started.set()

    thread = threading.Thread(target=serve, args=(ready, seen, devices), daemon=True)
    thread.start()
    assert started.wait(10)
    script = "\n".join((f"Connect({'N:' if not extended else ''}127.0.0.1:{ports[0]})", "Wait(10,InputField)", 'String("IMKE")', "Tab()",
                        'String("gate-17")', "Tab()", 'String("0412")', "Enter()", "Wait(10,Unlock)", "Ascii()", "PF(3)", "Quit()")) + "\n"
    done = subprocess.run(
        [program, "-model", "3279-2", "-codepage", "cp037"], input=script, capture_output=True, text=True, timeout=60, check=False
    )
    thread.join(10)
    assert "data:  LK02" in done.stdout, done.stdout
    assert "Welcome IMKE" in done.stdout
    assert [one.key for one in seen] == ["Enter", "PF3"]
    assert list(seen[0].fields.values()) == ["IMKE", "gate-17", "0412"]
    assert devices == [f"IBM-327{8 if extended else 9}-2-E {extended}"]
