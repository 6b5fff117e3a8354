"""`services`, `contract` and `sample`."""

import sys
from collections.abc import Mapping
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import STATES, out, print_json, table, text
from bricola.core.problems import Kind, Problem, ProblemError, shown

Environment = Annotated[str, typer.Option("--environment", "-e", help="Of what is live there; of the draft when left out.")]


class Form(StrEnum):
    REQUEST = "request"
    ANSWER = "answer"
    CURL = "curl"
    PYTHON = "python"
    HTTP = "http"


def register(app: typer.Typer) -> None:
    panel = "Services"

    @app.command("services", rich_help_panel=panel)
    def list_services(
        environment: Annotated[str, typer.Option("--environment", "-e", help="Only there.")] = "",
        group: Annotated[str, typer.Option("--group", "-g", help="Only the services of this folder.")] = "",
        at: At = "", as_json: Json = False,
    ) -> None:
        """List services with their stage, and their state, release and address in every environment."""
        with connect(at) as client:
            found = client.overview()
        if environment and environment not in [one["name"] for one in found["environments"]]:
            raise ProblemError(Problem("environment.unknown", f"There is no environment {environment}.", Kind.MISSING,
                                       found=shown(environment), choices=tuple(one['name'] for one in found['environments'])))
        if group:
            found["services"] = [one for one in found["services"] if f"{one['group']}/".startswith(f"{group.rstrip('/')}/")]
        for one in found["services"] if environment else ():
            one["deployments"] = [place for place in one["deployments"] if place["environment"] == environment]
        if as_json:
            print_json(found)
            return
        rows = []
        for one in found["services"]:
            for index, place in enumerate(one["deployments"]):
                name = f"[bold]{text(one['name'])}[/]" if index == 0 else ""
                rows.append((name, STATES.get(one["stage"], text(one["stage"])) if index == 0 else "", text(place["environment"]),
                             STATES[place["state"]], _release(place, one["newest"]), text(place.get("soap", ""))))
                if place["anonymous"]:
                    rows.append(("", "", "", "", "[yellow]▲ answers anonymous callers[/]", ""))
                if place.get("ends"):
                    rows.append(("", "", "", "", f"[yellow]▲ ends on {place['ends']}[/]", ""))
                if place.get("reason"):
                    rows.append(("", "", "", f"[red]{text(place['reason'])}[/]", "", ""))
        if rows:
            out.print(table(("Service", "Stage", "Environment", "State", "Release", "Address"), rows))
        else:
            out.print("No services yet. Define some in YAML files, then: bricola apply FOLDER")

    @app.command(rich_help_panel=panel)
    def contract(
        service: str, environment: Environment = "",
        release: Annotated[int | None, typer.Option("--release", "-r", help="Of an older release.")] = None,
        soap: Annotated[str, typer.Option(help="For one SOAP version alone: 1.1 or 1.2.")] = "",
        file: Annotated[Path | None, typer.Option("--file", "-f", help="Write there instead of printing.")] = None,
        as_zip: Annotated[bool, typer.Option(
            "--zip", help="All its documents in one file here, whose name says service, release and environment.")] = False,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Print the contract (WSDL), ready to hand over."""
        if as_zip and not environment:
            raise ProblemError(Problem("contract.zip-place", "A zip is made of what is live somewhere.", place="--zip",
                                       mend="Name the environment: -e ENVIRONMENT"))
        with connect(at) as client:
            if as_zip:
                name, content = client.contract_zip(service, environment)
                target = file or Path(name)
                target.write_bytes(content)
                if as_json:
                    print_json({"service": service, "bytes": len(content), "file": str(target), "wsdl": None})
                else:
                    out.print(f"Wrote {len(content)} bytes to {text(target)}.")
                return
            body = client.contract(service, environment, release, soap)
        if file is not None:
            file.write_bytes(body)
        if as_json:
            print_json({"service": service, "bytes": len(body), "file": str(file) if file else None,
                        "wsdl": None if file else body.decode()})
        elif file is not None:
            out.print(f"Wrote {len(body)} bytes to {text(file)}.")
        else:
            sys.stdout.write(body.decode())

    @app.command(rich_help_panel=panel)
    def sample(
        service: str, operation: str, environment: Environment = "",
        soap: Annotated[str, typer.Option(help="SOAP version, 1.1 or 1.2; or json, for the other face.")] = "1.1",
        form: Annotated[Form, typer.Option(
            help="The request alone, its answer, or the request for curl, for Python, or as plain HTTP; these take a caller's token "
                 "from BRICOLA_TOKEN.")] = Form.REQUEST,
        at: At = "", as_json: Json = False,
    ) -> None:
        """Print a request that works unedited."""
        with connect(at) as client:
            found = client.sample(service, operation, environment, soap)
        if as_json:
            print_json(found)
            return
        texts = {Form.REQUEST: found["envelope"], Form.ANSWER: found["answer"], **{Form(name): one for name, one in found["forms"].items()}}
        if form not in texts:
            raise ProblemError(Problem("sample.place", "Where a request goes depends on where the service is live.", place="--form",
                                       mend="Name the environment: -e ENVIRONMENT"))
        sys.stdout.write(texts[form].rstrip("\n") + "\n")


def _release(place: Mapping[str, Any], newest: int | None) -> str:
    parts = place.get("parts", [])
    words = " + ".join(f"release {one['release']}" + ("" if one["share"] == 100 else f" {one['share']} %") for one in parts)
    return f"{words} [yellow](newest is {newest})[/]" if parts and not place["newest"] and len(parts) == 1 else words
