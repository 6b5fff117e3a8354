"""The management API as Python calls. Every method raises ProblemError with all causes that the service names."""

from typing import Any

from bricola.client.transport import Connection, raise_problems, send

Json = dict[str, Any]


class Client(Connection):
    """A connection to one Bricola. `token` comes from `sign_in` or from the service's users page."""

    def __init__(self, url: str, token: str = "", timeout: float = 60.0) -> None:
        self.url = url.rstrip("/")
        super().__init__(f"{self.url}/api/v1", token, timeout)

    def _ask(self, method: str, path: str, **options: Any) -> Any:
        response = send(self._http, method, path, **options)
        raise_problems(response)
        return response.json() if response.content else None

    # people

    def state(self) -> Json:
        """Whether the service waits for its first user; needs no token."""
        return dict(self._ask("GET", "/state"))

    def set_up(self, code: str, name: str, password: str) -> None:
        """Make the first user, with the one-time code of the first start."""
        self._ask("POST", "/setup", json={"code": code, "name": name, "password": password})

    def sign_in(self, name: str, password: str) -> str:
        """Get a token of 90 days and use it from now on."""
        token = str(self._ask("POST", "/session", json={"name": name, "password": password, "token": True})["token"])
        self._http.headers["Authorization"] = f"Bearer {token}"
        return token

    def who(self) -> Json:
        return dict(self._ask("GET", "/session"))

    def add_user(self, name: str, password: str, role: str) -> None:
        self._ask("POST", "/users", json={"name": name, "password": password, "role": role})

    def callers(self) -> list[Json]:
        return list(self._ask("GET", "/callers"))

    def save_caller(self, name: str, roles: list[str], description: str = "") -> None:
        self._ask("PUT", f"/callers/{name}", json={"roles": roles, "description": description})

    def new_token(self, caller: str) -> str:
        """A new token of a caller, shown here and never again."""
        return str(self._ask("POST", f"/callers/{caller}/tokens")["token"])

    def revoke_token(self, caller: str, prefix: str) -> None:
        self._ask("DELETE", f"/callers/{caller}/tokens/{prefix}")

    # definitions

    def apply(self, files: dict[str, str], remove_others: bool = False, plan_only: bool = False) -> list[Json]:
        """Make drafts of definition files (path -> YAML); answers what changes, or would with `plan_only`."""
        body = {"files": files, "remove_others": remove_others, "plan_only": plan_only}
        return list(self._ask("POST", "/definitions", json=body)["changes"])

    def export(self) -> dict[str, str]:
        return dict(self._ask("GET", "/definitions")["files"])

    def review(self, service: str, environment: str = "") -> list[Json]:
        return list(self._ask("GET", f"/services/{service}/review", params={"environment": environment}))

    # services

    def overview(self) -> Json:
        return dict(self._ask("GET", "/overview"))

    def service(self, name: str) -> Json:
        return dict(self._ask("GET", f"/services/{name}"))

    def operations(self, service: str, environment: str = "") -> list[Json]:
        return list(self._ask("GET", f"/services/{service}/operations", params={"environment": environment}))

    def release(self, service: str, notes: str = "") -> Json:
        return dict(self._ask("POST", f"/services/{service}/releases", json={"notes": notes}))

    def deploy(self, service: str, environment: str, release: int | None = None) -> Json:
        body = {"environment": environment, "release": release}
        return dict(self._ask("POST", f"/services/{service}/deployments", json=body))

    def undeploy(self, service: str, environment: str) -> None:
        self._ask("DELETE", f"/services/{service}/deployments/{environment}")

    def contract(self, service: str, environment: str = "", release: int | None = None) -> bytes:
        """The WSDL: live in an environment, of a release, or of the draft."""
        params = {"environment": environment} | ({} if release is None else {"release": str(release)})
        response = send(self._http, "GET", f"/services/{service}/contract", params=params)
        raise_problems(response)
        return response.content

    def sample(self, service: str, operation: str, environment: str = "", soap: str = "1.1") -> Json:
        params = {"environment": environment, "soap": soap}
        return dict(self._ask("GET", f"/services/{service}/sample/{operation}", params=params))

    def call(self, environment: str, service: str, operation: str, values: Json | None = None, caller: str = "",
             soap: str = "1.1", envelope: str | None = None) -> Json:
        """Send a test request through the real endpoint; answers both envelopes, status, time, answer or fault."""
        body = {"environment": environment, "service": service, "operation": operation, "values": values or {},
                "caller": caller, "soap": soap, "envelope": envelope}
        return dict(self._ask("POST", "/bench", json=body))

    def calls(self, environment: str = "", service: str = "", caller: str = "", failed: bool = False,
              limit: int = 50) -> list[Json]:
        params: Json = {"environment": environment, "service": service, "caller": caller, "failed": failed, "limit": limit}
        return list(self._ask("GET", "/calls", params=params))

    def one_call(self, call: str) -> Json:
        return dict(self._ask("GET", f"/calls/{call}"))
