"""Contracts of others, through the management API."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, cast

from bricola.client.bringing import encoded
from bricola.client.transport import ApiConnection, Json

if TYPE_CHECKING:
    from bricola.api import contracts, definitions, mapping


class ContractCalls(ApiConnection):
    """The part of the management API about contracts of others. A contract is an `address` that the service fetches, or `files` by path."""

    def read_contract(self, address: str = "", files: Mapping[str, bytes] | None = None, main: str = "", user: str = "",
                      password: str = "") -> "contracts.ReadContract":
        """What it offers, and everything that is wrong with it. `user` and `password` sign in at the address."""
        return cast("contracts.ReadContract", self._ask("POST", "/contracts/read", json=_source(address, files, main, user, password)))

    def import_contract(self, service: str, address: str = "", files: Mapping[str, bytes] | None = None, main: str = "", offers: str = "",
                        role: str = "", plan_only: bool = False, user: str = "", password: str = "",
                        not_built: Sequence[str] = ()) -> "contracts.TakenContract":
        """Make a service of it, or bring one that follows it up to date. `offers`: which service of it; `role` may call everything;
        operations of `not_built` answer that they are not built yet, the others a sample."""
        body = _source(address, files, main, user, password) | {"service": service, "offers": offers, "role": role, "plan_only": plan_only,
                                                                "not_built": list(not_built)}
        return cast("contracts.TakenContract", self._ask("POST", "/contracts/import", json=body))

    def contracts_of_others(self) -> "list[contracts.TakenInContract]":
        """The contracts of others that were taken in."""
        return cast("list[contracts.TakenInContract]", self._ask("GET", "/contracts"))

    def contract_of_others(self, name: str) -> "contracts.ReadContract":
        """What one that was taken in offers."""
        return cast("contracts.ReadContract", self._ask("GET", f"/contracts/{name}"))

    def implement(self, service: str, operation: str, runs: str | None = None, map_in: Mapping[str, str] | None = None,
                  map_out: Mapping[str, str] | None = None, save: bool = False) -> "mapping.Implementation":
        """From where each part comes when an operation of the contract runs something of ours; a draft when `save`."""
        body = {"runs": runs, "map_in": dict(map_in) if map_in is not None else None,
                "map_out": dict(map_out) if map_out is not None else None, "save": save}
        return cast("mapping.Implementation", self._ask("POST", f"/services/{service}/operations/{operation}/map", json=body))

    def differ(self, service: str, operation: str, setting: str, value: str) -> "definitions.Changes":
        """Differ from the contract of somebody else in one setting, on purpose: `soap_action` or `description`."""
        return cast("definitions.Changes", self._ask("PUT", f"/services/{service}/operations/{operation}/contract/{setting}",
                                                     json={"value": value}))

    def follow(self, service: str, operation: str, setting: str) -> "definitions.Changes":
        """Go back to what the contract says."""
        return cast("definitions.Changes", self._ask("DELETE", f"/services/{service}/operations/{operation}/contract/{setting}"))

    def check_contracts(self, environment: str) -> "list[contracts.ContractCheck]":
        """Fetch the contracts of others that live services follow there; what changed, for which operations and callers."""
        return cast("list[contracts.ContractCheck]", self._ask("POST", f"/environments/{environment}/contracts/check"))

    def contract_checks(self) -> "list[contracts.ContractCheck]":
        """What the last checks found, in every environment."""
        return cast("list[contracts.ContractCheck]", self._ask("GET", "/contracts/checks"))


def _source(address: str, files: Mapping[str, bytes] | None, main: str, user: str, password: str) -> Json:
    return {"address": address, "main": main, "user": user, "password": password,
            "files": encoded(files or {})}
