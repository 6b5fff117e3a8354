"""`bricola demo`: make the world on the first start, run it on every one, and say how to use it.

The first start sets everything up through the client library, over the same doors that people use.
"""

import json
import os
import secrets
import shutil
import sys
from importlib import resources
from pathlib import Path
from typing import Any

from rich.console import Console

from bricola.client import Client
from bricola.client.signins import save_signin
from bricola.core.definitions.folder import read_folder
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.problems import Problem, ProblemError
from bricola.demo.hosts.running import HostPlan, HostProcesses, make_accounts
from bricola.demo.outside import lock_signals, river_board
from bricola.demo.packages import demo_packages
from bricola.demo.registry import make_registry
from bricola.server.bricola import Bricola
from bricola.server.logs import LogLevel, set_up_logs
from bricola.server.main import serve
from bricola.server.settings import Settings

ORGANISATION = "Larkmere Waterways"
USERS = (("imke", "admin"), ("teo", "integrator"), ("runa", "operator"), ("sanna", "viewer"))
CALLERS = {
    "tideway-portal": (["lock-desk"], "The public website"),
    "harbour-desk": (["registry-clerk", "lock-desk"], "Desk clerks"),
    "toll-audit": (["auditor"], "Reads only"),
    "night-batch": (["registry-clerk", "lock-desk", "auditor"], "Nightly jobs"),
}
SERVICES = ("VesselRegistry", "TonnageReport", "LockLedger", "BerthDesk", "GaugeReadings", "NoticeBoard",
            "MovementSummary", "PassageStatus", "TollCalculator", "PassageBooking", "PermitRenewal")
FILMED = ("vessel-ledger", "berth")
ENVIRONMENTS = ("rehearsal", "live")
HOSTS = (  # name, kind, environment, backend, endpoint
    ("ledger-rehearsal", "ledger", "rehearsal", "ledger", "north"),
    ("ledger-north", "ledger", "live", "ledger", "north"),
    ("ledger-south", "ledger", "live", "ledger", "south"),
    ("berths-rehearsal", "berths", "rehearsal", "berths", "basin"),
    ("berths-live", "berths", "live", "berths", "basin"),
    ("river-board-rehearsal", "river-board", "rehearsal", "river-board", "telemetry"),
    ("river-board-live", "river-board", "live", "river-board", "telemetry"),
    ("lock-signals-rehearsal", "lock-signals", "rehearsal", "lock-signals", "keepers"),
    ("lock-signals-live", "lock-signals", "live", "lock-signals", "keepers"),
    ("toll-office-rehearsal", "toll-office", "rehearsal", "toll-office", "counter"),
    ("toll-office-live", "toll-office", "live", "toll-office", "counter"),
)
PROTOCOLS = {"ledger": "tn3270", "berths": "tn5250", "river-board": "http", "lock-signals": "http", "toll-office": "program-host"}
WEB = {"river-board": river_board.PLACE, "lock-signals": lock_signals.PLACE}  # kinds over HTTP, and the path at which they answer
BROADCAST_EVERY = 25  # keys of a session in live, after which a message to all desks covers the screen
CREDENTIALS = {"ledger-clerk-rehearsal": "LKCLERK", "ledger-clerk-live": "LKDESK", "berth-desk-rehearsal": "LKCLERK",
               "berth-desk-live": "LKDESK", "river-board-rehearsal": "LKBOARD", "river-board-live": "LKBOARD",
               "lock-signals-rehearsal": "LKSIGNAL", "lock-signals-live": "LKSIGNAL"}


