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
from bricola.core.problems import Problem, ProblemError
from bricola.demo.registry import make_registry
from bricola.server.bricola import Bricola
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
SERVICES = ("VesselRegistry", "TonnageReport")
ENVIRONMENTS = ("rehearsal", "live")


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

    def ready(bricola: Bricola, address: str) -> None:
        if not state_file.exists():
            _write_private(state_file, _fill(bricola, address))
            data.joinpath(".demo-unfinished").unlink(missing_ok=True)
        state = json.loads(state_file.read_text())
        facts = _facts(state, address)
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

    serve(Settings(data, port=port, organisation=ORGANISATION), ready)


def catalogue_files() -> dict[str, str]:
    """The demo's definition files, by path."""
    with resources.as_file(resources.files("bricola.demo").joinpath("catalogue")) as folder:
        return read_folder(folder)


def _fill(bricola: Bricola, address: str) -> dict[str, Any]:
    """Make users, definitions, callers, releases and deployments; answers the secrets, which are kept nowhere else."""
    users = [{"name": name, "password": secrets.token_urlsafe(9), "role": role} for name, role in USERS]
    with Client(address) as client:
        client.set_up(str(bricola.setup_code), users[0]["name"], users[0]["password"])
        client.sign_in(users[0]["name"], users[0]["password"])
        for user in users[1:]:
            client.add_user(user["name"], user["password"], user["role"])
        client.apply(catalogue_files())
        callers = []
        for name, (roles, description) in CALLERS.items():
            client.save_caller(name, roles, description)
            callers.append({"name": name, "token": client.new_token(name), "roles": roles})
        for service in SERVICES:
            client.release(service, "The first release of the demo")
            for environment in ENVIRONMENTS:
                client.deploy(service, environment)
    return {"users": users, "callers": callers}


def _facts(state: dict[str, Any], address: str) -> dict[str, Any]:
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
    return {"url": address, "pid": os.getpid(), "users": state["users"], "callers": state["callers"],
            "services": services, "backends": []}


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
