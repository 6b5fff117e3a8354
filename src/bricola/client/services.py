"""Calling the operations of a deployed service, over its REST face."""

from typing import Any

from bricola.client.transport import Connection, raise_problems, send


class FaultError(Exception):
    """A fault that the contract declares: `name`, and `detail` with the values of its elements."""

    def __init__(self, name: str, message: str, detail: dict[str, Any]) -> None:
        super().__init__(message)
        self.name = name
        self.detail = detail


class ServiceClient(Connection):
    """One deployed service as one caller. `address` is the REST address that the service's page shows."""

    def __init__(self, address: str, caller_token: str = "", timeout: float = 60.0) -> None:
        super().__init__(address.rstrip("/"), caller_token, timeout)

    def call(self, operation: str, **values: Any) -> dict[str, Any]:
        """Call an operation; values by the contract's names. Raises FaultError for a declared fault, ProblemError otherwise."""
        response = send(self._http, "POST", f"/{operation}", json=values)
        if response.status_code == 422:
            document = response.json()
            raise FaultError(document["title"], document["detail"], document["fault"])
        raise_problems(response)
        return dict(response.json()) if response.status_code != 202 else {}  # accepted, and nothing is answered
