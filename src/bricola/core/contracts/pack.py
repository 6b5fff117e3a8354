"""The contract as one file to hand over: a zip of all its documents that refer to each other by their names in it."""

import io
import zipfile
from collections.abc import Mapping
from pathlib import PurePosixPath
from urllib.parse import unquote, urlsplit

from bricola.core.contracts.served import Offered

_WHEN = (1980, 1, 1, 0, 0, 0)  # the same content makes the same file; earlier a zip cannot say


def pack(files: Mapping[str, bytes]) -> bytes:
    """A zip of files by name."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(zipfile.ZipInfo(name, _WHEN), content, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def documents(offer: Offered, name: str, address: str) -> dict[str, bytes]:
    """The documents of a contract of somebody else as flat files, the first one called like the service; as they came but for addresses
    and for the places of parts, which become those names."""
    names = [f"{name}.wsdl"]
    for location in offer.documents[1:]:
        own = PurePosixPath(unquote(urlsplit(location).path).rstrip("/"))
        stem, suffix = own.stem or "part", own.suffix if own.suffix.lower() in (".xsd", ".wsdl") else ".xsd"
        chosen, number = f"{stem}{suffix}", 1
        while chosen.lower() in [one.lower() for one in names]:
            number += 1
            chosen = f"{stem}-{number}{suffix}"
        names.append(chosen)
    found = {}
    for number, one in enumerate(names):
        document = offer.document(number, address, lambda index: names[index])
        assert document is not None  # the number is one of those that there are
        found[one] = document[0]
    return found
