"""The demo's packages: templates that a newcomer may fill in. Each is a folder; its parts are listed in the order of the manifest."""

from importlib import resources
from importlib.resources.abc import Traversable

from bricola.core.contracts.pack import pack
from bricola.core.definitions.text import read_mapping
from bricola.core.packages.manifest import MANIFEST, Manifest, Package, digest

ORIGIN = "Larkmere Waterways"


def demo_packages() -> list[bytes]:
    """The zips, by name."""
    folder = resources.files("bricola.demo").joinpath("templates")
    return [_packed(one) for one in sorted(folder.iterdir(), key=lambda one: one.name) if one.is_dir() and not one.name.startswith("_")]


def _packed(folder: Traversable) -> bytes:
    data = read_mapping(folder.joinpath(MANIFEST).read_text(encoding="utf-8"), MANIFEST)
    texts = {}
    for part in data["parts"]:
        group, _, file = part["path"].partition("/")
        found = [one for one in folder.joinpath(group).iterdir() if file.replace(".yaml", "").endswith(one.name.replace(".yaml", ""))]
        text = (found[0] if found else next(folder.joinpath(group).iterdir())).read_text(encoding="utf-8")
        texts[part["path"]] = text
        part["digest"] = digest(text.encode())
    return pack(Package(Manifest.model_validate({**data, "origin": ORIGIN}), texts).files)
