"""A peer in Python whose classes xsdata generates from a contract; the call is made by its own client."""

import importlib
import os
import subprocess
import sys
from pathlib import Path
from types import ModuleType
from typing import Any

from xsdata.formats.dataclass.client import Client, Config
from xsdata.formats.dataclass.parsers import XmlParser
from xsdata.formats.dataclass.serializers import XmlSerializer


class XsdataPeer:
    """Classes for one contract, generated in a folder."""

    name = "xsdata, Python"

    def __init__(self, contract: bytes, name: str, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        package = f"peer_{name.lower()}"
        (folder / "contract.wsdl").write_bytes(contract)
        tools = Path(sys.executable).parent  # its formatter is looked for on the path
        subprocess.run([tools / "xsdata", "generate", "contract.wsdl", "--package", package], cwd=folder, check=True, capture_output=True,
                       timeout=180, env={**os.environ, "PATH": f"{tools}:{os.environ['PATH']}"})
        sys.path.insert(0, str(folder))
        try:
            self._module: ModuleType = importlib.import_module(package)
        finally:
            sys.path.remove(str(folder))
        self._services: dict[str, Any] = {}
        for one in vars(self._module).values():
            if (isinstance(one, type) and hasattr(one, "soap_action")) or hasattr(one, "transport"):
                self._services.setdefault(_operation_of(one), one)
        self.operations = list(self._services)

    def call(self, address: str, token: str, operation: str, element: bytes) -> bytes:
        """The element of the answer, as the generated types write it."""
        service = self._services[operation]
        client = Client(Config.from_service(service, location=address))
        envelope = service.input
        body = envelope.__dataclass_fields__["body"].type
        kind = _inner(self._module, envelope, body)
        value = XmlParser().from_bytes(element, kind[1])
        request = envelope(body=kind[0](**{kind[2]: value}))
        answer = client.send(request, headers={"Authorization": f"Bearer {token}"})
        parts = [one for one in vars(answer.body).values() if one is not None]
        return XmlSerializer().render(parts[0]).encode()


def _operation_of(service: type) -> str:
    return service.__name__


def _inner(module: ModuleType, envelope: Any, body: Any) -> Any:
    raise NotImplementedError
