"""Which service a command talks to, and as whom."""

import os
from typing import Annotated

import typer

from bricola.client import Client
from bricola.client.signins import load_signins
from bricola.core.problems import Kind, Problem, ProblemError

DEFAULT_URL = "http://127.0.0.1:8480"

At = Annotated[str, typer.Option("--at", envvar="BRICOLA_URL", metavar="URL",
                                 help="Address of the service; the newest sign-in when left out.")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]


def connect(at: str) -> Client:
    """A signed-in client. Raises ProblemError when there is no sign-in for the address."""
    known = load_signins()
    url = at.rstrip("/") or next(reversed(known), DEFAULT_URL)
    token = os.environ.get("BRICOLA_TOKEN") or known.get(url, {}).get("token", "")
    if not token:
        raise ProblemError(Problem("client.signin", "You are not signed in.", Kind.IDENTITY, place=url,
                                   mend=f"Sign in with: bricola signin {url}"))
    return Client(url, token)