def run_demo(port: int, data: Path, ready_file: Path | None, remember: bool, as_json: bool = False) -> None:
    """Run until stopped. Raises ProblemError when the folder holds something else than a demo."""
    state_file = data / "demo.json"
    if (data / "bricola.db").exists() and not state_file.exists():
        if data.joinpath(".demo-unfinished").exists():
            shutil.rmtree(data)  # a first start that was cut off; nothing in it was ever used
        else:
            raise ProblemError(Problem("demo.folder", "The folder holds another service, not a demo.", place=str(data),
                                       mend="Name another folder with --data, or use: bricola serve"))
    data.mkdir(parents=True, exist_ok=True)
    if not state_file.exists():
        data.joinpath(".demo-unfinished").touch()
        make_registry(data / "rehearsal" / "registry.db")
        (data / "live").mkdir(exist_ok=True)
        shutil.copyfile(data / "rehearsal" / "registry.db", data / "live" / "registry.db")
    if ready_file is not None:
        ready_file.unlink(missing_ok=True)
    state = json.loads(state_file.read_text()) if state_file.exists() else {}
    accounts = data / "hosts.json"
    if not accounts.exists():
        make_accounts(accounts)
    passwords = {"": "", "LKBOARD": "", "LKSIGNAL": ""} | {user: one["password"] for user, one in json.loads(accounts.read_text()).items()}
    hosts = HostProcesses(accounts)
    hosts.start(
        [
            HostPlan(name, kind, data / environment / "registry.db", BROADCAST_EVERY if environment == "live" else 0,
                     ("bricola.demo.programs", "--folder", str(data / "programs")) if kind == "toll-office" else ())
            for name, kind, environment, _, _ in HOSTS
        ],
        state.get("ports", {}),
    )

    def ready(bricola: Bricola, address: str) -> None:
        if not state_file.exists():
            _write_private(state_file, _fill(bricola, address, hosts.ports, passwords))
            data.joinpath(".demo-unfinished").unlink(missing_ok=True)
        state = json.loads(state_file.read_text())
        if state.get("ports") != hosts.ports:
            _move_hosts(state, address, hosts.ports)
            state["ports"] = dict(hosts.ports)
            _write_private(state_file, state)
        facts = _facts(state, address, hosts, passwords)
        if remember:
            user = state["users"][0]
            with Client(address) as client:
                save_signin(address, user["name"], client.sign_in(user["name"], user["password"]))
        if ready_file is not None:
            _write_private(ready_file, facts)
        if as_json:
            sys.stdout.write(json.dumps(facts) + "\n")
            sys.stdout.flush()
        else:
            _announce(facts, remember)

    set_up_logs(LogLevel.WARNING)
    try:
        serve(Settings(data, port=port, organisation=ORGANISATION, networks=("127.0.0.0/8",)), ready)
    finally:
        hosts.stop()


def catalogue_files() -> dict[str, str]:
    """The demo's definition files, by path."""
    with resources.as_file(resources.files("bricola.demo").joinpath("catalogue")) as folder:
        return read_folder(folder)


def placed(files: dict[str, str], ports: dict[str, int]) -> dict[str, str]:
    """The environments with the ports that the simulated hosts listen on."""
    placed = dict(files)
    for path, text in files.items():
        definition = read_definition(text, path)
        if isinstance(definition, EnvironmentDefinition):
            bindings = []
            for binding in definition.backends:
                ends = {end: _address(kind, ports[name]) for name, kind, environment, backend, end in HOSTS
                        if (environment, backend) == (definition.name, binding.name)}
                bindings.append(binding.model_copy(update={"endpoints": tuple(
                    one.model_copy(update={"address": ends.get(one.name, one.address)}) for one in binding.endpoints)}))
            placed[path] = write_definition(definition.model_copy(update={"backends": tuple(bindings)}))
    return placed


def _address(kind: str, port: int) -> str:
    return f"http://127.0.0.1:{port}{WEB[kind]}" if kind in WEB else f"127.0.0.1:{port}"


def _move_hosts(state: dict[str, Any], address: str, ports: dict[str, int]) -> None:
    """Tell the environments where the hosts are now: another program took a port while the demo was stopped."""
    with Client(address) as client:
        client.sign_in(state["users"][0]["name"], state["users"][0]["password"])
        client.apply(placed({path: text for path, text in client.export().items() if text.startswith("environment:")}, ports))


def _fill(bricola: Bricola, address: str, ports: dict[str, int], passwords: dict[str, str]) -> dict[str, Any]:
    """Make users, definitions, callers, releases and deployments; answers the secrets, which are kept nowhere else."""
    users = [{"name": name, "password": secrets.token_urlsafe(9), "role": role} for name, role in USERS]
    with Client(address) as client:
        client.set_up(str(bricola.people.setup_code), users[0]["name"], users[0]["password"])
        client.sign_in(users[0]["name"], users[0]["password"])
        for user in users[1:]:
            client.add_user(user["name"], user["password"], user["role"])
        for credential, account in CREDENTIALS.items():
            client.add_credential(credential, passwords[account], user=account)
        client.apply(placed(catalogue_files(), ports))
        callers = []
        for name, (roles, description) in CALLERS.items():
            client.save_caller(name, roles, description)
            callers.append({"name": name, "token": client.new_token(name), "roles": roles})
        for flow in FILMED:
            client.make_film(flow, "rehearsal", listen=0.2)  # our own hosts write at once
        for service in SERVICES:
            client.release(service, "The first release of the demo")
            for environment in ENVIRONMENTS:
                client.deploy(service, environment)
        for package in demo_packages():
            client.keep_package(package)
    return {"users": users, "callers": callers, "ports": dict(ports)}


