"""Where the command line keeps its sign-ins: one token per service address, readable by the owner only."""

import json
import os
from pathlib import Path


def _file() -> Path:
    home = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(home) / "bricola" / "signins.json"


def load_signins() -> dict[str, dict[str, str]]:
    """Address -> {user, token}; the newest sign-in is the last."""
    try:
        found = json.loads(_file().read_text())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def save_signin(url: str, user: str, token: str) -> Path:
    """Keep a sign-in and make it the newest."""
    known = load_signins()
    known.pop(url, None)
    known[url] = {"user": user, "token": token}
    file = _file()
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    new = file.with_suffix(".new")
    descriptor = os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as stream:
        json.dump(known, stream, indent=1)
    new.replace(file)
    return file
