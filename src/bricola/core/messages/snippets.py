"""A request as a person sends it by hand: with curl, with Python's own library, or as plain HTTP. Each works as it stands once the
environment variable that holds the caller's token is set."""

import shlex
from collections.abc import Mapping
from urllib.parse import urlsplit

TOKEN = "BRICOLA_TOKEN"  # the environment variable
_END = "END-OF-MESSAGE"


def snippets(address: str, headers: Mapping[str, str], body: str, identity: bool = True) -> dict[str, str]:
    """By form: curl (for a shell), python, http (a file; its token is to be put in by hand). Without `identity` nobody signs in."""
    return {"curl": _curl(address, headers, body, identity), "python": _python(address, headers, body, identity),
            "http": _http(address, headers, body, identity)}


def _curl(address: str, headers: Mapping[str, str], body: str, identity: bool) -> str:
    options = [f"-H {shlex.quote(f'{name}: {value}')}" for name, value in headers.items()]
    if identity:
        options.append(f'-H "Authorization: Bearer ${TOKEN}"')
    lines = [f"curl -sS {shlex.quote(address)}", *options, f"--data-binary @- <<'{_END}'"]
    return " \\\n  ".join(lines) + f"\n{body.rstrip()}\n{_END}\n"


def _python(address: str, headers: Mapping[str, str], body: str, identity: bool) -> str:
    lines = [f"    {name!r}: {value!r}," for name, value in headers.items()]
    if identity:
        lines.append(f'    "Authorization": "Bearer " + os.environ["{TOKEN}"],')
    quoted = body.rstrip().replace("\\", "\\\\").replace('"""', '\\"\\"\\"')
    joined = "\n".join(lines)
    needed = "import os\n" if identity else ""
    return (f'{needed}import urllib.error\nimport urllib.request\n\nBODY = """{quoted}\n"""\nHEADERS = {{\n{joined}\n}}\n\n'
            f"request = urllib.request.Request({address!r}, BODY.encode(), HEADERS)\n"
            "try:\n    answer = urllib.request.urlopen(request, timeout=60)\n"
            "except urllib.error.HTTPError as fault:  # a fault is an answer, too\n    answer = fault\n"
            "print(answer.status)\nprint(answer.read().decode())\n")


def _http(address: str, headers: Mapping[str, str], body: str, identity: bool) -> str:
    parts = urlsplit(address)
    content = body.rstrip() + "\n"
    lines = [f"POST {parts.path} HTTP/1.1", f"Host: {parts.netloc}", *(f"{name}: {value}" for name, value in headers.items())]
    if identity:
        lines.append(f"Authorization: Bearer {TOKEN}")
    lines += [f"Content-Length: {len(content.encode())}", "Connection: close"]
    return "\r\n".join(lines) + "\r\n\r\n" + content  # RFC 9112, section 2.1
