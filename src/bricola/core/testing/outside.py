"""A case as a request that is sent from elsewhere: with curl, with Python (httpx, or zeep, which reads the contract), as an HTTP file. Each
works as it stands once the environment variable that holds the caller's token is set; a case without identity needs none."""

from collections.abc import Mapping

from bricola.core.messages.snippets import TOKEN, snippets
from bricola.core.testing.running import Shot


def forms_of(shot: Shot, address: str, wsdl: str) -> dict[str, str]:
    """By form: curl, python, zeep (not of a raw envelope, nor of the REST face), http."""
    identity = shot.case.identity not in ("none",) and shot.caller != "anonymous"
    body = shot.body.decode("utf-8", "replace")
    given = snippets(address, shot.headers, body, identity)
    forms = {"curl": given["curl"], "python": _httpx(address, shot.headers, body, identity)}
    if not shot.case.envelope and shot.face != "rest":
        forms["zeep"] = _zeep(wsdl, shot, identity)
    return forms | {"http": given["http"]}


def _httpx(address: str, headers: Mapping[str, str], body: str, identity: bool) -> str:
    lines = [f"    {name!r}: {value!r}," for name, value in headers.items()]
    if identity:
        lines.append(f'    "Authorization": "Bearer " + os.environ["{TOKEN}"],')
    quoted = body.rstrip().replace("\\", "\\\\").replace('"""', '\\"\\"\\"')
    needed = "import os\n\n" if identity else ""
    joined = "\n".join(lines)
    return (f'{needed}import httpx\n\nBODY = """{quoted}\n"""\nHEADERS = {{\n{joined}\n}}\n\n'
            f"reply = httpx.post({address!r}, content=BODY.encode(), headers=HEADERS, timeout=60)\n"
            'print(reply.status_code, "call", reply.headers.get("call-id", "without a number"))\nprint(reply.text)\n')


def _zeep(wsdl: str, shot: Shot, identity: bool) -> str:
    headers = {"Bricola-Trial": "true"} if shot.trial else {}
    lines = [f"session.headers[{name!r}] = {value!r}" for name, value in headers.items()]
    if identity:
        lines.append(f'session.headers["Authorization"] = "Bearer " + os.environ["{TOKEN}"]')
    needed = "import os\n\n" if identity else ""
    joined = "\n".join(lines)
    return (f"{needed}import requests\nimport zeep\n\nsession = requests.Session()\n{joined}\n"
            f"client = zeep.Client({wsdl!r}, transport=zeep.Transport(session=session))\n"
            f"try:\n    print(client.service[{shot.operation.name!r}](**{dict(shot.values)!r}))\n"
            'except zeep.exceptions.Fault as fault:  # a fault is an answer, too\n    print("Fault:", fault.message)\n')
