"""Contracts of others, through the management API."""

import base64
from collections.abc import Mapping
from typing import TYPE_CHECKING, cast

from bricola.client.transport import ApiConnection, Json

if TYPE_CHECKING:
    from bricola.api import contracts


class ContractCalls(ApiConnection):
    """The part of the management API about contracts of others. A contract is an `address` that the service fetches, or `files` by path."""

    def read_contract(self, address: str = "", files: Mapping[str, bytes] | None = None, main: str = "") -> "contracts.ReadContract":
        """What it offers, and everything that is wrong with it."""
        return cast("contracts.ReadContract", self._ask("POST", "/contracts/read", json=_source(address, files, main)))

    def import_contract(self, service: str, address: str = "", files: Mapping[str, bytes] | None = None, main: str = "", offers: str = "",
                        role: str = "", plan_only: bool = False) -> "contracts.TakenContract":
        """Make a service of it, or bring one that follows it up to date. `offers`: which service of it; `role` may call everything."""
        body = _source(address, files, main) | {"service": service, "offers": offers, "role": role, "plan_only": plan_only}
        return cast("contracts.TakenContract", self._ask("POST", "/contracts/import", json=body))


def _source(address: str, files: Mapping[str, bytes] | None, main: str) -> Json:
    return {"address": address, "main": main, "files": {path: base64.b64encode(one).decode() for path, one in (files or {}).items()}}