def _facts(state: dict[str, Any], address: str, hosts: HostProcesses, passwords: dict[str, str]) -> dict[str, Any]:
    """The content of the ready file."""
    services = []
    with Client(address) as client:
        client.sign_in(state["users"][0]["name"], state["users"][0]["password"])
        for one in client.overview()["services"]:
            services += [
                {"environment": place["environment"], "service": one["name"],
                 **{face: place[face] for face in ("soap", "wsdl", "rest")}}
                for place in one["deployments"] if "release" in place
            ]
    return {
        "url": address,
        "pid": os.getpid(),
        "users": state["users"],
        "callers": state["callers"],
        "services": services,
        "backends": [
            {
                "name": name,
                "kind": {"river-board": "soap", "lock-signals": "http", "toll-office": "program host"}.get(kind, "terminal host"),
                "host": "127.0.0.1",
                "user": {"river-board": "LKBOARD@larkmere", "lock-signals": "", "toll-office": ""}.get(kind, "LKCLERK"),
                "password": passwords[{"river-board": "LKBOARD", "lock-signals": "LKSIGNAL", "toll-office": ""}.get(kind, "LKCLERK")],
                "port": hosts.ports[name],
                "pid": hosts.pids()[name],
                "protocol": PROTOCOLS[kind],
                "environment": environment,
            }
            for name, kind, environment, _, _ in HOSTS
        ],
    }


def _write_private(file: Path, content: dict[str, Any]) -> None:
    """Write JSON atomically, readable by the owner only: it holds secrets."""
    file.parent.mkdir(parents=True, exist_ok=True)
    new = file.with_name(f"{file.name}.{os.getpid()}")
    with os.fdopen(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as stream:
        json.dump(content, stream, indent=1)
    new.replace(file)


def _announce(facts: dict[str, Any], remember: bool) -> None:
    out = Console(highlight=False, soft_wrap=True)
    user = facts["users"][0]
    caller = next(one for one in facts["callers"] if one["name"] == "harbour-desk")
    live = next((one for one in facts["services"] if (one["environment"], one["service"]) == ("live", "VesselRegistry")), None)
    out.print(f"\n[bold]{ORGANISATION}[/] runs at [bold]{facts['url']}/[/]\n")
    out.print("Sign in to the console as " + ", or ".join(
        f"[bold]{one['name']}[/] / {one['password']} ({one['role']})" for one in facts["users"][:2]))
    first = facts["backends"][0]
    out.print(f"\nSimulated hosts; at those for terminals sign on as [bold]{first['user']}[/] / {first['password']}")
    for one in facts["backends"]:
        out.print(f"  {one['name']:<21} {one['protocol']}  {one['host']}:{one['port']}  process {one['pid']}")
    out.print("\nServices")
    for one in facts["services"]:
        out.print(f"  {one['environment']:<10} {one['service']:<16} {one['soap']}")
    out.print(f"  index for callers           {facts['url']}/soap/")
    if live is not None:
        out.print("\nTry a call with the command line" + ("" if remember else f" (sign in first: bricola signin {facts['url']})"))
        out.print("  .venv/bin/bricola call live VesselRegistry GetVessel registration=LK-0412")
        out.print(f"\nor with curl, as the caller {caller['name']}")
        body = ('<Envelope xmlns="http://schemas.xmlsoap.org/soap/envelope/"><Body><GetVessel xmlns="urn:larkmere:'
                'vessel-registry"><registration>LK-0412</registration></GetVessel></Body></Envelope>')
        out.print(f"  curl -u {caller['name']}:{caller['token']} -H 'Content-Type: text/xml' \\\n"
                  f"    --data-binary '{body}' \\\n    {live['soap']}", markup=False)
    out.print(f"\nSigned in on this computer's bricola command as {user['name']}. " if remember else "", end="")
    out.print("Stop with Ctrl C.\n")
