"""A peer in Python whose classes xsdata generates from a contract; the call is made by its own client."""

import importlib
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

from lxml import etree
from xsdata.formats.dataclass.client import Client, Config
from xsdata.formats.dataclass.parsers import XmlParser
from xsdata.formats.dataclass.serializers import XmlSerializer


class XsdataPeer:
    """Classes for one contract, generated in a folder. Raises CalledProcessError when the tool refuses."""

    name = "xsdata, Python"

    def __init__(self, contract: bytes, name: str, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        package = f"peer_{name}_{folder.parent.name.replace('-', '_')}".lower()
        (folder / "contract.wsdl").write_bytes(contract)
        tools = Path(sys.executable).parent  # its formatter is looked for on the path
        subprocess.run([tools / "xsdata", "generate", "contract.wsdl", "--package", package], cwd=folder, check=True, capture_output=True,
                       timeout=180, env={**os.environ, "PATH": f"{tools}:{os.environ['PATH']}"})
        sys.path.insert(0, str(folder))
        try:
            module = importlib.import_module(package)
        finally:
            sys.path.remove(str(folder))
        self._services: dict[str, Any] = {}
        for one in vars(module).values():
            if hasattr(one, "transport"):
                body = one.input.__dataclass_fields__["body"].type
                self._services[_element(module, body)] = one

    def call(self, address: str, token: str, operation: str, message: bytes) -> bytes:
        """The envelope of the answer, as the generated types write it."""
        root = etree.fromstring(message)
        body = next(one for one in root if etree.QName(one).localname == "Body")
        service = self._services[etree.QName(body[0]).localname]
        client = Client(Config.from_service(service, location=address))
        request = XmlParser().from_bytes(message, service.input)
        answer = client.send(request, headers={"Authorization": f"Bearer {token}"})
        return XmlSerializer().render(answer).encode()


def _element(module: Any, body: Any) -> str:
    """The name of the element in the body of a request."""
    kind = body
    if isinstance(kind, str):
        outer, _, inner = kind.partition(".")
        kind = getattr(getattr(module, outer), inner)
    return next(str(one.metadata["name"]) for one in kind.__dataclass_fields__.values())
