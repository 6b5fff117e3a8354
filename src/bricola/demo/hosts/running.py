"""The simulated hosts as processes of their own beside the demo's service: started, kept up, and stopped with it."""

import json
import os
import secrets
import signal
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import structlog

from bricola.demo.hosts.forking import Nursery, runs

log = structlog.stdlib.get_logger("bricola.demo")

_BACK_AFTER = 8.0  # seconds after which a host that ended is started again
_LOOK_EVERY = 0.5


@dataclass(frozen=True)
class HostPlan:
    """One host: its name, what it runs, and the registry that it reads."""

    name: str
    kind: str
    registry: Path
    broadcast_every: int = 0
    module: tuple[str, ...] = ()  # what is run in place of `bricola.demo.hosts`, with its words


class HostProcesses:
    """Starts hosts on free ports, and each again on its own port when it ended."""

    def __init__(self, accounts: Path) -> None:
        self._accounts = accounts
        self._plans: dict[str, HostPlan] = {}
        self._nursery = Nursery()
        self._pids: dict[str, int] = {}
        self._ended: dict[str, float] = {}
        self.ports: dict[str, int] = {}
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self, plans: list[HostPlan], wanted: dict[str, int]) -> None:
        """Start all; on the `wanted` ports where these are free. Raises OSError when one does not start."""
        self._plans = {plan.name: plan for plan in plans}
        refused = self._begin({plan.name: wanted.get(plan.name, 0) for plan in plans})
        refused = self._begin(dict.fromkeys(refused, 0))  # another program has the port
        if refused:
            raise OSError(f"the host {refused[0]} does not start")
        self._thread = threading.Thread(target=self._keep_up, name="demo-hosts", daemon=True)
        self._thread.start()

    def pids(self) -> dict[str, int]:
        return dict(self._pids)

    def stop(self) -> None:
        self._stop.set()
        if self._thread is not None:
            self._thread.join()
        running = [pid for pid in self._pids.values() if _sent(pid, signal.SIGTERM)]
        deadline = time.monotonic() + 5
        while (running := [pid for pid in running if runs(pid)]) and time.monotonic() < deadline:
            time.sleep(0.02)
        for pid in running:
            _sent(pid, signal.SIGKILL)
        self._nursery.close()

    def _begin(self, ports: dict[str, int]) -> list[str]:
        """Start these hosts, side by side; the names of those that ended instead of listening."""
        begun = self._nursery.begin([self._words(self._plans[name], port) for name, port in ports.items()]) if ports else []
        for name, one in zip(ports, begun, strict=True):
            if one is not None:
                self._pids[name], self.ports[name] = one
        return [name for name, one in zip(ports, begun, strict=True) if one is None]

    def _words(self, plan: HostPlan, port: int) -> list[str]:
        if plan.module:
            return [*plan.module, "--port", str(port)]
        return ["bricola.demo.hosts", plan.kind, "--registry", str(plan.registry), "--accounts", str(self._accounts), "--port", str(port),
                "--broadcast-every", str(plan.broadcast_every)]

    def _keep_up(self) -> None:
        while not self._stop.wait(_LOOK_EVERY):
            for name, pid in list(self._pids.items()):
                if runs(pid):
                    continue
                ended = self._ended.setdefault(name, time.monotonic())
                if time.monotonic() - ended < _BACK_AFTER or self._stop.is_set():
                    continue
                del self._ended[name]
                try:
                    refused = self._begin({name: self.ports[name]})
                except OSError as error:
                    log.warning("no host starts again", problem=str(error))
                    return
                if refused:
                    log.warning("a host does not start again", host=name)


def _sent(pid: int, number: int) -> bool:
    """Whether a signal reached a process."""
    try:
        os.kill(pid, number)
    except ProcessLookupError:
        return False
    return True


def make_accounts(file: Path) -> None:
    """Write the hosts' accounts with secrets of their own."""
    passwords = {user: secrets.token_hex(4).upper() for user in ("LKCLERK", "LKDESK", "LKOLD", "LKONE", "LKBOARD", "LKSIGNAL")}
    content = {user: {"password": password, "expired": user == "LKOLD", "most": 1 if user == "LKONE" else 100}
               for user, password in passwords.items()}
    with os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as stream:
        json.dump(content, stream, indent=1)
