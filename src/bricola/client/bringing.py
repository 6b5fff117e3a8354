"""What is brought in from elsewhere, through the management API."""

import base64
from collections.abc import Mapping
from typing import TYPE_CHECKING, cast

from bricola.client.transport import ApiConnection

if TYPE_CHECKING:
    from bricola.api import workflows


class BringingCalls(ApiConnection):
    """The part of the management API about processes of others."""

    def take_process(self, files: Mapping[str, bytes], service: str, main: str = "", role: str = "",
                     choices: Mapping[str, str] | None = None, accept: bool = False, plan_only: bool = False) -> "workflows.TakenProcess":
        """Make drafts of a process in WS-BPEL 2.0 with its WSDL. `choices` says what its open ends become, by their ids; `accept` takes the
        proposals for all others."""
        body = {"files": encoded(files), "service": service, "main": main, "role": role, "choices": dict(choices or {}), "accept": accept,
                "plan_only": plan_only}
        return cast("workflows.TakenProcess", self._ask("POST", "/processes", json=body))


def encoded(files: Mapping[str, bytes]) -> dict[str, str]:
    """Files as they go through JSON."""
    return {path: base64.b64encode(one).decode() for path, one in files.items()}
