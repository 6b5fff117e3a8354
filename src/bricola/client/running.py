"""Backends, pools, credentials and backup."""

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, cast

from bricola.client.transport import ApiConnection, raise_problems

if TYPE_CHECKING:
    from bricola.api import running


class RunningCalls(ApiConnection):
    """The part of the management API about running the service."""

    def backends(self) -> "list[running.BackendEnd]":
        """Every backend in every environment, bound or not."""
        return cast("list[running.BackendEnd]", self._ask("GET", "/backends"))

    def check(self, environment: str, backend: str = "") -> "list[running.CheckResult]":
        """Try the way to one backend or to all, stage by stage."""
        return cast("list[running.CheckResult]", self._ask("POST", f"/environments/{environment}/check", json={"backend": backend}))

    def pools(self) -> "list[running.PoolView]":
        return cast("list[running.PoolView]", self._ask("GET", "/pools"))

    def pool(self, environment: str, backend: str) -> "running.PoolView":
        """One pool: sessions, endpoints, statistics, load and advice. Times in seconds."""
        return cast("running.PoolView", self._ask("GET", f"/pools/{environment}/{backend}"))

    def act_on_pool(self, environment: str, backend: str, action: str) -> "running.PoolView":
        """start, stop (calls in flight end), cut (they fail) or recycle."""
        return cast("running.PoolView", self._ask("POST", f"/pools/{environment}/{backend}", json={"action": action}))

    def evict(self, environment: str, backend: str, session: int, cut: bool = False) -> "running.PoolView":
        return cast("running.PoolView", self._ask("DELETE", f"/pools/{environment}/{backend}/sessions/{session}", params={"cut": cut}))

    def credentials(self) -> "list[running.Credential]":
        """Everything but the secrets."""
        return cast("list[running.Credential]", self._ask("GET", "/credentials"))

    def add_credential(self, name: str, secret: str, kind: str = "password", user: str = "", certificate: str = "",
                       expires_at: datetime | None = None, description: str = "") -> "running.Credential":
        body = {"name": name, "secret": secret, "kind": kind, "user": user, "certificate": certificate,
                "expires_at": expires_at.isoformat() if expires_at else None, "description": description}
        return cast("running.Credential", self._ask("POST", "/credentials", json=body))

    def rotate_credential(self, name: str, secret: str, user: str = "", certificate: str = "",
                          expires_at: datetime | None = None, overlap_hours: float = 24.0) -> "running.Credential":
        """A new secret, in force at once; the old one is tried too while the overlap lasts."""
        body = {"secret": secret, "user": user, "certificate": certificate, "overlap_hours": overlap_hours,
                "expires_at": expires_at.isoformat() if expires_at else None}
        return cast("running.Credential", self._ask("POST", f"/credentials/{name}/rotation", json=body))

    def describe_credential(self, name: str, description: str | None = None, account: str | None = None,
                            cost: str | None = None) -> "running.Credential":
        """Say whose account it is, what using it costs, and what it is for; what is None stays as it is."""
        body = {"description": description, "account": account, "cost": cost}
        return cast("running.Credential", self._ask("PUT", f"/credentials/{name}/words", json=body))

    def allow_credential(self, name: str, environment: str) -> "list[running.CredentialPlace]":
        """Agree, as an admin, that it is presented where the environment names it; answers all its places."""
        return cast("list[running.CredentialPlace]", self._ask("POST", f"/credentials/{name}/places", json={"environment": environment}))

    def remove_credential(self, name: str) -> None:
        self._ask("DELETE", f"/credentials/{name}")

    def renew_key(self) -> int:
        """Seal every secret with a new key; answers how many there were."""
        return int(self._ask("POST", "/vault/key")["secrets"])

    def backup(self, file: Path, calls: bool = False) -> int:
        """Write a backup of the running service to a file; answers its bytes."""
        new = file.with_name(f"{file.name}.new")
        with self._http.stream("POST", "/backup", params={"calls": calls}, timeout=3600.0) as response:
            if response.status_code >= 400:
                response.read()
                raise_problems(response)
            with new.open("wb") as stream:
                for piece in response.iter_bytes(1 << 20):
                    stream.write(piece)
        new.replace(file)
        return file.stat().st_size
