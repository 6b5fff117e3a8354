"""The simulated hosts as processes of their own beside the demo's service: started, kept up, and stopped with it."""

import json
import os
import secrets
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import structlog

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
        self._processes: dict[str, subprocess.Popen[str]] = {}
        self._ended: dict[str, float] = {}
        self.ports: dict[str, int] = {}
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self, plans: list[HostPlan], wanted: dict[str, int]) -> None:
        """Start all; on the `wanted` ports where these are free. Raises OSError when one does not start."""
        self._plans = {plan.name: plan for plan in plans}
        begun = {plan.name: self._begin(plan, wanted.get(plan.name, 0)) for plan in plans}  # side by side: each takes half a second
        for plan in plans:
            try:
                self._await(plan, begun[plan.name])
            except OSError:  # another program has the port
                self._await(plan, self._begin(plan, 0))
        self._thread = threading.Thread(target=self._keep_up, name="demo-hosts", daemon=True)
        self._thread.start()

    def pids(self) -> dict[str, int]:
        return {name: one.pid for name, one in self._processes.items()}

    def stop(self) -> None:
        self._stop.set()
        for one in self._processes.values():
            one.terminate()
        for one in self._processes.values():
            try:
                one.wait(5)
            except subprocess.TimeoutExpired:
                one.kill()

    def _begin(self, plan: HostPlan, port: int) -> "subprocess.Popen[str]":
        words = [sys.executable, "-m", "bricola.demo.hosts", plan.kind, "--registry", str(plan.registry), "--accounts", str(self._accounts),
                 "--port", str(port), "--broadcast-every", str(plan.broadcast_every)]
        if plan.module:
            words = [sys.executable, "-m", *plan.module, "--port", str(port)]
        return subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL, text=True,
                                start_new_session=True)  # Ctrl C is for the service, which then stops its hosts

    def _await(self, plan: HostPlan, process: "subprocess.Popen[str]") -> None:
        """Until it listens. Raises OSError when it ends instead."""
        assert process.stdout is not None
        line = process.stdout.readline()
        if not line.strip().isdigit():
            process.kill()
            process.wait()
            raise OSError(f"the host {plan.name} does not start")
        self.ports[plan.name] = int(line)
        self._processes[plan.name] = process

    def _keep_up(self) -> None:
        while not self._stop.wait(_LOOK_EVERY):
            for name, process in list(self._processes.items()):
                if process.poll() is None:
                    continue
                ended = self._ended.setdefault(name, time.monotonic())
                if time.monotonic() - ended >= _BACK_AFTER and not self._stop.is_set():
                    try:
                        self._await(self._plans[name], self._begin(self._plans[name], self.ports[name]))
                        del self._ended[name]
                    except OSError as error:
                        log.warning("a host does not start again", problem=str(error))
                        self._ended[name] = time.monotonic()


def make_accounts(file: Path) -> None:
    """Write the hosts' accounts with secrets of their own."""
    passwords = {user: secrets.token_hex(4).upper() for user in ("LKCLERK", "LKDESK", "LKOLD", "LKONE", "LKBOARD", "LKSIGNAL")}
    content = {user: {"password": password, "expired": user == "LKOLD", "most": 1 if user == "LKONE" else 100}
               for user, password in passwords.items()}
    with os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as stream:
        json.dump(content, stream, indent=1)
